import { monitorEventLoopDelay } from 'node:perf_hooks';
import type { Json } from '@nine-bells/wire';
import type { ActStep, CallStep, Load, LoadAct } from '../format/drill.js';
import { Application } from '../run/application.js';
import { seededRandom } from '../run/random.js';
import { filledIn, type Values } from '../values/references.js';
import { record, Tally, type TallyText } from './figures.js';
import { LoadClient, type LoadHost, notePublished, nowMs, timeMember } from './loadClient.js';
import { dueTimes, pausedTimes } from './schedule.js';

/** What a generator is told. */
export type ToGenerator =
  | {
      readonly type: 'connect';
      readonly url: string;
      readonly key: string | undefined;
      readonly load: Load;
      readonly values: Values;
      readonly share: Share;
      /** Its share of the acts of a group: of the processes that have clients of it. */
      readonly shares: Readonly<Record<string, Share>>;
      readonly seed: number;
      readonly clients: readonly GeneratedClient[];
    }
  | { readonly type: 'begin'; readonly atMs: number }
  /** The latest message of each channel: who has not got it has lost some. */
  | { readonly type: 'settle'; readonly tops: readonly Top[]; readonly withinMs: number };

/** One of several processes. */
export interface Share {
  readonly index: number;
  readonly of: number;
}

export interface GeneratedClient {
  readonly group: string;
  readonly n: number;
  readonly token?: string;
}
export interface Top {
  readonly channel: string;
  readonly volume: string;
  readonly number: number;
}

/** What a generator says. */
export type FromGenerator =
  | { readonly type: 'ready' }
  | { readonly type: 'connected'; readonly count: number; readonly tally: TallyText }
  | ({ readonly type: 'second' } & Second)
  | { readonly type: 'sent'; readonly tops: readonly Top[] }
  | { readonly type: 'done'; readonly lost: number; readonly tally: TallyText };

/** A second of a generator, and what it took of this machine. */
export interface Second {
  readonly second: number;
  readonly tally: TallyText;
  /** Share of a core. */
  readonly cpu: number;
  /** How late its timers ran: what 99 of 100 stay below, in milliseconds. */
  readonly loopDelayMs: number;
  readonly memoryBytes: number;
}

const alone: Share = { index: 0, of: 1 };
/** The generator's own connects at once. */
const connectsAtOnce = 50;
/** Where the application publishes. */
const messagesPath = '/v1/messages';
/** How long answers may take at the end, in milliseconds. */
const answersMs = 10_000;
/** How often it looks what is due, in milliseconds. */
const lookMs = 1;

type Due = {
  readonly times: Iterator<number>;
  nextMs: number;
  readonly act: LoadAct;
  readonly clients: readonly Member[];
};
interface Member {
  readonly client: LoadClient;
  readonly n: number;
}

class Generator {
  readonly #told: Extract<ToGenerator, { type: 'connect' }>;
  readonly #tally = new Tally();
  readonly #host: LoadHost;
  readonly #groups = new Map<string, Member[]>();
  readonly #application: Application;
  readonly #turns = new Map<LoadAct, number>();
  /** Calls of the application without an answer. */
  #calls = 0;

  constructor(told: Extract<ToGenerator, { type: 'connect' }>) {
    this.#told = told;
    this.#host = { url: told.url, tally: this.#tally, isOver: false, published: new Map(), lost: 0 };
    this.#application = new Application({
      url: told.url,
      key: told.key,
      tokenFor: () => Promise.reject(new Error('no tokens here')),
    });
  }

  /** Connects its clients at their rate, and lets each do what it does first. */
  async connect(): Promise<{ count: number; tally: TallyText }> {
    const { clients, load, share } = this.#told;
    const startMs = performance.now();
    const perMs = load.connectPerS / share.of / 1000;
    const under = new Set<Promise<void>>();
    let count = 0;
    for (const [index, each] of clients.entries()) {
      const waitMs = startMs + index / perMs - performance.now();
      if (waitMs > 0) await pause(waitMs);
      while (under.size >= connectsAtOnce) await Promise.race(under);
      const one = this.#connectOne(each).then((isOpen) => {
        if (isOpen) count += 1;
        under.delete(one);
      });
      under.add(one);
    }
    await Promise.all(under);
    return { count, tally: this.#tally.take() };
  }

  async #connectOne({ group, n, token }: GeneratedClient): Promise<boolean> {
    const client = new LoadClient(this.#host);
    if (!(await client.open(token))) return false;
    for (const step of this.#told.load.first) {
      if (step.who.client !== group) continue;
      const members = filledIn(step.members, { ...this.#told.values, n }) as object;
      await new Promise((resolve) => client.request(step.verb, members, nowMs(), resolve));
    }
    const all = this.#groups.get(group) ?? [];
    this.#groups.set(group, all);
    all.push({ client, n });
    return true;
  }

  /** Runs the load from a moment on, and tells each second. */
  async run(beginAtMs: number, tell: (second: Second) => void): Promise<void> {
    const { load, share, shares, seed } = this.#told;
    await pause(Math.max(0, beginAtMs - nowMs()));
    const random = seededRandom(seed + share.index);
    const all: Due[] = [];
    for (const act of load.acts) {
      const clients = act.step.kind === 'act' ? (this.#groups.get(act.step.who.client) ?? []) : [];
      // The application is one: the first generator is it.
      if (act.step.kind === 'call' && share.index > 0) continue;
      if (act.step.kind === 'act' && clients.length === 0) continue;
      const of = act.step.kind === 'call' ? alone : (shares[act.step.who.client] ?? alone);
      if ('rate' in act) all.push(due(act, dueTimes(act, load.forMs, of, random), clients));
      else for (const member of clients) all.push(due(act, pausedTimes(act.pause, load.forMs, random), [member]));
    }
    const queue = new DueQueue(all);
    const watch = new Watch();
    let told = 0;
    for (;;) {
      const atMs = nowMs() - beginAtMs;
      for (let next = queue.first; next !== undefined && next.nextMs <= atMs; next = queue.first) {
        this.#do(next, beginAtMs + next.nextMs);
        queue.advance();
      }
      if (atMs >= (told + 1) * 1000 || atMs >= load.forMs) {
        tell({ second: told, tally: this.#tally.take(), ...watch.take() });
        told += 1;
      }
      if (atMs >= load.forMs) break;
      await pause(lookMs);
    }
  }

  /** Waits for the answers to what was sent at the end: they say which messages there are. */
  async answered(withinMs: number): Promise<void> {
    const endMs = performance.now() + withinMs;
    const pending = (): boolean => this.#calls > 0 || [...this.#members()].some(({ client }) => client.pending > 0);
    while (pending() && performance.now() < endMs) await pause(20);
  }

  #do({ act, clients }: Due, dueAtMs: number): void {
    const { step } = act;
    const time = { [timeMember]: Number(dueAtMs.toFixed(3)) };
    this.#tally.counts.sent += 1;
    record(this.#tally.times.late, nowMs() - dueAtMs);
    if (step.kind === 'call') return void this.#call(step, time, dueAtMs);
    const turn = this.#turns.get(act) ?? 0;
    this.#turns.set(act, turn + 1);
    const { client, n } = clients[turn % clients.length] as Member;
    client.request(step.verb, withTime(filledIn(step.members, { ...this.#told.values, n }), step, time), dueAtMs);
  }

  async #call({ method, path, body, key }: CallStep, time: object, dueAtMs: number): Promise<void> {
    const values = this.#told.values;
    const filled = body === undefined ? undefined : filledIn(body, values);
    this.#calls += 1;
    try {
      const { status, body: answer } = await this.#application.call({
        method,
        path: String(filledIn(path, values)),
        ...(filled === undefined ? {} : { body: (path === messagesPath ? withData(filled, time) : filled) as Json }),
        ...(key === undefined ? {} : { key: key === null ? null : String(filledIn(key, values)) }),
      });
      if (status >= 400) this.#tally.refused(String((answer as { code?: string } | null)?.code ?? status));
      record(this.#tally.times.reply, nowMs() - dueAtMs);
      const cursor = (answer as { cursor?: string } | null)?.cursor;
      const channel = (filled as { channel?: string } | undefined)?.channel;
      if (cursor !== undefined && channel !== undefined) notePublished(this.#host.published, channel, cursor);
    } catch {
      this.#tally.counts.unanswered += 1;
    }
    this.#calls -= 1;
  }

  /** How far its clients have got, the farthest of each channel. */
  tops(): Top[] {
    const tops = new Map<string, Top>();
    for (const [channel, reached] of this.#host.published) tops.set(channel, { channel, ...reached });
    for (const { client } of this.#members())
      for (const [channel, { volume, number }] of client.reached)
        if (number > (tops.get(channel)?.number ?? -1)) tops.set(channel, { channel, volume, number });
    return [...tops.values()];
  }

  /** Waits until each client has got the latest messages, and counts what it has not. */
  async settle(tops: readonly Top[], withinMs: number): Promise<{ lost: number; tally: TallyText }> {
    const missing = (): number => {
      let count = 0;
      for (const { client } of this.#members())
        for (const { channel, volume, number } of tops) {
          const reached = client.reached.get(channel);
          // Clients whose connection failed are counted as failed.
          if (client.isOpen && reached?.volume === volume) count += Math.max(0, number - reached.number);
        }
      return count;
    };
    const endMs = performance.now() + withinMs;
    while (missing() > 0 && performance.now() < endMs) await pause(50);
    const lost = this.#host.lost + missing();
    this.#host.isOver = true;
    this.#tally.counts.unanswered += this.#calls;
    for (const { client } of this.#members()) client.close();
    return { lost, tally: this.#tally.take() };
  }

  *#members(): Iterable<Member> {
    for (const all of this.#groups.values()) yield* all;
  }
}

function due(act: LoadAct, times: Iterable<number>, clients: readonly Member[]): Due {
  const iterator = times[Symbol.iterator]();
  return { act, clients, times: iterator, nextMs: nextOf(iterator) };
}

function nextOf(times: Iterator<number>): number {
  const next = times.next();
  return next.done ? Number.POSITIVE_INFINITY : next.value;
}

/** What is due next, of very many: a heap. */
class DueQueue {
  readonly #heap: Due[];

  constructor(all: Due[]) {
    // Sorted, an array is a heap.
    this.#heap = all.sort((a, b) => a.nextMs - b.nextMs);
  }

  get first(): Due | undefined {
    return this.#heap[0];
  }

  /** Moves the first to when it is due again. */
  advance(): void {
    const moved = this.#heap[0];
    if (moved === undefined) return;
    moved.nextMs = nextOf(moved.times);
    let at = 0;
    for (;;) {
      let least = at;
      for (const child of [2 * at + 1, 2 * at + 2])
        if (child < this.#heap.length && (this.#heap[child] as Due).nextMs < (this.#heap[least] as Due).nextMs)
          least = child;
      if (least === at) return;
      [this.#heap[at], this.#heap[least]] = [this.#heap[least] as Due, this.#heap[at] as Due];
      at = least;
    }
  }
}

/** What the generator itself takes of the machine. */
class Watch {
  readonly #delay = monitorEventLoopDelay({ resolution: 1 });
  #cpu = process.cpuUsage();
  #atMs = performance.now();

  constructor() {
    this.#delay.enable();
  }

  take(): { cpu: number; loopDelayMs: number; memoryBytes: number } {
    const { user, system } = process.cpuUsage(this.#cpu);
    const passedMs = performance.now() - this.#atMs;
    const loopDelayMs = Math.max(0, this.#delay.percentile(99) / 1e6 - 1);
    this.#cpu = process.cpuUsage();
    this.#atMs = performance.now();
    this.#delay.reset();
    return { cpu: (user + system) / 1000 / passedMs, loopDelayMs, memoryBytes: process.memoryUsage.rss() };
  }
}

/** Messages carry when they were to be sent; other requests do not. */
function withTime(members: Json, { verb }: ActStep, time: object): object {
  return verb === 'publish' || verb === 'hail' ? withData(members, time) : (members as object);
}

function withData(members: Json, time: object): object {
  const { data, ...more } = members as Readonly<Record<string, Json>>;
  return { ...more, data: { ...((data as object | undefined) ?? {}), ...time } };
}

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

let generator: Generator | undefined;
const say = (text: FromGenerator): void => void process.send?.(text);
process.on('message', async (told: ToGenerator) => {
  if (told.type === 'connect') {
    generator = new Generator(told);
    say({ type: 'connected', ...(await generator.connect()) });
  } else if (told.type === 'begin') {
    await generator?.run(told.atMs, (second) => say({ type: 'second', ...second }));
    await generator?.answered(answersMs);
    say({ type: 'sent', tops: generator?.tops() ?? [] });
  } else
    say({
      type: 'done',
      ...((await generator?.settle(told.tops, told.withinMs)) as { lost: number; tally: TallyText }),
    });
});
process.on('disconnect', () => process.exit());
say({ type: 'ready' });
