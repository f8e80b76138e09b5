import type { Clock } from '../ports/clock.js';

/** The longest wait, in milliseconds; the waiter checks again afterwards. */
const longestMs = 60_000;

/** Calls one function at the earliest of the times that are asked for. */
export class Alarm {
  readonly #clock: Clock;
  readonly #act: () => void;
  #cancel: (() => void) | undefined;
  #atMs = Number.POSITIVE_INFINITY;

  constructor(clock: Clock, act: () => void) {
    this.#clock = clock;
    this.#act = act;
  }

  /** Rings within `waitMs`, if not before. */
  within(waitMs: number): void {
    const wait = Math.max(1, Math.min(waitMs, longestMs));
    const atMs = this.#clock.monotonic() + wait;
    if (atMs >= this.#atMs) return;
    this.cancel();
    this.#atMs = atMs;
    this.#cancel = this.#clock.setTimer(wait, () => {
      this.cancel();
      this.#act();
    });
  }

  cancel(): void {
    this.#cancel?.();
    this.#cancel = undefined;
    this.#atMs = Number.POSITIVE_INFINITY;
  }
}
