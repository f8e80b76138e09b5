import { Batch } from '../model/frame.js';
import type { Clock } from '../ports/clock.js';

/** Something with frames to write at the end of the turn. */
export interface Flushable {
  flush(): void;
}

/** How long one slice of a flush may take before other work gets its turn, in milliseconds. */
const sliceMs = 2;
/** How many connections are flushed between two looks at the clock. */
const lookEvery = 64;

/**
 * Flushes connections once per turn of the event loop: what came in for a connection within a turn goes out in one
 * write. A flush to very many is sliced, so that what comes in meanwhile is not kept waiting.
 */
export class Fanout {
  readonly #clock: Clock;
  #waiting: Flushable[] = [];
  #next = 0;
  #scheduled = false;
  readonly #idle: (() => void)[] = [];
  #gathered: (() => void)[] = [];
  /** Bytes handed to transports, and hails that found no room, since the beginning. */
  bytesOut = 0;
  hailsDropped = 0;
  /** Where the batches of this turn begin. Replaced after each flush, so that old batches can go. */
  root = new Batch();

  constructor(clock: Clock) {
    this.#clock = clock;
  }

  schedule(queue: Flushable): void {
    this.#waiting.push(queue);
    this.#flushLater();
  }

  /** Calls back at the end of the turn, before anything is flushed: to hand over together what came within it. */
  gather(act: () => void): void {
    this.#gathered.push(act);
    this.#flushLater();
  }

  /** Resolves when all that was scheduled has been flushed. */
  whenIdle(): Promise<void> {
    if (!this.#scheduled) return Promise.resolve();
    return new Promise((resolve) => this.#idle.push(resolve));
  }

  #flushLater(): void {
    if (this.#scheduled) return;
    this.#scheduled = true;
    this.#clock.endOfTurn(this.#flush);
  }

  readonly #flush = (): void => {
    while (this.#gathered.length > 0) {
      const gathered = this.#gathered;
      this.#gathered = [];
      for (const act of gathered) act();
    }
    const startedMs = this.#clock.monotonic();
    const waiting = this.#waiting;
    while (this.#next < waiting.length) {
      (waiting[this.#next] as Flushable).flush();
      this.#next += 1;
      if (this.#next % lookEvery === 0 && this.#clock.monotonic() - startedMs >= sliceMs) {
        this.#clock.endOfTurn(this.#flush);
        return;
      }
    }
    this.#waiting = [];
    this.#next = 0;
    this.#scheduled = false;
    this.root = new Batch();
    for (const resolve of this.#idle.splice(0)) resolve();
  };
}
