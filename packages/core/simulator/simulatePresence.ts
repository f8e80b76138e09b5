import {
  type Batch,
  type ChannelRule,
  type Connection,
  type Encoding,
  Engine,
  type Frame,
  type Identity,
  type Link,
  SoloRelay,
} from '@nine-bells/core';
import { MemoryStore, storeOf } from '@nine-bells/core/testing';
import { type ChannelName, channelName, type Member } from '@nine-bells/wire';
import { mac, Random, randomIds } from './random.js';
import { VirtualClock } from './virtualClock.js';

export interface PresenceOptions {
  readonly sessions: number;
  /** How long they come and go, in simulated milliseconds. Default 30,000. */
  readonly durationMs?: number;
  /** Breaks a client on purpose, so that the simulation must find it. */
  readonly sabotage?: 'forgets-leaves';
}

/** What happened in a run, for people to see that it was not idle. */
export interface PresenceOutcome {
  readonly seed: number;
  readonly acts: number;
  readonly frames: number;
  readonly members: number;
  readonly crowd: boolean;
}

const encoding: Encoding = { encode: (payload) => payload, join: ([first = new Uint8Array()]) => first };
const channel: ChannelName = channelName('race/3/chat');
const graceMs = 10_000;

// biome-ignore lint/suspicious/noExplicitAny: frames of all kinds are looked into
const parsed = new WeakMap<Frame, any>();

/** One session: what it wants to be in, and the list of members by what it was told. */
class Visitor implements Link {
  readonly transport = 'simulated';
  readonly encoding = encoding;
  readonly waitingBytes = 0;
  readonly user: string;
  /** It is to be shown as there: it has entered, or its connection broke less than a grace ago. */
  isIn = false;
  brokeAtMs: number | undefined;
  frames = 0;
  list = new Map<string, Member>();
  count = 0;
  partial = false;
  #connection: Connection | undefined;
  #hello: { session?: string; secret?: string } = {};
  #nextId = 1;
  readonly #sabotage: PresenceOptions['sabotage'];

  constructor(user: string, sabotage: PresenceOptions['sabotage']) {
    this.user = user;
    this.#sabotage = sabotage;
  }

  get isConnected(): boolean {
    return this.#connection !== undefined;
  }

  connect(engine: Engine, enter: boolean): void {
    this.#connection = engine.connect(this);
    this.isIn = enter;
    this.brokeAtMs = undefined;
    this.#say({ do: 'hello', token: this.user, ...this.#hello, enter: enter ? [{ channel }] : [] });
  }

  enter(): void {
    this.isIn = true;
    this.#say({ do: 'enter', channel });
  }

  leave(): void {
    this.isIn = false;
    this.#say({ do: 'leave', channel });
  }

  say(status: string): void {
    this.#say({ do: 'status', status });
  }

  /** The connection ends: with a goodbye, or without. */
  end(nowMs: number, clean: boolean): void {
    const connection = this.#connection;
    this.#connection = undefined;
    if (clean) {
      this.isIn = false;
      this.#hello = {};
    } else if (this.isIn) this.brokeAtMs = nowMs;
    connection?.closed(clean ? 1000 : 1006);
  }

  write(batch: Batch): void {
    for (const frame of batch.frames()) {
      let value = parsed.get(frame);
      if (value === undefined) {
        value = JSON.parse(frame.text);
        parsed.set(frame, value);
      }
      this.#hear(value);
    }
  }
  ping(): void {
    this.#connection?.alive();
  }
  pause(): void {}
  resume(): void {}
  close(): void {
    this.#connection = undefined;
  }

  #say(request: object): void {
    this.#connection?.receive(JSON.stringify({ id: this.#nextId++, ...request }));
  }

  // biome-ignore lint/suspicious/noExplicitAny: frames of all kinds are looked into
  #hear(frame: any): void {
    this.frames += 1;
    if (frame.secret !== undefined) this.#hello = { session: frame.session, secret: frame.secret };
    for (const entered of frame.entered ?? [frame])
      if (entered.members !== undefined) {
        this.list = new Map(entered.members.map((each: Member) => [each.user, each]));
        this.#stands(entered);
      }
    if (frame.on !== 'members') return;
    if (frame.whole) this.list.clear();
    for (const each of [...(frame.joined ?? []), ...(frame.changed ?? [])]) this.list.set(each.user, each);
    if (this.#sabotage !== 'forgets-leaves') for (const user of frame.left ?? []) this.list.delete(user);
    this.#stands(frame);
  }

  #stands({ count, partial }: { count: number; partial?: true }): void {
    this.count = count;
    this.partial = partial === true;
  }
}

/**
 * Lets sessions enter, leave, break, come back and say things of themselves at random for a while, then checks that every
 * client that is in the channel holds the same list, and the right one.
 *
 * @throws {Error} with the seed; the same seed repeats the run exactly
 */
export async function simulatePresence(
  seed: number,
  { sessions, durationMs = 30_000, sabotage }: PresenceOptions,
): Promise<PresenceOutcome> {
  const random = new Random(seed);
  const clock = new VirtualClock();
  const ids = randomIds(random);
  const crowd = random.pick([3, 20, 200, 10_000]);
  const rules: readonly ChannelRule[] = [
    { pattern: 'race/:race/chat', logbook: { type: 'kept' }, presence: { graceMs, crowd }, allow: { enter: 'anyone' } },
  ];
  const failures: unknown[] = [];
  const engine = new Engine(
    {
      clock,
      ids,
      relay: new SoloRelay(clock, ids),
      store: storeOf(new MemoryStore(ids)),
      hmac: { sign: (text) => mac(text), matches: (text, given) => mac(text) === given, digest: mac },
      tokens: {
        read: async (token): Promise<Identity> => ({ user: token, name: token, guest: false, roles: [], claims: {} }),
      },
      report: (error) => failures.push(error),
    },
    rules,
    { channelLingerMs: random.pick([0, 3_000]), connectionsPerUser: 1_000_000 },
  );
  const users = Math.max(1, Math.floor(sessions * random.pick([0.3, 0.8, 1])));
  const visitors = Array.from(
    { length: sessions },
    (_, index) => new Visitor(`user-${index % users}`, index === 0 ? sabotage : undefined),
  );

  let acts = 0;
  for (const endMs = clock.now() + durationMs; clock.now() < endMs; ) {
    await clock.run(random.between(5, 120));
    for (let n = random.between(1, Math.ceil(sessions / 20)); n > 0; n--) {
      act(random.pick(visitors));
      acts += 1;
    }
  }
  // The last one stays, so that there is always somebody to look.
  const last = visitors[0] as Visitor;
  if (!last.isConnected) last.connect(engine, true);
  else if (!last.isIn) last.enter();
  // Whoever is broken is shown until its grace is over, and what changes is told within an interval.
  await clock.run(graceMs + 1_000);

  const there = new Set(
    visitors.filter(({ isIn, brokeAtMs }) => isIn && brokeAtMs === undefined).map(({ user }) => user),
  );
  if (failures.length > 0) throw new Error(`seed ${seed}: ${String(failures[0])}`);
  for (const each of visitors) {
    if (!each.isConnected || !each.isIn) continue;
    if (each.count !== there.size)
      throw new Error(`seed ${seed}: ${each.user} counts ${each.count} members, there are ${there.size}`);
    if (each.partial && there.size <= crowd * 0.9)
      throw new Error(`seed ${seed}: ${each.user} was told a part, though there is no crowd`);
    if (each.partial) continue;
    const missing = [...there].filter((user) => !each.list.has(user));
    const wrong = [...each.list.keys()].filter((user) => !there.has(user));
    if (missing.length + wrong.length > 0)
      throw new Error(`seed ${seed}: ${each.user} misses ${missing.join()} and has ${wrong.join()} too much`);
    if (last.partial) continue;
    for (const user of there)
      if (!alike(each.list.get(user), last.list.get(user)))
        throw new Error(`seed ${seed}: ${each.user} and ${last.user} see ${user} differently`);
  }
  const frames = visitors.reduce((sum, each) => sum + each.frames, 0);
  await engine.stop();
  return { seed, acts, frames, members: there.size, crowd: last.partial };

  function act(visitor: Visitor): void {
    if (!visitor.isConnected) visitor.connect(engine, random.chance(0.8));
    else if (random.chance(0.25)) visitor.end(clock.now(), random.chance(0.4));
    else if (random.chance(0.3)) visitor.say(random.pick(['available', 'busy', 'away']));
    else if (visitor.isIn) visitor.leave();
    else visitor.enter();
  }
}

/** Most clients were told in the same frame: those share what was read from it. */
function alike(a: Member | undefined, b: Member | undefined): boolean {
  return a === b || JSON.stringify(a) === JSON.stringify(b);
}
