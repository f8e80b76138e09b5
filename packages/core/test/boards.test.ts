import { channelName, defined, type Json } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { paceOf } from '../src/boards/board.js';
import { adviceOf } from '../src/channel/traffic.js';
import {
  type Asker,
  type BoardRule,
  type ChannelRule,
  type Clock,
  channelRule,
  defaultBoard,
  type Engine,
  LoggedMessage,
  type Question,
} from '../src/index.js';
import { BoardTables } from '../src/record/boardTables.js';
import { type Client, harness } from './harness.js';

const race = channelName('race/3/positions');
const logbook = { type: 'recent', bounds: { messages: 10, forMs: 60_000 } } as const;

function rulesWith(board: Partial<BoardRule> = {}, allow: ChannelRule['allow'] = {}): readonly ChannelRule[] {
  return [
    channelRule({
      pattern: 'race/:race/positions',
      logbook,
      allow: { enter: 'anyone', set: 'anyone', publish: 'anyone', ...allow },
      presence: { graceMs: 5_000, crowd: 100 },
      board: { ...defaultBoard, ...board },
    }),
    { pattern: 'plain', logbook, allow: { enter: 'anyone', set: 'anyone' } },
  ];
}

async function start(board: Partial<BoardRule> = {}, allow: ChannelRule['allow'] = {}, asker?: Asker) {
  const all = harness({}, undefined, { rules: rulesWith(board, allow), ...defined({ asker }) });
  const come = async (who: string, wish: object = {}): Promise<Client> =>
    all.welcomed(who, { enter: [{ channel: race, ...wish }] });
  const set = async (client: Client, entry: string, value: Json, more: object = {}) => {
    const id = client.send({ do: 'set', channel: race, entry, value, ...more });
    await all.settle();
    return client.reply(id) as unknown as {
      version?: string;
      problem?: { code: string; where?: string; stands?: object };
    };
  };
  return { ...all, come, set };
}

/** The board as a client has it by all that it was told. */
function boardOf({ frames }: Client): Readonly<Record<string, Json>> {
  const entries: Record<string, Json> = {};
  let version: string | undefined;
  for (const frame of frames) {
    const board = frame.entered?.[0]?.board ?? frame.board;
    if (board !== undefined) {
      for (const entry of Object.keys(entries)) delete entries[entry];
      Object.assign(entries, board.entries);
      version = board.version;
    }
    if (frame.on !== 'board') continue;
    if (!frame.whole) expect(frame.after).toBe(version);
    else for (const entry of Object.keys(entries)) delete entries[entry];
    Object.assign(entries, frame.set);
    for (const entry of frame.gone ?? []) delete entries[entry];
    version = frame.version;
  }
  return entries;
}

describe('a board', () => {
  it('pushes the first change at once, and what follows at the pace, only the latest of each entry', async () => {
    const { come, set, clock } = await start();
    const [pia, tomas] = [await come('pia'), await come('tomas')];
    await set(tomas, 'petrel', 1);
    expect(pia.pushes('board').map((push) => push.set)).toEqual([{ petrel: 1 }]);
    for (let n = 2; n <= 20; n++) await set(tomas, 'petrel', n);
    await set(tomas, 'knot', 'ashore');
    expect(pia.pushes('board')).toHaveLength(1);
    await clock.run(100);
    expect(pia.pushes('board').map((push) => push.set)).toEqual([{ petrel: 1 }, { petrel: 20, knot: 'ashore' }]);
    expect(pia.pushes('board')[1]).toMatchObject({ after: pia.pushes('board')[0].version });
  });

  it('gives who comes all of it, and from then on exactly what changes, also between two frames', async () => {
    const { come, set, clock } = await start();
    const tomas = await come('tomas');
    await set(tomas, 'petrel', 1);
    await set(tomas, 'petrel', 2);
    const pia = await come('pia');
    expect(boardOf(pia)).toEqual({ petrel: 2 });
    await set(tomas, 'knot', 1);
    await clock.run(200);
    expect(pia.pushes('board').map((push) => push.set)).toEqual([{ knot: 1 }]);
    expect(boardOf(pia)).toEqual(boardOf(tomas));
  });

  it('removes an entry by null, and says so once', async () => {
    const { come, set, clock } = await start();
    const tomas = await come('tomas');
    await set(tomas, 'petrel', 1);
    await clock.run(200);
    await set(tomas, 'petrel', null);
    await set(tomas, 'petrel', null);
    await clock.run(200);
    expect(tomas.pushes('board').at(-1)).toMatchObject({ gone: ['petrel'] });
    expect(tomas.pushes('board')).toHaveLength(2);
  });

  it('leaves out what a session has set itself if it wishes so, and shares a frame among all others', async () => {
    const { come, set, clock } = await start();
    const [pia, jory, tomas] = [await come('pia'), await come('jory'), await come('tomas', { echo: false })];
    await set(tomas, 'petrel', 1);
    await clock.run(200);
    await set(tomas, 'petrel', 2);
    await set(pia, 'knot', 1);
    await clock.run(200);
    expect(tomas.pushes('board').map((push) => push.set)).toEqual([{ knot: 1 }]);
    expect(boardOf(pia)).toEqual({ petrel: 2, knot: 1 });
    expect(boardOf(jory)).toEqual(boardOf(pia));
  });

  it('pushes at a slower pace to who asks for one', async () => {
    const { come, set, clock } = await start();
    const [pia, tomas] = [await come('pia', { pace: 1_000 }), await come('tomas')];
    for (let n = 1; n <= 40; n++) {
      await set(tomas, 'petrel', n);
      await clock.run(50);
    }
    await clock.run(2_000);
    expect(tomas.pushes('board').length).toBeGreaterThan(15);
    expect(pia.pushes('board').length).toBeLessThan(5);
    expect(boardOf(pia)).toEqual({ petrel: 40 });
  });

  it('gives who does not keep up merged changes later, with nothing waiting and without being cut off', async () => {
    const { come, set, clock } = await start({ valueBytes: 20_000 });
    const [pia, tomas] = [await come('pia'), await come('tomas')];
    pia.waitingBytes = 1;
    for (let n = 1; n <= 300; n++) {
      await set(tomas, `boat-${n % 10}`, 'x'.repeat(10_000) + n);
      await clock.run(20);
    }
    expect(pia.pushes('board')).toEqual([]);
    expect(pia.connection.waitingBytes).toBeLessThan(1_000);
    pia.waitingBytes = 0;
    pia.connection.drained();
    await clock.run(500);
    expect(pia.closedWith).toBeUndefined();
    expect(pia.pushes('board')).toHaveLength(1);
    expect(boardOf(pia)).toEqual(boardOf(tomas));
  });

  it('lets only one have what has a condition, and says what stands there', async () => {
    const { come, set } = await start();
    const [pia, tomas] = [await come('pia'), await come('tomas')];
    const won = await set(tomas, 'seat/1', 'tomas', { ifVersion: null });
    expect(await set(pia, 'seat/1', 'pia', { ifVersion: null })).toMatchObject({
      problem: { code: 'conflict', where: '/ifVersion', stands: { value: 'tomas', version: won.version, by: 'tomas' } },
    });
    const again = await set(pia, 'seat/1', 'pia', { ifVersion: won.version });
    expect(again.problem).toBeUndefined();
    expect(await set(tomas, 'seat/1', 'tomas', { ifVersion: won.version })).toMatchObject({
      problem: { code: 'conflict' },
    });
  });

  it('lets entries end after their time, and with the session that holds them: at once, or after the grace', async () => {
    const { come, set, clock } = await start();
    const [pia, tomas, ines] = [await come('pia'), await come('tomas'), await come('ines')];
    await set(tomas, 'brief', 1, { forMs: 3_000 });
    await set(tomas, 'petrel', 1, { whileHere: true });
    await set(ines, 'turnstone', 1, { whileHere: true });
    await set(ines, 'stays', 1);
    await clock.run(1_000);
    expect(boardOf(pia)).toEqual({ brief: 1, petrel: 1, turnstone: 1, stays: 1 });
    tomas.send({ do: 'leave', channel: race });
    ines.connection.closed(1006);
    await clock.run(1_000);
    expect(boardOf(pia)).toEqual({ brief: 1, turnstone: 1, stays: 1 });
    await clock.run(1_500);
    expect(boardOf(pia)).toEqual({ turnstone: 1, stays: 1 });
    await clock.run(4_000);
    expect(boardOf(pia)).toEqual({ stays: 1 });
  });

  it.each([
    ['with a token without the role', (tomas: Client) => tomas.send({ do: 'refresh', token: 'tomas' })],
    [
      'silenced',
      (_: Client, { moderation }: Engine) => moderation.silence({ user: 'tomas' }, { kind: 'key', id: 'k', name: 'k' }),
    ],
  ])('removes entries held by a session whose user may not set them any more: %s', async (_, loseRight) => {
    const set = { any: [{ role: 'skipper' }, { user: 'ines' }] } as const;
    const all = await start({}, { set: set as never });
    const [tomas, ines] = [await all.come('tomas!skipper'), await all.come('ines!skipper')];
    await all.set(tomas, 'petrel', 1, { whileHere: true });
    await all.set(tomas, 'stays', 1);
    await all.set(ines, 'turnstone', 1, { whileHere: true });
    await loseRight(tomas, all.engine);
    await all.clock.run(1_000);
    expect(boardOf(ines)).toEqual({ turnstone: 1, stays: 1 });
    expect((await all.set(tomas, 'petrel', 2)).problem?.code).toMatch(/not-allowed|silenced/);
  });

  it.each([
    ['', false],
    [', after a reconnection', true],
  ])('removes a held entry when the application, asked again, no longer allows its setter%s', async (_, reconnects) => {
    let isAllowed = true;
    let asked = 0;
    const ask = async (_: string, { act }: Question) => {
      if (act === 'set') asked += 1;
      return { allow: act === 'enter' || isAllowed, rememberMs: 10_000 };
    };
    const all = await start({}, { set: { ask: 'https://app/access' } }, { ask });
    const [tomas, ines] = [await all.come('tomas'), await all.come('ines')];
    await all.set(tomas, 'petrel', 1, { whileHere: true });
    await all.set(tomas, 'stays', 1);
    if (reconnects) {
      const { session, secret } = tomas.frames[0] as { session: string; secret: string };
      tomas.connection.closed(1006);
      await all.welcomed('tomas', { session, secret, enter: [{ channel: race }] });
    }
    await all.clock.run(15_000);
    expect([boardOf(ines), asked]).toEqual([{ petrel: 1, stays: 1 }, 3]);
    isAllowed = false;
    await all.clock.run(11_000);
    expect(boardOf(ines)).toEqual({ stays: 1 });
  });

  it('is there again after a restart where it is kept, in a new volume, without what has ended meanwhile', async () => {
    const { come, set, clock, engine, restarted, welcomed } = await start({ kept: true });
    const tomas = await come('tomas');
    await set(tomas, 'petrel', 1);
    await set(tomas, 'held', 1, { whileHere: true });
    const before = tomas.pushes('board').at(-1).version;
    await engine.stop();
    const later = restarted();
    const pia = await welcomed('pia', { enter: [{ channel: race }] }, later);
    expect(boardOf(pia)).toEqual({ petrel: 1, held: 1 });
    await clock.run(6_000);
    expect(boardOf(pia)).toEqual({ petrel: 1 });
    expect(pia.pushes('board').at(-1).version.split(':')[0]).not.toBe(before.split(':')[0]);
  });

  it('counts the same for its bounds after a restart', async () => {
    const { come, set, engine, restarted, welcomed, settle } = await start({ kept: true, boardBytes: 300 });
    const tomas = await come('tomas');
    // Each counts for its name, its value and 64 bytes: 75.
    for (let n = 1; n <= 4; n++) await set(tomas, `boat-${n}`, 'abc', { whileHere: true, forMs: 86_000_000 });
    expect((await set(tomas, 'boat-5', 'abc')).problem?.code).toBe('board-full');
    await engine.stop();
    const pia = await welcomed('pia', { enter: [{ channel: race }] }, restarted());
    const id = pia.send({ do: 'set', channel: race, entry: 'boat-1', value: 'xyz' });
    await settle();
    expect(pia.reply(id).problem).toBeUndefined();
  });

  it('takes messages of a type as entries, and pushes others as messages', async () => {
    const { come, clock, engine } = await start({ types: { position: { entry: '/boat' } } });
    const pia = await come('pia');
    const id = pia.send({ do: 'publish', channel: race, type: 'position', data: { boat: 'knot', x: 1 } });
    const published = engine.messages.publish({ channel: race, type: 'position', data: { boat: 'petrel', x: 1 } });
    void engine.messages.publish({ channel: race, type: 'signal', data: 'recall' });
    await clock.run(200);
    expect(await published).toMatchObject({ entry: 'petrel' });
    expect(pia.reply(id)).toMatchObject({ entry: 'knot' });
    expect(pia.data).toEqual(['recall']);
    expect(boardOf(pia)).toEqual({ knot: { boat: 'knot', x: 1 }, petrel: { boat: 'petrel', x: 1 } });
    const wrong = pia.send({ do: 'publish', channel: race, type: 'position', data: { x: 1 } });
    await clock.run(0);
    expect(pia.reply(wrong).problem).toMatchObject({ code: 'bad-value', where: '/data/boat' });
  });

  it('lets only those set an entry whom the rule names by it, also as a message', async () => {
    const own = { claim: 'boat', is: ':entry' } as const;
    const { come, set, clock } = await start({ types: { position: { entry: '/boat' } } }, { set: own });
    const tomas = await come('tomas+petrel');
    expect((await set(tomas, 'petrel', 1)).problem).toBeUndefined();
    expect((await set(tomas, 'knot', 1)).problem).toMatchObject({ code: 'not-allowed' });
    const id = tomas.send({ do: 'publish', channel: race, type: 'position', data: { boat: 'knot' } });
    await clock.run(0);
    expect(tomas.reply(id).problem).toMatchObject({ code: 'not-allowed' });
  });

  it('comes no longer, and shows its user no longer, when a new token does not let one in', async () => {
    const { come, set, clock } = await start(
      {},
      { enter: { any: [{ claim: 'boat', is: 'petrel' }, { user: 'pia' }] } },
    );
    const [pia, tomas] = [await come('pia'), await come('tomas+petrel')];
    await set(tomas, 'petrel', 1, { whileHere: true });
    await clock.run(500);
    tomas.send({ do: 'refresh', token: 'tomas' });
    await clock.run(500);
    expect(boardOf(pia)).toEqual({});
    expect(pia.pushes('members').at(-1)).toMatchObject({ left: ['tomas'] });
    const frames = tomas.pushes('board').length;
    await set(pia, 'knot', 1);
    await clock.run(500);
    expect(tomas.pushes('board')).toHaveLength(frames);
    expect((await set(tomas, 'petrel', 1)).problem?.code).toBe('not-allowed');
  });

  it.each([
    ['a value too large', { entry: 'petrel', value: 'x'.repeat(1_100) }, 'too-large', '/value'],
    ['a name that is none', { entry: '_petrel', value: 1 }, 'bad-name', '/entry'],
    ['a name too long', { entry: 'x'.repeat(129), value: 1 }, 'bad-name', '/entry'],
    ['no value', { entry: 'petrel' }, 'bad-value', '/value'],
    ['a version that is none', { entry: 'petrel', value: 1, ifVersion: 'x' }, 'bad-cursor', '/ifVersion'],
    ['a time that is none', { entry: 'petrel', value: 1, forMs: 0 }, 'bad-value', '/forMs'],
    [
      'a channel that was not entered',
      { channel: 'race/4/positions', entry: 'a', value: 1 },
      'not-allowed',
      '/channel',
    ],
    ['a channel without a board', { channel: 'plain', entry: 'a', value: 1 }, 'bad-value', '/channel'],
    ['one entry too many', { entry: 'third', value: 1 }, 'board-full', '/entry'],
  ])('refuses %s, and no other client notices', async (_, request, code, where) => {
    const { come, set, settle, clock } = await start({ entries: 2 });
    const [pia, tomas] = [await come('pia'), await come('tomas')];
    await set(tomas, 'first', 1);
    await set(tomas, 'second', 1);
    const id = tomas.send({ do: 'set', channel: race, ...request });
    await settle();
    expect(tomas.reply(id).problem).toMatchObject({ code, where });
    await clock.run(200);
    expect(boardOf(pia)).toEqual({ first: 1, second: 1 });
  });

  it.each([
    ['a pace', { pace: -1 }, '/enter/0/pace'],
    ['an echo', { echo: 'no' }, '/enter/0/echo'],
  ])('refuses %s that is none', async (_, wish, where) => {
    const { welcomed } = await start();
    const pia = await welcomed('pia', { enter: [{ channel: race, ...wish }] });
    expect(pia.frames[0].problem).toMatchObject({ code: 'bad-value', where });
  });

  it('refuses what is set more often than may be', async () => {
    const { come, settle } = await start();
    const tomas = await come('tomas');
    const ids = Array.from({ length: 150 }, (_, n) =>
      tomas.send({ do: 'set', channel: race, entry: 'petrel', value: n }),
    );
    await settle();
    const codes = ids.map((id) => tomas.reply(id)?.problem?.code);
    expect(codes.filter((code) => code === 'rate-limited').length).toBeGreaterThan(30);
  });
});

describe('the pace of a client', () => {
  it.each([
    [0, 100, 100],
    [100, 100, 100],
    [101, 100, 200],
    [1_000, 100, 1_600],
    [60_000, 100, 51_200],
    [0, 0, 0],
    [1, 0, 25],
    [200, 0, 200],
  ])('of %i ms wished for, at a rule of %i ms, is %i ms', (wished, every, pace) => {
    expect(paceOf(wished, every)).toBe(pace);
  });
});

describe('the traffic', () => {
  it('is counted by rule and channel: what came in, what was merged away, what went out', async () => {
    const { come, set, clock, engine } = await start();
    const [, , tomas] = [await come('pia'), await come('jory'), await come('tomas')];
    await clock.run(200);
    for (let n = 1; n <= 50; n++) {
      await set(tomas, 'petrel', n);
      await clock.run(20);
    }
    tomas.send({ do: 'publish', channel: race, data: 'a message' });
    await clock.run(200);
    const { rules: byRule, channels, minutes } = await engine.cluster.traffic();
    const [figures] = channels;
    expect(figures).toMatchObject({ channel: race, recipients: 3, messages: 1, changes: 50 });
    // Ten frames a second to three clients, and a message to each.
    expect(figures?.deliveries).toBeGreaterThanOrEqual(3 * 10 + 3);
    expect(figures?.deliveries).toBeLessThanOrEqual(3 * 14 + 3);
    expect((figures?.merged ?? 0) + ((figures?.deliveries ?? 0) - 3) / 3).toBe(50);
    expect(byRule).toMatchObject([{ pattern: 'race/:race/positions', messages: 1, changes: 50 }]);
    expect(minutes.reduce((sum, { deliveries }) => sum + deliveries, 0)).toBe(figures?.deliveries);
    await clock.run(90_000);
    const later = await engine.cluster.traffic();
    expect(later.channels).toEqual([]);
    expect(later.rules).toMatchObject([{ changes: 50 }]);
    await clock.run(3_700_000);
    expect((await engine.cluster.traffic()).rules).toEqual([]);
    expect((await engine.cluster.traffic()).minutes.length).toBeLessThanOrEqual(60);
  });

  const position = (boat: string, n: number, more: object = {}) => ({
    type: 'position',
    by: boat,
    data: { boat, x: n, ...more },
  });
  it.each([
    [
      'positions of three boats',
      10,
      (n: number) => position(['petrel', 'knot', 'dunlin'][n % 3] as string, n),
      { type: 'position', entry: '/boat', entries: 3, framesPerS: 10 },
    ],
    ['one boat', 10, (n: number) => position('petrel', n), { type: 'position', entry: '/boat', entries: 1 }],
    ['now and then', 0.5, (n: number) => position('petrel', n), undefined],
    ['a chat', 10, (n: number) => ({ type: 'message', by: 'pia', data: { text: `word ${n}` } }), undefined],
    ['numbers', 10, (n: number) => ({ type: 'message', by: 'pia', data: n }), undefined],
  ])('says what a board would save: %s', (_, perS, make, expected) => {
    const messages = Array.from({ length: 60 }, (_, n) => {
      const { type, by, data } = make(n);
      const draft = {
        id: `m${n}`,
        type,
        by: { user: by },
        atMs: (n * 1000) / (perS * 3),
        dataText: JSON.stringify(data),
      };
      return new LoggedMessage(race, { volume: 'v', number: n + 1 }, draft);
    });
    const advice = adviceOf(messages);
    if (expected === undefined) expect(advice).toBeUndefined();
    else expect(advice).toMatchObject(expected);
  });
});

describe('the tables of boards', () => {
  const clock: Clock = {
    now: () => 0,
    settled: () => 0,
    monotonic: () => 0,
    setTimer: () => () => {},
    endOfTurn: () => {},
  };
  const change = (entry: string, bytes: number) => ({ record: { entry, value: 1 }, bytes });
  const bounds = { entries: 10, boardBytes: 1_000, mustExist: false };

  it('hold so much together, and let those go first in whose channels no client is', () => {
    const ids = { message: () => '', session: () => '', volume: () => 'v', moderation: () => '' };
    const tables = new BoardTables(clock, ids, (channel) => channel === 'wanted', 1_000);
    tables.apply(channelName('wanted'), [change('a', 500)], bounds);
    tables.apply(channelName('unused'), [change('a', 400)], bounds);
    expect(tables.apply(channelName('third'), [change('a', 450)], bounds)?.outcomes).toEqual([{ number: 1 }]);
    expect(tables.read(channelName('unused'))).toBeUndefined();
    expect(tables.read(channelName('wanted'))?.records).toHaveLength(1);
    expect(tables.apply(channelName('wanted'), [change('b', 490)], bounds)?.outcomes).toEqual([{ number: 2 }]);
    expect(tables.apply(channelName('more'), [change('b', 600)], bounds)?.outcomes).toEqual([{ refused: 'busy' }]);
    expect(tables.bytes).toBeLessThanOrEqual(1_000);
  });
});
