import { erasedAuthor, type RecordsToErase } from '@nine-bells/core';
import type { Author, Json } from '@nine-bells/wire';
import type { Plan, Reads } from './database.js';
import { type Dialect, deletesOf } from './statements.js';
import type { ColumnOf, Row, TableName } from './tables.js';

/** Personal data of one kind. The store of these tables declares how an export shows them and how an erasure removes them. */
export interface PersonalData {
  /** Tables with columns that name users. */
  readonly tables: readonly TableName[];
  /** Queries of the lists in an export, by the names of the lists. They may use `:user` and the members of `textsNaming`. */
  readonly exports?: (dialect: Dialect) => Readonly<Record<string, string>>;
  /** Finds rows that no index leads to, outside the transaction: other writers would wait for a scan. */
  readonly find?: (reads: Reads, request: ErasureRequest) => Promise<Partial<Found>>;
  /** Plans the erasure of a portion. The plan's result is the number of erased records. */
  readonly erase?: (reads: Reads, request: ErasureRequest & Found) => Promise<Plan<number>>;
}

export interface ErasureRequest extends RecordsToErase {
  /** Replaces the user where a record of their acts stays. */
  readonly pseudonym: string;
  readonly dialect: Dialect;
}

interface Found {
  /** Numbers of rows, and 0: a list in SQL is never empty. */
  readonly numbers: readonly number[];
  /** Keys of notices in other users' inboxes. */
  readonly notices: readonly NoticeKey[];
}

export type NoticeKey = Row<'notices', 'user_id' | 'number'>;

export const nothingToErase: Plan<number> = { statements: [], result: 0 };

/** Plans the deletion of the rows of a table whose column `user_id` is the user. */
export async function eraseOwn<T extends TableName>(
  table: T,
  reads: Reads,
  { user, limit, dialect }: ErasureRequest,
): Promise<Plan<number>> {
  const rows = await reads.select<Row<T>>(`SELECT * FROM ${table} WHERE user_id = :user LIMIT :limit`, {
    user,
    limit,
  });
  return { statements: deletesOf(table, rows, dialect), result: rows.length };
}

/** Finds notices in other users' inboxes. */
export async function noticesWhere(
  reads: Reads,
  { user, limit }: ErasureRequest,
  condition: string,
): Promise<{ readonly notices: readonly NoticeKey[] }> {
  const notices = await reads.select<NoticeKey>(`SELECT user_id, number FROM notices WHERE ${condition} LIMIT :limit`, {
    limit,
    ...textsNaming(user),
  });
  return { notices };
}

/**
 * Finds the numbers of rows that name the user.
 *
 * @param condition - matches rows with a text that may name the user
 * @param isTheirs - tells whether a row does: the text may also be part of a message
 */
export async function numbersWhere<T extends TableName>(
  table: T & (Row<T> extends { readonly number: number | string } ? T : never),
  reads: Reads,
  { user, limit, dialect }: ErasureRequest,
  condition: (has: (column: ColumnOf<T>, text: string) => string) => string,
  isTheirs: (row: Row<T>) => boolean,
): Promise<{ readonly numbers: readonly number[] }> {
  const fits = condition((column, text) => hasText(column, text, dialect));
  const numbers: number[] = [];
  for (let after = 0; ; ) {
    const rows = await reads.select<Row<T> & { readonly number: number | string }>(
      `SELECT * FROM ${table} WHERE number > :after AND (${fits}) ORDER BY number LIMIT :limit`,
      { user, after, limit, ...textsNaming(user) },
    );
    numbers.push(...rows.filter(isTheirs).map(({ number }) => Number(number)));
    if (rows.length < limit || numbers.length >= limit) return { numbers };
    after = Number(rows.at(-1)?.number);
  }
}

/** Texts in JSON columns that name the user: as an actor, as an author, as the sender of a notice, or in any way. */
export function textsNaming(user: string): Readonly<Record<'actor' | 'author' | 'mention' | 'from', string>> {
  const id = JSON.stringify(user);
  return {
    from: `"from":${id}`,
    actor: `{"kind":"user","id":${id}`,
    author: `"by":{"user":${id}`,
    mention: `"user":${id}`,
  };
}

/** Returns a condition: a column contains a text. */
export function hasText(column: string, text: string, { isShared }: Dialect): string {
  return `COALESCE(${isShared ? 'STRPOS' : 'INSTR'}(${column}, ${text}), 0) > 0`;
}

type Replacing = Pick<ErasureRequest, 'user' | 'pseudonym'>;

/** Returns an actor's JSON with the user replaced by the pseudonym. */
export function withoutActor<T extends string | null>(json: T, { user, pseudonym }: Replacing): T {
  if (json === null) return json;
  const actor = JSON.parse(json) as { readonly kind: string; readonly id: string };
  return actor.kind === 'user' && actor.id === user ? (JSON.stringify({ kind: 'user', id: pseudonym }) as T) : json;
}

/** Returns a row's columns `user_id` and `by_json` with the user replaced by the pseudonym. */
export function withoutUserAndActor<U extends string | null>(
  row: { readonly user_id: U; readonly by_json: string },
  replacing: Replacing,
): { readonly user_id: U; readonly by_json: string } {
  const { user, pseudonym } = replacing;
  return {
    user_id: row.user_id === user ? (pseudonym as U) : row.user_id,
    by_json: withoutActor(row.by_json, replacing),
  };
}

/** Returns the JSON of a message with its author replaced, if that is the user, and without its key. */
export function withoutAuthor(json: string, user: string): string {
  const message = JSON.parse(json) as { readonly by?: { readonly user: string }; readonly key?: string };
  if (message.by?.user !== user) return json;
  const { key: _, ...rest } = message;
  return JSON.stringify({ ...rest, by: erasedAuthor });
}

/** Returns JSON with the user replaced in all objects. */
export function withoutUser<T extends string | null>(json: T, user: string): T {
  if (json === null) return json;
  const replaced = JSON.parse(json, (_, value: Json) => {
    if (typeof value !== 'object' || value === null || Array.isArray(value)) return value;
    const { name: __, ...rest } = value as { readonly [member: string]: Json };
    if (rest.user === user) return { ...rest, ...erasedAuthor };
    // A reason is in the words of the user who reported or withdrew.
    const { reason: ___, ...silent } = value as { readonly [member: string]: Json };
    return isErased(silent.by) || isErased(silent.revisedBy) ? silent : value;
  });
  return JSON.stringify(replaced) as T;
}

function isErased(author: Json | undefined): boolean {
  return (author as Partial<Author> | null | undefined)?.user === erasedAuthor.user;
}
