import type { TimerWheel } from '../lib/timerWheel.js';
import type { WaitingBounds } from '../model/options.js';
import type { Clock } from '../ports/clock.js';

/** A connection for which more is ready than it takes. */
export interface SlowReader {
  /** Bytes that wait for it, in its queue and in its transport. */
  readonly waitingBytes: number;
  /** Bytes that its transport has been given and has not sent yet. */
  readonly untakenBytes: number;
  /** Bytes that the operating system has still to send; absent if unknown. */
  readonly unsentBytes: number | undefined;
  /** Grows with everything that its transport is given. */
  readonly written: number;
  /** Closes it as too slow (4900). */
  cutOff(): void;
}

/** How often slow readers are looked at, in milliseconds. */
const lookMs = 1_000;
/** The part of the budget by which what waits may grow before it is counted. */
const growthPart = 1 / 8;
/** The part of the budget that is left after connections were cut off. */
const afterPart = 3 / 4;

/** The progress of a slow reader. Times are by a clock that never jumps. */
interface Pace {
  written: number;
  untaken: number;
  /** Time of the latest change of `written` or `untaken`: the transport took or completed a write. */
  sinceMs: number;
  unsent: number | undefined;
  /** Time of the latest change of any of the three: the client accepted some bytes. */
  acceptedMs: number;
}

/**
 * Bounds what waits for all connections of an instance together, in bytes and in time.
 *
 * Tracks only connections with unsent frames. Closes a connection that accepts nothing for too long, or a large write too
 * slowly. Above `totalBytes` it closes the connections with the most waiting bytes, until a quarter of the budget is free.
 */
export class WaitingBudget {
  readonly #clock: Clock;
  readonly #wheel: TimerWheel;
  readonly #bounds: WaitingBounds;
  readonly #slow = new Map<SlowReader, Pace>();
  #grown = 0;
  #isLooking = false;
  #isCounting = false;

  constructor(clock: Clock, wheel: TimerWheel, bounds: WaitingBounds) {
    this.#clock = clock;
    this.#wheel = wheel;
    this.#bounds = bounds;
  }

  /** Bytes that wait for all slow readers. */
  get bytes(): number {
    let sum = 0;
    for (const { waitingBytes } of this.#slow.keys()) sum += waitingBytes;
    return sum;
  }

  /** A connection does not take at once what it was given. */
  add(reader: SlowReader): void {
    if (this.#slow.has(reader)) return;
    const { written, untakenBytes: untaken, unsentBytes: unsent } = reader;
    const sinceMs = this.#clock.monotonic();
    this.#slow.set(reader, { written, untaken, unsent, sinceMs, acceptedMs: sinceMs });
    this.#lookLater();
  }

  /** It has taken everything, or has ended. */
  delete(reader: SlowReader): void {
    this.#slow.delete(reader);
  }

  /** So many bytes were queued for a connection that may not take them. */
  grew(bytes: number): void {
    this.#grown += bytes;
    if (this.#grown <= this.#bounds.totalBytes * growthPart || this.#isCounting) return;
    this.#isCounting = true;
    // After the flush of this turn: what is taken at once does not wait.
    this.#clock.endOfTurn(() => {
      this.#isCounting = false;
      this.#makeRoom();
    });
  }

  #lookLater(): void {
    if (this.#isLooking) return;
    this.#isLooking = true;
    this.#wheel.after(lookMs, () => {
      this.#isLooking = false;
      this.#endIdle();
      this.#makeRoom();
      if (this.#slow.size > 0) this.#lookLater();
    });
  }

  /** Closes connections that accept nothing, or accept a large write too slowly. */
  #endIdle(): void {
    const now = this.#clock.monotonic();
    const { idleMs, bytesPerS } = this.#bounds;
    for (const [reader, pace] of [...this.#slow]) {
      const { written, untakenBytes: untaken, unsentBytes: unsent } = reader;
      if (written !== pace.written || untaken !== pace.untaken)
        Object.assign(pace, { written, untaken, unsent, sinceMs: now, acceptedMs: now });
      else if (unsent !== pace.unsent) Object.assign(pace, { unsent, acceptedMs: now });
      const acceptsNothing = unsent !== undefined && now - pace.acceptedMs > idleMs;
      if (acceptsNothing || now - pace.sinceMs > idleMs + (untaken * 1000) / bytesPerS) reader.cutOff();
    }
  }

  /** Cuts off those for which the most waits, if it is too much for all together. */
  #makeRoom(): void {
    this.#grown = 0;
    let left = this.bytes;
    if (left <= this.#bounds.totalBytes) return;
    const largestFirst = [...this.#slow.keys()]
      .map((reader) => ({ reader, bytes: reader.waitingBytes }))
      .sort((a, b) => b.bytes - a.bytes);
    for (const { reader, bytes } of largestFirst) {
      if (left <= this.#bounds.totalBytes * afterPart) return;
      reader.cutOff();
      left -= bytes;
    }
  }
}
