import type { ChannelName, Json } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { Hooks } from '../src/hooks/hooks.js';
import {
  type ChannelRule,
  defaultBoard,
  defaultHook,
  type Hook,
  type HookAnswer,
  type HookState,
  type Relay,
  type ShapedDelivery,
} from '../src/index.js';
import { TimerWheel } from '../src/lib/timerWheel.js';
import { harness } from './harness.js';

const chat = 'race/1/chat' as ChannelName;
const other = 'race/2/chat' as ChannelName;
const base: Hook = {
  ...defaultHook,
  name: 'bureau',
  url: 'https://bureau.example/finishes',
  retry: { firstMs: 1_000, mostMs: 60_000 },
};

/** A receiver that says what `answers` says, one answer after another, and 200 after that. */
class Receiver {
  readonly got: { readonly hook: string; readonly data: unknown[]; readonly atMs: number }[] = [];
  answers: HookAnswer[] = [];
  tookMs = 5;
  /** Requests under way. */
  underWay = 0;
  most = 0;

  constructor(private readonly clock: () => { monotonic(): number; setTimer(ms: number, act: () => void): unknown }) {}

  async send(hook: Hook, deliveries: readonly ShapedDelivery[]): Promise<HookAnswer> {
    const clock = this.clock();
    this.underWay += 1;
    this.most = Math.max(this.most, this.underWay);
    const data = deliveries.map(({ dataText }) => JSON.parse(dataText).data ?? JSON.parse(dataText));
    this.got.push({ hook: hook.name, data, atMs: clock.monotonic() });
    const answer = this.answers.shift() ?? { status: 200, tookMs: 5 };
    await new Promise<void>((resolve) => void clock.setTimer(this.tookMs, resolve));
    this.underWay -= 1;
    return answer;
  }

  get data(): unknown[] {
    return this.got.flatMap(({ data }) => data);
  }
}

const failing: HookAnswer = { status: 500, tookMs: 5, problem: 'status 500' };
const refusing: HookAnswer = { status: 400, tookMs: 5, problem: 'status 400' };

function service(hooks: readonly Partial<Hook>[], rules?: readonly ChannelRule[]) {
  const paused: string[] = [];
  const receiver: Receiver = new Receiver(() => found.clock);
  const found = harness({ hooks: hooks.map((hook) => ({ ...base, ...hook })) }, undefined, {
    ...(rules === undefined ? {} : { rules }),
    ports: { hookCaller: receiver, hookPaused: ({ name }, why) => paused.push(`${name}: ${why}`) },
  });
  const { engine, clock, memory } = found;
  const say = (data: Json, channel: ChannelName = chat, type = 'message') =>
    engine.messages.publish({ channel, data, type });
  const states = async () =>
    (await memory.deliveries({ limit: 1000 })).map(({ state, attempts }) => `${state} ${attempts}`).reverse();
  return { ...found, receiver, paused, say, states, run: (ms: number) => clock.run(ms) };
}

describe('a hook', () => {
  it('hears of messages by channel pattern, type and condition, with the data that its template makes', async () => {
    const { receiver, say, run } = service([
      { name: 'all' },
      { name: 'race-2', channels: ['race/2/:what'] },
      { name: 'finishes', types: ['finish'], data: { boat: '/data' } },
      { name: 'petrel', when: { at: '/data', is: 'petrel' }, drop: ['/by'] },
    ]);
    await say('petrel', chat, 'finish');
    await say('dunlin', other);
    await run(1_000);
    const heard = receiver.got.map(({ hook, data }) => [hook, ...data]);
    expect(heard.sort()).toEqual([
      ['all', 'dunlin'],
      ['all', 'petrel'],
      ['finishes', { boat: 'petrel' }],
      ['petrel', 'petrel'],
      ['race-2', 'dunlin'],
    ]);
  });

  it('hears of messages in channels that are not kept, before they are acknowledged', async () => {
    const { memory, engine } = service([{}]);
    await engine.messages.publish({ channel: 'weather/north' as ChannelName, data: 7 });
    expect(await memory.deliveries({ limit: 9 })).toHaveLength(1);
  });

  it('hears of bans with what they say, committed with them', async () => {
    const { engine, receiver, run } = service([{ events: ['ban', 'unban'] }]);
    const { action } = await engine.moderation.ban({ user: 'jory', reason: 'shouting' }, { kind: 'key', id: 'k' });
    await engine.moderation.unban(action.id, { kind: 'key', id: 'k' });
    await run(1_000);
    expect(receiver.data).toMatchObject([
      { user: 'jory', reason: 'shouting', by: { kind: 'key', id: 'k' } },
      { user: 'jory', ban: action.id },
    ]);
  });

  it('hears who has joined and left, and of the first in and the last out', async () => {
    const deck: ChannelRule = {
      pattern: 'deck/:n',
      logbook: { type: 'kept' },
      allow: { enter: 'anyone' },
      presence: { graceMs: 1_000, crowd: 100, noted: false },
    };
    const { connect, clock, receiver, memory } = service(
      [{ events: ['joined', 'left', 'first-in', 'last-out'], ordered: true }],
      [deck],
    );
    const clients = [];
    for (const token of ['pia', 'jory']) {
      const client = connect();
      client.send({ do: 'hello', token, enter: [{ channel: 'deck/1' }] });
      await clock.run(3_000);
      clients.push(client);
    }
    for (const client of clients) {
      client.send({ do: 'leave', channel: 'deck/1' });
      await clock.run(6_000);
    }
    const heard = (await memory.deliveries({ limit: 9 })).map(({ event }) => event).reverse();
    expect(heard).toEqual(['joined', 'first-in', 'joined', 'left', 'left', 'last-out']);
    expect(receiver.data).toHaveLength(6);
  });

  it('hears of a board as it is, at a pace', async () => {
    const positions: ChannelRule = {
      pattern: 'race/:n/positions',
      logbook: { type: 'kept' },
      allow: {},
      board: { ...defaultBoard },
    };
    const { engine, run, receiver } = service([{ events: ['board'], boardEveryMs: 2_000 }], [positions]);
    const set = (value: number) => engine.boards.set('race/1/positions' as ChannelName, { entry: 'petrel', value });
    for (let x = 1; x <= 30; x++) {
      const done = set(x);
      await run(200);
      await done;
    }
    await run(5_000);
    const told = receiver.data.map((data) => (data as { entries: { value: number }[] }).entries[0]?.value);
    expect(told.at(-1)).toBe(30);
    expect(told.length).toBeLessThan(6);
  });

  it('is tried again later and later, with the same delivery, until it succeeds', async () => {
    const { receiver, say, states, run } = service([{}]);
    receiver.answers = [failing, refusing, { tookMs: 5, problem: 'no answer within 10 s' }];
    await say('a');
    await run(60_000);
    expect(receiver.data).toEqual(['a', 'a', 'a', 'a']);
    const times = receiver.got.map(({ atMs }) => atMs);
    const gaps = times.slice(1).map((at, index) => at - (times[index] as number));
    for (const [index, gap] of gaps.entries()) {
      expect(gap).toBeGreaterThanOrEqual(1_000 * 2 ** index * 0.75);
      expect(gap).toBeLessThan(1_000 * 2 ** index * 1.25 + 500);
    }
    expect(await states()).toEqual(['delivered 4']);
  });

  it('waits as long as the receiver asks, with all that it has', async () => {
    const { receiver, say, run } = service([{ atOnce: 1 }]);
    receiver.answers = [{ status: 429, tookMs: 5, problem: 'status 429', retryAfterMs: 30_000 }];
    await say('a');
    await say('b');
    await run(29_000);
    expect(receiver.data).toEqual(['a']);
    await run(10_000);
    expect(receiver.data.slice(1).sort()).toEqual(['a', 'b']);
  });

  it('gives up an event after its time, and can send it again', async () => {
    const { engine, receiver, say, states, run } = service([{ giveUpMs: 20_000 }]);
    receiver.answers = Array(20).fill(refusing);
    await say('a');
    await run(60_000);
    expect((await states())[0]).toMatch(/^dead/);
    receiver.answers = [];
    const { id } = (await engine.store.hooks.deliveries({ limit: 1 }))[0] as { id: string };
    expect(await engine.hooks.resend({ ids: [{ hook: 'bureau', id }] })).toBe(1);
    await run(1_000);
    expect((await states())[0]).toMatch(/^delivered/);
  });

  it('sends to a receiver that is down one event at a time', async () => {
    const { receiver, say, run } = service([{ atOnce: 4 }]);
    receiver.answers = Array(60).fill(failing);
    for (let n = 0; n < 30; n++) await say(`${n}`);
    await run(30_000);
    // Five failures open the breaker, with three more under way; then a probe after 5 s, 10 s more and so on.
    expect(receiver.got.length).toBeLessThan(12);
    receiver.answers = [];
    await run(120_000);
    expect(new Set(receiver.data).size).toBe(30);
  });

  it('does not hold up another one', async () => {
    const { receiver, say, run } = service([{ name: 'dead' }, { name: 'living' }]);
    const send = receiver.send.bind(receiver);
    receiver.send = async (hook, deliveries) => {
      if (hook.name === 'living') return send(hook, deliveries);
      await new Promise<void>(() => {});
      return failing;
    };
    for (let n = 0; n < 20; n++) await say(`${n}`);
    await run(1_000);
    expect(receiver.data).toHaveLength(20);
  });

  it('keeps to its rate and its concurrency', async () => {
    const { receiver, say, run } = service([{ atOnce: 2, rate: { count: 5, perMs: 1_000 } }]);
    receiver.tookMs = 100;
    for (let n = 0; n < 30; n++) await say(`${n}`);
    await run(3_000);
    expect(receiver.most).toBe(2);
    expect(receiver.got.length).toBeGreaterThanOrEqual(15);
    expect(receiver.got.length).toBeLessThanOrEqual(21);
  });

  it('keeps the order of each channel where wished: one that fails holds up its channel, and no other', async () => {
    const { receiver, say, run } = service([{ ordered: true }]);
    receiver.answers = [failing];
    await say('a1');
    await say('a2');
    await say('b1', other);
    await run(500);
    expect(receiver.data).toEqual(['a1', 'b1']);
    await run(5_000);
    expect(receiver.data).toEqual(['a1', 'b1', 'a1', 'a2']);
  });

  it('puts several events into one request where wished', async () => {
    const { receiver, say, run } = service([{ batch: { most: 3, withinMs: 2_000 } }]);
    for (const data of ['a', 'b', 'c', 'd']) await say(data);
    await run(500);
    expect(receiver.got.map(({ data }) => data)).toEqual([['a', 'b', 'c']]);
    await run(2_500);
    expect(receiver.got[1]?.data).toEqual(['d']);
  });

  it('sends an event once while nothing fails, however slow the store reads', async () => {
    const { receiver, say, run } = service([{}]);
    for (let n = 0; n < 200; n++) {
      await say(`${n}`);
      await run(7);
    }
    await run(5_000);
    expect(receiver.data).toHaveLength(200);
  });

  it('keeps an event that its template cannot shape, says why, and goes on with the others', async () => {
    const { receiver, say, run, memory } = service([{ data: '/data/boat' }]);
    await say('no boat');
    await run(500);
    const [kept] = await memory.deliveries({ limit: 1 });
    expect(await memory.attempts(kept?.number ?? 0)).toMatchObject([{ problem: 'not sent: /data/boat finds nothing' }]);
    expect(receiver.got).toEqual([]);
  });

  it('tries a receiver again that was down, though the event of the trial cannot be shaped', async () => {
    const { receiver, say, run } = service([
      { data: '/data/boat', atOnce: 5, retry: { firstMs: 20_000, mostMs: 60_000 } },
    ]);
    receiver.answers = Array(5).fill(failing);
    for (let boat = 1; boat <= 5; boat++) await say({ boat });
    await run(500);
    await say('no boat');
    await run(120_000);
    expect(receiver.got).toHaveLength(10);
  });

  it('is taken over from an instance that runs and does not take its share', async () => {
    const { clock, memory } = harness();
    const ids = { message: () => 'm', session: () => 's', volume: () => 'v', moderation: () => 'n' };
    const receiver = new Receiver(() => clock);
    const others = { list: () => ['one', 'two'], tell: () => {}, claim: async () => true };
    const hooks = new Hooks(
      {
        clock,
        ids,
        wheel: new TimerWheel(clock),
        // Only what hooks use of a relay.
        relay: { others } as unknown as Relay,
        store: memory,
        report: (error) => expect.unreachable(String(error)),
        caller: receiver,
        readHook: undefined,
        paused: undefined,
        self: 'one',
      },
      [
        { ...base, name: 'a' },
        { ...base, name: 'b' },
      ],
    );
    const held = () => hooks.all.filter(({ isHeldHere }) => isHeldHere).length;
    await clock.run(6_000);
    expect(held()).toBe(1);
    await clock.run(12_000);
    expect(held()).toBe(2);
  });

  it.each<[string, HookAnswer, RegExp]>([
    ['says that it is gone', { status: 410, tookMs: 5, problem: 'status 410' }, /gone \(410\)/],
    ['fails for too long', failing, /it has failed since/],
  ])('is paused when it %s, and goes on when it is resumed', async (_, answer, why) => {
    const { engine, receiver, paused, say, run } = service([
      { pauseMs: 120_000, retry: { firstMs: 500, mostMs: 2_000 } },
    ]);
    receiver.answers = Array(100).fill(answer);
    await say('a');
    await run(600_000);
    expect(paused).toEqual([expect.stringMatching(why)]);
    const tries = receiver.got.length;
    await run(600_000);
    expect(receiver.got).toHaveLength(tries);
    receiver.answers = [];
    await engine.hooks.resume('bureau');
    await run(60_000);
    expect(receiver.data.length).toBeGreaterThan(tries);
  });

  it('does not try again what has gone round in a circle', async () => {
    const { receiver, say, states, run } = service([{}]);
    receiver.answers = [{ status: 508, tookMs: 5, problem: 'status 508' }];
    await say('a');
    await run(60_000);
    expect(await states()).toEqual(['dead 1']);
  });

  it.each([
    ['events', { most: 10 }],
    ['bytes', { maxBytes: 1_000 }],
  ])('takes nothing more when too many %s wait, and says so', async (_, bound) => {
    const { receiver, paused, say, run, states } = service([{ ...bound, pauseMs: 1e12, giveUpMs: 1e12 }]);
    receiver.answers = Array(1_000).fill(failing);
    for (let n = 0; n < 12; n++) await say(`${n}`);
    await run(31_000);
    await say('too much');
    expect(await states()).toHaveLength(12);
    expect(paused).toEqual([expect.stringMatching(/new ones are not queued/)]);
  });

  it('that was registered is sent to until its registration is void', async () => {
    const receiver: Receiver = new Receiver(() => found.clock);
    let isVoid = false;
    const readHook = ({ name }: HookState): Hook | undefined => (isVoid ? undefined : { ...base, name });
    const found = harness({}, undefined, { ports: { hookCaller: receiver, readHook } });
    await found.memory.keepHook('mine', { definition: {}, key: 'k', secrets: [] });
    await found.engine.hooks.changed();
    await found.engine.messages.publish({ channel: chat, data: 'a' });
    await found.clock.run(1_000);
    isVoid = true;
    await found.engine.hooks.changed();
    await found.engine.messages.publish({ channel: chat, data: 'b' });
    await found.clock.run(60_000);
    expect(receiver.data).toEqual(['a']);
  });
});

describe('a feed', () => {
  const feed: Partial<Hook> = { name: 'notebook', url: '', leaseMs: 10_000 };

  it('gives each event to one of its readers, and again when it is not acknowledged', async () => {
    const { engine, say, run, receiver } = service([feed]);
    for (const data of ['a', 'b', 'c']) await say(data);
    const { feeds } = engine.hooks;
    const taken = async (most: number) =>
      (await feeds.take('notebook', most, 0)).events.map(({ delivery, dataText }) => ({
        id: delivery.id,
        data: JSON.parse(dataText).data,
      }));
    const first = await taken(2);
    const second = await taken(2);
    expect([first, second].map((each) => each.map(({ data }) => data))).toEqual([['a', 'b'], ['c']]);
    expect(await feeds.acknowledge('notebook', [first[0]?.id ?? ''])).toBe(1);
    expect(await taken(9)).toEqual([]);
    await run(11_000);
    expect((await taken(9)).map(({ data }) => data)).toEqual(['b', 'c']);
    expect(await feeds.acknowledge('notebook', [first[0]?.id ?? ''])).toBe(0);
    expect(receiver.got).toEqual([]);
  });

  it('wakes a reader that waits, and goes back in time', async () => {
    const { engine, say, run } = service([feed]);
    const waiting = engine.hooks.feeds.take('notebook', 9, 20_000);
    await run(1_000);
    await say('a');
    await run(100);
    const { events } = await waiting;
    expect(events).toHaveLength(1);
    await engine.hooks.feeds.acknowledge('notebook', [events[0]?.delivery.id ?? '']);
    expect(await engine.hooks.resend({ hook: 'notebook', fromMs: 0 })).toBe(1);
    expect((await engine.hooks.feeds.take('notebook', 9, 0)).events).toHaveLength(1);
  });

  it('that is not there is said to be so', async () => {
    const { engine } = service([{ name: 'bureau' }]);
    for (const name of ['bureau', 'none'])
      await expect(engine.hooks.feeds.take(name, 1, 0)).rejects.toMatchObject({ code: 'no-such-hook' });
  });
});
