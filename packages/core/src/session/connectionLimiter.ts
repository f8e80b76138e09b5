import { unitOf } from '../lib/addresses.js';
import { TokenBucket } from '../lib/tokenBucket.js';
import type { EngineOptions } from '../model/options.js';
import type { Rate } from '../model/rate.js';
import type { Clock } from '../ports/clock.js';

/** What each address has open, and how often it has failed to say who it is. Of IPv6, a /64 network counts as one. */
export class ConnectionLimiter {
  readonly #clock: Clock;
  readonly #options: EngineOptions;
  readonly #open = new Map<string, number>();
  readonly #failures = new Map<string, TokenBucket>();
  readonly #opened = new Map<string, TokenBucket>();
  readonly #came = new Map<string, TokenBucket>();
  readonly #wrongCodes = new Map<string, TokenBucket>();

  constructor(clock: Clock, options: EngineOptions) {
    this.#clock = clock;
    this.#options = options;
  }

  /** Counters a new connection; says why it must not stay. */
  came(from: string | undefined): 'too-many-connections' | 'rate-limited' | undefined {
    if (from === undefined) return undefined;
    const address = unitOf(from);
    const open = (this.#open.get(address) ?? 0) + 1;
    this.#open.set(address, open);
    if (open > this.#options.connectionsPerAddress) return 'too-many-connections';
    if (this.#take(this.#came, address, this.#options.newConnectionsPerAddress) > 0) return 'rate-limited';
    const isEmpty = this.#failures.get(address)?.isEmpty(this.#options.failedHellos, this.#clock.monotonic());
    return isEmpty ? 'rate-limited' : undefined;
  }

  went(from: string | undefined): void {
    if (from === undefined) return;
    const address = unitOf(from);
    const open = (this.#open.get(address) ?? 1) - 1;
    if (open > 0) this.#open.set(address, open);
    else this.#open.delete(address);
  }

  /** A hello was refused for what it said of who it is. */
  failed(address: string | undefined): void {
    if (address !== undefined) this.#take(this.#failures, address, this.#options.failedHellos);
  }

  /** A channel is opened for a client; how long it must wait before that, in milliseconds. */
  opens(address: string | undefined): number {
    return address === undefined ? 0 : this.#take(this.#opened, address, this.#options.newChannelsPerAddress);
  }

  /** How long an address must wait before it tries another code of an invitation, in milliseconds. */
  guesses(address: string | undefined): number {
    if (address === undefined) return 0;
    const { wrongCodes } = this.#options;
    const isEmpty = this.#wrongCodes.get(unitOf(address))?.isEmpty(wrongCodes, this.#clock.monotonic());
    return isEmpty ? wrongCodes.perMs / wrongCodes.count : 0;
  }

  /** A code of an invitation was wrong. */
  guessedWrong(address: string | undefined): void {
    if (address !== undefined) this.#take(this.#wrongCodes, address, this.#options.wrongCodes);
  }

  /** Forgets addresses that have done nothing for a while. */
  sweep(): void {
    const { failedHellos, newChannelsPerAddress, newConnectionsPerAddress, wrongCodes } = this.#options;
    const now = this.#clock.monotonic();
    for (const [buckets, rate] of [
      [this.#failures, failedHellos],
      [this.#opened, newChannelsPerAddress],
      [this.#came, newConnectionsPerAddress],
      [this.#wrongCodes, wrongCodes],
    ] as const)
      for (const [address, bucket] of buckets) if (bucket.isFull(rate, now)) buckets.delete(address);
  }

  #take(buckets: Map<string, TokenBucket>, from: string, rate: Rate): number {
    const address = unitOf(from);
    const now = this.#clock.monotonic();
    let bucket = buckets.get(address);
    if (bucket === undefined) {
      bucket = new TokenBucket(rate, now);
      buckets.set(address, bucket);
    }
    return bucket.take(rate, now);
  }
}
