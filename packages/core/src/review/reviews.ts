import { type Json, refusal } from '@nine-bells/wire';
import { Breaker } from '../lib/breaker.js';
import type { ReviewAnswer, ReviewQuestion, ReviewRule } from '../model/review.js';
import type { Clock } from '../ports/clock.js';
import type { Report } from '../ports/report.js';
import type { Reviewer } from '../ports/reviewer.js';

/** Messages that are reviewed at a time, of one instance, and of one author in one channel. */
const maxUnderWay = 1_000;
const maxOfAuthor = 20;
/** When to come again where too much is reviewed, in milliseconds. */
const againMs = 1_000;

export interface ReviewsHost {
  readonly clock: Clock;
  readonly report: Report;
  /** Absent where no rule has review. */
  readonly reviewer: Reviewer | undefined;
}

/** What is published after a review, with what it holds if the application has changed that. */
export type Reviewed<T> = T & { readonly data?: Json };

/**
 * Shows messages to the application before they are published. The messages of an author in a channel keep their order, others do
 * not wait for them; an application that does not answer is left alone for a while.
 */
export class Reviews {
  readonly #host: ReviewsHost;
  readonly #breakers = new Map<string, Breaker>();
  /** What an author has under way in a channel: the last of it, and how much. */
  readonly #authors = new Map<string, { last: Promise<unknown>; count: number }>();
  #underWay = 0;

  constructor(host: ReviewsHost) {
    this.#host = host;
  }

  /**
   * Has a message reviewed, and publishes it with what the application wants it to hold.
   *
   * @throws {ProblemError} `busy` in this turn; as a rejection `review-refused`, `review-failed`, and what `publish` throws
   */
  reviewed<T>(rule: ReviewRule, question: ReviewQuestion, publish: (data: Json) => Promise<T>): Promise<Reviewed<T>> {
    const key = JSON.stringify([question.channel, question.who.user]);
    const author = this.#authors.get(key) ?? { last: Promise.resolve(), count: 0 };
    if (this.#underWay >= maxUnderWay || author.count >= maxOfAuthor)
      throw refusal('busy', 'too many messages are being reviewed', { retryAfterMs: againMs });
    this.#authors.set(key, author);
    author.count += 1;
    this.#underWay += 1;
    // All are asked about at once; they are published in their order.
    const answer = this.#ask(rule, question);
    // Looked at when its turn comes.
    answer.catch(() => {});
    const before = author.last;
    const published = before.then(async (): Promise<Reviewed<T>> => {
      const { data } = await answer;
      const done = await publish(data ?? question.data);
      return { ...done, ...(data === undefined ? {} : { data }) } as Reviewed<T>;
    });
    const over = (): void => {
      this.#underWay -= 1;
      author.count -= 1;
      if (author.count === 0) this.#authors.delete(key);
    };
    author.last = published.then(over, over);
    return published;
  }

  /** @throws {ProblemError} `review-refused`, `review-failed` */
  async #ask({ ask: url, withinMs, otherwise }: ReviewRule, question: ReviewQuestion): Promise<ReviewAnswer> {
    const { reviewer, clock, report } = this.#host;
    const breaker = this.#breakers.get(url) ?? new Breaker();
    this.#breakers.set(url, breaker);
    let retryAfterMs = breaker.ask(clock.monotonic());
    if (retryAfterMs === 0) {
      try {
        if (reviewer === undefined) throw new Error('there is no application to ask');
        const answer = await this.#within(reviewer.review(url, question, withinMs), withinMs);
        breaker.succeeded();
        if (answer.allow) return answer;
        throw refusal('review-refused', answer.reason ?? 'no reason was given');
      } catch (error) {
        if (isRefusal(error)) throw error;
        breaker.failed(clock.monotonic());
        report(error, { what: 'a message could not be reviewed', url });
        retryAfterMs = againMs;
      }
    }
    if (otherwise === 'pass') return { allow: true };
    throw refusal('review-failed', 'the application gave no answer that can be used, or not in time', {
      retryAfterMs: Math.ceil(retryAfterMs),
    });
  }

  #within<T>(answer: Promise<T>, withinMs: number): Promise<T> {
    return new Promise((resolve, reject) => {
      const cancel = this.#host.clock.setTimer(withinMs, () => reject(new Error(`no answer within ${withinMs} ms`)));
      answer.then(resolve, reject).finally(() => cancel());
    });
  }
}

function isRefusal(error: unknown): boolean {
  return error instanceof Error && (error as { code?: string }).code === 'review-refused';
}
