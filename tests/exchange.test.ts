import { type Exchange, ExchangeHub, type LogSlice, type MessageLine, type Placed } from '@nine-bells/core';
import { MemoryTermBook, RedisExchange } from '@nine-bells/service';
import { channelName } from '@nine-bells/wire';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { RealRedis, redisIsThere, wait } from './realRedis.js';
import { until } from './startedService.js';

const clock = {
  now: Date.now,
  monotonic: () => performance.now(),
  setTimer: () => () => {},
  endOfTurn: (act: () => void) => void setImmediate(act),
};
const channel = channelName('weather/wind');
const bounds = { messages: 20, forMs: 60_000 };

/** What an exchange gives, whatever its volume is called. */
const shownSlice = ({ messages, more, gap, head }: LogSlice): object => ({
  numbers: messages.map(({ place }) => place.number),
  texts: messages.map(({ tail, atMs, except }) => [tail, atMs, except]),
  more,
  gap,
  head: head.number,
});
const shownPlaced = (placed: readonly Placed[]): object =>
  placed.map(({ place, ...rest }) => ({ ...rest, number: place.number }));

describe.skipIf(!redisIsThere)('an exchange in Redis', () => {
  let redis: RealRedis;
  beforeAll(async () => {
    redis = await RealRedis.start();
  });
  afterAll(() => redis.remove());

  const open = async (prefix: string): Promise<RedisExchange> => {
    const exchange = new RedisExchange({
      url: redis.url,
      prefix,
      terms: new MemoryTermBook(),
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
    const ids = { message: () => '', session: () => '', volume: () => 'vol', measure: () => '' };
    const inMemory: Exchange = new ExchangeHub(clock, ids).door();
    const inRedis = await open(`seed${seed}`);
    let count = 0;
    for (let step = 0; step < 150; step++) {
      const [one, two] = [await inMemory.head(channel), await inRedis.head(channel)];
      expect(one.number).toBe(two.number);
      const dice = random(9);
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
});
