/** A map of at most `max` entries: a new entry takes the place of the oldest. Setting a key again makes it the newest. */
export class BoundedMap<K, V> extends Map<K, V> {
  readonly #max: number;

  constructor(max: number) {
    super();
    this.#max = max;
  }

  override set(key: K, value: V): this {
    if (!this.delete(key) && this.size >= this.#max) {
      // Maps iterate in the order of insertion.
      const oldest = this.keys().next();
      if (!oldest.done) this.delete(oldest.value);
    }
    return super.set(key, value);
  }
}
