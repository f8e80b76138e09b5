import {
  type ChannelName,
  channelNameFault,
  defined,
  entryNameFault,
  type Json,
  messageTypePattern,
  type Problem,
  ProblemError,
  problem,
  refusal,
} from '@nine-bells/wire';
import type { Access, Explanation, Visitor } from '../access/access.js';
import { BoundedMap } from '../lib/boundedMap.js';
import { Breaker, UnusableAnswer } from '../lib/breaker.js';
import { InFlight } from '../lib/inFlight.js';
import { TokenBucket } from '../lib/tokenBucket.js';
import type { Parameters } from '../model/access.js';
import type { Call, CallAnswer, CallPublication, CallRule } from '../model/call.js';
import { matchPattern, type Pattern, parametersOf, parsePattern } from '../model/pattern.js';
import type { CallAsker } from '../ports/callAsker.js';
import type { Clock } from '../ports/clock.js';
import type { Hmac } from '../ports/hmac.js';
import type { Ids } from '../ports/ids.js';
import type { Report } from '../ports/report.js';
import { accessRuleFault } from '../rules/accessRule.js';
import { Answers } from './answers.js';
import { CallCopies, type CallCopy } from './callCopies.js';

/** Maximum number of calls in flight: of a session, of a user, from an address, and of the instance. */
const perSession = 16;
const perUser = 32;
const perAddress = 128;
const perInstance = 5_000;
/** Maximum number of sessions whose calls are remembered. */
const maxLoads = 20_000;
/** Timeout for another instance to return its answer, in milliseconds. */
const elsewhereMs = 2_000;
/** Retry interval after a failure, in milliseconds. */
const againMs = 2_000;

/** A client that calls. */
export interface Caller {
  readonly session: string;
  readonly visitor: Visitor;
}

/** A client's request. */
export interface CallWish {
  readonly name: string;
  readonly channel?: ChannelName | undefined;
  readonly data?: Json | undefined;
  readonly key?: string | undefined;
  /** It may have been made before, over a connection that broke. */
  readonly again?: boolean | undefined;
}

/** Owner of the publications, so that none is made twice. */
export interface CallOrigin {
  readonly owner: string;
  readonly key: string | undefined;
  readonly caller: Call;
}

export interface CallsHost {
  readonly hmac: Pick<Hmac, 'digest'>;
  readonly clock: Clock;
  readonly ids: Ids;
  readonly report: Report;
  readonly access: Access;
  readonly asker: CallAsker | undefined;
  /** Publishes a part of an answer. Begun in this turn. */
  readonly publish: (publication: CallPublication, origin: CallOrigin) => Promise<unknown>;
  /** Asks the other instances for the answer to a call that was made before; `undefined` if none knows. */
  readonly answeredElsewhere: ((key: string, withinMs: number) => Promise<string | undefined>) | undefined;
}

/** Outcomes of the calls of one name. */
export interface CallCounts {
  answered: number;
  refused: number;
  failed: number;
}

interface Known {
  readonly rule: CallRule;
  readonly pattern: Pattern | undefined;
  readonly publishes: readonly Pattern[];
  readonly counts: CallCounts;
}

/** A session's calls in flight, and its rates. */
interface Load {
  underWay: number;
  readonly buckets: Map<string, TokenBucket>;
}

/** Calls: a client asks, the application answers. */
export class Calls {
  readonly #host: CallsHost;
  readonly #all: ReadonlyMap<string, Known>;
  readonly #answers: Answers;
  readonly #copies: CallCopies;
  readonly #breakers = new Map<string, Breaker>();
  readonly #loads = new BoundedMap<string, Load>(maxLoads);
  #underWay = 0;
  readonly #inFlight = new InFlight({ perUser, perAddress });

  /** @throws {RangeError} for a rule with an unknown parameter */
  constructor(host: CallsHost, rules: readonly CallRule[]) {
    this.#host = host;
    this.#answers = new Answers(() => host.clock.monotonic());
    this.#copies = new CallCopies(() => host.clock.now());
    this.#all = new Map(
      rules.map((rule) => {
        const pattern = rule.channel === undefined ? undefined : parsePattern(rule.channel);
        const fault = accessRuleFault(rule.allow, pattern === undefined ? [] : parametersOf(pattern), 'call');
        if (fault !== undefined) throw new RangeError(`call ${rule.name}: ${fault}`);
        const counts = { answered: 0, refused: 0, failed: 0 };
        return [rule.name, { rule, pattern, publishes: rule.publishes.map(parsePattern), counts }];
      }),
    );
  }

  get counts(): ReadonlyMap<string, CallCounts> {
    return new Map([...this.#all].map(([name, { counts }]) => [name, counts]));
  }

  get rules(): readonly CallRule[] {
    return [...this.#all.values()].map(({ rule }) => rule);
  }

  /**
   * Makes a call. Resolves with the reply as JSON text: the members that follow its number.
   *
   * @throws {ProblemError} in this turn or as a rejection: `no-such-call`, `not-allowed`, `bad-value`, `too-large`,
   *   `rate-limited`, `busy`, `call-refused` with the application's words, `call-failed`
   */
  async call(wish: CallWish, caller: Caller): Promise<string> {
    const known = this.#require(wish.name);
    const parameters = parametersFor(known, wish.channel);
    this.#checkSize(known.rule, wish.data);
    const load = this.#loadOf(caller.session);
    const { who, address } = caller.visitor;
    const origin = { user: who.user, address };
    this.#charge(known.rule, load);
    if (this.#inFlight.isFull(origin))
      throw refusal('busy', 'too many calls of this user or address are in flight', { retryAfterMs: againMs / 4 });
    this.#inFlight.begin(origin);
    load.underWay += 1;
    this.#underWay += 1;
    try {
      return await this.#decided(known, parameters, wish, caller);
    } finally {
      load.underWay -= 1;
      this.#underWay -= 1;
      this.#inFlight.end(origin);
    }
  }

  /**
   * Says which part of a call's access rule decides, on which facts.
   *
   * @throws {ProblemError} `no-such-call`, `bad-value`
   */
  explain(name: string, channel: ChannelName | undefined, visitor: Visitor): Promise<Explanation> {
    const known = this.#require(name);
    const parameters = parametersFor(known, channel);
    return this.#host.access.explainCall(known.rule, { channel, parameters }, visitor);
  }

  /** The answer to a call that was made here, for another instance; waits for one that is under way. */
  async answerTo(key: string): Promise<string | null> {
    return (await this.#answers.get(key)?.catch(() => null)) ?? null;
  }

  /** The calls of a name that passed this instance behind a number; from now on they are kept for a minute. */
  copies(name: string, after: number): readonly CallCopy[] {
    return this.#all.has(name) ? this.#copies.after(name, after) : [];
  }

  // ------------------------------------------------------------------------------------------------ inside

  #require(name: string): Known {
    const known = this.#all.get(name);
    if (known !== undefined) return known;
    throw refusal('no-such-call', `there is no call ${JSON.stringify(name)}`, { where: '/name' });
  }

  #checkSize({ dataBytes }: CallRule, data: Json | undefined): void {
    const bytes = JSON.stringify(data ?? null).length;
    if (bytes > dataBytes)
      throw refusal('too-large', `data has ${bytes} characters, at most ${dataBytes} are allowed here`, {
        where: '/data',
      });
  }

  #loadOf(session: string): Load {
    const load = this.#loads.get(session) ?? { underWay: 0, buckets: new Map() };
    this.#loads.set(session, load);
    return load;
  }

  #charge({ name, rate }: CallRule, load: Load): void {
    const now = this.#host.clock.monotonic();
    const bucket = load.buckets.get(name) ?? new TokenBucket(rate, now);
    load.buckets.set(name, bucket);
    const retryAfterMs = bucket.take(rate, now);
    if (retryAfterMs > 0)
      throw refusal('rate-limited', `this session calls ${name} more often than it may`, { retryAfterMs });
    const isFull = load.underWay >= perSession || this.#underWay >= perInstance;
    if (isFull) throw refusal('busy', 'too many calls are under way', { retryAfterMs: againMs / 4 });
  }

  /** Decides who may call, then asks, unless it was answered before. */
  async #decided(known: Known, parameters: Parameters, wish: CallWish, caller: Caller): Promise<string> {
    const about = { channel: wish.channel, parameters };
    const ruling = await this.#host.access.decideCall(known.rule, about, caller.visitor);
    if (ruling.problem !== undefined) throw new ProblemError(ruling.problem);
    const { who } = caller.visitor;
    const call: Call = {
      id: `call_${this.#host.ids.message(this.#host.clock.now())}`,
      name: wish.name,
      ...defined({ channel: wish.channel, key: wish.key }),
      parameters,
      who,
      session: caller.session,
      data: wish.data ?? null,
    };
    if (wish.key === undefined) return this.#ask(known, call);
    const key = keyOf(call);
    // Other instances are asked only about what may have been made before.
    if (wish.again && this.#answers.get(key) === undefined) {
      const elsewhere = await this.#host.answeredElsewhere?.(key, elsewhereMs).catch(() => undefined);
      if (elsewhere !== undefined) return elsewhere;
    }
    const before = this.#answers.get(key);
    if (before !== undefined) return before;
    const answer = this.#ask(known, call);
    this.#answers.add(key, answer);
    return answer;
  }

  async #ask(known: Known, call: Call): Promise<string> {
    const { rule, counts } = known;
    this.#copies.note(call);
    const answer = await this.#answerOf(rule, call).catch((error: unknown) => {
      counts.failed += 1;
      throw error;
    });
    if (answer.refuse !== undefined) {
      counts.refused += 1;
      throw new ProblemError(refusedProblem(answer.refuse));
    }
    try {
      await this.#publish(known, call, answer.publish ?? []);
    } catch (error) {
      counts.failed += 1;
      throw error;
    }
    counts.answered += 1;
    return answer.data === undefined ? '' : `"data":${JSON.stringify(answer.data)}`;
  }

  async #answerOf(rule: CallRule, call: Call): Promise<CallAnswer> {
    const { answerer, withinMs, name } = rule;
    const { clock, report } = this.#host;
    const breaker = typeof answerer === 'string' ? this.#breakerOf(answerer) : undefined;
    const waitMs = breaker?.ask(clock.monotonic()) ?? 0;
    if (waitMs > 0)
      throw refusal('call-failed', 'the application does not answer just now', { retryAfterMs: Math.ceil(waitMs) });
    try {
      const answer = await this.#inTime(this.#askOnce(answerer, rule, call), withinMs);
      const bytes = JSON.stringify(answer.data ?? null).length;
      if (bytes > rule.answerBytes)
        throw new UnusableAnswer(`its data has ${bytes} characters, at most ${rule.answerBytes} are allowed`);
      breaker?.succeeded();
      return answer;
    } catch (error) {
      breaker?.threw(error, clock.monotonic());
      report(error, { event: 'call-failed', call: name, url: typeof answerer === 'string' ? answerer : undefined });
      throw refusal('call-failed', 'the application gave no answer that can be used', { retryAfterMs: againMs });
    }
  }

  async #askOnce(answerer: CallRule['answerer'], rule: CallRule, call: Call): Promise<CallAnswer> {
    if (typeof answerer === 'function') return answerer(call);
    if (this.#host.asker === undefined) throw new Error('no way to ask the application is configured');
    return this.#host.asker.call(rule, answerer, call);
  }

  /** Publishes the messages of an answer, after checking all of them. */
  async #publish(known: Known, call: Call, publications: readonly CallPublication[]): Promise<void> {
    const { name } = known.rule;
    for (const each of publications) {
      const fault = faultOf(known, call, each);
      if (fault === undefined) continue;
      this.#host.report(new Error(fault), { event: 'call-publication-failed', call: name });
      throw refusal('call-failed', 'the application gave no answer that can be used');
    }
    const done = publications.map((each, index) =>
      this.#host.publish(each, {
        owner: `call:${name}`,
        key: call.key === undefined ? undefined : `${this.#host.hmac.digest(keyOf(call))}:${index}`,
        caller: call,
      }),
    );
    const failed = (await Promise.allSettled(done)).find((each) => each.status === 'rejected');
    if (failed === undefined) {
      // What was published is pushed at the end of the turn: the reply comes after it.
      if (publications.length > 0) await new Promise<void>((resolve) => this.#host.clock.endOfTurn(resolve));
      return;
    }
    this.#host.report(failed.reason, { event: 'call-publication-failed', call: name });
    throw failed.reason instanceof ProblemError && failed.reason.code === 'unavailable'
      ? failed.reason
      : refusal('call-failed', 'what came with the answer could not be published', { retryAfterMs: againMs });
  }

  #breakerOf(url: string): Breaker {
    const breaker = this.#breakers.get(url) ?? new Breaker();
    this.#breakers.set(url, breaker);
    return breaker;
  }

  #inTime<T>(answer: Promise<T>, withinMs: number): Promise<T> {
    return new Promise((resolve, reject) => {
      const cancel = this.#host.clock.setTimer(withinMs, () => reject(new Error(`no answer within ${withinMs} ms`)));
      answer.then(resolve, reject).finally(cancel);
    });
  }
}

/** @throws {ProblemError} where the call needs a channel, has one too much, or is not about this one */
function parametersFor({ rule, pattern }: Known, channel: ChannelName | undefined): Readonly<Record<string, string>> {
  if (pattern === undefined) {
    if (channel === undefined) return {};
    throw refusal('bad-value', `${rule.name} is about no channel`, { where: '/channel' });
  }
  const parameters = channel === undefined ? undefined : matchPattern(pattern, channel);
  if (parameters !== undefined) return parameters;
  throw refusal('bad-value', `${rule.name} is about a channel such as ${pattern.text}`, { where: '/channel' });
}

function refusedProblem({ code, text }: { readonly code: string; readonly text: string }): Problem {
  return { ...problem('call-refused', text), refusal: { code, text } };
}

/** Returns the fault in an answer's messages; `undefined` if there is none. */
function faultOf({ rule, publishes }: Known, call: Call, publication: CallPublication): string | undefined {
  if ('notice' in publication) return undefined;
  const inChannel =
    'message' in publication ? publication.message : 'hail' in publication ? publication.hail : publication.entry;
  const { channel } = inChannel;
  const wrong = channelNameFault(channel);
  if (wrong !== undefined) return wrong;
  if (channel !== call.channel && !publishes.some((pattern) => matchPattern(pattern, channel) !== undefined))
    return `answers to ${rule.name} do not publish in ${channel} (\`publishes\`)`;
  if ('entry' in inChannel) return entryNameFault(inChannel.entry);
  const type = 'type' in inChannel ? inChannel.type : undefined;
  return type === undefined || messageTypePattern.test(type) ? undefined : `${JSON.stringify(type)} is no type`;
}

/** Identity of a call with a key: its name, channel, user, and the key itself. */
function keyOf({ name, channel, who, key }: Call): string {
  return JSON.stringify([name, channel ?? null, who.user, key]);
}
