import type { ServiceClock } from '../system/clock.js';
import type { Warnings } from '../system/warnings.js';
import type { Database } from './database.js';

export interface WatchmanHost {
  readonly database: Database;
  readonly clock: ServiceClock;
  readonly warnings: Warnings;
}

/** How often it looks, in milliseconds. */
const lookMs = 1_000;
/** From which difference between the clocks on it warns, in milliseconds. */
const clockMs = 1_000;
/** How long the database may be away before the instance is reported as not ready, in milliseconds. */
const awayMs = 5_000;

/** Looks now and then whether what the instance needs is as it should be. */
export class Watchman {
  readonly #host: WatchmanHost;
  readonly #timer: NodeJS.Timeout;

  constructor(host: WatchmanHost) {
    this.#host = host;
    this.#timer = setInterval(() => this.#look(), lookMs);
    this.#timer.unref();
  }

  /** Nothing has been committed for so long that clients should go elsewhere. */
  get isDatabaseAway(): boolean {
    return (this.#host.database.health.ailment?.forMs ?? 0) > awayMs;
  }

  stop(): void {
    clearInterval(this.#timer);
  }

  #look(): void {
    const { database, clock, warnings } = this.#host;
    void database.probe();
    const ailment = database.health.ailment;
    warnings.set('database', ailment && `nothing can be committed to the database: ${ailment.why}`);
    const jumpMs = clock.now() - clock.settled();
    const jump = Math.round(jumpMs / 1_000);
    warnings.set(
      'clock-jump',
      jumpMs < clockMs
        ? undefined
        : `the clock jumped ahead by ${jump} s: until it has stood for 10 minutes, nothing expires by it`,
    );
    const { offsetMs } = clock;
    const seconds = Math.abs(Math.round(offsetMs / 1000));
    const isAhead = offsetMs < 0;
    warnings.set(
      'clock',
      Math.abs(offsetMs) < clockMs
        ? undefined
        : `this machine's clock is ${seconds} s ${isAhead ? 'ahead of' : 'behind'} the relay's, whose time is used`,
    );
  }
}
