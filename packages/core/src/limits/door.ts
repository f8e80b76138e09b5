import type { EngineOptions } from '../options.js';
import type { Clock } from '../ports.js';
import { TokenBucket } from './tokenBucket.js';

/** What each address has open, and how often it has failed to say who it is. */
export class Door {
  readonly #clock: Clock;
  readonly #options: EngineOptions;
  readonly #open = new Map<string, number>();
  readonly #failures = new Map<string, TokenBucket>();

  constructor(clock: Clock, options: EngineOptions) {
    this.#clock = clock;
    this.#options = options;
  }

  /** Counts a new connection; says why it must not stay. */
  came(address: string | undefined): 'too-many-connections' | 'rate-limited' | undefined {
    if (address === undefined) return undefined;
    const open = (this.#open.get(address) ?? 0) + 1;
    this.#open.set(address, open);
    if (open > this.#options.connectionsPerAddress) return 'too-many-connections';
    const isEmpty = this.#failures.get(address)?.isEmpty(this.#options.failedHellos, this.#clock.monotonic());
    return isEmpty ? 'rate-limited' : undefined;
  }

  went(address: string | undefined): void {
    if (address === undefined) return;
    const open = (this.#open.get(address) ?? 1) - 1;
    if (open > 0) this.#open.set(address, open);
    else this.#open.delete(address);
  }

  /** A hello was refused for what it said of who it is. */
  failed(address: string | undefined): void {
    if (address === undefined) return;
    const { failedHellos } = this.#options;
    const now = this.#clock.monotonic();
    let bucket = this.#failures.get(address);
    if (bucket === undefined) {
      bucket = new TokenBucket(failedHellos, now);
      this.#failures.set(address, bucket);
    }
    bucket.take(failedHellos, now);
  }

  /** Forgets addresses that have not failed for a while. */
  sweep(): void {
    for (const [address, bucket] of this.#failures)
      if (bucket.isFull(this.#options.failedHellos, this.#clock.monotonic())) this.#failures.delete(address);
  }
}
