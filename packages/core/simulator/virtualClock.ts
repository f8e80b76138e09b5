import { type Clock, SettledTime } from '@nine-bells/core';

interface Event {
  atMs: number;
  readonly order: number;
  readonly act: () => void;
}

/** Time that passes only when nothing is left to do: a minute of the simulated takes milliseconds. */
export class VirtualClock implements Clock {
  #nowMs = Date.UTC(2031, 5, 14, 12);
  /** By how much the machine's clock was set off. */
  #offMs = 0;
  #order = 0;
  readonly #events: Event[] = [];
  readonly #cancelled = new Set<Event>();
  #turnEnd: (() => void)[] = [];
  readonly #grainMs: number;
  readonly #settled = new SettledTime(
    () => this.now(),
    () => this.monotonic(),
  );

  /** @param grainMs - timers run out at multiples of this, in milliseconds: the coarser, the more happens in one turn */
  constructor(grainMs = 1) {
    this.#grainMs = grainMs;
  }

  now(): number {
    return this.#nowMs + this.#offMs;
  }

  monotonic(): number {
    return this.#nowMs;
  }

  settled(): number {
    return this.#settled.now();
  }

  /** Timers that have been set and not called off. */
  get timers(): number {
    return this.#events.length - this.#cancelled.size;
  }

  /** The machine's clock is set: forward or, negative, back. What waits for its time does not care. */
  jump(byMs: number): void {
    this.#offMs += byMs;
  }

  /** Time passes in which nothing runs: timers are due as much later. */
  skip(byMs: number): void {
    this.#nowMs += byMs;
    for (const event of this.#events) event.atMs += byMs;
  }

  setTimer(delayMs: number, act: () => void): () => void {
    const dueMs = this.#nowMs + Math.max(0, delayMs);
    const atMs = Math.ceil(dueMs / this.#grainMs) * this.#grainMs;
    const event = { atMs, order: this.#order++, act };
    this.#insert(event);
    return () => void this.#cancelled.add(event);
  }

  endOfTurn(act: () => void): void {
    this.#turnEnd.push(act);
  }

  /** Lets the simulated world run for `durationMs`. */
  async run(durationMs: number): Promise<void> {
    const endMs = this.#nowMs + durationMs;
    for (;;) {
      await this.#settle();
      const event = this.#events.at(-1);
      if (event === undefined || event.atMs > endMs) break;
      this.#runAt(event.atMs);
    }
    this.#nowMs = endMs;
  }

  /** Runs all that is due at a moment, with no promise in between: steps of different clients are interleaved. */
  #runAt(atMs: number): void {
    for (let event = this.#events.at(-1); event?.atMs === atMs; event = this.#events.at(-1)) {
      this.#events.pop();
      if (this.#cancelled.delete(event)) continue;
      this.#nowMs = atMs;
      event.act();
    }
  }

  /** Runs promises and ends of turns until none is left. */
  async #settle(): Promise<void> {
    do {
      const acts = this.#turnEnd;
      this.#turnEnd = [];
      for (const act of acts) act();
      await new Promise<void>((resolve) => setImmediate(resolve));
    } while (this.#turnEnd.length > 0);
  }

  /** Keeps the events sorted, the next one last. */
  #insert(event: Event): void {
    let low = 0;
    let high = this.#events.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      const other = this.#events[middle] as Event;
      if (other.atMs > event.atMs || (other.atMs === event.atMs && other.order > event.order)) low = middle + 1;
      else high = middle;
    }
    this.#events.splice(low, 0, event);
  }
}
