import type { Hold, KeptRange, RecordKind } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import { addToAudit } from './audit.js';
import type { Database, Reads } from './database.js';
import { unindexedWhere } from './searchStore.js';
import { deletesOf, insertOf, type NewRow, updatesOf } from './statements.js';
import { keysOf, type Row, type TableName } from './tables.js';

/** Overhead of a message beside its data, in bytes. */
const besideBytes = 200;
/** Pages of an SQLite file given back at once, and how many must be free before any is. */
const pagesAtOnce = 250;
const freePages = 1_000;

/** A table of records; `isOver` matches those that have been useless since `:before`. */
interface OldRecords {
  readonly table: TableName;
  readonly isOver: string;
}

const ofUnseenUsers = 'user_id IN (SELECT id FROM users WHERE seen_at_ms < :before)';

/** Tables of each kind of record. */
const oldRecords: Readonly<Record<RecordKind, readonly OldRecords[]>> = {
  // The last entry stays: its number tells how many changes there were.
  audit: [{ table: 'audit', isOver: 'at_ms < :before AND number < (SELECT MAX(number) FROM audit)' }],
  notices: [{ table: 'notices', isOver: 'at_ms < :before' }],
  // Users' rows number their inboxes: they are blanked, not deleted.
  users: (['user_roles', 'marks', 'thread_marks', 'mentioned', 'levels', 'blocks'] as const).map((table) => ({
    table,
    isOver: ofUnseenUsers,
  })),
  bans: [{ table: 'bans', isOver: '(until_ms < :before OR lifted_at_ms < :before)' }],
  // An invitation stays while an admission refers to it.
  invitations: [
    { table: 'admissions', isOver: 'until_ms < :before' },
    {
      table: 'invitations',
      isOver: '(until_ms < :before OR revoked_at_ms < :before) AND id NOT IN (SELECT invitation FROM admissions)',
    },
  ],
  reports: [{ table: 'reports', isOver: 'ended_at_ms < :before' }],
  pending: [
    { table: 'pending_messages', isOver: 'at_ms < :before' },
    { table: 'released_messages', isOver: 'at_ms < :before' },
  ],
  // A key that has registered a hook stays: it explains why the hook is no longer sent.
  keys: [
    {
      table: 'api_keys',
      isOver: `(expires_at_ms < :before OR revoked_at_ms < :before)
        AND id NOT IN (SELECT key_id FROM hooks WHERE key_id IS NOT NULL)`,
    },
  ],
};

/** Tables with rows about a message, and the column with its number. */
const aboutMessages: readonly (readonly [table: TableName, column: 'number' | 'root'])[] = [
  ['messages', 'number'],
  ['revisions', 'number'],
  ['reactions', 'number'],
  ['reaction_counts', 'number'],
  ['replies', 'number'],
  ['mentioned', 'number'],
  ['threads', 'root'],
  ['thread_marks', 'root'],
];

/** Prunes kept logbooks and old records, and stores holds. */
export class SqlRetentionStore {
  readonly #database: Database;

  constructor(database: Database) {
    this.#database = database;
  }

  async keptRanges(after: string, limit: number): Promise<readonly KeptRange[]> {
    const rows = await this.#database.reads.select<{
      name: ChannelName;
      volume: string;
      head: number | string;
      oldest: number | string;
      oldest_at_ms: number | string | null;
      held: string | null;
    }>(
      `SELECT c.name, c.volume, c.head, c.oldest, h.channel AS held,
         (SELECT m.at_ms FROM messages m WHERE m.channel_id = c.id AND m.number >= c.oldest ORDER BY m.number LIMIT 1)
           AS oldest_at_ms
       FROM channels c LEFT JOIN holds h ON h.channel = c.name
       WHERE c.name > :after AND c.head > 0 ORDER BY c.name LIMIT :limit`,
      { after, limit },
    );
    return rows.map(({ name, volume, head, oldest, oldest_at_ms: oldestAtMs, held }) => ({
      channel: name,
      head: { volume, number: Number(head) },
      oldest: Number(oldest),
      held: held !== null,
      ...(oldestAtMs === null ? {} : { oldestAtMs: Number(oldestAtMs) }),
    }));
  }

  /** Times rise with the numbers, or nearly: so it is found by halving. */
  async firstSince(channel: ChannelName, atMs: number): Promise<number> {
    const { reads } = this.#database;
    const row = await channelOf(reads, channel);
    if (row === undefined) return 1;
    let [from, beyond] = [row.oldest, row.head + 1];
    while (from < beyond) {
      const middle = Math.floor((from + beyond) / 2);
      const [found] = await reads.select<{ number: number | string; at_ms: number | string }>(
        `SELECT number, at_ms FROM messages WHERE channel_id = :id AND number >= :middle AND number < :beyond
         ORDER BY number LIMIT 1`,
        { id: row.id, middle, beyond },
      );
      if (found === undefined || Number(found.at_ms) >= atMs) beyond = middle;
      else from = Number(found.number) + 1;
    }
    return from;
  }

  async bytesOf(channel: ChannelName, from: number, upTo: number): Promise<number> {
    const row = await channelOf(this.#database.reads, channel);
    const [sum] = await this.#database.reads.select<{ bytes: number | string | null }>(
      `SELECT SUM(OCTET_LENGTH(data_json) + ${besideBytes})
         AS bytes FROM messages WHERE channel_id = :id AND number BETWEEN :from AND :upTo`,
      { id: row?.id ?? 0, from, upTo },
    );
    return Number(sum?.bytes ?? 0);
  }

  prune(channel: ChannelName, before: number, limit: number): Promise<{ messages: number; oldest: number }> {
    const { isShared } = this.#database;
    const least = isShared ? 'LEAST' : 'MIN';
    const going = `FROM messages m WHERE m.channel_id = c.id AND m.number < ${least}(:before, c.oldest + :limit, c.head + 1)`;
    const free = isShared ? '0' : '(SELECT freelist_count FROM pragma_freelist_count)';
    return this.#database.write(async (reads) => {
      // Other transactions wait meanwhile: so it is asked all at once.
      const [row] = await reads.select<PrunedRow>(
        `SELECT c.id, c.head, c.oldest, c.pruned_notes, h.channel AS held, ${free} AS free,
           (SELECT COUNT(*) ${going}) AS count, (SELECT MAX(m.notes) ${going}) AS notes
         FROM channels c LEFT JOIN holds h ON h.channel = c.name WHERE c.name = :channel`,
        { channel, before, limit },
      );
      const oldest = Number(row?.oldest ?? 1);
      const to = Math.min(before, oldest + limit, Number(row?.head ?? 0) + 1);
      if (row === undefined || row.held !== null || to <= oldest)
        return { statements: [], result: { messages: 0, oldest } };
      const notes = Number(row.notes ?? row.pruned_notes);
      return {
        statements: [
          ...aboutMessages.map(
            ([table, column]) => `DELETE FROM ${table} WHERE channel_id = ${row.id} AND ${column} < ${to}`,
          ),
          ...unindexedWhere(`channel_id = ${row.id} AND number < ${to}`, this.#database),
          `UPDATE channels SET oldest = ${to}, pruned_notes = ${notes} WHERE id = ${row.id}`,
          // PostgreSQL gives pages back by itself.
          ...(Number(row.free) > freePages ? [`PRAGMA incremental_vacuum(${pagesAtOnce})`] : []),
        ],
        result: { messages: Number(row.count), oldest: to },
      };
    });
  }

  async forget(kind: RecordKind, beforeMs: number, limit: number): Promise<number> {
    const database = this.#database;
    let count = 0;
    for (const { table, isOver } of oldRecords[kind])
      count += await database.write(async (reads) => {
        const rows = await reads.select<NewRow<typeof table>>(
          `SELECT ${keysOf(table).join(', ')} FROM ${table} WHERE ${isOver} LIMIT :limit`,
          { before: beforeMs, limit },
        );
        return { statements: deletesOf(table, rows, database), result: rows.length };
      });
    if (kind === 'users') count += await this.#blankUsers(beforeMs, limit);
    return Math.min(count, limit);
  }

  async forgettable(kind: RecordKind, beforeMs: number): Promise<number> {
    const { reads } = this.#database;
    const counted = [
      ...oldRecords[kind],
      ...(kind === 'users' ? [{ table: 'users', isOver: 'seen_at_ms < :before' }] : []),
    ];
    let count = 0;
    for (const { table, isOver } of counted) {
      const [found] = await reads.select<{ count: number | string }>(
        `SELECT COUNT(*) AS count FROM ${table} WHERE ${isOver}`,
        { before: beforeMs },
      );
      count += Number(found?.count ?? 0);
    }
    return count;
  }

  hold({ channel, by, atMs, reason }: Hold, end?: 'end'): Promise<Hold | undefined> {
    const database = this.#database;
    return database.write(async (reads) => {
      const [held] = await reads.select<Row<'holds'>>('SELECT * FROM holds WHERE channel = :channel', { channel });
      const result = held && holdOf(held);
      if ((held === undefined) !== (end === undefined)) return { statements: [], result };
      const row = { channel, at_ms: atMs, by_json: JSON.stringify(by), reason: reason ?? null };
      const change =
        end === undefined ? insertOf('holds', [row], database) : deletesOf('holds', [{ channel }], database);
      const type = end === undefined ? 'hold' : 'end-hold';
      const deed = { type, by, atMs, channel, ...(reason === undefined ? {} : { reason }) } as const;
      const { statement } = await addToAudit(reads, deed, database);
      return { statements: [change, statement].flat(), result };
    });
  }

  async holds(after: string, limit: number): Promise<readonly Hold[]> {
    const rows = await this.#database.reads.select<Row<'holds'>>(
      'SELECT * FROM holds WHERE channel > :after ORDER BY channel LIMIT :limit',
      { after, limit },
    );
    return rows.map(holdOf);
  }

  /** Blanks the rows of users without roles and marks, so that later rounds skip them. */
  async #blankUsers(beforeMs: number, limit: number): Promise<number> {
    const database = this.#database;
    return database.write(async (reads) => {
      const rows = await reads.select<{ id: string }>(
        `SELECT u.id FROM users u WHERE u.seen_at_ms < :before
           AND NOT EXISTS (SELECT 1 FROM user_roles r WHERE r.user_id = u.id)
           AND NOT EXISTS (SELECT 1 FROM marks k WHERE k.user_id = u.id)
           AND NOT EXISTS (SELECT 1 FROM blocks b WHERE b.user_id = u.id)
           AND NOT EXISTS (SELECT 1 FROM levels l WHERE l.user_id = u.id)
           AND NOT EXISTS (SELECT 1 FROM mentioned x WHERE x.user_id = u.id) LIMIT :limit`,
        { before: beforeMs, limit },
      );
      const blank = rows.map(({ id }) => ({ id, name: null, seen_at_ms: null }));
      return { statements: updatesOf('users', blank, database), result: rows.length };
    });
  }
}

function holdOf({ channel, at_ms: atMs, by_json: by, reason }: Row<'holds'>): Hold {
  return {
    channel: channel as ChannelName,
    atMs: Number(atMs),
    by: JSON.parse(by),
    ...(reason === null ? {} : { reason }),
  };
}

/** A channel to prune, with the `count` of messages and `notes` to remove. */
interface PrunedRow {
  readonly id: number;
  readonly head: number | string;
  readonly oldest: number | string;
  readonly pruned_notes: number | string;
  readonly held: string | null;
  readonly free: number | string;
  readonly count: number | string;
  readonly notes: number | string | null;
}

interface ChannelAt {
  readonly id: number;
  readonly head: number;
  readonly oldest: number;
}

async function channelOf(reads: Reads, channel: ChannelName): Promise<ChannelAt | undefined> {
  const [row] = await reads.select<{
    id: number;
    head: number | string;
    oldest: number | string;
  }>('SELECT id, head, oldest FROM channels WHERE name = :channel', { channel });
  return row && { id: row.id, head: Number(row.head), oldest: Number(row.oldest) };
}
