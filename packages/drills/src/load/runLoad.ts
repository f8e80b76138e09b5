import { type ChildProcess, fork } from 'node:child_process';
import { cpus } from 'node:os';
import { fileURLToPath } from 'node:url';
import { defined, type Json } from '@nine-bells/wire';
import type { Drill } from '../format/drill.js';
import { type Load, shares, type Threshold } from '../format/drill.js';
import type { Counts, DrillResult, LoadFigures, Percentiles, SecondFigures, StepResult } from '../run/results.js';
import type { Surroundings } from '../run/surroundings.js';
import { filledIn, type Values } from '../values/references.js';
import { Tally } from './figures.js';
import type { FromGenerator, GeneratedClient, Second, Share, ToGenerator, Top } from './generator.js';

export interface LoadOptions {
  readonly with?: Readonly<Record<string, Json>>;
  readonly seed: number;
  /** Processes that the clients are spread over. */
  readonly processes: number;
  /** Called with each second, and with what has been counted so far. */
  readonly told?: (second: SecondFigures, total: Counts, forMs: number) => void;
}

/** How long clients may take to receive what was sent at the end, in milliseconds. */
const settleMs = 10_000;
/** How long until all generators begin together, in milliseconds. */
const beginMs = 300;
const tokensAtOnce = 200;
const tokenMs = 3_600_000;
const metricsMs = 900;
/** A generator that is busier than this, or later than this, measures itself. */
const busyCpu = 0.9;
const lateMs = 10;

/** Runs a drill with a `load`. */
export async function runLoad(drill: Drill, surroundings: Surroundings, options: LoadOptions): Promise<DrillResult> {
  const startMs = performance.now();
  const run = new LoadRun(drill, surroundings, options);
  try {
    const figures = await run.figures();
    const limits = (drill.load as Load).must;
    const steps = limits.map((step, index): StepResult => {
      const { isKept, found } = figures.must[index] as LoadFigures['must'][number];
      const failure = { expected: step.text, came: `it is ${found}`, differences: [], why: figures.doubts, frames: [] };
      return { step, depth: 0, ms: 0, status: isKept ? 'passed' : 'failed', ...(isKept ? {} : { failure }) };
    });
    const isKept = figures.must.every((each) => each.isKept);
    return { drill, status: isKept ? 'passed' : 'failed', ms: performance.now() - startMs, steps, load: figures };
  } catch (error) {
    return { drill, status: 'failed', ms: performance.now() - startMs, steps: [], problem: (error as Error).message };
  } finally {
    run.end();
  }
}

class LoadRun {
  readonly #drill: Drill;
  readonly #load: Load;
  readonly #surroundings: Surroundings;
  readonly #options: LoadOptions;
  readonly #generators: ChildProcess[] = [];
  readonly #values: Values;

  constructor(drill: Drill, surroundings: Surroundings, options: LoadOptions) {
    this.#drill = drill;
    this.#load = drill.load as Load;
    this.#surroundings = surroundings;
    this.#options = options;
    const own = `r${options.seed.toString(36)}`;
    this.#values = { ...drill.parameters, ...options.with, own, n: 1 };
  }

  async figures(): Promise<LoadFigures> {
    const at = new Date().toISOString();
    const { processes } = this.#options;
    const clients = await this.#clients();
    const path = fileURLToPath(new URL('./generator.js', import.meta.url));
    for (let index = 0; index < processes; index++) this.#generators.push(fork(path));
    await this.#each('ready');
    const all = new Tally();
    const fromMs = performance.now();
    const portions = this.#generators.map((_, index) => clients.filter((_client, n) => n % processes === index));
    for (const [index, generator] of this.#generators.entries())
      this.#tell(generator, {
        type: 'connect',
        url: this.#surroundings.url,
        key: this.#surroundings.key,
        load: this.#load,
        values: this.#values,
        share: { index, of: processes },
        seed: this.#options.seed,
        shares: sharesOf(portions, index),
        clients: portions[index] ?? [],
      });
    const connected = await this.#each('connected');
    const connectMs = performance.now() - fromMs;
    for (const { tally } of connected) all.add(tally);
    const count = connected.reduce((sum, each) => sum + each.count, 0);
    if (count === 0) throw new Error(`none of ${clients.length} clients could connect: ${refusedText(all.counts)}`);

    const seconds = new Seconds(processes, this.#surroundings, all, (second) =>
      this.#options.told?.(second, all.counts, this.#load.forMs),
    );
    for (const generator of this.#generators)
      generator.on('message', (said: FromGenerator) => said.type === 'second' && seconds.add(said));
    const sending = this.#each('sent');
    const beginAtMs = performance.timeOrigin + performance.now() + beginMs;
    for (const generator of this.#generators) this.#tell(generator, { type: 'begin', atMs: beginAtMs });
    const tops = farthest((await sending).flatMap((each) => each.tops));
    const settling = this.#each('done');
    for (const generator of this.#generators) this.#tell(generator, { type: 'settle', tops, withinMs: settleMs });
    const done = await settling;
    for (const { tally } of done) all.add(tally);
    const lost = done.reduce((sum, each) => sum + each.lost, 0);
    const known = await seconds.all();
    const total = {
      ...all.counts,
      lost,
      receivedPerS: Math.round((all.counts.received / this.#load.forMs) * 1000),
      ...defined({
        delivery: percentiles(all, 'delivery'),
        reply: percentiles(all, 'reply'),
        connect: percentiles(all, 'connect'),
        late: percentiles(all, 'late'),
      }),
    };
    return {
      name: this.#drill.name,
      file: this.#drill.file,
      at,
      forMs: this.#load.forMs,
      processes,
      machine: `${cpus().length} x ${cpus()[0]?.model ?? 'unknown'}, Node.js ${process.version}`,
      clients: clients.length,
      connected: count,
      connectMs,
      seconds: known,
      total,
      must: this.#load.must.map((limit) => judged(limit, total)),
      doubts: doubtsOf(known, total.late),
    };
  }

  end(): void {
    for (const generator of this.#generators) {
      generator.removeAllListeners();
      generator.kill();
    }
  }

  async #clients(): Promise<readonly GeneratedClient[]> {
    const { users, clients } = this.#drill;
    const all: { group: string; n: number; user?: string; token?: string; forMs: number }[] = clients.flatMap((spec) =>
      Array.from({ length: spec.times ?? 1 }, (_, index) => {
        const own = { ...this.#values, n: index + 1 };
        return {
          group: spec.name,
          n: index + 1,
          forMs: spec.tokenMs ?? tokenMs,
          ...(spec.user === undefined ? {} : { user: String(filledIn(spec.user, own)) }),
          ...(spec.token === undefined ? {} : { token: String(filledIn(spec.token, own)) }),
        };
      }),
    );
    const made: GeneratedClient[] = [];
    for (let from = 0; from < all.length; from += tokensAtOnce)
      made.push(
        ...(await Promise.all(
          all.slice(from, from + tokensAtOnce).map(async ({ group, n, user, token, forMs }) => ({
            group,
            n,
            ...defined({
              token: user === undefined ? token : await this.#surroundings.tokenFor(user, users[user] ?? {}, forMs),
            }),
          })),
        )),
      );
    return made;
  }

  #tell(generator: ChildProcess, what: ToGenerator): void {
    generator.send(what);
  }

  /** Waits until each generator has said this. */
  #each<T extends FromGenerator['type']>(type: T): Promise<Extract<FromGenerator, { type: T }>[]> {
    return Promise.all(
      this.#generators.map(
        (generator) =>
          new Promise<Extract<FromGenerator, { type: T }>>((resolve, reject) => {
            const heard = (said: FromGenerator): void => {
              if (said.type !== type) return;
              generator.off('message', heard);
              generator.off('exit', ended);
              resolve(said as Extract<FromGenerator, { type: T }>);
            };
            const ended = (code: number | null): void =>
              reject(new Error(`a process that generates the load has ended (${code ?? 'killed'})`));
            generator.on('message', heard);
            generator.once('exit', ended);
          }),
      ),
    );
  }
}

/** Of each group, which of the processes that have clients of it one is. */
function sharesOf(portions: readonly (readonly GeneratedClient[])[], index: number): Readonly<Record<string, Share>> {
  const shares: Record<string, Share> = {};
  for (const { group } of portions[index] ?? []) {
    if (shares[group] !== undefined) continue;
    const having = portions.flatMap((portion, at) => (portion.some((each) => each.group === group) ? [at] : []));
    shares[group] = { index: having.indexOf(index), of: having.length };
  }
  return shares;
}

/** Puts the seconds of all generators together. */
class Seconds {
  readonly #processes: number;
  readonly #surroundings: Surroundings;
  readonly #all: Tally;
  readonly #tell: (second: SecondFigures) => void;
  readonly #open = new Map<number, Second[]>();
  readonly #known: SecondFigures[] = [];
  #last: Promise<void> = Promise.resolve();

  constructor(processes: number, surroundings: Surroundings, all: Tally, tell: (second: SecondFigures) => void) {
    this.#processes = processes;
    this.#surroundings = surroundings;
    this.#all = all;
    this.#tell = tell;
  }

  add(second: Second): void {
    const some = [...(this.#open.get(second.second) ?? []), second];
    this.#open.set(second.second, some);
    if (some.length < this.#processes) return;
    this.#open.delete(second.second);
    this.#last = this.#last.then(() => this.#close(second.second, some));
  }

  async all(): Promise<readonly SecondFigures[]> {
    await this.#last;
    return this.#known;
  }

  async #close(second: number, some: readonly Second[]): Promise<void> {
    const tally = new Tally();
    for (const each of some) {
      tally.add(each.tally);
      this.#all.add(each.tally);
    }
    const figures: SecondFigures = {
      second,
      ...tally.counts,
      ...defined({ delivery: percentiles(tally, 'delivery'), reply: percentiles(tally, 'reply') }),
      generator: {
        cpu: Math.max(...some.map(({ cpu }) => cpu)),
        loopDelayMs: Math.max(...some.map(({ loopDelayMs }) => loopDelayMs)),
        memoryBytes: some.reduce((sum, { memoryBytes }) => sum + memoryBytes, 0),
      },
      ...defined({ service: await serviceFigures(this.#surroundings) }),
    };
    this.#known.push(figures);
    this.#tell(figures);
  }
}

/** The service's own metrics (OpenMetrics), of the instance that answers. */
async function serviceFigures({ url, key }: Surroundings): Promise<SecondFigures['service']> {
  if (key === undefined) return undefined;
  try {
    const headers = { authorization: `Bearer ${key}` };
    const response = await fetch(`${url}/metrics`, { headers, signal: AbortSignal.timeout(metricsMs) });
    if (!response.ok) return undefined;
    const text = await response.text();
    const sum = (name: string): number =>
      [...text.matchAll(new RegExp(`^${name}(?:\\{[^}]*\\})? ([^ \\n]+)`, 'gm'))].reduce(
        (all, [, value]) => all + Number(value),
        0,
      );
    return {
      loopDelayMs: sum('bells_loop_delay_seconds') * 1000,
      memoryBytes: sum('bells_memory_bytes'),
      connections: sum('bells_connections'),
      sendQueueBytes: sum('bells_send_queue_bytes'),
    };
  } catch {
    // It is busy: the figures of this second are missing, which says enough.
    return undefined;
  }
}

function percentiles(tally: Tally, name: 'delivery' | 'reply' | 'connect' | 'late'): Percentiles | undefined {
  if (tally.times[name].totalCount === 0) return undefined;
  return Object.fromEntries(
    Object.entries(shares).map(([share, percent]) => [share, tally.ms(name, percent)]),
  ) as unknown as Percentiles;
}

function farthest(tops: readonly Top[]): readonly Top[] {
  const all = new Map<string, Top>();
  for (const top of tops) if (top.number > (all.get(top.channel)?.number ?? -1)) all.set(top.channel, top);
  return [...all.values()];
}

function judged(limit: Threshold, total: LoadFigures['total']): LoadFigures['must'][number] {
  const { text } = limit;
  if (limit.of === 'received')
    return { text, found: `${total.receivedPerS}/s`, isKept: total.receivedPerS >= limit.atLeastPerS };
  if ('atMost' in limit) {
    const count = limit.of === 'refused' ? sumOf(total.refused) : total[limit.of];
    const codes = Object.entries(total.refused).map(([code, times]) => `${times} ${code}`);
    const found = limit.of === 'refused' && count > 0 ? codes.join(', ') : String(count);
    return { text, found, isKept: count <= limit.atMost };
  }
  const ms = total[limit.of]?.[limit.share];
  if (ms === undefined) return { text, found: 'not known: there was none', isKept: false };
  return { text, found: `${ms.toFixed(ms < 10 ? 2 : 0)} ms`, isKept: ms <= limit.atMostMs };
}

function doubtsOf(seconds: readonly SecondFigures[], late: Percentiles | undefined): readonly string[] {
  const doubts: string[] = [];
  const busiest = Math.max(0, ...seconds.map(({ generator: { cpu } }) => cpu));
  if (busiest > busyCpu)
    doubts.push(
      `a generator used ${Math.round(busiest * 100)}% of a core: spread the clients (--processes), or it measures itself`,
    );
  if (late !== undefined && late.p99 > lateMs)
    doubts.push(
      `1% of the requests were sent more than ${Math.round(late.p99)} ms after they were due, because the generator or this machine was busy`,
    );
  return doubts;
}

export function sumOf(refused: Readonly<Record<string, number>>): number {
  return Object.values(refused).reduce((sum, count) => sum + count, 0);
}

export function refusedText({ refused, failed, unanswered }: Counts): string {
  const some = Object.entries(refused).map(([code, count]) => `${count} ${code}`);
  if (failed > 0) some.push(`${failed} connections failed`);
  if (unanswered > 0) some.push(`${unanswered} unanswered`);
  return some.length === 0 ? '0' : some.join(', ');
}
