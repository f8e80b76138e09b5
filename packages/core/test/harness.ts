import { type EveryStore, MemoryStore, storeOf } from '@nine-bells/core/testing';
import { refusal } from '@nine-bells/wire';
import { VirtualClock } from '../simulator/virtualClock.js';
import {
  type Asker,
  type Batch,
  type ChannelRule,
  type Clock,
  type Connection,
  type Encoding,
  Engine,
  type EngineOptions,
  type EnginePorts,
  type Identity,
  type InboxEntry,
  type Link,
  SoloRelay,
} from '../src/index.js';

const encoding: Encoding = { encode: (payload) => payload, join: ([first = new Uint8Array()]) => first };

/** A client at the end of a link without latency; what it was told lies in `frames`. */
export class Client implements Link {
  readonly transport = 'test';
  readonly encoding = encoding;
  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  readonly frames: any[] = [];
  readonly connection: Connection;
  readonly remote: string;
  waitingBytes = 0;
  unsentBytes: number | undefined;
  pings = 0;
  paused = false;
  closedWith: { code: number; reason: string } | undefined;
  #nextId = 1;

  constructor(engine: Engine, remote = '') {
    this.remote = remote;
    this.connection = engine.connect(this);
  }

  /** Sends a request; its id is returned. */
  send(request: object): number {
    const id = this.#nextId++;
    this.connection.receive(JSON.stringify({ id, ...request }));
    return id;
  }

  reply(id: number): Record<string, never> & { problem?: { code: string } } {
    return this.frames.find((frame) => frame.re === id);
  }

  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  pushes(kind: string): any[] {
    return this.frames.filter((frame) => frame.on === kind);
  }

  /** The data of the messages that were pushed. */
  get data(): unknown[] {
    return this.pushes('message').map((push) => push.data);
  }

  write(batch: Batch): void {
    for (const frame of batch.frames()) this.frames.push(JSON.parse(frame.text));
  }
  ping(): void {
    this.pings += 1;
  }
  pause(): void {
    this.paused = true;
  }
  resume(): void {
    this.paused = false;
  }
  close(code: number, reason: string): void {
    this.closedWith = { code, reason };
    // A limiter that refuses closes before the connection is known.
    this.connection?.closed(code);
  }
}

export const rules: readonly ChannelRule[] = [
  {
    pattern: 'race/:race/chat',
    logbook: { type: 'kept' },
    dataBytes: 1000,
    allow: { enter: 'anyone', publish: 'signed-in' },
  },
  {
    pattern: 'weather/:what',
    logbook: { type: 'recent', bounds: { messages: 5, forMs: 60_000 } },
    allow: { enter: 'anyone', publish: 'anyone' },
  },
  { pattern: 'regatta/notices', logbook: { type: 'kept' }, allow: { enter: 'anyone', publish: 'nobody' } },
  {
    pattern: 'crew/:boat',
    logbook: { type: 'kept' },
    allow: { enter: { claim: 'boat', is: ':boat' }, publish: 'nobody' },
  },
  { pattern: 'committee', logbook: { type: 'kept' }, allow: { enter: 'signed-in', publish: 'signed-in' } },
];

/** What a test may want to be otherwise. */
export interface HarnessMore {
  readonly rules?: readonly ChannelRule[];
  readonly asker?: Asker;
  readonly unreached?: (entry: InboxEntry) => void;
  readonly ports?: Partial<EnginePorts>;
  /** The clock of engines, made of that of the harness. */
  readonly clock?: (clock: VirtualClock) => Clock;
}

/**
 * An engine in simulated time. Tokens are user ids: `late:` before one makes its reading take a second, `+petrel` gives
 * it the claim `boat`, `!chair` a role, and `@5000` behind it lets it end after as many milliseconds.
 */
export function harness(
  options: Partial<EngineOptions> = {},
  store?: (memory: MemoryStore) => EveryStore,
  more: HarnessMore = {},
) {
  const clock = new VirtualClock();
  let counter = 0;
  const ids = {
    message: () => `m${++counter}`,
    session: () => `s${++counter}`,
    volume: () => `v${++counter}`,
    moderation: () => `n${++counter}`,
  };
  const memory = new MemoryStore(ids);
  const reports: unknown[] = [];
  const make = (): Engine =>
    new Engine(
      {
        clock: more.clock?.(clock) ?? clock,
        ids,
        relay: new SoloRelay(clock, ids),
        store: storeOf(store?.(memory) ?? memory),
        hmac: { sign: (text) => sealed(text), matches: (text, mac) => sealed(text) === mac, digest: sealed },
        tokens: { read: (token) => read(clock, token) },
        report: (error) => reports.push(error),
        ...(more.asker === undefined ? {} : { asker: more.asker }),
        ...(more.unreached === undefined ? {} : { unreached: more.unreached }),
        ...more.ports,
      },
      more.rules ?? rules,
      { guests: true, ...options },
    );
  const engine = make();
  return {
    clock,
    engine,
    reports,
    memory,
    /** Another engine on the same store, as after a restart. */
    restarted: make,
    connect: (to = engine, remote?: string) => new Client(to, remote),
    /** Connected and welcomed. */
    async welcomed(token?: string, more: object = {}, to = engine, remote?: string): Promise<Client> {
      const client = new Client(to, remote);
      client.send({ do: 'hello', ...(token === undefined ? {} : { token }), ...more });
      await clock.run(0);
      return client;
    },
    settle: () => clock.run(0),
  };
}

async function read(clock: VirtualClock, token: string): Promise<Identity> {
  if (token === 'forged') throw refusal('token-invalid', 'its signature is wrong');
  if (token === 'ended') throw refusal('token-ended');
  if (token.startsWith('late:')) await new Promise<void>((resolve) => void clock.setTimer(1000, resolve));
  const [who = '', endsInMs] = token.replace('late:', '').split('@');
  const [named = '', ...roles] = who.split('!');
  const [user = '', boat] = named.split('+');
  return {
    user,
    name: user.toUpperCase(),
    guest: false,
    roles,
    issuedAt: clock.now(),
    claims: boat === undefined ? {} : { boat },
    ...(endsInMs === undefined ? {} : { endsAt: clock.now() + Number(endsInMs) }),
  };
}

function sealed(text: string): string {
  let hash = 7;
  for (let i = 0; i < text.length; i++) hash = (Math.imul(hash, 33) ^ text.charCodeAt(i)) >>> 0;
  return `hmac${hash.toString(36)}`.padEnd(32, 'x');
}

/** Replaces some methods of a store. */
export function storeWith(memory: MemoryStore, replaced: Partial<EveryStore>): EveryStore {
  return new Proxy(memory, {
    get: (target, name) => {
      const member: unknown = Reflect.get(replaced, name) ?? Reflect.get(target, name);
      return typeof member === 'function' ? member.bind(target) : member;
    },
  });
}

/** Makes some methods of a store answer late. `delayMs` is simulated time between what they do and their answer. */
export function slowly(names: readonly (keyof EveryStore)[], delayMs: number, clock: () => VirtualClock) {
  return (memory: MemoryStore): EveryStore => {
    const late =
      (name: keyof EveryStore) =>
      async (...args: never[]) => {
        const answer: unknown = await (memory[name] as (...args: never[]) => unknown).apply(memory, args);
        await new Promise<void>((resolve) => void clock().setTimer(delayMs, resolve));
        return answer;
      };
    return storeWith(memory, Object.fromEntries(names.map((name) => [name, late(name)])));
  };
}
