/** The last so many of something, and of no more than a size in sum. */
export class Ring<T> {
  readonly #max: number;
  readonly #maxSize: number;
  /** Once there are as many as may be, the place of the oldest is taken by the next. */
  #items: (T | undefined)[] = [];
  /** Their sizes, where there is a bound on the sum. */
  #sizes: number[] = [];
  /** Where the oldest is. */
  #first = 0;
  #count = 0;
  #size = 0;

  constructor(max: number, maxSize = Number.POSITIVE_INFINITY) {
    this.#max = max;
    this.#maxSize = maxSize;
  }

  /** Hot: once per publish. */
  add(item: T, size = 0): void {
    if (this.#count === this.#max) this.#forgetOldest();
    else if (this.#count === this.#items.length) this.#makeRoom();
    const at = this.#at(this.#count);
    this.#items[at] = item;
    this.#count += 1;
    if (this.#maxSize === Number.POSITIVE_INFINITY) return;
    this.#sizes[at] = size;
    this.#size += size;
    while (this.#size > this.#maxSize && this.#count > 1) this.#forgetOldest();
  }

  /** Oldest first. */
  get all(): readonly T[] {
    return Array.from({ length: this.#count }, (_, index) => this.#items[this.#at(index)] as T);
  }

  findLast(fits: (item: T) => boolean): T | undefined {
    for (let index = this.#count - 1; index >= 0; index--) {
      const item = this.#items[this.#at(index)] as T;
      if (fits(item)) return item;
    }
    return undefined;
  }

  /** Replaces the last one that fits, if there is one, by what `by` makes of it, with its size. */
  replaceLast(fits: (item: T) => boolean, by: (item: T) => readonly [item: T, size: number]): void {
    for (let index = this.#count - 1; index >= 0; index--) {
      const at = this.#at(index);
      if (!fits(this.#items[at] as T)) continue;
      const [item, size] = by(this.#items[at] as T);
      this.#items[at] = item;
      if (this.#maxSize === Number.POSITIVE_INFINITY) return;
      this.#size += size - (this.#sizes[at] ?? 0);
      this.#sizes[at] = size;
      return;
    }
  }

  /** The place of the `index`th oldest. */
  #at(index: number): number {
    const at = this.#first + index;
    return at < this.#items.length ? at : at - this.#items.length;
  }

  #forgetOldest(): void {
    this.#size -= this.#sizes[this.#first] ?? 0;
    this.#items[this.#first] = undefined;
    this.#first = this.#at(1);
    this.#count -= 1;
  }

  /** Doubles the places; the oldest is then at the front. */
  #makeRoom(): void {
    const inOrder = <V>(of: readonly V[]): V[] => [...of.slice(this.#first), ...of.slice(0, this.#first)];
    this.#items = inOrder(this.#items);
    this.#sizes = inOrder(this.#sizes);
    this.#first = 0;
    this.#items.length = Math.min(this.#max, Math.max(16, 2 * this.#count));
  }
}
