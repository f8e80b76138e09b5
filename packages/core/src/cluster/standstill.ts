import type { Clock } from '../ports/clock.js';
import type { Report } from '../ports/report.js';

/** Interval of the beats that notice a late turn, in milliseconds. */
const beatMs = 250;
/** A turn that is later than this, in milliseconds, may have missed decisions of other instances. */
const lateMs = 1_000;
/** Pause after a failure to catch up, in milliseconds. */
const againMs = 200;

export interface StandstillHost {
  readonly clock: Clock;
  readonly report: Report;
  /** Nothing is carried between the instances: then nothing is published, and what was missed is read when it is again. */
  readonly isCut: () => boolean;
  /** Reads everything that the other instances have decided. */
  readonly catchUp: () => Promise<void>;
}

/**
 * Notices that this instance stood still (a stopped process, a paused machine, a long computation), and holds decisions until it has
 * read what the others decided meanwhile: a user may have been erased or banned, or a key revoked.
 */
export class Standstill {
  readonly #host: StandstillHost;
  #aliveAtMs: number;
  #catchingUp: Promise<void> | undefined;
  #cancelBeat: () => void;
  #isStopped = false;

  constructor(host: StandstillHost) {
    this.#host = host;
    this.#aliveAtMs = host.clock.monotonic();
    this.#cancelBeat = this.#beatLater();
  }

  /** Resolves when decisions may be made again; `undefined`: they may be made now. Never rejects. Hot: once per act. */
  over(): Promise<void> | undefined {
    if (this.#host.clock.monotonic() - this.#aliveAtMs > lateMs) this.doubt();
    return this.#catchingUp;
  }

  /** Something may have been missed: nothing is decided until it has been read. */
  doubt(): void {
    this.#aliveAtMs = this.#host.clock.monotonic();
    if (this.#isStopped) return;
    // One under way may have read before the standstill: it is followed by another.
    const before = this.#catchingUp;
    const catchingUp = (before ?? Promise.resolve())
      .then(() => this.#catchUp())
      .finally(() => {
        if (this.#catchingUp === catchingUp) this.#catchingUp = undefined;
      });
    this.#catchingUp = catchingUp;
  }

  stop(): void {
    this.#isStopped = true;
    this.#cancelBeat();
  }

  async #catchUp(): Promise<void> {
    const { clock, report, isCut, catchUp } = this.#host;
    for (let isTold = false; !this.#isStopped && !isCut(); isTold = true) {
      try {
        return await catchUp();
      } catch (error) {
        if (!isTold) report(error, { event: 'decisions-unread' });
        await new Promise<void>((resolve) => void clock.setTimer(againMs, resolve));
      }
    }
  }

  #beatLater(): () => void {
    return this.#host.clock.setTimer(beatMs, () => {
      this.over();
      this.#aliveAtMs = this.#host.clock.monotonic();
      this.#cancelBeat = this.#beatLater();
    });
  }
}
