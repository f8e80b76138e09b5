import type { Clock } from '../ports.js';

/** How exact the wheel is, in milliseconds. */
const tickMs = 100;

/**
 * All coarse timers of an engine on one timer of the clock: deadlines, pulses, sweeps.
 *
 * Acts are called up to one tick late, never early. With nothing to wait for, no timer runs.
 */
export class Wheel {
  readonly #clock: Clock;
  readonly #slots = new Map<number, Set<() => void>>();
  #cancelTimer: (() => void) | undefined;

  constructor(clock: Clock) {
    this.#clock = clock;
  }

  /** Calls `act` once, `delayMs` from now or up to a tick later, unless the returned function is called before. */
  after(delayMs: number, act: () => void): () => void {
    const tick = Math.ceil((this.#clock.now() + delayMs) / tickMs);
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

  /** Forgets everything. */
  stop(): void {
    this.#slots.clear();
    this.#cancelTimer?.();
    this.#cancelTimer = undefined;
  }

  #wind(): void {
    if (this.#cancelTimer !== undefined || this.#slots.size === 0) return;
    const now = this.#clock.now();
    this.#cancelTimer = this.#clock.setTimer((Math.floor(now / tickMs) + 1) * tickMs - now, () => {
      this.#cancelTimer = undefined;
      this.#turn();
      this.#wind();
    });
  }

  #turn(): void {
    const present = Math.floor(this.#clock.now() / tickMs);
    // Slots number a few hundred at most (one per tick of the longest delay in use), connections many thousands.
    for (const tick of [...this.#slots.keys()].filter((tick) => tick <= present).sort((a, b) => a - b)) {
      const slot = this.#slots.get(tick) as Set<() => void>;
      this.#slots.delete(tick);
      for (const act of slot) act();
    }
  }
}
