import type { Clock } from '../ports/clock.js';

/** Rates are taken over this long, in milliseconds. */
const overMs = 5_000;

interface Counted {
  readonly messagesIn: number;
  readonly deliveries: number;
}

/** Messages in and out per second, over the last seconds. Computed when asked for; costs nothing in between. */
export class Rates {
  readonly #clock: Clock;
  readonly #counters: Counted;
  #before: Counted & { readonly atMs: number };
  #last: Counted & { readonly atMs: number };

  constructor(clock: Clock, counters: Counted) {
    this.#clock = clock;
    this.#counters = counters;
    this.#before = this.#look();
    this.#last = this.#before;
  }

  get perS(): { messagesPerS: number; deliveriesPerS: number } {
    const now = this.#look();
    if (now.atMs - this.#last.atMs >= overMs / 2) {
      this.#before = this.#last;
      this.#last = now;
    }
    const seconds = Math.max(now.atMs - this.#before.atMs, 500) / 1000;
    return {
      messagesPerS: Math.round((now.messagesIn - this.#before.messagesIn) / seconds),
      deliveriesPerS: Math.round((now.deliveries - this.#before.deliveries) / seconds),
    };
  }

  #look(): Counted & { readonly atMs: number } {
    const { messagesIn, deliveries } = this.#counters;
    return { messagesIn, deliveries, atMs: this.#clock.monotonic() };
  }
}
