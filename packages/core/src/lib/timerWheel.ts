import type { Clock } from '../ports/clock.js';

/** How exact the wheel is, in milliseconds. */
const tickMs = 100;

/**
 * All coarse timers of an engine on one timer of the clock: deadlines, pulses, sweeps.
 *
 * Acts are called up to one tick late, never early. With nothing to wait for, no timer runs.
 */
export class TimerWheel {
  readonly #clock: Clock;
  readonly #slots = new Map<number, Set<() => void>>();
  #cancelTimer: (() => void) | undefined;
  /** The tick whose acts were called last. */
  #past: number;
  #isStopped = false;

  constructor(clock: Clock) {
    this.#clock = clock;
    this.#past = this.#present();
  }

  /** Calls `act` once, `delayMs` from now or up to a tick later, unless the returned function is called before. */
  after(delayMs: number, act: () => void): () => void {
    if (this.#isStopped) return () => {};
    const present = this.#present();
    // With nothing to wait for, the wheel stood still.
    if (this.#slots.size === 0) this.#past = present;
    const tick = Math.max(Math.ceil((this.#clock.monotonic() + delayMs) / tickMs), this.#past + 1);
    let slot = this.#slots.get(tick);
    if (slot === undefined) {
      slot = new Set();
      this.#slots.set(tick, slot);
    }
    // Wrapped, so that the same function given twice counts twice.
    const entry = () => act();
    slot.add(entry);
    this.#wind();
    return () => {
      const held = this.#slots.get(tick);
      if (held?.delete(entry) && held.size === 0) this.#slots.delete(tick);
    };
  }

  /** Forgets everything, and whatever is asked of it from now on. */
  stop(): void {
    this.#isStopped = true;
    this.#slots.clear();
    this.#cancelTimer?.();
    this.#cancelTimer = undefined;
  }

  #present(): number {
    return Math.floor(this.#clock.monotonic() / tickMs);
  }

  #wind(): void {
    if (this.#cancelTimer !== undefined || this.#slots.size === 0) return;
    const now = this.#clock.monotonic();
    this.#cancelTimer = this.#clock.setTimer((Math.floor(now / tickMs) + 1) * tickMs - now, () => {
      this.#cancelTimer = undefined;
      this.#turn();
      this.#wind();
    });
  }

  /** Calls what has become due, tick by tick; acts may add and cancel others. */
  #turn(): void {
    for (const present = this.#present(); this.#past < present && this.#slots.size > 0; ) {
      this.#past += 1;
      const slot = this.#slots.get(this.#past);
      if (slot === undefined) continue;
      for (const act of slot) {
        slot.delete(act);
        act();
      }
      this.#slots.delete(this.#past);
    }
  }
}
