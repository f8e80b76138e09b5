/** Counts the operations in flight per key, such as a user id, and limits them. */
export class InFlight {
  readonly #maxPerKey: number;
  readonly #counts = new Map<string, number>();

  constructor(maxPerKey: number) {
    this.#maxPerKey = maxPerKey;
  }

  isFull(key: string): boolean {
    return (this.#counts.get(key) ?? 0) >= this.#maxPerKey;
  }

  begin(key: string): void {
    this.#counts.set(key, (this.#counts.get(key) ?? 0) + 1);
  }

  end(key: string): void {
    const left = (this.#counts.get(key) ?? 0) - 1;
    if (left > 0) this.#counts.set(key, left);
    else this.#counts.delete(key);
  }
}
