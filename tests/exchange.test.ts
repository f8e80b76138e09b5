import {
  type BoardApplied,
  type BoardChange,
  type Exchange,
  ExchangeHub,
  type LogSlice,
  type MessageLine,
  type Placed,
  type PlacedRecord,
  topics,
} from '@nine-bells/core';
import { compareTerms, MemoryTermBook, RedisExchange, type ServerFacts, ServiceClock } from '@nine-bells/service';
import { channelName, type ProblemError } from '@nine-bells/wire';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { FaultyWay } from './support/faultyWay.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { until, wait } from './support/until.js';

const clock = {
  now: Date.now,
  settled: Date.now,
  monotonic: () => performance.now(),
  setTimer: () => () => {},
  endOfTurn: (act: () => void) => void setImmediate(act),
};
const channel = channelName('weather/wind');
const bounds = { messages: 20, forMs: 60_000 };

/** What an exchange gives, whatever its volume is called. */
const shownSlice = ({ messages, more, gap, head }: LogSlice): object => ({
  numbers: messages.map(({ place }) => place.number),
  texts: messages.map(({ tail, atMs, except, of, revision, isVoid }) => [
    tail,
    atMs,
    except,
    isVoid || of,
    revision,
    isVoid,
  ]),
  more,
  gap,
  head: head.number,
});
const shownPlaced = (placed: readonly Placed[]): object =>
  placed.map(({ place, ...rest }) => ({ ...rest, number: place.number }));

const facts: ServerFacts = {
  run: 'r1',
  replication: 'x1',
  wasReplica: false,
  startedAtMs: 1_000,
  nowMs: 2_000,
  isDurable: true,
  hasReplicas: false,
};

describe.skipIf(!redisIsThere)('an exchange in Redis', () => {
  let redis: RealRedis;
  beforeAll(async () => {
    redis = await RealRedis.start();
  });
  afterAll(() => redis.remove());

  const open = async (prefix: string, terms = new MemoryTermBook()): Promise<RedisExchange> => {
    const exchange = new RedisExchange({
      url: redis.url,
      prefix,
      terms,
      report: (error) => expect.fail(String(error)),
    });
    let isOpen = false;
    exchange.listen({
      heard: () => {},
      broken: () => {},
      resumed: () => {
        isOpen = true;
      },
    });
    await until(() => isOpen);
    return exchange;
  };

  it.each([1, 2, 3, 4])('does what the one in memory does, whatever is appended and read: seed %i', async (seed) => {
    let state = seed;
    const random = (most: number): number => {
      state = (Math.imul(state, 1_103_515_245) + 12_345) >>> 0;
      return Math.floor((state / 2 ** 32) * (most + 1));
    };
    const ids = { message: () => '', session: () => '', volume: () => 'vol', moderation: () => '' };
    const inMemory: Exchange = new ExchangeHub(clock, ids).join();
    const inRedis = await open(`seed${seed}`);
    let count = 0;
    for (let step = 0; step < 150; step++) {
      const [one, two] = [await inMemory.head(channel), await inRedis.head(channel)];
      expect(one.number).toBe(two.number);
      const dice = step === 0 ? 0 : random(12);
      if (dice > 9) {
        const id = `c${++count}`;
        const withdraws = random(3) === 0;
        const line: MessageLine = {
          id,
          owner: '~',
          key: random(2) === 0 ? `c${random(9)}` : undefined,
          author: 'pia',
          atMs: Date.now(),
          of: Math.max(0, one.number + 2 - random(24)),
          ifRevision: random(2) === 0 ? (random(1) === 0 ? 0 : one.number - random(6)) : undefined,
          withdraws,
          tail: `"id":"${id}","data":"x x\\n~9 ${count}"${withdraws ? ',"withdrawn":true' : ''}}`,
        };
        const outcome = (done: Promise<readonly Placed[]>): Promise<unknown> =>
          done.then(shownPlaced, ({ problem }: ProblemError) => ({
            ...problem,
            detail: problem.detail?.replace(/\S+:(\d+)$/, '$1'),
          }));
        const a = await outcome(inMemory.append(channel, [line], bounds));
        const b = await outcome(inRedis.append(channel, [line], bounds));
        expect(b).toEqual(a);
        continue;
      }
      if (dice < 5) {
        const keyed = random(1) === 1;
        const lines = Array.from({ length: 1 + random(7) }, (): MessageLine => {
          const id = `m${++count}`;
          const key = keyed && random(2) > 0 ? `k${random(30)}` : undefined;
          const except = random(5) === 0 ? ['s_1'] : undefined;
          return {
            id,
            key,
            author: random(1) ? 'pia' : undefined,
            atMs: Date.now(),
            except,
            tail: `"id":"${id}","data":${count}}`,
          };
        });
        const [a, b] = [await inMemory.append(channel, lines, bounds), await inRedis.append(channel, lines, bounds)];
        expect(shownPlaced(b)).toEqual(shownPlaced(a));
        continue;
      }
      const limit = { messages: 1 + random(12), bytes: random(3) === 0 ? 60 : 1_000_000 };
      const number = random(one.number + 3);
      if (dice < 8) {
        const isOther = random(4) === 0;
        const at = (volume: string) => ({ volume: isOther ? 'other' : volume, number });
        const a = await inMemory.since(channel, at(one.volume), limit, bounds);
        const b = await inRedis.since(channel, at(two.volume), limit, bounds);
        expect(shownSlice(b)).toEqual(shownSlice(a));
      } else {
        const isOther = random(4) === 0;
        const before = (volume: string) => (number === 0 ? undefined : { volume: isOther ? 'other' : volume, number });
        const a = await inMemory.before(channel, before(one.volume), limit, bounds);
        const b = await inRedis.before(channel, before(two.volume), limit, bounds);
        expect(shownSlice(b)).toEqual(shownSlice(a));
      }
    }
    inRedis.close();
  });

  it.each([1, 2, 3])('keeps boards as the one in memory does, and carries the same changes: seed %i', async (seed) => {
    let state = seed + 77;
    const random = (most: number): number => {
      state = (Math.imul(state, 1_103_515_245) + 12_345) >>> 0;
      return Math.floor((state / 2 ** 32) * (most + 1));
    };
    const ids = { message: () => '', session: () => '', volume: () => 'vol', moderation: () => '' };
    const inMemory: Exchange = new ExchangeHub(clock, ids).join();
    const inRedis = await open(`boards${seed}`);
    const carried: string[][] = [[], []];
    for (const [index, exchange] of [inMemory, inRedis].entries()) {
      exchange.listen({
        heard: (_, text) => carried[index]?.push(text.replace(/"board":"[^"]*"/, '')),
        broken: () => {},
        resumed: () => {},
      });
      await exchange.subscribe(topics.channel(channel));
    }
    const boardBounds = { entries: 6, boardBytes: 700, mustExist: false };
    for (let step = 0; step < 120; step++) {
      const places = await Promise.all([inMemory, inRedis].map(async (each) => (await each.boardPlaces([channel]))[0]));
      expect(places[0]?.number).toBe(places[1]?.number);
      const changesFor = (volume: string): BoardChange[] =>
        Array.from({ length: 1 + random(4) }, (): BoardChange => {
          const entry = `e/${random(8)}`;
          const unchangedSince = { volume: random(5) === 0 ? 'other' : volume, number: random(step) };
          const condition = [undefined, undefined, { is: random(step) }, { is: 0 }, { unchangedSince }][random(4)];
          if (random(4) === 0) return { record: { entry }, bytes: 0, condition };
          const value = { n: step, text: 'it\'s "é\u0000'.repeat(random(3)) };
          const forMs = random(4) === 0 ? { forMs: 60_000 } : {};
          return { record: { entry, value, by: 'pia', ...forMs }, bytes: JSON.stringify(value).length, condition };
        });
      const before = state;
      const a = await inMemory.changeBoard(channel, changesFor(places[0]?.volume ?? ''), boardBounds);
      state = before;
      const b = await inRedis.changeBoard(channel, changesFor(places[1]?.volume ?? ''), boardBounds);
      expect(shownOutcomes(b)).toEqual(shownOutcomes(a));
      const boards = await Promise.all([inMemory.readBoard(channel), inRedis.readBoard(channel)]);
      expect(boards[1]?.records.map(withoutTime)).toEqual(boards[0]?.records.map(withoutTime));
    }
    await until(() => carried[1]?.length === carried[0]?.length);
    expect(carried[1]).toEqual(carried[0]);
    expect(carried[0]?.length).toBeGreaterThan(50);
    expect(await inRedis.changeBoard('none' as never, [], { ...boardBounds, mustExist: true })).toBeUndefined();
    inRedis.close();
  });

  it('forgets what is older than its bound, and says so', async () => {
    const exchange = await open('age');
    const short = { messages: 20, forMs: 300 };
    const line = (id: string): MessageLine => ({ id, atMs: Date.now(), tail: `"id":"${id}"}` });
    const [first] = await exchange.append(channel, [line('a'), line('b')], short);
    await wait(500);
    await exchange.append(channel, [line('c')], short);
    const place = (first as Placed).place;
    const slice = await exchange.since(channel, { ...place, number: 0 }, { messages: 10, bytes: 1000 }, short);
    expect(shownSlice(slice)).toMatchObject({ numbers: [3], gap: 'expired', head: 3 });
    exchange.close();
  });

  it('counts channels apart that are appended to in one call, and keeps the order of the calls', async () => {
    const exchange = await open('many');
    const channels = Array.from({ length: 120 }, (_, n) => channelName(`weather/${n}`));
    const calls = Array.from({ length: 600 }, (_, n) => {
      const line = { id: `m${n}`, atMs: n, tail: `"id":"m${n}"}`, ...(n % 2 ? { key: `k${n}` } : {}) };
      return exchange.append(channels[n % channels.length] as typeof channel, [line], bounds);
    });
    const placed = (await Promise.all(calls)).flat();
    for (const [n, { place }] of placed.entries()) expect(place.number).toBe(Math.floor(n / channels.length) + 1);
    exchange.close();
  });

  const keyed = (n: number, key = `k${n}`): MessageLine => ({ id: `m${n}`, key, atMs: n, tail: `"id":"m${n}"}` });
  const keyOf = (prefix: string, part: string): string => `{${prefix}:${channel}}${part}`;

  it.each([
    { part: 'head', lost: true, knows: false },
    { part: 'log', lost: true, knows: true },
    { part: 'changed', lost: true, knows: true },
    { part: 'order', lost: false, knows: true },
  ])(
    'goes on when Redis has evicted $part of a channel: a new volume if messages are lost',
    async ({ part, lost, knows }) => {
      const prefix = `evicts-${part}`;
      const exchange = await open(prefix);
      const before = await exchange.append(channel, [keyed(1), keyed(2)], bounds);
      const { volume } = (before[0] as Placed).place;
      await exchange.append(channel, [{ id: 'c1', author: 'pia', atMs: 3, of: 1, tail: '"id":"m1"}' }], bounds);
      await redis.ask(['DEL', keyOf(prefix, part)]);
      // Whatever is done next, what is acknowledged is there.
      const [again] = await exchange.append(channel, [keyed(9, 'k2')], bounds);
      if (knows) expect(again).toEqual({ ...before[1], repeated: true });
      else expect(again).toMatchObject({ repeated: false, place: { number: 1 } });
      const [next] = await exchange.append(channel, [keyed(3)], bounds);
      const slice = await exchange.since(channel, { volume, number: 2 }, { messages: 10, bytes: 1_000 }, bounds);
      expect(slice.gap).toBe(lost ? 'new-volume' : undefined);
      expect(slice.messages.at(-1)?.place).toEqual(next?.place);
      expect(await exchange.head(channel)).toEqual(next?.place);
      // The order of the keys is known again, or they would never be forgotten.
      await wait(1_100);
      await exchange.append(channel, [keyed(4)], bounds);
      const fields = (await redis.ask<string[]>(['HKEYS', keyOf(prefix, 'head')])).filter((each) =>
        each.startsWith('k'),
      );
      expect(await redis.ask(['LRANGE', keyOf(prefix, 'order'), '0', '-1'])).toEqual(
        expect.arrayContaining(fields.filter((each) => each !== '')),
      );
      exchange.close();
    },
  );

  it('lets Redis forget a log and its changes soon after the last message is too old, and no key without an end', async () => {
    const prefix = 'ends';
    const exchange = await open(prefix);
    await exchange.append(channel, [{ id: 'm0', atMs: 0, tail: '"id":"m0"}' }], bounds);
    await exchange.append(channel, [keyed(1)], bounds);
    await exchange.append(channel, [{ id: 'c1', author: 'pia', atMs: 3, of: 1, tail: '"id":"m1"}' }], bounds);
    const left: Record<string, number> = {};
    for (const part of ['head', 'log', 'changed', 'order']) left[part] = await redis.ask(['PTTL', keyOf(prefix, part)]);
    expect(left.log).toBeGreaterThan(bounds.forMs);
    for (const part of ['log', 'changed']) expect(left[part]).toBeLessThanOrEqual(bounds.forMs + 60_000);
    for (const part of ['head', 'order']) expect(left[part]).toBeGreaterThan(bounds.forMs + 60_000);
    expect((await redis.ask<string[]>(['HKEYS', keyOf(prefix, 'head')])).join(' ')).not.toContain('k1');
    exchange.close();
  });

  it('goes on behind a log that has expired: a gap only for those who have missed something', async () => {
    const prefix = 'expired';
    const exchange = await open(prefix);
    const limit = { messages: 10, bytes: 1_000 };
    const [, last] = await exchange.append(channel, [keyed(1), keyed(2)], bounds);
    const { place } = last as Placed;
    await exchange.append(channel, [{ id: 'c1', author: 'pia', atMs: 3, of: 1, tail: '"id":"m1"}' }], bounds);
    // As Redis does at that time.
    await redis.ask(['HSET', keyOf(prefix, 'head'), 'x', '1']);
    await redis.ask(['DEL', keyOf(prefix, 'log')]);
    const seen = await exchange.since(channel, { ...place, number: 3 }, limit, bounds);
    expect(shownSlice(seen)).toMatchObject({ numbers: [], gap: undefined, head: 3 });
    expect((await exchange.since(channel, place, limit, bounds)).gap).toBe('expired');
    const placed = await exchange.append(channel, [keyed(2), keyed(4)], bounds);
    expect(placed).toMatchObject([{ repeated: true, place }, { place: { volume: place.volume, number: 4 } }]);
    expect(shownSlice(await exchange.since(channel, place, limit, bounds))).toMatchObject({ numbers: [4], head: 4 });
    exchange.close();
  });

  it('acknowledges nothing that Redis had no room for, not even for a key', async () => {
    const prefix = 'full';
    const exchange = await open(prefix);
    await exchange.append(channel, [keyed(1)], bounds);
    await redis.ask(['CONFIG', 'SET', 'maxmemory', '1']);
    await expect(exchange.append(channel, [keyed(2)], bounds)).rejects.toThrow('OOM');
    await redis.ask(['CONFIG', 'SET', 'maxmemory', '0']);
    expect(await exchange.append(channel, [keyed(2)], bounds)).toMatchObject([
      { repeated: false, place: { number: 2 } },
    ]);
    exchange.close();
  });

  it('forgets neither keys nor messages because an instance’s clock is an hour ahead, or behind', async () => {
    const exchange = await open('clocks');
    await exchange.append(channel, [keyed(1)], { messages: 20, forMs: 60_000 });
    const { now } = Date;
    for (const offMs of [3_600_000, -3_600_000]) {
      Date.now = () => now() + offMs;
      const [again] = await exchange.append(channel, [keyed(1)], bounds);
      await exchange.append(channel, [keyed(2 + Math.sign(offMs))], bounds);
      Date.now = now;
      expect(again).toMatchObject({ repeated: true, place: { number: 1 } });
    }
    const { messages } = await exchange.before(channel, undefined, { messages: 10, bytes: 1_000 }, bounds);
    expect(messages.map(({ id }) => id)).toEqual(['m1', 'm3']);
    exchange.close();
  });

  it('keeps the order of what is appended while a record of another term is taken over', async () => {
    const first = await open('overtaken');
    await first.append(channel, [keyed(0)], bounds);
    first.close();
    const book = new MemoryTermBook();
    await book.agree('elsewhere', { ...facts, run: 'elsewhere' });
    const exchange = await open('overtaken', book);
    const appended: Promise<unknown>[] = [];
    for (let n = 1; n <= 20; n++) {
      appended.push(exchange.append(channel, [keyed(n)], bounds));
      await wait(n % 3 === 0 ? 1 : 0);
    }
    await Promise.all(appended);
    const { messages } = await exchange.before(channel, undefined, { messages: 20, bytes: 100_000 }, bounds);
    expect(messages.map(({ id }) => id)).toEqual(Array.from({ length: 20 }, (_, n) => `m${n + 1}`));
    exchange.close();
  });

  it('opens connections anew that have gone silent, and hears topics on the new ones', async () => {
    const way = await FaultyWay.start(redis.port);
    const heard: string[] = [];
    const exchange = new RedisExchange({
      url: way.url(redis.url),
      prefix: 'silent',
      terms: new MemoryTermBook(),
      report: () => {},
    });
    const beats = setInterval(() => void exchange.beat('i1.x', '{}', 4_000).catch(() => {}), 500);
    let resumed = 0;
    exchange.listen({ heard: (_, text) => void heard.push(text), broken: () => {}, resumed: () => void resumed++ });
    await until(() => resumed > 0);
    await exchange.subscribe('all');
    exchange.publish('all', 'before');
    await until(() => heard.length === 1);
    way.silence();
    await until(() => tried(() => exchange.append(channel, [keyed(Date.now())], bounds)));
    await until(() => {
      exchange.publish('all', 'after');
      return heard.includes('after');
    });
    clearInterval(beats);
    exchange.close();
    way.stop();
  });
});

/** `true` once it does not fail and does not hang. */
function tried(act: () => Promise<unknown>): Promise<boolean> {
  return Promise.race([act().then(() => true), wait(300).then(() => false)]).catch(() => false);
}

describe('a record in Redis', () => {
  const restarted = { ...facts, run: 'r2', replication: 'x2', startedAtMs: 3_000, nowMs: 4_000 };
  it.each<[string, Partial<ServerFacts> & { note?: 'isReplicated' }, ServerFacts, 'same' | 'continues' | 'other']>([
    ['is whole while the same server serves', {}, facts, 'same'],
    ['is whole after a restart of a server that writes all to disk', {}, restarted, 'continues'],
    ['is lost when the server did not write all to disk', { isDurable: false }, restarted, 'other'],
    ['is lost when the server now there does not', {}, { ...restarted, isDurable: false }, 'other'],
    ['is lost when a replica took over', {}, { ...restarted, wasReplica: true }, 'other'],
    [
      'is lost when the server had replicas: another server may be there now',
      { hasReplicas: true },
      restarted,
      'other',
    ],
    ['is lost when the server ran before the last one was seen', {}, { ...restarted, startedAtMs: 1_500 }, 'other'],
    [
      'is lost when the same server was a replica in between',
      {},
      { ...facts, replication: 'x3', wasReplica: true },
      'other',
    ],
    [
      'is whole when a master has a new id without having been a replica',
      {},
      { ...facts, replication: 'x3' },
      'continues',
    ],
  ])('%s', async (_, before, now, expected) => {
    const book = new MemoryTermBook();
    const { term } = await book.agree('one', { ...facts, ...before });
    expect(compareTerms(term, now)).toBe(expected);
    const { term: next, isNew } = await book.agree('one', now);
    expect(isNew).toBe(expected !== 'same');
    expect((await book.latestOf(term.term))?.term).toBe(expected === 'other' ? term.term : next.term);
    // A server that comes back after another one has been there has missed something.
    await book.agree('one', { ...restarted, run: 'r9', isDurable: false });
    expect((await book.agree('one', facts)).term.continues).toBeUndefined();
  });
});

describe('the time of the service', () => {
  it('is that of the relay, as far as it was measured', () => {
    const clock = new ServiceClock();
    const off = () => Math.round(clock.now() - Date.now());
    expect(off()).toBe(0);
    const now = Date.now();
    clock.measured(now + 3_600_000, now, now + 4);
    expect(off()).toBeGreaterThan(3_599_000);
    const known = clock.offsetMs;
    // An answer that took long says nothing new, unless it cannot be so.
    clock.measured(now + 3_600_000 + 400, now, now + 1_000);
    expect(clock.offsetMs).toBe(known);
    clock.measured(now, now, now + 10);
    expect(Math.abs(clock.offsetMs)).toBeLessThan(20);
  });
});

function shownOutcomes(applied: BoardApplied | undefined): unknown {
  return applied?.outcomes.map((each) =>
    'number' in each
      ? each
      : { ...each, ...('stands' in each && each.stands ? { stands: withoutTime(each.stands) } : {}) },
  );
}

/** How much longer it lives differs by the time that a call takes. */
function withoutTime({ forMs, ...rest }: PlacedRecord): object {
  return { ...rest, ends: forMs !== undefined };
}
