/** Failures in a row after which calls are suspended for a while. */
const failuresToOpen = 5;
/** First and maximum suspension of calls, in milliseconds. */
const firstMs = 5_000;
const maxMs = 60_000;

/** An answer that cannot be used. It comes from an application that is there. */
export class UnusableAnswer extends Error {}

/**
 * Keeps a dead application from holding up the service: after some failures in a row it is left alone for a while, then
 * one question is let through to see whether it is back. Each time it is not, it is left alone for longer.
 */
export class Breaker {
  #failures = 0;
  #waitMs = firstMs;
  #openUntilMs: number | undefined;
  #probing = false;

  /** Returns the wait before the next call, in milliseconds; 0: call now, and report the outcome. */
  ask(nowMs: number): number {
    if (this.#openUntilMs === undefined) return 0;
    const leftMs = this.#openUntilMs - nowMs;
    if (leftMs > 0) return leftMs;
    if (this.#probing) return firstMs;
    this.#probing = true;
    return 0;
  }

  /** Takes back a call that was allowed and not made. */
  takeBack(): void {
    this.#probing = false;
  }

  /** Reports whether calls are suspended; `false` once one may be made as a trial. */
  isSuspended(nowMs: number): boolean {
    return this.#openUntilMs !== undefined && nowMs < this.#openUntilMs;
  }

  /** Calls are suspended, or one of them is under way as a trial. */
  get isOpen(): boolean {
    return this.#openUntilMs !== undefined;
  }

  succeeded(): void {
    this.#failures = 0;
    this.#waitMs = firstMs;
    this.#openUntilMs = undefined;
    this.#probing = false;
  }

  /**
   * Notes that a call threw an error. An answer that cannot be used is no failure here: it may be due to the data of one user, and
   * others are not refused for that.
   */
  threw(error: unknown, nowMs: number): void {
    if (error instanceof UnusableAnswer) this.succeeded();
    else this.failed(nowMs);
  }

  failed(nowMs: number): void {
    this.#failures += 1;
    if (this.#failures < failuresToOpen) return;
    // Calls from before the breaker opened say nothing new when they fail after it.
    if (this.#openUntilMs !== undefined && !this.#probing) return;
    this.#openUntilMs = nowMs + this.#waitMs;
    this.#waitMs = Math.min(maxMs, this.#waitMs * 2);
    this.#probing = false;
  }
}
