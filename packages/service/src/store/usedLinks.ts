import type { Database } from './database.js';
import { insertOf } from './statements.js';

/** The sign-in links that were used, until they end by themselves: a restart does not make them good again. */
export class UsedLinks {
  readonly #database: Database;
  readonly #now: () => number;

  /** @param now - the time, in milliseconds since the epoch */
  constructor(database: Database, now: () => number) {
    this.#database = database;
    this.#now = now;
  }

  /**
   * Notes that a link is used; `false` if it was used before.
   *
   * @throws {ProblemError} `unavailable` if that could not be committed; the link may be used up all the same
   */
  use(id: string, endsAtMs: number): Promise<boolean> {
    return this.#database.write(async (reads) => {
      const [known] = await reads.select('SELECT id FROM used_links WHERE id = :id', { id });
      if (known !== undefined) return { statements: [], result: false };
      const forget = `DELETE FROM used_links WHERE ends_at_ms < ${Math.floor(this.#now())}`;
      return {
        statements: [forget, insertOf('used_links', [{ id, ends_at_ms: endsAtMs }], this.#database)],
        result: true,
      };
    });
  }
}
