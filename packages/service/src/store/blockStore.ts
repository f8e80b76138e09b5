import type { BlockStore, BlockWish, KeptBlock } from '@nine-bells/core';
import { type BlockKind, ProblemError, refusal } from '@nine-bells/wire';
import type { Database, Plan, Reads } from './database.js';
import { Grouped } from './grouped.js';
import { eraseOwn, type PersonalData } from './personalData.js';
import { deletesOf, insertOf, updateInstead } from './statements.js';
import type { Row } from './tables.js';

/** Stores blocks between users. Concurrent changes share a commit. */
export class SqlBlockStore implements BlockStore {
  readonly #database: Database;
  readonly #grouped: Grouped<BlockWish, ProblemError | undefined>;

  constructor(database: Database) {
    this.#database = database;
    this.#grouped = new Grouped({
      database,
      commit: (all) => database.attempt((reads) => planOf(reads, all, database)),
      charsOf: ({ user, other }) => user.length + other.length,
    });
  }

  /** Resolves when everything that was waiting has been committed. */
  settled(): Promise<void> {
    return this.#grouped.settled();
  }

  async block(wish: BlockWish): Promise<void> {
    const refused = await this.#grouped.add(wish);
    if (refused instanceof ProblemError) throw refused;
  }

  blocks(users: readonly string[]): Promise<readonly KeptBlock[]> {
    return blocksOf(this.#database.reads, users);
  }

  async blocking(other: string, users: readonly string[]): Promise<readonly string[]> {
    const rows = await this.#database.reads.select<Pick<Row<'blocks'>, 'user_id'>>(
      `SELECT user_id FROM blocks WHERE other_id = :other AND kind = 'blocked' AND user_id IN (:users)`,
      { other, users },
    );
    return rows.map(({ user_id }) => user_id);
  }

  async hasBlocks(): Promise<boolean> {
    return (await this.#database.reads.select('SELECT user_id FROM blocks LIMIT 1', {})).length > 0;
  }
}

async function blocksOf(reads: Reads, users: readonly string[]): Promise<readonly KeptBlock[]> {
  const rows = await reads.select<Row<'blocks'>>('SELECT * FROM blocks WHERE user_id IN (:users)', { users });
  return rows.map(({ user_id, other_id, kind, at_ms }) => ({
    user: user_id,
    other: other_id,
    as: kind as BlockKind,
    atMs: Number(at_ms),
  }));
}

/** Takes a group of wishes one after another, and says what to write. */
async function planOf(
  reads: Reads,
  all: readonly BlockWish[],
  database: Database,
): Promise<Plan<readonly (ProblemError | undefined)[]>> {
  const lists = new Map<string, Map<string, KeptBlock>>(all.map(({ user }) => [user, new Map()]));
  for (const each of await blocksOf(reads, [...lists.keys()])) lists.get(each.user)?.set(each.other, each);
  const changed = new Map<string, KeptBlock | readonly [user: string, other: string]>();
  const result = all.map(({ user, other, as, atMs, most }) => {
    const list = lists.get(user) as Map<string, KeptBlock>;
    const before = list.get(other);
    if ((before?.as ?? null) === as) return undefined;
    const key = JSON.stringify([user, other]);
    if (as === null) {
      list.delete(other);
      changed.set(key, [user, other]);
      return undefined;
    }
    if (before === undefined && list.size >= most)
      return refusal('too-many-blocks', `a user keeps at most ${most} users away`);
    const block = { user, other, as, atMs };
    list.set(other, block);
    changed.set(key, block);
    return undefined;
  });
  const isGone = (each: KeptBlock | readonly [string, string]): each is readonly [string, string] =>
    Array.isArray(each);
  const gone = [...changed.values()].filter(isGone).map(([user_id, other_id]) => ({ user_id, other_id }));
  const set = [...changed.values()].flatMap((each) =>
    isGone(each) ? [] : [{ user_id: each.user, other_id: each.other, kind: each.as, at_ms: each.atMs }],
  );
  const statements = [...deletesOf('blocks', gone, database)];
  if (set.length > 0)
    statements.push(insertOf('blocks', set, database, updateInstead(['user_id', 'other_id'], ['kind', 'at_ms'])));
  return { statements, result };
}

/** Blocks set by the user; those of others stay. */
export const blockData: PersonalData = {
  tables: ['blocks'],
  exports: () => ({
    blocks: 'SELECT other_id AS "user", kind AS "as", at_ms FROM blocks WHERE user_id = :user ORDER BY other_id',
  }),
  erase: (reads, request) => eraseOwn('blocks', reads, request),
};
