import { ServiceClock } from '@nine-bells/service';

interface Timer {
  readonly atMs: number;
  readonly act: () => void;
  timeout: NodeJS.Timeout;
}

/** The clock of a test service. It runs in real time, and `move` advances it and fires the timers that become due. */
export class MovableClock extends ServiceClock {
  #movedMs = 0;
  readonly #timers = new Set<Timer>();
  readonly #real = new ServiceClock();

  override readonly now = (): number => Math.floor(this.#real.now() + this.#movedMs);
  override readonly monotonic = (): number => this.#real.monotonic() + this.#movedMs;
  override readonly setTimer = (delayMs: number, act: () => void): (() => void) => {
    const timer: Timer = {
      atMs: this.monotonic() + delayMs,
      act,
      timeout: setTimeout(() => this.#fire(timer), delayMs),
    };
    this.#timers.add(timer);
    return () => {
      clearTimeout(timer.timeout);
      this.#timers.delete(timer);
    };
  };

  /** Advances the clock by `ms`. Due timers fire in order, each at its own time. */
  move(ms: number): void {
    const untilMs = this.monotonic() + ms;
    for (;;) {
      const next = [...this.#timers].filter(({ atMs }) => atMs <= untilMs).sort((a, b) => a.atMs - b.atMs)[0];
      if (next === undefined) break;
      this.#movedMs += Math.max(0, next.atMs - this.monotonic());
      this.#fire(next);
    }
    this.#movedMs += Math.max(0, untilMs - this.monotonic());
    // Remaining timers fire earlier by the same amount.
    for (const timer of this.#timers) {
      clearTimeout(timer.timeout);
      timer.timeout = setTimeout(() => this.#fire(timer), Math.max(0, timer.atMs - this.monotonic()));
    }
  }

  #fire(timer: Timer): void {
    clearTimeout(timer.timeout);
    if (this.#timers.delete(timer)) timer.act();
  }
}
