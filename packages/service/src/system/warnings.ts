import { type Logger, logEvent } from '../log.js';

/** What a warning is about; each is given once at a time. */
export type WarningName = 'clock' | 'clock-jump' | 'database' | 'files' | 'relay-evicts';

/**
 * What is not as it should be with the instance or with what it needs. Said in the log when it begins and when it ends, and
 * shown by `/readyz`, `ninebells instances` and the console as long as it lasts.
 */
export class Warnings {
  readonly #log: Logger;
  readonly #current = new Map<WarningName, string>();

  constructor(log: Logger) {
    this.#log = log;
  }

  get all(): readonly string[] {
    return [...this.#current.values()];
  }

  /** @param text - `undefined` if it is as it should be */
  set(name: WarningName, text: string | undefined): void {
    const had = this.#current.has(name);
    if (text === undefined) {
      if (this.#current.delete(name)) logEvent(this.#log, 'info', 'warning-over', { warning: name });
      return;
    }
    this.#current.set(name, text);
    if (!had) logEvent(this.#log, 'warn', 'warning', { warning: name }, text);
  }
}
