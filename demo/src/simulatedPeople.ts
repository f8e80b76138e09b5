import { connect, type EntryOf, type Line, LineError } from '@nine-bells/client';
import type { Backend } from '@nine-bells/client/backend';
import { people } from './people.js';
import type { Regatta, Talk } from './regatta.js';
import { chatter, crewTalk, notices } from './script.js';
import { authorOf } from './seed.js';

/** Interval between a person's messages, in milliseconds, plus a random part of it. */
const chatEveryMs = 4_000;
const crewEveryMs = 11_000;
const noticeEveryMs = 60_000;
const skippersEveryMs = 90_000;
const readEveryMs = 6_000;
const lastYearsEveryMs = 20_000;

/** A message of last year's app of the coach, with an outdated member. */
const lastYears = { words: 'Reef early, there is more to come.' };

/**
 * Lets simulated spectators and crews talk over lines of their own, as clients of the product do, and the committee
 * publish over HTTP, as an application does. Returns what stops them.
 */
export function simulatePeople(
  url: string,
  backend: Backend<Regatta>,
  tokenOf: (user: string) => Promise<string>,
  complain: (error: unknown) => void,
): () => void {
  const timers = new Set<ReturnType<typeof setTimeout>>();
  const everyNow = (everyMs: number, act: (round: number) => Promise<unknown> | undefined, round = 0): void => {
    const timer = setTimeout(
      () => {
        timers.delete(timer);
        act(round)?.catch(complain);
        everyNow(everyMs, act, round + 1);
      },
      everyMs * (0.6 + Math.random() * 0.8),
    );
    timers.add(timer);
  };

  const lines = new Map<string, { line: Line<Regatta>; chat: EntryOf<Regatta['race/:race/chat']> }>();
  for (const { user, roles } of people) {
    if (roles.includes('committee')) continue;
    const line = connect<Regatta>(url, { token: () => tokenOf(user) });
    const chat = line.enter('race/3/chat');
    lines.set(user, { line, chat });
    // Pia and Jory sit before the demo page themselves; the others look at the chat now and then.
    if (user !== 'pia' && user !== 'jory') everyNow(readEveryMs, () => void chat.mark());
    if (user === 'tomas' || user === 'bram') line.enter('crew/petrel');
    if (user === 'tomas' || user === 'ines' || user === 'sunniva') line.enter('protest/7');
    if (user === 'oona') line.enter('desk/results/3');
  }
  const guest = connect<Regatta>(url);
  guest.enter('race/3/chat');
  guest.enter('regatta/notices');

  everyNow(chatEveryMs, (round) => {
    const { user, text } = chatter[(round + 6) % chatter.length] as (typeof chatter)[number];
    const person = lines.get(user);
    return person?.line.state.name === 'open' ? person.chat.publish({ text }) : undefined;
  });
  // A person is shown as typing for a while before the message.
  everyNow(chatEveryMs, (round) => {
    const { user } = chatter[(round + 7) % chatter.length] as (typeof chatter)[number];
    lines.get(user)?.chat.hail('typing', true);
    return undefined;
  });
  everyNow(crewEveryMs, (round) => {
    const { user, text } = crewTalk[round % crewTalk.length] as (typeof crewTalk)[number];
    const line = lines.get(user)?.line;
    return line?.state.name === 'open' ? line.publish('crew/petrel', { text }) : undefined;
  });
  everyNow(lastYearsEveryMs, () => {
    const line = lines.get('bram')?.line;
    // What the app of last year says no longer fits: the service refuses it and says where, and the console shows it.
    const said = lastYears as unknown as Talk;
    return line?.state.name === 'open' ? line.publish('crew/petrel', said).catch(expectMisfit) : undefined;
  });
  everyNow(skippersEveryMs, (round) =>
    backend.notify({ role: 'skipper', title: `Tide tables, sheet ${round + 1}, are at the desk`, key: 'tide-tables' }),
  );
  everyNow(noticeEveryMs, (round) =>
    backend.publish({
      channel: 'regatta/notices',
      type: 'notice',
      by: authorOf('mira'),
      data: { text: notices[(round + 2) % notices.length] as string },
    }),
  );

  return () => {
    for (const timer of timers) clearTimeout(timer);
    for (const { line } of lines.values()) line.close();
    guest.close();
  };
}

function expectMisfit(error: unknown): void {
  if (!(error instanceof LineError && error.code === 'bad-data')) throw error;
}
