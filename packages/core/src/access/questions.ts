import { type ChannelName, defined } from '@nine-bells/wire';
import { BoundedMap } from '../lib/boundedMap.js';
import { Breaker } from '../lib/breaker.js';
import { InFlight } from '../lib/inFlight.js';
import type { AccessFunction, Answer, AskRule, Identity, Question } from '../model/access.js';
import type { Admission } from '../model/invitation.js';
import type { Asker } from '../ports/asker.js';
import type { Clock } from '../ports/clock.js';
import type { Report } from '../ports/report.js';
import { type Answered, meant, type OpenRule } from '../rules/accessRule.js';

/** Default lifetimes of a yes and of a no, in milliseconds. */
const rememberMs = { yes: 60_000, no: 5_000 };
/** An answer is remembered for at most this long, in milliseconds. */
const maxRememberMs = 86_400_000;
/** The shortest time before a client that entered on an answer is asked about again, in milliseconds. */
const againMs = 5_000;
/** Maximum number of answers remembered by the instance. */
const maxRemembered = 50_000;
/** Maximum number of questions in flight: of the instance, about one user, and about the clients of an address. */
const maxUnderWay = 1_000;
const perUser = 250;
const perAddress = 500;

export interface QuestionsHost {
  readonly clock: Clock;
  readonly report: Report;
  /** Absent where nothing asks the application. */
  readonly asker: Asker | undefined;
  /** Returns the user's admission to a channel by an invitation. */
  readonly admission: (user: string, channel: ChannelName) => Admission | undefined | Promise<Admission | undefined>;
  /** Timeout for a function or the application, in milliseconds. */
  readonly withinMs: number;
}

/**
 * Asks those who decide outside: the application, and functions. What the application answers is remembered for as long
 * as it allows; equal questions under way are asked once; a dead application is left alone for a while.
 */
export class Questions {
  readonly #host: QuestionsHost;
  readonly #remembered = new BoundedMap<string, { readonly answered: Answered; readonly untilMs: number }>(
    maxRemembered,
  );
  readonly #underWay = new Map<string, Promise<Answered>>();
  readonly #inFlight = new InFlight({ perUser, perAddress });
  readonly #breakers = new Map<string, Breaker>();
  /** A short name for all that is known of an identity: keys are made for every act, and must be made quickly. */
  readonly #persons = new Map<string, number>();
  readonly #personOfIdentity = new WeakMap<Identity, number>();
  #nextPerson = 1;

  constructor(host: QuestionsHost) {
    this.#host = host;
  }

  /**
   * Never throws or rejects: a failure is an answer.
   *
   * @param address - of the client that the question is about
   */
  answer(rule: OpenRule, question: Question, address?: string): Answered | Promise<Answered> {
    if (typeof rule === 'function') return this.#call(rule, question);
    if (rule === 'invited') return this.#invited(question, undefined);
    return 'ask' in rule
      ? this.#ask(rule, question, address)
      : this.#invited(question, meant(rule.invited, question.parameters));
  }

  /** Answers whether an invitation has admitted the user, with the role if that matters. */
  #invited({ channel, who }: Question, role: string | undefined): Answered | Promise<Answered> {
    if (channel === undefined) return { verdict: 'no', found: 'not about a channel' };
    const now = this.#host.clock.now();
    const answered = (found: Admission | undefined): Answered => {
      if (found === undefined) return { verdict: 'no', found: 'not invited' };
      const { invitation, role: as, untilMs = Number.POSITIVE_INFINITY } = found;
      const how = `by the invitation ${invitation}${as === undefined ? '' : `, as ${as}`}`;
      if (role !== undefined && as !== role) return { verdict: 'no', found: how };
      return { verdict: 'yes', found: how, untilMs: Math.min(untilMs, now + rememberMs.yes) };
    };
    const failed = (error: unknown): Answered => {
      this.#host.report(error, { event: 'invitations-unread', user: who.user });
      return { verdict: 'failed', found: `failed: ${messageOf(error)}`, retryAfterMs: againMs };
    };
    const found = this.#host.admission(who.user, channel);
    return found instanceof Promise ? found.then(answered, failed) : answered(found);
  }

  #call(rule: AccessFunction, question: Question): Answered | Promise<Answered> {
    const shown = (answer: boolean | Answer): Answered =>
      typeof answer === 'boolean'
        ? { verdict: answer ? 'yes' : 'no', found: `answered ${answer ? 'yes' : 'no'}` }
        : this.#answered(answer, answer.rememberMs);
    const failed = (error: unknown): Answered => {
      this.#host.report(error, { event: 'access-function-failed', function: rule.name, act: question.act });
      return { verdict: 'failed', found: `failed: ${messageOf(error)}` };
    };
    try {
      const answer = rule(question);
      if (typeof answer === 'boolean' || !('then' in answer)) return shown(answer);
      return this.#inTime(Promise.resolve(answer)).then(shown).catch(failed);
    } catch (error) {
      return failed(error);
    }
  }

  #ask({ ask: url }: AskRule, question: Question, address: string | undefined): Answered | Promise<Answered> {
    const { clock } = this.#host;
    const { act, channel = question.whom } = question;
    const key = JSON.stringify([this.#personOf(question.who), act, channel, entryOf(question), url]);
    const known = this.#remembered.get(key);
    if (known !== undefined && known.untilMs > clock.now()) return known.answered;
    let underWay = this.#underWay.get(key);
    if (underWay !== undefined) return underWay;

    const breaker = this.#breakerOf(url);
    const origin = { user: question.who.user, address };
    if (this.#underWay.size >= maxUnderWay || this.#inFlight.isFull(origin))
      return { verdict: 'failed', found: 'not asked: too many questions are in flight', retryAfterMs: againMs };
    const waitMs = breaker.ask(clock.monotonic());
    if (waitMs > 0)
      return {
        verdict: 'failed',
        found: `not asked: it has failed before; asked again in ${seconds(waitMs)}`,
        retryAfterMs: Math.ceil(waitMs),
      };
    this.#inFlight.begin(origin);
    underWay = this.#askNow(url, question, breaker, key).finally(() => {
      this.#underWay.delete(key);
      this.#inFlight.end(origin);
    });
    this.#underWay.set(key, underWay);
    return underWay;
  }

  async #askNow(url: string, question: Question, breaker: Breaker, key: string): Promise<Answered> {
    const { asker, clock, report } = this.#host;
    try {
      if (asker === undefined) throw new Error('no application is configured to be asked');
      const answer = await this.#inTime(asker.ask(url, question));
      breaker.succeeded();
      const forMs = Math.min(answer.rememberMs ?? rememberMs[answer.allow ? 'yes' : 'no'], maxRememberMs);
      const answered = this.#answered(answer, forMs);
      if (forMs > 0) this.#remember(key, answered, clock.now() + forMs);
      return answered;
    } catch (error) {
      breaker.threw(error, clock.monotonic());
      report(error, { event: 'access-question-failed', url, act: question.act });
      return { verdict: 'failed', found: `failed: ${messageOf(error)}`, retryAfterMs: againMs };
    }
  }

  #answered({ allow, reason, member }: Answer, forMs: number | undefined): Answered {
    const verdict = allow ? 'yes' : 'no';
    const remembered = forMs === undefined || forMs === 0 ? '' : `, remembered for ${seconds(forMs)}`;
    return {
      verdict,
      found: `answered ${verdict}${reason === undefined ? '' : ` (${reason})`}${remembered}`,
      ...defined({ reason, member }),
      ...(forMs === undefined ? {} : { untilMs: this.#host.clock.now() + Math.max(forMs, againMs) }),
    };
  }

  #remember(key: string, answered: Answered, untilMs: number): void {
    this.#remembered.set(key, { answered, untilMs });
  }

  /** The same number for equal facts: questions about equal facts are equal. */
  #personOf(who: Identity): number {
    let person = this.#personOfIdentity.get(who);
    if (person === undefined) {
      const known = factsOf(who);
      person = this.#persons.get(known);
      if (person === undefined) {
        person = this.#nextPerson++;
        this.#persons.set(known, person);
      }
      this.#personOfIdentity.set(who, person);
    }
    return person;
  }

  /** Deletes expired answers. Beyond the maximum, all persons get new numbers, so that questions about them are asked again. */
  sweep(): void {
    const now = this.#host.clock.now();
    if (this.#persons.size > maxRemembered) this.#persons.clear();
    for (const [key, { untilMs }] of this.#remembered) if (untilMs <= now) this.#remembered.delete(key);
  }

  #breakerOf(url: string): Breaker {
    let breaker = this.#breakers.get(url);
    if (breaker === undefined) {
      breaker = new Breaker();
      this.#breakers.set(url, breaker);
    }
    return breaker;
  }

  #inTime<T>(answer: Promise<T>): Promise<T> {
    const { clock, withinMs } = this.#host;
    return new Promise((resolve, reject) => {
      const cancel = clock.setTimer(withinMs, () => reject(new Error(`no answer within ${withinMs} ms`)));
      answer.then(resolve, reject).finally(cancel);
    });
  }
}

/** Claims that change with each token and are no facts about the user (RFC 7519, section 4.1). */
const passing = new Set(['exp', 'iat', 'nbf', 'jti']);

/** Returns all facts about an identity as text. */
function factsOf(who: Identity): string {
  const claims = Object.entries(who.claims).filter(([name]) => !passing.has(name));
  return JSON.stringify([who.user, who.name, who.guest, who.roles, claims]);
}

/** The entry of a board, the call or the message that a question is about: each is asked about by itself. */
function entryOf({ act, parameters, call, message }: Question): string {
  if (message !== undefined) return message.cursor;
  return act === 'set' ? (parameters.entry ?? '') : (call ?? '');
}

function seconds(ms: number): string {
  return ms < 1000 ? `${ms} ms` : `${Math.round(ms / 1000)} s`;
}

function messageOf(error: unknown): string {
  return error instanceof Error ? error.message : String(error);
}
