import { type Clock, SettledTime } from '@nine-bells/core';

/** The real time of this machine. */
export const systemClock: Clock = {
  now: Date.now,
  settled: new SettledTime(Date.now, () => performance.now()).now,
  monotonic: () => performance.now(),
  setTimer(delayMs, act) {
    const timer = setTimeout(act, delayMs);
    return () => clearTimeout(timer);
  },
  endOfTurn(act) {
    setImmediate(act);
  },
};

/** How far a measured offset may be from the one in use beyond what the measurement leaves open, in milliseconds. */
const toleranceMs = 2;

/**
 * The time of the service: one for all its instances. That is the clock of the relay, as far as it has been measured, so that
 * a machine whose clock is wrong neither forgets messages nor lets in tokens that were revoked.
 */
export class ServiceClock implements Clock {
  readonly monotonic = systemClock.monotonic;
  readonly setTimer = systemClock.setTimer;
  readonly endOfTurn = systemClock.endOfTurn;
  #offsetMs = 0;

  readonly now = (): number => Date.now() + this.#offsetMs;
  readonly settled = new SettledTime(
    () => this.now(),
    () => this.monotonic(),
  ).now;

  /** How far the service's time is ahead of this machine's, in milliseconds. */
  get offsetMs(): number {
    return this.#offsetMs;
  }

  /** Another clock has shown `serverMs` at some moment between two of this machine's clock; all in milliseconds. */
  measured(serverMs: number, fromMs: number, toMs: number): void {
    const offsetMs = serverMs - (fromMs + toMs) / 2;
    const unsureMs = (toMs - fromMs) / 2 + toleranceMs;
    // A slow answer that does not contradict what is known says nothing new.
    if (Math.abs(offsetMs - this.#offsetMs) > unsureMs) this.#offsetMs = Math.round(offsetMs);
  }
}
