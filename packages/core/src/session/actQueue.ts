/** Whose acts they are. */
export interface ActOwner<Act> {
  /** Does one; a promise if it takes time. Must not throw or reject. */
  act(act: Act): void | Promise<void>;
  /** The last act has been done. */
  idle(): void;
}

/**
 * The acts of one connection, in the order sent. An act that takes time holds those behind it, so that none overtakes
 * another; acts that decide at once run at once, without a turn of the event loop between them.
 */
export class ActQueue<Act> {
  readonly #owner: ActOwner<Act>;
  /** Acts that wait; there only while one is under way, since most connections have none. */
  #waiting: Act[] | undefined;
  #next = 0;

  constructor(owner: ActOwner<Act>) {
    this.#owner = owner;
  }

  /** Acts that wait, the one under way included. */
  get length(): number {
    return this.#waiting === undefined ? 0 : this.#waiting.length - this.#next + 1;
  }

  add(act: Act): void {
    if (this.#waiting !== undefined) {
      this.#waiting.push(act);
      return;
    }
    const done = this.#owner.act(act);
    if (done === undefined) this.#owner.idle();
    else {
      this.#waiting = [];
      this.#next = 0;
      this.#goOnAfter(done);
    }
  }

  /** Forgets what waits. */
  clear(): void {
    if (this.#waiting === undefined) return;
    this.#waiting.length = 0;
    this.#next = 0;
  }

  /** Most connections have no act under way: so the closure is made for one that has. */
  #goOnAfter(done: Promise<void>): void {
    void done.then(() => this.#goOn());
  }

  #goOn(): void {
    for (let waiting = this.#waiting; waiting !== undefined && this.#next < waiting.length; waiting = this.#waiting) {
      this.#next += 1;
      const done = this.#owner.act(waiting[this.#next - 1] as Act);
      if (done !== undefined) {
        this.#goOnAfter(done);
        return;
      }
    }
    this.#waiting = undefined;
    this.#owner.idle();
  }
}
