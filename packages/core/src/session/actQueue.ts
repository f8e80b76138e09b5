/**
 * The acts of one connection, in the order sent. An act that takes time holds those behind it, so that none overtakes
 * another; acts that decide at once run at once, without a turn of the event loop between them.
 */
export class ActQueue {
  readonly #acts: (() => void | Promise<void>)[] = [];
  #next = 0;
  #running = false;
  readonly #onIdle: () => void;

  /** @param onIdle - called when the last act has been done */
  constructor(onIdle: () => void) {
    this.#onIdle = onIdle;
  }

  /** Acts that wait, the one under way included. */
  get length(): number {
    return this.#acts.length - this.#next;
  }

  /** @param act - must not throw or reject */
  add(act: () => void | Promise<void>): void {
    this.#acts.push(act);
    if (!this.#running) this.#run();
  }

  /** Forgets what waits. */
  clear(): void {
    this.#acts.length = 0;
    this.#next = 0;
  }

  #run(): void {
    this.#running = true;
    while (this.#next < this.#acts.length) {
      const done = (this.#acts[this.#next] as () => void | Promise<void>)();
      if (done !== undefined) {
        void done.then(() => {
          this.#next = Math.min(this.#next + 1, this.#acts.length);
          this.#run();
        });
        return;
      }
      this.#next += 1;
    }
    this.clear();
    this.#running = false;
    this.#onIdle();
  }
}
