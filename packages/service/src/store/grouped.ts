import type { Database } from './database.js';
import { failureOf, isPassing } from './failures.js';

/** Most items, and most characters, of one commit; one item alone may have more. */
const groupItems = 2_000;
const groupChars = 8_388_608;
/** For how long a group is tried again when the connection to a shared database ends, and how long between, in milliseconds. */
const tryMs = 3_000;
const tryAgainMs = 50;

interface Waiting<Item, Result> {
  readonly item: Item;
  readonly resolve: (result: Result) => void;
  readonly reject: (error: Error) => void;
}

export interface GroupHost<Item, Result> {
  readonly database: Database;
  /** Commits items in one transaction, and gives a result for each. Idempotent: it may be tried again. */
  readonly commit: (items: readonly Item[]) => Promise<readonly Result[]>;
  /** How long the first item waits for others, in milliseconds; absent: not at all. */
  readonly gatherMs?: number;
  /** The length of an item, in characters. */
  readonly charsOf: (item: Item) => number;
}

/**
 * Commits a group. If its data make that fail, commits its halves, and their halves, in order: an item that cannot be committed
 * harms only itself. Never rejects.
 *
 * @param failed - called with items that were not committed, and why
 */
export async function commitApart<Item>(
  group: readonly Item[],
  isShared: boolean,
  commit: (some: readonly Item[]) => Promise<void>,
  failed: (some: readonly Item[], failure: Error) => void,
): Promise<void> {
  try {
    await commit(group);
  } catch (error) {
    if (group.length === 1 || isPassing(error, isShared)) return failed(group, failureOf(error, isShared));
    const middle = Math.ceil(group.length / 2);
    for (const half of [group.slice(0, middle), group.slice(middle)]) await commitApart(half, isShared, commit, failed);
  }
}

/** Commits what comes while a commit is under way together, so that its cost is shared. */
export class Grouped<Item, Result> {
  readonly #host: GroupHost<Item, Result>;
  #waiting: Waiting<Item, Result>[] = [];
  #committing: Promise<void> | undefined;

  constructor(host: GroupHost<Item, Result>) {
    this.#host = host;
  }

  add(item: Item): Promise<Result> {
    return new Promise((resolve, reject) => {
      this.#waiting.push({ item, resolve, reject });
      this.#committing ??= this.#commitAll();
    });
  }

  /** Resolves when everything that was waiting has been committed. */
  async settled(): Promise<void> {
    while (this.#committing !== undefined) await this.#committing;
  }

  async #commitAll(): Promise<void> {
    // The rest of this turn joins the first commit.
    await Promise.resolve();
    while (this.#waiting.length > 0) {
      const { gatherMs } = this.#host;
      if (gatherMs !== undefined) await new Promise((resolve) => setTimeout(resolve, gatherMs));
      await this.#commitGroup(this.#nextGroup());
    }
    this.#committing = undefined;
  }

  #commitGroup(group: readonly Waiting<Item, Result>[]): Promise<void> {
    const { isShared } = this.#host.database;
    const commit = async (some: readonly Waiting<Item, Result>[]): Promise<void> => {
      const results = await this.#commitWithin(some.map(({ item }) => item));
      for (const [index, each] of some.entries()) each.resolve(results[index] as Result);
    };
    return commitApart(group, isShared, commit, (some, failure) => {
      for (const each of some) each.reject(failure);
    });
  }

  async #commitWithin(items: readonly Item[]): Promise<readonly Result[]> {
    const { isShared } = this.#host.database;
    for (const endMs = performance.now() + tryMs; ; )
      try {
        return await this.#host.commit(items);
      } catch (error) {
        if (!isShared || !isPassing(error, isShared) || performance.now() > endMs) throw error;
        await new Promise((resolve) => setTimeout(resolve, tryAgainMs));
      }
  }

  #nextGroup(): readonly Waiting<Item, Result>[] {
    let chars = 0;
    let count = 0;
    for (; count < this.#waiting.length && count < groupItems; count++) {
      chars += this.#host.charsOf((this.#waiting[count] as Waiting<Item, Result>).item);
      if (chars > groupChars && count > 0) break;
    }
    return this.#waiting.splice(0, count);
  }
}
