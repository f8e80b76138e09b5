import { connect, type Entry, type Line } from '@nine-bells/client';
import { afterEach, describe, expect, it } from 'vitest';
import { ninebells } from './support/command.js';
import { RawLine } from './support/rawLine.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { openLine, type StartedService, startInstances } from './support/service.js';
import { until } from './support/until.js';

const text = `
service: { port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
channels:
  - pattern: "race/:race/chat"
    logbook: kept
    reactions: true
    allow: { enter: anyone, publish: signed-in, react: { all: [signed-in, { not: { author: always } }] }, withdraw: { author: always } }
  - { pattern: "poll/:name", logbook: kept, reactions: { words: [port, starboard] }, allow: { enter: anyone, publish: signed-in, react: signed-in } }
  - { pattern: weather, logbook: kept, allow: { enter: anyone, publish: anyone, react: anyone } }
`;
const chat = 'race/3/chat';
const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const start = (count = 1, relay?: string): Promise<StartedService[]> =>
  startInstances(text, clean, { count, ...(relay === undefined ? {} : { relay }) });

const come = (service: StartedService, user: string, transport?: 'poll' | 'stream'): Promise<Line> =>
  openLine(clean, service, user, transport && { transport });

const countsIn = (entry: Entry, cursor: string) => entry.reactions.get(cursor)?.counts;
const codeOf = (done: Promise<unknown>): Promise<string> =>
  done.then(
    () => 'done',
    (error: { code?: string; problem: { code: string } }) => error.code ?? error.problem.code,
  );

describe('reactions', () => {
  it('are counted for all, come with messages together with your own, and are told after a break', async () => {
    const [service] = (await start()) as [StartedService];
    const mira = (await come(service, 'mira')).enter(chat);
    const pia = (await come(service, 'pia')).enter(chat);
    const jory = (await come(service, 'jory', 'poll')).enter(chat);
    await Promise.all([mira.ready, pia.ready, jory.ready]);
    const { cursor } = await mira.publish({ text: 'Petrel wins' });
    const other = await mira.publish({ text: 'Knot is second' });
    await pia.react(cursor, '⛵');
    await jory.react(cursor, '⛵');
    await jory.react(cursor, 'wow');
    for (const each of [mira, pia, jory])
      await until(() => countsIn(each, cursor)?.['⛵'] === 2 && countsIn(each, cursor)?.wow === 1);
    expect([pia.reactions.get(cursor)?.own, mira.reactions.get(cursor)?.own]).toEqual([['⛵'], []]);
    // While a client is away, on a message that it has already.
    const late = (await come(service, 'pia')).enter(chat, { last: 2 });
    await late.ready;
    expect([countsIn(late, cursor), late.reactions.get(cursor)?.own]).toEqual([{ '⛵': 2, wow: 1 }, ['⛵']]);
    const raw = await (await RawLine.open(service.url)).hello({ enter: [{ channel: chat, last: 5 }] });
    const { reactions } = raw.frames[0].entered[0];
    raw.socket.close();
    await jory.react(cursor, 'wow', false);
    await jory.react(other.cursor, 'wow');
    const wish = { channel: chat, after: other.cursor, reactions: reactions.version };
    const back = await (await RawLine.open(service.url)).hello({ enter: [wish] });
    clean.push(() => back.socket.close());
    expect(back.frames[0].entered[0]).toMatchObject({
      messages: [],
      reactions: { counts: { [cursor]: { '⛵': 2 }, [other.cursor]: { wow: 1 } }, version: expect.any(String) },
    });
    expect((await pia.read({ limit: 1 })).reactions?.counts).toEqual({ [other.cursor]: { wow: 1 } });
    expect((await service.backend.read(chat)).reactions?.counts[cursor]).toEqual({ '⛵': 2 });
    const first = await pia.reactors(cursor, { limit: 1 });
    expect(first).toMatchObject({ reactors: [{ word: '⛵', user: 'jory' }], next: expect.any(String) });
    expect((await pia.reactors(cursor, { after: first.next as string })).reactors).toMatchObject([{ user: 'pia' }]);
    await mira.withdraw(cursor);
    await until(() => pia.reactions.get(cursor) === undefined);
  });

  it('are refused with stable codes, take no places and do not count as unread', async () => {
    const [service] = (await start()) as [StartedService];
    const [mira, pia] = [await come(service, 'mira'), await come(service, 'pia')];
    const guest = connect(service.url);
    clean.push(() => guest.close());
    await guest.opened();
    const { cursor } = await mira.publish(chat, { text: 'Petrel wins' });
    const poll = await mira.publish('poll/tack', 'Which tack?');
    const dry = await service.backend.publish({ channel: 'weather', data: 1 });
    const enter = (line: Line, channel: string) => line.enter(channel);
    const cases: readonly (readonly [string, () => Promise<unknown>, string])[] = [
      ['of a guest', () => enter(guest, chat).react(cursor, 'wow'), 'not-allowed'],
      ['to your own message', () => enter(mira, chat).react(cursor, 'wow'), 'not-allowed'],
      ['of 10 kB', () => enter(pia, chat).react(cursor, 'x'.repeat(10_000)), 'bad-value'],
      ['empty', () => enter(pia, chat).react(cursor, ''), 'bad-value'],
      ['not among those there may be', () => enter(pia, 'poll/tack').react(poll.cursor, 'wow'), 'bad-value'],
      ['where there are none', () => enter(pia, 'weather').react(dry.cursor, 'wow'), 'bad-value'],
      ['of no message', () => enter(pia, chat).reactors(cursor.replace(/\d+$/, '99')), 'no-such-message'],
      ['to no message', () => enter(pia, chat).react(cursor.replace(/\d+$/, '99'), 'wow'), 'no-such-message'],
    ];
    for (const [what, done, code] of cases) expect([what, await codeOf(done())]).toEqual([what, code]);
    const by = (n: number) => ({ channel: chat, cursor, by: { user: `user-${n}` } });
    for (let n = 0; n < 20; n++) await service.backend.react({ ...by(n), word: `kind-${n}` });
    expect(await codeOf(service.backend.react({ ...by(20), word: 'kind-20' }))).toBe('too-many-reactions');
    for (let n = 1; n < 5; n++) await service.backend.react({ ...by(0), word: `kind-${n}` });
    expect(await codeOf(service.backend.react({ ...by(0), word: 'kind-9' }))).toBe('too-many-reactions');
    await pia.mark(chat, cursor);
    const next = await mira.publish(chat, { text: 'Knot is second' });
    expect(Number(next.cursor.split(':')[1])).toBe(2);
    expect(await pia.mark(chat, cursor)).toMatchObject({ unread: 1 });
    const many = Array.from({ length: 60 }, () => codeOf(enter(pia, chat).react(next.cursor, 'wow')));
    expect(await Promise.all(many)).toContain('rate-limited');
    // By commands.
    const env = { NINEBELLS_URL: service.url, NINEBELLS_KEY: service.key };
    const said = await ninebells(['react', chat, next.cursor, '⛵', '--by', 'jory:Jory Teague'], env);
    expect(said.out).toBe(`${next.cursor} in ${chat} has wow 1, ⛵ 1\n`);
    expect((await ninebells(['reactions', chat, next.cursor, '--word', '⛵'], env)).out).toMatch(/⛵ +Jory Teague/);
    expect((await ninebells(['read', chat], env)).out).toMatch(/Knot is second.* \[wow 1, ⛵ 1\]\n$/);
    const off = await ninebells(['react', chat, next.cursor, '⛵', '--by', 'jory', '--off'], env);
    expect(off.out).toMatch(/has wow 1\n$/);
  });

  it.skipIf(!redisIsThere)(
    'are the same on two instances, told at a pace, also of a thousand at one message',
    async () => {
      const redis = await RealRedis.start();
      clean.push(() => redis.remove());
      const [one, two] = (await start(2, redis.url)) as [StartedService, StartedService];
      const raw = await (await RawLine.open(two.url)).hello({ enter: [{ channel: chat }] });
      clean.push(() => raw.socket.close());
      const { cursor } = await one.backend.publish({ channel: chat, data: { text: 'Petrel wins' } });
      const startedMs = Date.now();
      await Promise.all(
        Array.from({ length: 1_000 }, (_, n) =>
          (n % 2 === 0 ? one : two).service.engine.messages.react(
            chat as never,
            { volume: cursor.split(':')[0] as string, number: 1 },
            { user: `user-${n}` },
            n % 5 === 0 ? 'wow' : '⛵',
            true,
          ),
        ),
      );
      const last = () => raw.frames.filter(({ on }) => on === 'reactions').at(-1)?.counts[cursor];
      await until(() => last()?.['⛵'] === 800 && last()?.wow === 200);
      const frames = raw.frames.filter(({ on }) => on === 'reactions').length;
      expect(frames).toBeLessThanOrEqual(Math.ceil((Date.now() - startedMs) / 250) + 1);
      for (const each of [one, two])
        expect((await each.backend.read(chat)).reactions?.counts[cursor]).toEqual({ '⛵': 800, wow: 200 });
    },
  );
});
