import type { Clock } from '../ports/clock.js';
import type { TimerWheel } from './timerWheel.js';

/** Something that is called again and again. */
export interface Paced {
  beat(): void;
}

/** How far apart slots are, in milliseconds, and how many there are at most. */
const slotMs = 100;
const maxSlots = 128;
/** When a new member is called first, if a round takes longer, in milliseconds. */
const firstMs = 1_000;

/**
 * Calls very many at the same pace, each at its own moment within it, with no timer and no closure for any of them: a
 * member costs an entry in a set.
 */
export class Pacer {
  readonly #clock: Clock;
  readonly #wheel: TimerWheel;
  readonly #everyMs: number;
  readonly #slots: Set<Paced>[];
  /** The slot that was called last. */
  #at = 0;
  #cancel: (() => void) | undefined;
  /** When the next slot is due, in milliseconds: counted on from the one before, so that being late does not add up. */
  #dueMs = 0;
  #size = 0;

  /** @param everyMs - how often each is called, in milliseconds */
  constructor(clock: Clock, wheel: TimerWheel, everyMs: number) {
    this.#clock = clock;
    this.#wheel = wheel;
    this.#everyMs = everyMs;
    const slots = Math.min(maxSlots, Math.max(1, Math.round(everyMs / slotMs)));
    this.#slots = Array.from({ length: slots }, () => new Set());
  }

  /** From now on calls `member`, the first time within a second. Gives its slot, by which it is taken out. */
  add(member: Paced): number {
    const { length } = this.#slots;
    const slot = (this.#at + Math.min(length, Math.ceil((firstMs / this.#everyMs) * length))) % length;
    (this.#slots[slot] as Set<Paced>).add(member);
    this.#size += 1;
    if (this.#cancel === undefined) {
      this.#dueMs = this.#clock.monotonic();
      this.#turnLater();
    }
    return slot;
  }

  remove(member: Paced, slot: number): void {
    if (!this.#slots[slot]?.delete(member)) return;
    this.#size -= 1;
    if (this.#size > 0) return;
    this.#cancel?.();
    this.#cancel = undefined;
  }

  #turnLater(): void {
    this.#dueMs += this.#everyMs / this.#slots.length;
    this.#cancel = this.#wheel.after(this.#dueMs - this.#clock.monotonic(), () => {
      this.#at = (this.#at + 1) % this.#slots.length;
      this.#turnLater();
      for (const member of this.#slots[this.#at] as Set<Paced>) member.beat();
    });
  }
}
