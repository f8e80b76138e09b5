import type { Appended, Ids } from '@nine-bells/core';
import { MemoryStore } from '@nine-bells/core/testing';

type Method = (...args: unknown[]) => Promise<unknown>;

/** Methods that change nothing, of those that are called often. */
const reads: ReadonlySet<string> = new Set(['head', 'heads', 'since', 'before', 'board', 'reactions', 'nextPending']);

/** Records that can go back to any earlier moment, as from a backup. */
export class RestorableRecords {
  readonly #ids: Ids;
  #current: MemoryStore;
  #calls: { readonly name: string; readonly args: unknown[] }[] = [];
  /** The store, for engines. Its methods work on the current records. */
  readonly store: MemoryStore;

  constructor(ids: Ids) {
    this.#ids = ids;
    this.#current = new MemoryStore(ids);
    this.store = new Proxy(this.#current, {
      get: (_, name) => {
        const member: unknown = Reflect.get(this.#current, name);
        if (typeof member !== 'function') return member;
        return (...args: unknown[]) => {
          if (!reads.has(String(name))) this.#calls.push({ name: String(name), args });
          return (member as Method).apply(this.#current, args);
        };
      },
    });
  }

  /**
   * Undoes the last calls, as a restored backup does. Channels begin new volumes, with the same numbers.
   *
   * @param share - of the calls, how many remain: from 0 to 1
   * @param logged - called with each message that is there again, in order
   */
  async restore(share: number, logged: (appended: Appended) => void): Promise<void> {
    this.#calls = this.#calls.slice(0, Math.round(this.#calls.length * share));
    const restored = new MemoryStore(this.#ids);
    for (const { name, args } of this.#calls) {
      const made = (Reflect.get(restored, name) as Method).apply(restored, args);
      // A call that the store refused then, it refuses again.
      const result = await made.catch(() => undefined);
      if (name === 'append' && result !== undefined && !(result as Appended).repeated) logged(result as Appended);
    }
    this.#current = restored;
  }
}
