import { connect, LineError } from '@nine-bells/client';
import type { Backend } from '@nine-bells/client/backend';
import { personOf } from './people.js';
import type { Regatta } from './regatta.js';
import { chatter, hearing, notices, signals } from './script.js';

/** Notices in the inboxes on the first morning. Each has a key, so that a second start adds none. */
const welcome: readonly { readonly users: readonly string[]; readonly title: string; readonly key: string }[] = [
  { users: ['pia', 'jory'], title: 'The breakwater is the best place to watch race 3', key: 'seed-breakwater' },
  { users: ['tomas', 'ines'], title: 'Your hearing, case 7, begins at 16:00', key: 'seed-hearing' },
];

/** Puts the morning's record into the channels. Every message has a key, so that a second start doubles nothing. */
export async function seed(backend: Backend<Regatta>): Promise<void> {
  const published = await backend.publishAll([
    ...notices.slice(0, 2).map((text, index) => ({
      channel: 'regatta/notices' as const,
      type: 'notice' as const,
      key: `seed-notice-${index}`,
      by: authorOf('mira'),
      data: { text },
    })),
    ...signals.slice(0, 3).map((data, index) => ({
      channel: 'race/3/signals' as const,
      type: 'signal' as const,
      key: `seed-signal-${index}`,
      by: authorOf('mira'),
      data,
    })),
    ...hearing.map(({ user, text }, index) => ({
      channel: 'protest/7' as const,
      key: `seed-hearing-${index}`,
      by: authorOf(user),
      data: { text },
    })),
    ...chatter.slice(0, 6).map(({ user, text }, index) => ({
      channel: 'race/3/chat' as const,
      key: `seed-chat-${index}`,
      by: authorOf(user),
      data: { text },
    })),
  ]);
  // The spectators have read the first notice.
  const [first] = published;
  if (first !== undefined && 'cursor' in first)
    for (const user of ['pia', 'jory']) await backend.mark(user, 'regatta/notices', first.cursor);
  // A spectator with a loose tongue gives the committee something to do.
  const { cursor } = await backend.publish({
    channel: 'race/3/chat',
    key: 'seed-loose-tongue',
    by: authorOf('jory'),
    data: { text: 'This course was laid by a landlubber.' },
  });
  await backend.report({ channel: 'race/3/chat', cursor, reason: 'rude to the committee', by: authorOf('pia') });
  await correct(backend);
  for (const notice of welcome) await backend.notify(notice);
}

/** Publishes a message with a link, which waits for the committee. Idempotent by its key. */
export async function seedPending(url: string, token: string): Promise<void> {
  const line = connect<Regatta>(url, { token });
  const text = 'Petrel’s sails of last year, half the price: https://sails.example';
  await line.publish('race/3/chat', { text }, { key: 'seed-link' }).catch((error: unknown) => {
    if (!(error instanceof LineError)) throw error;
  });
  line.close();
}

/** Reactions of other users. */
const reactions = [
  ['jory', 'bravo'],
  ['mira', 'aye'],
  ['tomas', 'aye'],
] as const;

/** Pia has seen wrongly, and says so; after a second start she has said it once, and perhaps it was pruned. */
async function correct(backend: Backend<Regatta>): Promise<void> {
  const channel = 'race/3/chat' as const;
  const by = authorOf('pia');
  const data = { text: 'Whimbrel leads at the gate.' };
  const { cursor } = await backend.publish({ channel, key: 'seed-mistake', by, data });
  const right = { text: 'Curlew leads at the gate, not Whimbrel.' };
  await backend.revise({ channel, cursor, data: right, by, key: 'seed-correction' }).catch(() => {});
  for (const [user, word] of reactions)
    await backend.react({ channel, cursor, word, by: authorOf(user) }).catch(() => {});
}

export function authorOf(user: string): { user: string; name: string } {
  return { user, name: personOf(user)?.name ?? user };
}
