/** How long an answer may take before the connection is doubted, and then a probe, in milliseconds. */
const answerWithinMs = 5_000;

/** What the life signs need of their connection. */
export interface LifeSignsHost {
  /** Tells the service that the client is there. */
  pulse(): void;
  /** Asks the service for an answer at once. */
  probe(): void;
  /** Whether answers are due. */
  readonly hasWaiting: boolean;
  lost(reason: string): void;
}

/** Notices that a connection does not carry anything any more, though it has not been closed. */
export class LifeSigns {
  readonly #host: LifeSignsHost;
  /** When something was heard last (milliseconds since the epoch). */
  #heardAt = 0;
  #pulse: ReturnType<typeof setInterval> | undefined;
  /** Runs out when nothing was heard for too long. */
  #silence: ReturnType<typeof setTimeout> | undefined;
  /** Runs out when an answer may be overdue. */
  #overdue: ReturnType<typeof setTimeout> | undefined;
  /** Runs out when a probe has no answer. */
  #probing: ReturnType<typeof setTimeout> | undefined;

  constructor(host: LifeSignsHost) {
    this.#host = host;
  }

  heard(): void {
    this.#heardAt = Date.now();
  }

  /** Sends a pulse every half of `pulseMs`, and gives the connection up after twice `pulseMs` of silence. */
  start(pulseMs: number): void {
    clearInterval(this.#pulse);
    clearTimeout(this.#silence);
    this.#pulse = setInterval(() => this.#host.pulse(), pulseMs / 2);
    const listen = (): void => {
      const leftMs = this.#heardAt + 2 * pulseMs - Date.now();
      if (leftMs <= 0) this.#host.lost('nothing was heard from the service');
      else this.#silence = setTimeout(listen, leftMs);
    };
    listen();
  }

  /** Asks for an answer at once: a connection that gives none in time is given up. */
  probe(): void {
    if (this.#probing !== undefined) return;
    const sentAt = Date.now();
    this.#host.probe();
    this.#probing = setTimeout(() => {
      this.#probing = undefined;
      if (this.#heardAt < sentAt) this.#host.lost('the service did not answer');
    }, answerWithinMs);
  }

  /** An answer is due: probes if none comes and nothing else is heard. */
  expectAnswer(): void {
    this.#overdue ??= setTimeout(() => {
      this.#overdue = undefined;
      if (!this.#host.hasWaiting) return;
      if (Date.now() - this.#heardAt >= answerWithinMs) this.probe();
      this.expectAnswer();
    }, answerWithinMs);
  }

  stop(): void {
    clearInterval(this.#pulse);
    clearTimeout(this.#silence);
    clearTimeout(this.#overdue);
    clearTimeout(this.#probing);
    this.#overdue = undefined;
    this.#probing = undefined;
  }
}
