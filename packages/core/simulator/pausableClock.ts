import type { Clock } from '@nine-bells/core';
import type { VirtualClock } from './virtualClock.js';

/** The time of one process, which may be stopped and go on (SIGSTOP, SIGCONT), or end. Meanwhile what comes in waits. */
export class PausableClock implements Clock {
  readonly #clock: VirtualClock;
  #backlog: (() => void)[] = [];
  #isPaused = false;
  #isOver = false;

  constructor(clock: VirtualClock) {
    this.#clock = clock;
  }

  now(): number {
    return this.#clock.now();
  }

  monotonic(): number {
    return this.#clock.monotonic();
  }

  settled(): number {
    return this.#clock.settled();
  }

  setTimer(delayMs: number, act: () => void): () => void {
    return this.#clock.setTimer(delayMs, () => this.gate(act));
  }

  endOfTurn(act: () => void): void {
    this.#clock.endOfTurn(() => this.gate(act));
  }

  /** Does it now, or when the process goes on. */
  readonly gate = (act: () => void): void => {
    if (this.#isOver) return;
    if (this.#isPaused) this.#backlog.push(act);
    else act();
  };

  get isPaused(): boolean {
    return this.#isPaused;
  }

  pause(): void {
    this.#isPaused = true;
  }

  resume(): void {
    this.#isPaused = false;
    const backlog = this.#backlog;
    this.#backlog = [];
    for (const act of backlog) this.gate(act);
  }

  /** The process ends without a word. */
  kill(): void {
    this.#isOver = true;
    this.#backlog = [];
  }
}
