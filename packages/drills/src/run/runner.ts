import { defined, type Json, type Problem, type ReplyFrame } from '@nine-bells/wire';
import type {
  ActStep,
  Answer,
  AnswersStep,
  CallStep,
  ClientSpec,
  ConnectStep,
  Drill,
  EndsStep,
  Expected,
  GetsNoStep,
  GetsStep,
  IncludeStep,
  NetworkStep,
  RepeatStep,
  SendStep,
  ServiceStep,
  Span,
  Step,
  Who,
} from '../format/drill.js';
import { differences } from '../values/matching.js';
import { filledIn, MissingValue, type Values } from '../values/references.js';
import { Application, type CallAnswer, problemIn } from './application.js';
import { DrillClient, NoAnswer } from './client.js';
import { expectFrames, expectNone, short } from './expectations.js';
import type { FrameSource } from './frameQueue.js';
import { nodeNetwork, type Random } from './network.js';
import { type DrillResult, type Failure, StepFailure, type StepResult } from './results.js';
import type { StandIn, Surroundings } from './surroundings.js';

export interface RunOptions {
  /** Overrides of the drill's parameters. */
  readonly with?: Readonly<Record<string, Json>>;
  /** Source of all random values. */
  readonly random: Random;
}

/** Default lifetime of a token, in milliseconds. */
const usualTokenMs = 3_600_000;
/** Number of clients that connect concurrently. */
const connectsAtOnce = 100;
/** Number of frames shown with a failure. */
const framesShown = 8;
/** Bound on the results that one repetition keeps. */
const mostResults = 1_000;
/** How long a service may take to answer a goodbye, in milliseconds. */
const goodbyeMs = 1_000;
/** Interval between requests of `until`, in milliseconds. */
const askAgainMs = 25;

/** Runs a drill: connects its clients, runs the steps until one fails, and disconnects. */
export async function runDrill(drill: Drill, surroundings: Surroundings, options: RunOptions): Promise<DrillResult> {
  const run = new Run(drill, surroundings, options);
  return run.result();
}

/** Values that steps can refer to; captures add to them. */
class Known {
  readonly #values: Record<string, Json>;
  readonly #outer: Known | undefined;

  constructor(values: Values, outer?: Known) {
    this.#values = { ...values };
    this.#outer = outer;
  }

  get all(): Values {
    return { ...this.#outer?.all, ...this.#values };
  }

  /** Makes a captured value known to all later steps, including those after a repetition. */
  capture(name: string | undefined, value: Json): void {
    if (name === undefined) return;
    if (this.#outer === undefined) this.#values[name] = value;
    else this.#outer.capture(name, value);
  }
}

class Run {
  readonly #drill: Drill;
  readonly #surroundings: Surroundings;
  readonly #options: RunOptions;
  readonly #application: Application;
  readonly #clients = new Map<string, readonly DrillClient[]>();
  readonly #results: StepResult[] = [];
  readonly #startMs = performance.now();
  readonly #own: string;
  #failed = false;

  constructor(drill: Drill, surroundings: Surroundings, options: RunOptions, own?: string) {
    this.#drill = drill;
    this.#surroundings = surroundings;
    this.#options = options;
    this.#application = new Application(surroundings);
    this.#own =
      own ??
      Array.from({ length: 8 }, () => '0123456789abcdefghjkmnpqrstvwxyz'[Math.floor(options.random() * 32)]).join('');
  }

  async result(): Promise<DrillResult> {
    const { parameters } = this.#drill;
    let problem: string | undefined;
    try {
      const known = new Known({ ...parameters, ...this.#options.with, own: this.#own, n: 1 });
      await this.#open(known.all);
      await this.#steps(this.#drill.steps, known, 0, this.#results);
    } catch (error) {
      problem = error instanceof StepFailure ? error.message : (error as Error).message;
      this.#failed = true;
    } finally {
      for (const client of [...this.#clients.values()].flat()) {
        client.close();
        // A service that does not answer the close frame must not keep the process alive.
        setTimeout(() => client.cut(), goodbyeMs).unref();
      }
    }
    return {
      drill: this.#drill,
      status: this.#failed ? 'failed' : 'passed',
      ms: performance.now() - this.#startMs,
      steps: this.#results,
      ...(problem === undefined ? {} : { problem }),
    };
  }

  // ------------------------------------------------------------------------------------------------ clients

  /** Creates the clients, and connects those without `connects: later`. */
  async #open(values: Values): Promise<void> {
    const first: DrillClient[] = [];
    for (const spec of this.#drill.clients) {
      const all = Array.from({ length: spec.times ?? 1 }, (_, index) => this.#client(spec, index + 1, values));
      this.#clients.set(spec.name, all);
      if (!spec.isLater) first.push(...all);
    }
    await inPortions(first, connectsAtOnce, async (client) => {
      let reply: ReplyFrame;
      try {
        reply = await client.connect(this.#drill.withinMs);
      } catch (error) {
        throw new Error(`${client.name} cannot connect: ${(error as Error).message}`);
      }
      if (reply.problem !== undefined)
        throw new Error(
          `${client.name} is not let in: ${problemText(reply.problem)} (with \`connects: later\`, a step can expect that)`,
        );
    });
  }

  #client(spec: ClientSpec, n: number, values: Values): DrillClient {
    const { users } = this.#drill;
    const own = { ...values, n };
    const user = spec.user === undefined ? undefined : String(filledIn(spec.user, own));
    let token: (() => Promise<string>) | undefined;
    if (spec.token !== undefined) {
      const text = spec.token;
      token = () => Promise.resolve(String(filledIn(text, own)));
    } else if (user !== undefined)
      token = () => this.#surroundings.tokenFor(user, users[user] ?? {}, spec.tokenMs ?? usualTokenMs);
    return new DrillClient({
      name: spec.times === undefined ? spec.name : `${spec.name} ${n}`,
      url: this.#surroundings.url,
      transport: spec.transport,
      token,
      network: nodeNetwork(this.#options.random),
      now: () => performance.now() - this.#startMs,
    });
  }

  #whoOf({ client, which }: Who): readonly { readonly client: DrillClient; readonly n: number }[] {
    const all = (this.#clients.get(client) ?? []).map((each, index) => ({ client: each, n: index + 1 }));
    if (which === 'all') return all;
    const index = which === 'any' ? Math.floor(this.#options.random() * all.length) : which - 1;
    return all.slice(index, index + 1);
  }

  // -------------------------------------------------------------------------------------------------- steps

  /** Runs steps in sequence into `into`. Once a step has failed, the remaining steps are skipped. */
  async #steps(steps: readonly Step[], known: Known, depth: number, into: StepResult[], round?: string): Promise<void> {
    for (const step of steps)
      if (this.#failed) into.push({ step, depth, ms: 0, status: 'skipped', ...defined({ round }) });
      else await this.#one(step, known, depth, into, round);
  }

  /** Runs one step. The result of a block comes before the results of the steps in it. */
  async #one(step: Step, known: Known, depth: number, into: StepResult[], round?: string): Promise<void> {
    const fromMs = performance.now();
    const inner: StepResult[] = [];
    let failure: Failure | undefined;
    try {
      await this.#do(step, known, depth, inner);
    } catch (error) {
      this.#failed = true;
      failure = failureOf(error).failure;
    }
    const isFailed = failure !== undefined || inner.some(({ status }) => status === 'failed');
    const ms = performance.now() - fromMs;
    into.push({ step, depth, ms, status: isFailed ? 'failed' : 'passed', ...defined({ round, failure }) }, ...inner);
  }

  #do(step: Step, known: Known, depth: number, into: StepResult[]): Promise<void> {
    switch (step.kind) {
      case 'act':
        return this.#byEach(step, known, (client, values) => this.#act(client, step, values));
      case 'connect':
        return this.#byEach(step, known, (client, values) => this.#connect(client, step, values));
      case 'send':
        return this.#byEach(step, known, (client, values) => this.#send(client, step, values));
      case 'gets':
        return this.#bySource(step, known, (source, values) => this.#gets(source, step, values));
      case 'gets no':
        return this.#bySource(step, known, (source, values) => this.#getsNo(source, step, values));
      case 'answers':
        return this.#answers(step, known);
      case 'ends':
        return this.#byEach(step, known, (client, values) => this.#ends(client, step, values));
      case 'network':
        return this.#byEach(step, known, (client) => this.#network(client, step));
      case 'call':
        return this.#call(step, known);
      case 'service':
        return this.#service(step);
      case 'wait':
        return pause(this.#draw(step.ms));
      case 'together':
        return this.#together(step.steps, known, depth + 1, into);
      case 'repeat':
        return this.#repeat(step, known, depth, into);
      case 'include':
        return this.#include(step, known, depth, into);
    }
  }

  /** Runs a step of the stand-in for the application, or of clients. */
  async #bySource(
    step: GetsStep | GetsNoStep,
    known: Known,
    act: (source: FrameSource, values: Values) => Promise<Json | undefined>,
  ): Promise<void> {
    const { who } = step;
    if (who !== 'application') return this.#byEach({ ...step, who }, known, act);
    known.capture('as' in step ? step.as : undefined, (await act(this.#standIn(), known.all)) ?? null);
  }

  async #answers({ to, pattern, with: body, status, afterMs }: AnswersStep, known: Known): Promise<void> {
    const values = known.all;
    const answer = defined({ with: body === undefined ? undefined : filledIn(body, values), status, afterMs });
    this.#standIn().answer(to, answer, filledIn(pattern, values));
  }

  #standIn(): StandIn {
    const { standIn, control } = this.#surroundings;
    if (standIn !== undefined) return standIn;
    throw new StepFailure({
      expected: 'requests to the application to stay within the drill',
      came:
        control === undefined
          ? 'this drill runs against a service that it has not started (use --config)'
          : 'they go out (--outbound)',
    });
  }

  /** Runs a step for all its clients concurrently; with several clients, the captured value is a list. */
  async #byEach(
    step: { readonly who: Who; readonly as?: string } & Exclude<
      Step,
      { kind: 'call' | 'answers' | 'service' | 'wait' | 'together' | 'repeat' | 'include' }
    >,
    known: Known,
    act: (client: DrillClient, values: Values) => Promise<Json | undefined>,
  ): Promise<void> {
    const all = this.#whoOf(step.who);
    const captured = await Promise.all(
      all.map(({ client, n }) =>
        act(client, { ...known.all, n }).catch((error: unknown) => {
          throw withFrames(error, client, all.length > 1);
        }),
      ),
    );
    const as = 'as' in step ? step.as : undefined;
    const values = captured.map((value) => value ?? null);
    known.capture(as, all.length === 1 ? (values[0] as Json) : values);
  }

  async #act(client: DrillClient, step: ActStep, values: Values): Promise<Json> {
    const members = filledIn(step.members, values) as Readonly<Record<string, Json>>;
    const reply = await client.request(step.verb, members, step.withinMs ?? this.#drill.withinMs);
    const channel = members.channel;
    const why = async (problem: Problem): Promise<readonly string[]> => {
      const acts = ['enter', 'read', 'publish', 'hail', 'remove', 'silence', 'mark'];
      if (problem.code !== 'not-allowed' || typeof channel !== 'string' || !acts.includes(step.verb)) return [];
      const moderates = step.verb === 'remove' || step.verb === 'silence';
      const act = moderates ? 'moderate' : step.verb === 'mark' ? 'read' : step.verb;
      return this.#application.explain(act, channel, client.welcome?.session ?? '');
    };
    await checkAnswer(step, values, reply as unknown as Json, reply.problem, why);
    return reply as unknown as Json;
  }

  async #connect(client: DrillClient, step: ConnectStep, values: Values): Promise<Json> {
    const reply = await client.connect(step.withinMs ?? this.#drill.withinMs);
    await checkAnswer(step, values, reply as unknown as Json, reply.problem);
    return reply as unknown as Json;
  }

  async #send(client: DrillClient, step: SendStep, values: Values): Promise<undefined> {
    const frame = filledIn(step.frame, values);
    client.send(typeof frame === 'string' ? frame : JSON.stringify(frame));
  }

  async #gets(source: FrameSource, step: GetsStep, values: Values): Promise<Json> {
    const wanted = step.isOrdered
      ? step.expected
      : Array.from({ length: step.times }, () => step.expected[0] as Expected);
    const patterns = wanted.map(({ on, pattern }) => ({ on, pattern: filledIn(pattern, values) }));
    const withinMs = step.withinMs ?? this.#drill.withinMs;
    const frames = await expectFrames(source, patterns, withinMs, this.#application);
    return frames.length === 1 ? (frames[0] as Json) : frames;
  }

  async #getsNo(source: FrameSource, { expected, forMs }: GetsNoStep, values: Values): Promise<undefined> {
    await expectNone(source, { on: expected.on, pattern: filledIn(expected.pattern, values) }, forMs);
  }

  async #ends(client: DrillClient, step: EndsStep, values: Values): Promise<Json> {
    const withinMs = step.withinMs ?? this.#drill.withinMs;
    const ended = await client.until(() => client.ended, withinMs);
    const wanted = step.with === undefined ? undefined : filledIn(step.with, values);
    const expected = `the connection of ${client.name} to end${wanted === undefined ? '' : ` with ${JSON.stringify(wanted)}`}`;
    if (ended === undefined)
      throw new StepFailure({ expected: `${expected} within ${withinMs} ms`, came: 'it is open' });
    if (wanted !== undefined && wanted !== ended.code && wanted !== ended.reason)
      throw new StepFailure({ expected, came: `it ended with ${ended.code} ${ended.reason}` });
    return { code: ended.code, reason: ended.reason };
  }

  async #network(client: DrillClient, { what }: NetworkStep): Promise<undefined> {
    switch (what.type) {
      case 'cut':
        client.cut();
        break;
      case 'cut in a frame':
        client.cut('in a frame');
        break;
      case 'delay':
        client.delay = what.ms;
        break;
      case 'lose':
        client.lose(what.what);
        break;
      case 'offline': {
        client.cut();
        await pause(this.#draw(what.ms));
        const reply = await client.connect(this.#drill.withinMs);
        if (reply.problem !== undefined)
          throw new StepFailure({
            expected: `${client.name} to come back`,
            came: `refused: ${problemText(reply.problem)}`,
          });
        break;
      }
      default:
        client[what.type]();
    }
    return undefined;
  }

  async #call(step: CallStep, known: Known): Promise<void> {
    const values = known.all;
    const { body, path, key } = step;
    const call = {
      method: step.method,
      path: String(filledIn(path, values)),
      ...(body === undefined ? {} : { body: filledIn(body, values) }),
      ...(key === undefined ? {} : { key: key === null ? null : String(filledIn(key, values)) }),
    };
    let last: CallAnswer | undefined;
    const endMs = performance.now() + (step.withinMs ?? this.#drill.withinMs);
    for (;;) {
      const leftMs = Math.max(1, endMs - performance.now());
      const answer: CallAnswer = await this.#application
        .call(call, step.until === undefined ? step.withinMs : leftMs)
        .catch((error: unknown) => {
          // The previous answer explains more than a request that the time limit aborted.
          if (last === undefined || performance.now() < endMs) throw error;
          return last;
        });
      last = answer;
      const problem = problemIn(answer);
      const at = `${call.method} ${call.path}`;
      if (step.until !== undefined) {
        const found = differences(filledIn(step.until, values), answer.body);
        if (found.length === 0 && problem === undefined) return known.capture(step.as, answer.body);
        if (performance.now() < endMs) {
          await pause(askAgainMs);
          continue;
        }
        throw new StepFailure({
          expected: `${at} to match \`until\``,
          came: `it answers ${short(answer.body)}`,
          differences: found,
        });
      }
      if (step.status !== undefined && step.status !== answer.status)
        throw new StepFailure({
          expected: `${at} to be answered with status ${step.status}`,
          came: `it is ${answer.status}: ${short(answer.body)}`,
        });
      const isExpected = step.status !== undefined && step.refused === undefined;
      await checkAnswer(step, values, answer.body, isExpected ? undefined : problem);
      if (problem === undefined && answer.status >= 400 && !isExpected)
        throw new StepFailure({
          expected: `${at} to be answered`,
          came: `the status is ${answer.status}: ${short(answer.body)}`,
        });
      return known.capture(step.as, answer.body);
    }
  }

  async #service({ what }: ServiceStep): Promise<void> {
    const { control } = this.#surroundings;
    if (control === undefined)
      throw new StepFailure({
        expected: `the service to ${what}`,
        came: 'this drill runs against a service that it has not started (use --config)',
      });
    if (what !== 'start') await control.stop();
    if (what !== 'stop') await control.start();
  }

  async #together(steps: readonly Step[], known: Known, depth: number, into: StepResult[]): Promise<void> {
    const results = await Promise.all(
      steps.map(async (step) => {
        const own: StepResult[] = [];
        await this.#one(step, known, depth, own);
        return own;
      }),
    );
    into.push(...results.flat());
  }

  async #repeat(step: RepeatStep, known: Known, depth: number, into: StepResult[]): Promise<void> {
    const { as, steps } = step;
    const values = typeof step.values === 'number' ? countTo(step.values) : filledIn(step.values, known.all);
    if (!Array.isArray(values))
      throw new StepFailure({ expected: '`each` to be a list', came: `it is ${short(values)}` });
    for (const value of values as readonly Json[]) {
      if (this.#failed) return;
      const own: StepResult[] = [];
      await this.#steps(steps, new Known({ [as]: value }, known), depth + 1, own, `${as} ${short(value)}`);
      // A drill may repeat its steps a million times, so passed rounds beyond the bound are dropped.
      if (this.#failed || into.length + own.length <= mostResults) into.push(...own);
    }
  }

  async #include(step: IncludeStep, known: Known, depth: number, into: StepResult[]): Promise<void> {
    const given = filledIn(step.with, known.all) as Readonly<Record<string, Json>>;
    const inner = new Run(step.drill, this.#surroundings, { random: this.#options.random, with: given }, this.#own);
    const result = await inner.result();
    for (const each of result.steps) into.push({ ...each, depth: each.depth + depth + 1 });
    if (result.status === 'failed') this.#failed = true;
    if (result.problem !== undefined)
      throw new StepFailure({ expected: `${step.drill.name} to begin`, came: result.problem });
  }

  #draw({ least, most }: Span): number {
    return least + this.#options.random() * (most - least);
  }
}

// ----------------------------------------------------------------------------------------------- answers

/** Checks an answer against the expectations of a step. */
async function checkAnswer(
  { reply, refused }: Answer,
  values: Values,
  found: Json,
  problem: Problem | undefined,
  why: (problem: Problem) => Promise<readonly string[]> = () => Promise.resolve([]),
): Promise<void> {
  const code = refused === undefined ? undefined : filledIn(refused, values);
  if (problem !== undefined) {
    if (code === problem.code) return;
    throw new StepFailure({
      expected: code === undefined ? 'success' : `a refusal with ${code}`,
      came: `refused: ${problemText(problem)}`,
      why: await why(problem),
    });
  }
  if (code !== undefined) throw new StepFailure({ expected: `a refusal with ${code}`, came: 'it succeeded' });
  if (reply === undefined) return;
  const different = differences(filledIn(reply, values), found);
  if (different.length > 0)
    throw new StepFailure({
      expected: 'a matching reply',
      came: `the reply is ${short(found)}`,
      differences: different,
    });
}

function problemText({ code, title, detail }: Problem): string {
  return `${code}, ${detail ?? title}`;
}

// ---------------------------------------------------------------------------------------------- failures

function failureOf(error: unknown): StepFailure {
  if (error instanceof StepFailure) return error;
  if (error instanceof MissingValue) return new StepFailure({ expected: 'success', came: error.message });
  if (error instanceof NoAnswer) return new StepFailure({ expected: 'an answer', came: error.message });
  const { message, cause } = error as Error;
  const why = cause instanceof Error ? ` (${cause.message})` : '';
  return new StepFailure({ expected: 'success', came: `${message}${why}` });
}

/** Adds the client's last frames to a failure. */
function withFrames(error: unknown, client: DrillClient, isOneOfMany: boolean): StepFailure {
  const { failure } = failureOf(error);
  return new StepFailure({
    ...failure,
    ...(isOneOfMany ? { came: `${client.name}: ${failure.came}` } : {}),
    frames: client.seen.slice(-framesShown),
    client: client.name,
  });
}

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

function countTo(last: number): readonly number[] {
  return Array.from({ length: last }, (_, index) => index + 1);
}

/** Processes all items, up to `most` concurrently. */
async function inPortions<T>(all: readonly T[], most: number, act: (each: T) => Promise<void>): Promise<void> {
  for (let from = 0; from < all.length; from += most) await Promise.all(all.slice(from, from + most).map(act));
}
