/**
 * New channels and inboxes of a database begin in this volume. It also names the incarnation of the database: when the
 * database was restored from a backup, all its channels begin a new one.
 */
export class Volumes {
  #current: string;
  readonly #listeners: (() => void)[] = [];
  #behind: (volume: string) => void = () => {};

  constructor(current: string) {
    this.#current = current;
  }

  get current(): string {
    return this.#current;
  }

  set current(volume: string) {
    if (volume === this.#current) return;
    this.#current = volume;
    for (const notify of this.#listeners) notify();
  }

  /** A channel in a volume has lost numbers that this process knows to have been given out: a backup was restored. */
  foundBehind(volume: string): void {
    this.#behind(volume);
  }

  onBehind(notify: (volume: string) => void): void {
    this.#behind = notify;
  }

  /** Calls back when another volume has begun: heads that were remembered are out of date. */
  onRenewed(notify: () => void): void {
    this.#listeners.push(notify);
  }
}
