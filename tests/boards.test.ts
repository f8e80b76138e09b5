import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Board, type Entry, type Json, type Line, LineError, Motion } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { parseConfiguration, signToken } from '@nine-bells/service';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { WebSocket } from 'ws';
import { ninebells, serve } from './support/command.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { configurationText, openLine, type StartedService, startService } from './support/service.js';
import { until, wait } from './support/until.js';

const text = `${configurationText}
  - pattern: race/:race/positions
    allow:
      enter: anyone
      set: { any: [{ claim: boats, holds: ":entry" }, { role: committee }] }
      publish: { role: committee }
    board: { every: 50ms, kept: true, types: { position: { entry: /boat } } }
  - pattern: desk/:sheet
    presence: { grace: 1s }
    allow: { enter: anyone, set: signed-in }
    board: true
`;
const quick = { backOff: { firstMs: 20, maxMs: 200 } };
const positions = 'race/3/positions';

interface Position {
  readonly [name: string]: number;
  readonly x: number;
}

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const come = (started: Pick<StartedService, 'url' | 'token'>, user: string, options = {}): Promise<Line> =>
  openLine(clean, started, user, { rights: { claims: { boats: [user] } }, ...quick, ...options });

function shown<V extends Json>(board: Board<V>): Readonly<Record<string, V>> {
  return Object.fromEntries([...board].sort(([a], [b]) => (a < b ? -1 : 1)));
}

/** Sets a boat's position again and again; the last x is `times`. */
async function sail(entry: Entry<Position>, boat: string, times = 40): Promise<void> {
  const all: Promise<unknown>[] = [];
  for (let x = 1; x <= times; x++) {
    all.push(entry.set(boat, { x }));
    await wait(5);
  }
  await Promise.all(all);
}

async function sameBoard(entries: readonly Entry<Position>[], expected: object): Promise<void> {
  await until(() => entries.every(({ board }) => JSON.stringify(shown(board)) === JSON.stringify(expected))).catch(
    () => {},
  );
  for (const { board } of entries) expect(shown(board)).toEqual(expected);
}

describe('a board by the SDK', () => {
  it.each(['websocket', 'stream', 'poll'] as const)(
    'is the same for all, by %s: late comers too',
    async (transport) => {
      const started = await startService({ text });
      clean.push(() => started.remove());
      const [petrel, knot] = [await come(started, 'petrel'), await come(started, 'knot')];
      const spectator = await come(started, 'pia', { transport });
      const entries = [petrel, knot, spectator].map((line) => line.enter<Position>(positions, { pace: 0 }));
      await Promise.all(entries.map(({ ready }) => ready));
      const [one, two, pia] = entries as [Entry<Position>, Entry<Position>, Entry<Position>];
      await Promise.all([sail(one, 'petrel'), sail(two, 'knot')]);
      const late = (await come(started, 'jory', { transport })).enter<Position>(positions);
      await late.ready;
      await sameBoard([...entries, late], { knot: { x: 40 }, petrel: { x: 40 } });
      // 80 values were set: most were replaced before they went anywhere.
      expect(pia.board.frames).toBeLessThan(40);
      await one.set('petrel', null);
      await sameBoard([...entries, late], { knot: { x: 40 } });
    },
  );

  it('shows your own value at once, whatever comes meanwhile, and takes it back if it is refused', async () => {
    const started = await startService({ text });
    clean.push(() => started.remove());
    const race = (await come(started, 'petrel')).enter<Position>(positions, { echo: false });
    await race.ready;
    const seen: unknown[] = [];
    race.board.addEventListener('change', ({ detail }) => seen.push([...detail.set], detail.gone));
    const done = race.set('petrel', { x: 1 });
    expect(race.board.get('petrel')).toEqual({ x: 1 });
    expect(await done).toMatchObject({ entry: 'petrel' });
    await expect(race.set('knot', { x: 1 })).rejects.toMatchObject({ code: 'not-allowed' });
    expect(shown(race.board)).toEqual({ petrel: { x: 1 } });
    await started.backend.setEntries({ channel: positions, set: { petrel: { x: 7 } } });
    await until(() => race.board.get('petrel')?.x === 7);
    expect(seen).toEqual([
      [['petrel', { x: 1 }]],
      [],
      [['knot', { x: 1 }]],
      [],
      [],
      ['knot'],
      [['petrel', { x: 7 }]],
      [],
    ]);
  });

  it('lets one of many have a seat, and tells the others who has it', async () => {
    const started = await startService({ text });
    clean.push(() => started.remove());
    const lines = await Promise.all(['oona', 'felix', 'mira'].map((user) => come(started, user)));
    const desks = lines.map((line) => line.enter('desk/race-3'));
    await Promise.all(desks.map(({ ready }) => ready));
    const tried = await Promise.allSettled(
      desks.map((desk, n) => desk.set('lock', n, { ifVersion: null, whileHere: true })),
    );
    expect(tried.filter(({ status }) => status === 'fulfilled')).toHaveLength(1);
    const lost = tried.find((each) => each.status === 'rejected')?.reason as LineError;
    expect(lost).toBeInstanceOf(LineError);
    expect(lost.problem).toMatchObject({ code: 'conflict', stands: { value: expect.any(Number) } });
    // Who has it goes, and the lock with it.
    const winner = tried.findIndex(({ status }) => status === 'fulfilled');
    lines[winner]?.close();
    const other = desks[winner === 0 ? 1 : 0] as Entry;
    await until(() => !other.board.has('lock'));
  });

  it('goes on after a broken connection without a flicker, and sets what was not acknowledged', async () => {
    const started = await startService({ text });
    clean.push(() => started.remove());
    const sockets: WebSocket[] = [];
    class Breakable extends WebSocket {
      constructor(url: string, protocols: string[]) {
        super(url, protocols);
        sockets.push(this);
      }
    }
    const line = await come(started, 'petrel', { WebSocket: Breakable });
    const race = line.enter<Position>(positions);
    const pia = (await come(started, 'pia')).enter<Position>(positions);
    await Promise.all([race.ready, pia.ready]);
    await started.backend.setEntries({ channel: positions, set: { knot: { x: 1 }, wigeon: { x: 1 } } });
    await race.set('petrel', { x: 1 }, { whileHere: true });
    await until(() => race.board.size === 3);
    const seen: unknown[] = [];
    race.board.addEventListener('change', ({ detail }) => seen.push([[...detail.set.keys()], detail.gone]));
    sockets.at(-1)?.terminate();
    const set = race.set('petrel', { x: 2 }, { whileHere: true });
    await started.backend.setEntries({ channel: positions, set: { knot: { x: 2 } } });
    await set;
    await sameBoard([race, pia], { knot: { x: 2 }, petrel: { x: 2 }, wigeon: { x: 1 } });
    expect(seen.flat(2).filter((entry) => entry === 'wigeon')).toEqual([]);
    expect(seen.flat(2).filter((entry) => entry === 'petrel')).toHaveLength(1);
  });

  it('comes at the fastest pace that an entry of the line wants', async () => {
    const started = await startService({ text });
    clean.push(() => started.remove());
    const line = await come(started, 'pia');
    const slow = line.enter<Position>(positions, { pace: 60_000 });
    await slow.ready;
    const fast = line.enter<Position>(positions);
    await fast.ready;
    for (let x = 1; x <= 3; x++) {
      await started.backend.setEntries({ channel: positions, set: { petrel: { x } } });
      await until(() => fast.board.get('petrel')?.x === x);
    }
  });

  it('moves evenly between frames, angles the short way', () => {
    const board = new Board();
    board.load({ version: 'v:1' as never, entries: { petrel: { x: 0, heading: 350 } } });
    const motion = new Motion(board, { behindMs: 100, angles: ['heading'] });
    const now = performance.now();
    board.take({
      after: 'v:1' as never,
      on: 'board',
      channel: positions as never,
      version: 'v:2' as never,
      set: { petrel: { x: 10, heading: 10 } },
    });
    const at = (ms: number) => new Map(motion.at(ms)).get('petrel') as { x: number; heading: number };
    expect(at(now + 10_000)).toEqual({ x: 10, heading: 10 });
    const [first, middle] = [at(now + 50), at(now + 100)];
    expect(first.x).toBeLessThanOrEqual(middle.x);
    expect(first.heading >= 350 || first.heading <= 10).toBe(true);
    motion.close();
  });
});

describe('boards by command and over HTTP', () => {
  it('are set, listed, explained and refused', async () => {
    const started = await startService({ text });
    clean.push(() => started.remove());
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    const run = (...args: string[]) => ninebells(args, env);
    expect((await run('set', positions, 'petrel', '{"x":1}')).out).toMatch(
      /^Set petrel in race\/3\/positions, which is at \w+:1 now/,
    );
    expect(await run('set', positions, 'petrel', '{"x":2}', '--if-version', 'none')).toMatchObject({
      code: 3,
      err: expect.stringMatching(/conflict.*already an entry petrel; it is \{"x":1\} since/),
    });
    expect((await run('board', positions)).out).toMatch(/petrel.*\(application\).*\{"x":1\}/);
    const explained = await run(
      'explain',
      'set',
      positions,
      '--entry',
      'knot',
      '--user',
      'tomas',
      '--claim',
      'boats=petrel',
    );
    expect(explained).toMatchObject({ code: 3, out: expect.stringContaining('holds knot (:entry)') });
    expect((await run('set', positions, 'petrel', '--remove')).code).toBe(0);
    expect((await run('board', positions)).err).toContain('Nothing is on the board');
  });

  it.each([
    ['an entry that is none', { channel: positions, set: { _x: 1 } }, 'bad-name', '/set/_x'],
    ['a value too large', { channel: positions, set: { 'a/b': 'x'.repeat(2_000) } }, 'too-large', '/set/a~1b'],
    ['a channel without a board', { channel: 'race/3/chat', set: { a: 1 } }, 'bad-value', '/channel'],
    ['a list of entries', { channel: positions, set: [1] }, 'bad-value', '/set'],
    ['a version that is none', { channel: positions, set: { a: 1 }, ifVersion: 7 }, 'bad-cursor', '/ifVersion'],
    ['a time that is none', { channel: positions, set: { a: 1 }, forMs: -1 }, 'bad-value', '/forMs'],
    ['a word that is none', { channel: positions, set: { a: 1 }, untilMs: 1 }, 'bad-value', '/untilMs'],
  ])('refuse %s', async (_, body, code, where) => {
    const started = await startService({ text });
    clean.push(() => started.remove());
    const response = await fetch(`${started.url}/v1/boards`, {
      method: 'POST',
      headers: { authorization: `Bearer ${started.key}`, 'content-type': 'application/json' },
      body: JSON.stringify(body),
    });
    expect(await response.json()).toMatchObject({ code, where });
  });

  it('show their traffic, and where another channel would be lighter', async () => {
    const started = await startService({ text });
    clean.push(() => started.remove());
    const line = await come(started, 'petrel');
    const race = line.enter<Position>(positions);
    const wind = line.enter('weather/wind');
    await Promise.all([race.ready, wind.ready]);
    const x = async (n: number) => {
      await race.set('petrel', { x: n });
      await started.backend.publish({
        channel: 'weather/wind',
        type: 'wind',
        by: { user: 'buoy' },
        data: { at: 'outer', n },
      });
    };
    for (let n = 0; n < 40; n++) await x(n);
    const { channels, rules } = await started.backend.traffic();
    expect(channels.find(({ channel }) => channel === positions)).toMatchObject({ changes: 40, recipients: 1 });
    expect(rules.map(({ pattern }) => pattern).sort()).toEqual(['race/:race/positions', 'weather/wind']);
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    const { out } = await ninebells(['traffic'], env);
    expect(out).toMatch(/^race\/:race\/positions .*0\.0 /m);
    expect(out).toContain('types: { wind: { entry: /at } }');
    wind.leave();
    await until(async () => (await started.backend.traffic()).channels.every(({ advice }) => advice === undefined));
  });

  it('take several boards at once, and each entry has its own answer', async () => {
    const started = await startService({ text });
    clean.push(() => started.remove());
    const answers = await started.backend.setEntries([
      { channel: positions, set: { petrel: { x: 1 }, knot: { x: 'y'.repeat(2_000) } } },
      { channel: 'desk/7', set: { lock: 'mira' }, ifVersion: null },
    ]);
    expect(answers).toMatchObject([
      { entries: [{ entry: 'petrel' }, { entry: 'knot', problem: { code: 'too-large', where: '/0/set/knot' } }] },
      { channel: 'desk/7', entries: [{ entry: 'lock', version: expect.any(String) }] },
    ]);
    expect((await started.backend.board('desk/7')).entries).toMatchObject([{ entry: 'lock', value: 'mira' }]);
  });
});

describe('a kept board', () => {
  it.each(['a clean stop', 'SIGKILL'])('is there again after %s', async (how) => {
    const folder = mkdtempSync(join(tmpdir(), 'bells-board-'));
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
    const first = await serve(folder, 0, { text });
    clean.push(() => first.command.process.kill('SIGKILL'));
    const backend = new Backend(first.url, { key: first.key });
    await backend.setEntries({ channel: positions, set: { petrel: { x: 1 }, knot: { x: 2 } } });
    // A crash loses at most what was set since it was saved last.
    if (how === 'SIGKILL') await wait(6_000);
    first.command.process.kill(how === 'SIGKILL' ? 'SIGKILL' : 'SIGTERM');
    await first.command.ended;
    const second = await serve(folder, 0, { text });
    clean.push(() => second.command.process.kill('SIGKILL'));
    const { entries } = await new Backend(second.url, { key: second.key }).board(positions);
    expect(entries.map(({ entry, value }) => [entry, value])).toEqual([
      ['petrel', { x: 1 }],
      ['knot', { x: 2 }],
    ]);
  });
});

describe('boards over several processes', () => {
  it('are one board with workers', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'bells-board-'));
    const { url, command } = await serve(folder, 0, { text, args: ['--workers', '2'] });
    clean.push(async () => {
      command.process.kill('SIGKILL');
      await command.ended;
      rmSync(folder, { recursive: true, force: true });
    });
    const { tokens } = parseConfiguration(text, 'bells.yaml');
    const token = (user: string, forMs = 60_000, more: object = {}) => signToken(tokens, { user, forMs, ...more });
    await setFromSeveral(await Promise.all(['a', 'b', 'c', 'd'].map((user) => come({ url, token }, user))));
  });

  describe.skipIf(!redisIsThere)('that meet in Redis', () => {
    let redis: RealRedis;
    beforeAll(async () => {
      redis = await RealRedis.start();
    });
    afterAll(() => redis.remove());

    it('are one board, set from all at once; what a killed instance held goes', async () => {
      const folder = mkdtempSync(join(tmpdir(), 'bells-board-'));
      const all = await Promise.all(
        [1, 2].map((n) =>
          startService({ folder, relay: redis.url, text: text.replace('port: 0,', `port: 0, instance: i${n},`) }),
        ),
      );
      clean.push(async () => {
        for (const each of all) await each.stop();
        rmSync(folder, { recursive: true, force: true });
      });
      await until(() => all.every(({ service }) => service.engine.cluster.instances.length === 2));
      const lines = await Promise.all(['a', 'b', 'c', 'd'].map((user, n) => come(all[n % 2] as StartedService, user)));
      await setFromSeveral(lines);
      const desks = lines.map((line) => line.enter('desk/1'));
      await Promise.all(desks.map(({ ready }) => ready));
      await desks[0]?.set('lock', 'a', { whileHere: true });
      await until(() => desks[1]?.board.has('lock'));
      lines[0]?.close();
      await until(() => desks[1]?.board.has('lock') === false);
    });
  });
});

/** Lines on several processes set entries of their own and one that all set; all of them end with the same board. */
async function setFromSeveral(lines: readonly Line[]): Promise<void> {
  const entries = lines.map((line) => line.enter<Position>(positions));
  await Promise.all(entries.map(({ ready }) => ready));
  const users = ['a', 'b', 'c', 'd'];
  await Promise.all(entries.map((entry, n) => sail(entry, users[n] as string)));
  await sameBoard(entries, Object.fromEntries(users.map((user) => [user, { x: 40 }])));
}
