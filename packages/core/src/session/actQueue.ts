type Act = () => void | Promise<void>;

/** Whose acts they are. */
export interface ActOwner {
  /** The last act has been done. */
  idle(): void;
}

/**
 * The acts of one connection, in the order sent. An act that takes time holds those behind it, so that none overtakes
 * another; acts that decide at once run at once, without a turn of the event loop between them.
 */
export class ActQueue {
  readonly #owner: ActOwner;
  /** Those that wait and the one under way; there only while there are any, since most connections have none. */
  #acts: Act[] | undefined;
  #next = 0;

  constructor(owner: ActOwner) {
    this.#owner = owner;
  }

  /** Acts that wait, the one under way included. */
  get length(): number {
    return this.#acts === undefined ? 0 : this.#acts.length - this.#next;
  }

  /** @param act - must not throw or reject */
  add(act: Act): void {
    if (this.#acts === undefined) {
      this.#acts = [act];
      this.#run();
    } else this.#acts.push(act);
  }

  /** Forgets what waits. */
  clear(): void {
    if (this.#acts === undefined) return;
    this.#acts.length = 0;
    this.#next = 0;
  }

  #run(): void {
    for (let acts = this.#acts; acts !== undefined && this.#next < acts.length; acts = this.#acts) {
      const done = (acts[this.#next] as Act)();
      if (done !== undefined) {
        void done.then(() => {
          this.#next = Math.min(this.#next + 1, this.#acts?.length ?? 0);
          this.#run();
        });
        return;
      }
      this.#next += 1;
    }
    this.#acts = undefined;
    this.#next = 0;
    this.#owner.idle();
  }
}
