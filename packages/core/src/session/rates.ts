import { TokenBucket } from '../lib/tokenBucket.js';
import type { EngineOptions } from '../model/options.js';
import type { Rate } from '../model/rate.js';
import type { Clock } from '../ports/clock.js';

/** What a session does at a rate of its own (`EngineOptions`). */
export type SessionRate =
  | 'requests'
  | 'publishes'
  | 'hails'
  | 'sets'
  | 'newChannels'
  | 'reports'
  | 'invites'
  | 'accepts'
  | 'reactions'
  | 'changes'
  | 'mentions'
  | 'searches'
  | 'given'
  | 'checking';

/** The buckets of a session, each made when it is first used. */
export type SessionBuckets = Partial<Record<SessionRate, TokenBucket>>;

/** Replies of so many characters are not counted by their size: the rate of requests bounds them. */
const smallReply = 2_048;
/** Checks that take no longer are not counted by their time: the rates of acts bound them. */
const shortCheckMs = 0.1;

/** The rates of one session. Its buckets live as long as the session, across its connections. */
export class SessionRates {
  readonly #owner: { buckets: SessionBuckets | undefined };
  readonly #options: Pick<EngineOptions, SessionRate>;
  readonly #clock: Clock;

  constructor(owner: { buckets: SessionBuckets | undefined }, options: Pick<EngineOptions, SessionRate>, clock: Clock) {
    this.#owner = owner;
    this.#options = options;
    this.#clock = clock;
  }

  /** Charges an act. Returns how long the session must wait before it does more, in milliseconds; 0: it may act now. */
  charge(what: SessionRate, cost = 1): number {
    const now = this.#clock.monotonic();
    return this.#bucket(what, now).take(this.#rate(what), now, cost);
  }

  /** Charges a reply by its size, in characters. */
  given(chars: number): void {
    if (chars <= smallReply) return;
    const now = this.#clock.monotonic();
    this.#bucket('given', now).spend(this.#rate('given'), now, chars);
  }

  /** Charges the time that holding its data against contracts has taken, in milliseconds. */
  checked(ms: number): void {
    if (ms <= shortCheckMs) return;
    const now = this.#clock.monotonic();
    this.#bucket('checking', now).spend(this.#rate('checking'), now, ms);
  }

  /** How long the session must wait for the replies that it was given, and for what was checked, in milliseconds. */
  get owedMs(): number {
    const { given, checking } = this.#owner.buckets ?? {};
    if (given === undefined && checking === undefined) return 0;
    const now = this.#clock.monotonic();
    const owed = (bucket: TokenBucket | undefined, what: SessionRate): number =>
      bucket?.owedMs(this.#rate(what), now) ?? 0;
    return Math.max(owed(given, 'given'), owed(checking, 'checking'));
  }

  #rate(what: SessionRate): Rate {
    return this.#options[what];
  }

  #bucket(what: SessionRate, now: number): TokenBucket {
    this.#owner.buckets ??= {};
    this.#owner.buckets[what] ??= new TokenBucket(this.#rate(what), now);
    return this.#owner.buckets[what];
  }
}
