/** How long a transaction counts as proof that others get through, in milliseconds. */
const provenMs = 2_000;
/** How long a transaction may be under way before it counts as a failure, in milliseconds. */
const slowMs = 2_000;

/** SQLite's codes for a file that is damaged, or none of its own. */
const damaged = /SQLITE_(CORRUPT|NOTADB)/;

/** What is wrong with the database. */
export interface Ailment {
  /** For how long nothing has been committed, in milliseconds. */
  readonly forMs: number;
  readonly why: string;
}

/** Watches whether transactions get through. */
export class Health {
  #provenAtMs = Number.NEGATIVE_INFINITY;
  #failingSinceMs: number | undefined;
  #why = '';
  #underWaySinceMs: number | undefined;
  #damage: string | undefined;
  /** Transactions that did not get through, since the start. */
  failed = 0;

  /** Whether no transaction has been seen recently. */
  get isUncertain(): boolean {
    return performance.now() - this.#provenAtMs > provenMs;
  }

  /** What is wrong with the database's file; nothing is written any more. */
  get damage(): string | undefined {
    return this.#damage;
  }

  /** The file is found to be damaged: to write into it would make it worse. */
  isDamaged(why: string): void {
    this.#damage ??= why;
    this.#failingSinceMs ??= performance.now();
    this.#why = `the database file is damaged (${why}); stop the service and restore a backup`;
  }

  get ailment(): Ailment | undefined {
    const now = performance.now();
    const isSlow = this.#underWaySinceMs !== undefined && now - this.#underWaySinceMs > slowMs;
    const sinceMs = this.#failingSinceMs ?? (isSlow ? this.#underWaySinceMs : undefined);
    if (sinceMs === undefined) return undefined;
    return { forMs: now - sinceMs, why: this.#failingSinceMs === undefined ? 'a commit takes too long' : this.#why };
  }

  /** Runs a transaction. One that fails for its own fault says nothing about the database. */
  async watch<T>(act: () => Promise<T>, isPassing: (error: unknown) => boolean): Promise<T> {
    const startMs = performance.now();
    this.#underWaySinceMs = startMs;
    try {
      const result = await act();
      this.#proven();
      return result;
    } catch (error) {
      this.failed += 1;
      if (damaged.test((error as Error).message)) this.isDamaged((error as Error).message);
      else if (isPassing(error)) {
        this.#failingSinceMs ??= startMs;
        this.#why = reasonOf(error);
      } else this.#proven();
      throw error;
    } finally {
      this.#underWaySinceMs = undefined;
    }
  }

  #proven(): void {
    if (this.#damage !== undefined) return;
    this.#provenAtMs = performance.now();
    this.#failingSinceMs = undefined;
  }
}

/** The innermost message: what the driver said. */
function reasonOf(error: unknown): string {
  const { cause, message } = error as Error;
  if (cause instanceof Error) return reasonOf(cause);
  // Only one process writes at a time; the lock is held within a commit.
  if (message.includes('SQLITE_BUSY'))
    return `another process holds the lock of the file; is one stopped? (${message})`;
  return message;
}
