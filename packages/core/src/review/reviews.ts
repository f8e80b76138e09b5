import { defined, type Json, type Place, refusal } from '@nine-bells/wire';
import { Breaker, UnusableAnswer } from '../lib/breaker.js';
import { InFlight } from '../lib/inFlight.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import { authorOf } from '../model/author.js';
import type { Counters } from '../model/counters.js';
import { type KnownUnderKey, type PendingMessage, pendingProblem, unansweredReason } from '../model/pending.js';
import type { ReviewAnswer, ReviewQuestion, ReviewRule } from '../model/review.js';
import type { Clock } from '../ports/clock.js';
import type { Report } from '../ports/report.js';
import type { Reviewer } from '../ports/reviewer.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';
import type { PendingMessages } from './pendingMessages.js';

/** Maximum number of reviews in flight: of the instance, of one author in all channels, and of the authors at an address. */
const maxUnderWay = 1_000;
const perUser = 20;
const perAddress = 200;
/** Retry interval for messages that the application left unanswered, in milliseconds, and batch size. */
const askAgainMs = 10_000;
const askAgainBatch = 100;
/** Maximum number of failures before a round of retries ends. */
const maxFailuresPerRound = 20;
/** Retry interval for clients when too many reviews are in flight, in milliseconds. */
const againMs = 1_000;

export interface ReviewsHost {
  readonly clock: Clock;
  readonly report: Report;
  /** Absent where no rule has review. */
  readonly reviewer: Reviewer | undefined;
  readonly counters: Pick<Counters, 'reviews'>;
  readonly pending: Pick<PendingMessages, 'knownUnder' | 'isHeldUp' | 'keep' | 'unanswered' | 'answered'>;
  readonly rules: ChannelRules;
  readonly wheel: TimerWheel;
  /** Claims a name for `ttlMs`, on all instances. Resolves to `false` if an earlier claim is still valid. */
  claim(name: string, ttlMs: number): Promise<boolean>;
}

/** The author's address, and callbacks that publish the reviewed message. */
export interface ReviewOptions<T> {
  readonly address: string | undefined;
  /** Checks that the author may still publish the message. @throws {ProblemError} for example after a ban */
  check(): Promise<unknown>;
  publish(data: Json): Promise<T>;
  /** It was published before, under its key. */
  repeated(published: { readonly id: string; readonly place: Place }): T;
}

/** The result of an earlier request, or the application's answer. */
type Found = KnownUnderKey | (ReviewAnswer & { readonly isUnanswered?: boolean });

/** A message published after a review, with its data if the application has changed them. */
export type Reviewed<T> = T & { readonly data?: Json };

/**
 * Shows messages to the application before they are published. The messages of an author in a channel keep their order, others do
 * not wait for them; an application that does not answer is left alone for a while.
 */
export class Reviews {
  readonly #host: ReviewsHost;
  readonly #breakers = new Map<string, Breaker>();
  /** An author's reviews in flight in a channel: the last one, and their number. */
  readonly #authors = new Map<string, { last: Promise<unknown>; count: number }>();
  #underWay = 0;
  readonly #inFlight = new InFlight({ perUser, perAddress });
  #isAskingAgain = false;
  /** Authors of messages that failed again. The retry asks about all others first, so that one author cannot block them. */
  readonly #failedAuthors = new Set<string>();

  constructor(host: ReviewsHost) {
    this.#host = host;
  }

  /**
   * Has a message reviewed, and publishes it with what the application wants it to hold.
   *
   * @param match - of a rule with review
   * @throws {ProblemError} `busy` in this turn; as a rejection `review-refused`, `review-failed`, `pending` if a moderator is to
   *   decide or an earlier message of its author waits, and what `check` and `publish` throw
   */
  reviewed<T>(match: RuleMatch, question: ReviewQuestion, options: ReviewOptions<T>): Promise<Reviewed<T>> {
    const key = JSON.stringify([question.channel, question.who.user]);
    const author = this.#authors.get(key) ?? { last: Promise.resolve(), count: 0 };
    const origin = { user: question.who.user, address: options.address };
    if (this.#underWay >= maxUnderWay || this.#inFlight.isFull(origin))
      throw refusal('busy', 'too many messages of this user or address are being reviewed', { retryAfterMs: againMs });
    this.#authors.set(key, author);
    author.count += 1;
    this.#inFlight.begin(origin);
    this.#underWay += 1;
    // All are asked about at once; they are published in their order.
    const answer = this.#find(match, question);
    // Looked at when its turn comes.
    answer.catch(() => {});
    const before = author.last;
    const published = before.then(async (): Promise<Reviewed<T>> => this.#act(match, question, await answer, options));
    const over = (): void => {
      this.#underWay -= 1;
      author.count -= 1;
      this.#inFlight.end(origin);
      if (author.count === 0) this.#authors.delete(key);
    };
    author.last = published.then(over, over);
    return published;
  }

  /** Finds the result of an earlier request with the key, or else asks the application. */
  async #find({ rule }: RuleMatch, question: ReviewQuestion): Promise<Found> {
    const { channel, who, key, revises } = question;
    if (key !== undefined && rule.logbook.type === 'kept') {
      const which = { user: who.user, key, isChange: revises !== undefined };
      const known = await this.#host.pending.knownUnder(channel, which);
      if (known !== undefined) return known;
    }
    return this.#ask(rule.review as ReviewRule, question, rule.logbook.type === 'kept');
  }

  async #act<T>(
    { rule }: RuleMatch,
    question: ReviewQuestion,
    found: Found,
    { check, publish, repeated }: ReviewOptions<T>,
  ): Promise<Reviewed<T>> {
    if ('published' in found) return repeated(found.published) as Reviewed<T>;
    if ('pending' in found) throw pendingProblem(found.pending);
    const { data, hold = false, reason, isUnanswered } = found;
    await check();
    const { who, parameters: _, ...asked } = question;
    const { pending } = this.#host;
    const isKept = rule.logbook.type === 'kept';
    if (hold || (isKept && (await pending.isHeldUp(asked.channel, who.user)))) {
      const message = { ...asked, data: data ?? asked.data };
      const why = hold ? reason : 'an earlier message of yours waits for a moderator';
      const by = authorOf(who);
      const unanswered = isUnanswered ? { roles: who.roles } : undefined;
      throw pendingProblem(await pending.keep({ ...message, by, reason: why, isCleared: !hold, unanswered }));
    }
    const done = await publish(data ?? question.data);
    return { ...done, ...(data === undefined ? {} : { data }) } as Reviewed<T>;
  }

  /** Begins to ask again about messages that wait because the application did not answer. */
  start(): void {
    const { rules, wheel } = this.#host;
    if (!rules.all.some(({ review }) => review?.otherwise === 'hold')) return;
    wheel.after(askAgainMs, () => {
      this.start();
      void this.#askAgain();
    });
  }

  async #askAgain(): Promise<void> {
    if (this.#isAskingAgain) return;
    this.#isAskingAgain = true;
    try {
      let failures = 0;
      let others = 0;
      for await (const message of this.#unanswered()) {
        const { user } = message.by;
        if (this.#failedAuthors.has(user)) continue;
        const isAnswered = await this.#askOnceMore(message);
        if (isAnswered !== undefined) others += 1;
        if (isAnswered !== false) continue;
        this.#failedAuthors.add(user);
        failures += 1;
        if (failures === maxFailuresPerRound) break;
      }
      if (others === 0) this.#failedAuthors.clear();
    } catch (error) {
      this.#host.report(error, { event: 'review-failed' });
    } finally {
      this.#isAskingAgain = false;
    }
  }

  async *#unanswered(): AsyncIterable<PendingMessage> {
    for (let after = 0; ; ) {
      const messages = await this.#host.pending.unanswered(after, askAgainBatch);
      yield* messages;
      const last = messages.at(-1);
      if (last === undefined || messages.length < askAgainBatch) return;
      after = last.number;
    }
  }

  /**
   * Asks about a message that waits, unless its application is suspended. Returns `false` if the application failed, and
   * `undefined` if the channel is no longer reviewed.
   */
  async #askOnceMore(message: PendingMessage): Promise<boolean | undefined> {
    const { rules, pending, claim, clock } = this.#host;
    const { unanswered, by, id, channel } = message;
    const match = rules.match(channel);
    const rule = match?.rule.review;
    if (unanswered === undefined || match === undefined || rule === undefined) return undefined;
    if (this.#breakers.get(rule.ask)?.isSuspended(clock.monotonic())) return true;
    if (!(await claim(`review ${id}`, rule.withinMs + 1_000))) return true;
    const { user, name, guest = false } = by;
    const who = { user, ...defined({ name }), guest, roles: unanswered.roles, claims: {} };
    const { type, data, key, replyTo, mentions, revises, ifRevision } = message;
    const asked = { channel, type, data, key, replyTo, mentions, revises, ifRevision };
    const answer = await this.#answerTo(rule, { ...asked, parameters: match.parameters, who }, true);
    if ('retryAfterMs' in answer) return false;
    await pending.answered(message, answer);
    return true;
  }

  /** @throws {ProblemError} `review-refused`, `review-failed` */
  async #ask(rule: ReviewRule, question: ReviewQuestion, mayHold: boolean): Promise<Found> {
    const answer = await this.#answerTo(rule, question, mayHold);
    if (!('retryAfterMs' in answer)) {
      if (answer.allow || answer.hold) return answer;
      throw refusal('review-refused', answer.reason ?? 'no reason was given');
    }
    this.#host.counters.reviews.failed += 1;
    if (rule.otherwise === 'pass') return { allow: true };
    if (rule.otherwise === 'hold' && mayHold)
      return { allow: false, hold: true, reason: unansweredReason, isUnanswered: true };
    throw refusal('review-failed', 'the application gave no answer that can be used, or not in time', {
      retryAfterMs: Math.ceil(answer.retryAfterMs),
    });
  }

  /** Asks the application; returns its answer, or when to ask again. */
  async #answerTo(
    { ask: url, withinMs }: ReviewRule,
    question: ReviewQuestion,
    mayHold: boolean,
  ): Promise<ReviewAnswer | { readonly retryAfterMs: number }> {
    const { reviewer, clock, report, counters } = this.#host;
    const breaker = this.#breakers.get(url) ?? new Breaker();
    this.#breakers.set(url, breaker);
    const retryAfterMs = breaker.ask(clock.monotonic());
    if (retryAfterMs > 0) return { retryAfterMs };
    try {
      if (reviewer === undefined) throw new Error('there is no application to ask');
      const answer = await this.#within(reviewer.review(url, question, withinMs), withinMs);
      if (answer.hold && !mayHold)
        throw new UnusableAnswer(`${url} holds a message of a channel whose logbook is not kept`);
      breaker.succeeded();
      counters.reviews[saidOf(answer)] += 1;
      return answer;
    } catch (error) {
      breaker.threw(error, clock.monotonic());
      report(error, { event: 'review-failed', url });
      return { retryAfterMs: againMs };
    }
  }

  #within<T>(answer: Promise<T>, withinMs: number): Promise<T> {
    return new Promise((resolve, reject) => {
      const cancel = this.#host.clock.setTimer(withinMs, () => reject(new Error(`no answer within ${withinMs} ms`)));
      answer.then(resolve, reject).finally(() => cancel());
    });
  }
}

function saidOf({ allow, hold, data }: ReviewAnswer): keyof Counters['reviews'] {
  if (hold) return 'held';
  if (!allow) return 'refused';
  return data === undefined ? 'allowed' : 'changed';
}
