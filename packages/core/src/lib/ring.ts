/** The last so many of something, and of no more than a size in sum. */
export class Ring<T> {
  readonly #most: number;
  readonly #maxSize: number;
  #items: { readonly item: T; readonly size: number }[] = [];
  /** Of those at the front, so many are forgotten. */
  #gone = 0;
  #size = 0;

  constructor(most: number, maxSize = Number.POSITIVE_INFINITY) {
    this.#most = most;
    this.#maxSize = maxSize;
  }

  add(item: T, size = 0): void {
    this.#items.push({ item, size });
    this.#size += size;
    while (this.#items.length - this.#gone > this.#most || (this.#size > this.#maxSize && this.#left > 1)) {
      this.#size -= this.#items[this.#gone]?.size ?? 0;
      this.#items[this.#gone] = undefined as never;
      this.#gone += 1;
    }
    if (this.#gone > 1_000 && this.#gone * 2 > this.#items.length) {
      this.#items = this.#items.slice(this.#gone);
      this.#gone = 0;
    }
  }

  get #left(): number {
    return this.#items.length - this.#gone;
  }

  /** Oldest first. */
  get all(): readonly T[] {
    return this.#items.slice(this.#gone).map(({ item }) => item);
  }

  findLast(fits: (item: T) => boolean): T | undefined {
    for (let index = this.#items.length - 1; index >= this.#gone; index--) {
      const each = this.#items[index];
      if (each !== undefined && fits(each.item)) return each.item;
    }
    return undefined;
  }
}
