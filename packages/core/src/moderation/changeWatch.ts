/**
 * Notices changes in the database that no instance has told of: the one that committed them may have been cut off, and then
 * have died.
 *
 * The database numbers its changes without holes. Those that are heard of are ticked off; one that is still unheard of when
 * the watch looks a second time counts as missed.
 */
export class ChangeWatch {
  /** All changes up to this one have taken effect here. */
  #known = 0;
  readonly #heard = new Set<number>();
  /** The last change when the watch last looked. */
  #seen = 0;

  get known(): number {
    return this.#known;
  }

  /** Everything up to a change has been read. */
  caughtUp(number: number): void {
    this.#known = Math.max(this.#known, number);
    for (const each of this.#heard) if (each <= this.#known) this.#heard.delete(each);
    this.#advance();
  }

  /** A change was heard of, and has taken effect. */
  heard(number: number): void {
    if (number > this.#known) this.#heard.add(number);
    this.#advance();
  }

  /** Whether a change was missed, given the number of the last one. */
  look(last: number): boolean {
    const isMissed = this.#seen > this.#known;
    this.#seen = last;
    return isMissed;
  }

  #advance(): void {
    while (this.#heard.delete(this.#known + 1)) this.#known += 1;
  }
}
