import type { VirtualClock } from './virtualClock.js';

/** How long to wait for the lock, in milliseconds. */
const waitMs = 3_000;
/** How long a transaction may be idle, in milliseconds: then the database rolls it back and frees the lock. */
const idleMs = 1_000;

/** A transaction that has the lock. */
export interface Transaction {
  /** It took too long: it was rolled back, and whatever it writes now fails. */
  readonly isBroken: boolean;
  end(): void;
}

/**
 * The lock of a database that several instances write to. An instance that stops within a transaction loses it; one that
 * waits too long is refused.
 */
export class WritersLock {
  readonly #clock: VirtualClock;
  readonly #waiting: ((transaction: Transaction | undefined) => void)[] = [];
  #isHeld = false;
  /** How often a transaction was broken. */
  broken = 0;

  constructor(clock: VirtualClock) {
    this.#clock = clock;
  }

  /** Resolves with `undefined` if others hold it for too long. */
  begin(): Promise<Transaction | undefined> {
    return new Promise((resolve) => {
      this.#waiting.push(resolve);
      this.#clock.setTimer(waitMs, () => {
        const index = this.#waiting.indexOf(resolve);
        if (index === -1) return;
        this.#waiting.splice(index, 1);
        resolve(undefined);
      });
      this.#next();
    });
  }

  #next(): void {
    if (this.#isHeld) return;
    const grant = this.#waiting.shift();
    if (grant === undefined) return;
    this.#isHeld = true;
    let isOver = false;
    const end = (): void => {
      if (isOver) return;
      isOver = true;
      cancel();
      this.#isHeld = false;
      this.#next();
    };
    const transaction = { isBroken: false, end };
    const cancel = this.#clock.setTimer(idleMs, () => {
      this.broken += 1;
      transaction.isBroken = true;
      end();
    });
    grant(transaction);
  }
}
