import type { Rate } from '../model/rate.js';

/** A token bucket: holds up to `count` tokens, filled evenly, and gives one for each thing done. */
export class TokenBucket {
  #tokens: number;
  #atMs: number;

  /** @param nowMs - of a clock that never jumps */
  constructor({ count }: Rate, nowMs: number) {
    this.#tokens = count;
    this.#atMs = nowMs;
  }

  /**
   * Takes `cost` tokens if they are there. Gives 0, or after how many milliseconds they will be. What costs more than
   * the bucket holds is done once the bucket is full.
   */
  take(rate: Rate, nowMs: number, cost = 1): number {
    this.#fill(rate, nowMs);
    const needed = Math.min(cost, rate.count);
    if (this.#tokens >= needed) {
      this.#tokens -= cost;
      return 0;
    }
    return Math.ceil(((needed - this.#tokens) * rate.perMs) / rate.count);
  }

  /** Takes `cost` tokens, there or not. Gives after how many milliseconds no more are owed. */
  spend(rate: Rate, nowMs: number, cost: number): number {
    this.#fill(rate, nowMs);
    this.#tokens -= cost;
    return this.owedMs(rate, nowMs);
  }

  /** After how many milliseconds no more tokens are owed. */
  owedMs(rate: Rate, nowMs: number): number {
    this.#fill(rate, nowMs);
    return this.#tokens >= 0 ? 0 : Math.ceil((-this.#tokens * rate.perMs) / rate.count);
  }

  /** Whether it is as full as at the start, so that it may be forgotten. */
  isFull(rate: Rate, nowMs: number): boolean {
    this.#fill(rate, nowMs);
    return this.#tokens >= rate.count;
  }

  /** Whether nothing can be taken now. */
  isEmpty(rate: Rate, nowMs: number): boolean {
    this.#fill(rate, nowMs);
    return this.#tokens < 1;
  }

  #fill({ count, perMs }: Rate, nowMs: number): void {
    this.#tokens = Math.min(count, this.#tokens + ((nowMs - this.#atMs) * count) / perMs);
    this.#atMs = nowMs;
  }
}
