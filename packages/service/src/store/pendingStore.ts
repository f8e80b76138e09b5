import type {
  Actor,
  Draft,
  KnownUnderKey,
  PendingDraft,
  PendingEnd,
  PendingKey,
  PendingMessage,
  PendingStore,
  PendingWish,
} from '@nine-bells/core';
import { type ChannelName, defined, GUEST_PREFIX, type ProblemError, refusal } from '@nine-bells/wire';
import { addToAudit, type Deed } from './audit.js';
import type { Database, Reads } from './database.js';
import { type Columns, type Dialect, insertOf, listOf, overwriting, tableOf } from './statements.js';

interface PendingRow {
  readonly number: number | string;
  readonly id: string;
  readonly channel: string;
  readonly user_id: string;
  readonly publish_key: string | null;
  /** As in `messages`: of a change `~`. */
  readonly key_owner: string;
  readonly by_json: string;
  /** What the message is made of, beside its key. */
  readonly message_json: string;
  readonly reason: string | null;
  readonly at_ms: number | string;
  readonly cleared: number;
  readonly cleared_by_json: string | null;
  readonly ended_at_ms: number | string | null;
  readonly ended_by_json: string | null;
  /** Why it was refused. */
  readonly note: string | null;
}

type NewRow = Omit<PendingRow, 'number' | 'cleared_by_json' | 'ended_at_ms' | 'ended_by_json' | 'note'>;

const newColumns: Columns<NewRow> = {
  id: 'TEXT',
  channel: 'TEXT',
  user_id: 'TEXT',
  publish_key: 'TEXT',
  key_owner: 'TEXT',
  by_json: 'TEXT',
  message_json: 'TEXT',
  reason: 'TEXT',
  at_ms: 'BIGINT',
  cleared: 'INTEGER',
};

/** What a row keeps as JSON. */
type Content = Pick<PendingDraft, 'type' | 'data' | 'replyTo' | 'mentions' | 'revises' | 'ifRevision'>;

/** Messages that wait for a moderator, and those that were refused. */
export class SqlPendingStore implements PendingStore {
  readonly #database: Database;

  constructor(database: Database) {
    this.#database = database;
  }

  async knownUnder(channel: ChannelName, which: PendingKey): Promise<KnownUnderKey | undefined> {
    const { reads } = this.#database;
    const { user, key } = which;
    const owner = ownerOf(which.isChange);
    const pending = await underKey(reads, { channel, user, key, owner });
    if (pending !== undefined) return { pending };
    const [row] = await reads.select<{ id: string; volume: string; number: number | string }>(
      `SELECT m.message_id AS id, c.volume, m.number FROM channels c JOIN messages m ON m.channel_id = c.id
       WHERE c.name = :channel AND m.author = :user AND m.key_owner = :owner AND m.publish_key = :key`,
      { channel, user, key, owner },
    );
    return row && { published: { id: row.id, place: { volume: row.volume, number: Number(row.number) } } };
  }

  async hasPending(channel: ChannelName, user: string): Promise<boolean> {
    return (await this.nextPending(channel, user)) !== undefined;
  }

  keepPending(
    draft: PendingDraft,
    most: { readonly all: number; readonly each: number },
  ): Promise<{ message: PendingMessage; repeated: boolean }> {
    const { id, channel, by, atMs, key, reason, isCleared, type, data, ...more } = draft;
    const { replyTo, mentions, revises, ifRevision } = more;
    const owner = ownerOf(revises !== undefined);
    const content: Content = { type, data, ...defined({ replyTo, mentions, revises, ifRevision }) };
    return this.#database.write<{ message: PendingMessage; repeated: boolean }>(async (reads) => {
      const known = key === undefined ? undefined : await underKey(reads, { channel, user: by.user, key, owner });
      if (known !== undefined) return { statements: [], result: { message: known, repeated: true } };
      const [waiting] = await reads.select<{ count: number | string; own: number | string | null }>(
        `SELECT COUNT(*) AS count, SUM(CASE WHEN user_id = :user THEN 1 ELSE 0 END) AS own FROM pending_messages
         WHERE ended_at_ms IS NULL AND user_id ${by.guest ? '' : 'NOT '}LIKE '${GUEST_PREFIX}%'`,
        { user: by.user },
      );
      if (Number(waiting?.count ?? 0) >= most.all || Number(waiting?.own ?? 0) >= most.each)
        throw refusal('busy', 'too many messages wait for the moderators', { retryAfterMs: 60_000 });
      const row = [
        id,
        channel,
        by.user,
        key ?? null,
        owner,
        JSON.stringify(by),
        JSON.stringify(content),
        reason ?? null,
        atMs,
        isCleared ? 1 : 0,
      ];
      return {
        statements: [insertOf('pending_messages', newColumns, [row], this.#database)],
        // Its number is known only after the commit, and not needed here.
        result: { message: { ...draft, number: 0 }, repeated: false },
      };
    });
  }

  async pending({ isWaiting, channel, user, from, limit }: PendingWish): Promise<readonly PendingMessage[]> {
    const conditions = [
      `ended_at_ms IS ${isWaiting ? '' : 'NOT '}NULL`,
      ...(channel === undefined ? [] : ['channel = :channel']),
      ...(user === undefined ? [] : ['user_id = :user']),
      ...(from === undefined ? [] : [`number ${isWaiting ? '>' : '<'} :from`]),
    ];
    const rows = await this.#database.reads.select<PendingRow>(
      `SELECT * FROM pending_messages WHERE ${conditions.join(' AND ')}
       ORDER BY number ${isWaiting ? 'ASC' : 'DESC'} LIMIT :limit`,
      { channel: channel ?? '', user: user ?? '', from: from ?? 0, limit },
    );
    return rows.map(pendingOf);
  }

  pendingById(id: string): Promise<PendingMessage | undefined> {
    return byId(this.#database.reads, id);
  }

  async nextPending(channel: ChannelName, user: string): Promise<PendingMessage | undefined> {
    const [row] = await this.#database.reads.select<PendingRow>(
      `SELECT * FROM pending_messages WHERE channel = :channel AND user_id = :user AND ended_at_ms IS NULL
       ORDER BY number LIMIT 1`,
      { channel, user },
    );
    return row && pendingOf(row);
  }

  async clearedPending(limit: number): Promise<readonly { channel: ChannelName; user: string }[]> {
    const rows = await this.#database.reads.select<{ channel: ChannelName; user: string }>(
      `SELECT channel, user_id AS "user" FROM pending_messages p
       WHERE ended_at_ms IS NULL AND cleared = 1 AND NOT EXISTS (SELECT 1 FROM pending_messages b
         WHERE b.channel = p.channel AND b.user_id = p.user_id AND b.ended_at_ms IS NULL AND b.number < p.number)
       ORDER BY number LIMIT :limit`,
      { limit },
    );
    return rows;
  }

  clearPending(id: string, by: Actor, atMs: number): Promise<PendingMessage | undefined> {
    return this.#decide(id, async (found, reads) => {
      if (found.clearedBy !== undefined) return { statements: [], result: found };
      const audited = await this.#audited(reads, 'approve', { by, atMs }, found);
      const row = tableOf([[JSON.stringify(by), id]], this.#database);
      return {
        statements: [
          `UPDATE pending_messages SET cleared = 1, cleared_by_json = each.value->>0 FROM ${row}
           WHERE pending_messages.id = each.value->>1`,
          audited,
        ],
        result: { ...found, isCleared: true, clearedBy: by },
      };
    });
  }

  refusePending(id: string, end: PendingEnd): Promise<PendingMessage | undefined> {
    return this.#decide(id, async (found, reads) => {
      const { by, atMs, reason } = end;
      const audited = by.kind === 'service' ? [] : [await this.#audited(reads, 'reject', end, found)];
      const row = tableOf([[JSON.stringify(by), reason ?? null, id]], this.#database);
      return {
        statements: [
          `UPDATE pending_messages SET ended_at_ms = ${atMs}, ended_by_json = each.value->>0, note = each.value->>1
           FROM ${row} WHERE pending_messages.id = each.value->>2`,
          ...audited,
        ],
        result: { ...found, refused: { atMs, ...defined({ reason }) } },
      };
    });
  }

  takeBackPending(id: string, user: string): Promise<PendingMessage | undefined> {
    return this.#decide(id, async (found) => {
      if (found.by.user !== user) return { statements: [], result: undefined };
      return { statements: overwriting([deleted([id], this.#database)], this.#database), result: found };
    });
  }

  /** Does something about a message that waits; `undefined` if it does not. */
  #decide(
    id: string,
    plan: (
      found: PendingMessage,
      reads: Reads,
    ) => Promise<{ readonly statements: readonly string[]; readonly result: PendingMessage | undefined }>,
  ): Promise<PendingMessage | undefined> {
    return this.#database.write<PendingMessage | undefined>(async (reads) => {
      const found = await byId(reads, id);
      if (found === undefined || found.refused !== undefined) return { statements: [], result: undefined };
      return plan(found, reads);
    });
  }

  async #audited(
    reads: Reads,
    type: Deed['type'],
    { by, atMs, reason }: PendingEnd,
    { id, channel, by: author }: PendingMessage,
  ): Promise<string> {
    const deed = { type, by, atMs, channel, about: id, user: author.user, ...defined({ reason }) };
    return (await addToAudit(reads, deed, this.#database)).statement;
  }
}

/** Messages of one commit that have waited: they wait no more, in the same commit. */
export class Releases {
  readonly #waiting: Set<string>;
  readonly #released: string[] = [];

  private constructor(waiting: Set<string>) {
    this.#waiting = waiting;
  }

  static async find(reads: Reads, drafts: readonly Draft[]): Promise<Releases> {
    const ids = drafts.map(({ releases }) => releases);
    const rows = await reads.select<{ id: string }>(
      'SELECT id FROM pending_messages WHERE ended_at_ms IS NULL AND id IN (:ids)',
      { ids },
    );
    return new Releases(new Set(rows.map(({ id }) => id)));
  }

  /** Each is published once: the second attempt is refused. */
  refusalOf(id: string): ProblemError | undefined {
    return this.#waiting.has(id) ? undefined : refusal('bad-value', 'the message no longer waits');
  }

  add(id: string): void {
    this.#waiting.delete(id);
    this.#released.push(id);
  }

  /** Overwriting: should the message be withdrawn later, nothing of it may be found. */
  statements(dialect: Dialect): readonly string[] {
    return this.#released.length === 0 ? [] : overwriting([deleted(this.#released, dialect)], dialect);
  }
}

function deleted(ids: readonly string[], dialect: Dialect): string {
  const rows = ids.map((id) => [id]);
  return `DELETE FROM pending_messages WHERE id IN ${listOf(['TEXT'], rows, dialect)}`;
}

function ownerOf(isChange: boolean): string {
  return isChange ? '~' : '';
}

async function underKey(
  reads: Reads,
  which: { readonly channel: string; readonly user: string; readonly key: string; readonly owner: string },
): Promise<PendingMessage | undefined> {
  const [row] = await reads.select<PendingRow>(
    `SELECT * FROM pending_messages
     WHERE channel = :channel AND user_id = :user AND publish_key = :key AND key_owner = :owner`,
    which,
  );
  return row && pendingOf(row);
}

async function byId(reads: Reads, id: string): Promise<PendingMessage | undefined> {
  const [row] = await reads.select<PendingRow>('SELECT * FROM pending_messages WHERE id = :id', { id });
  return row && pendingOf(row);
}

function pendingOf(row: PendingRow): PendingMessage {
  const { ended_at_ms: endedAtMs, note } = row;
  return {
    number: Number(row.number),
    id: row.id,
    channel: row.channel as ChannelName,
    by: JSON.parse(row.by_json),
    atMs: Number(row.at_ms),
    ...(JSON.parse(row.message_json) as Content),
    ...(row.publish_key === null ? {} : { key: row.publish_key }),
    ...(row.reason === null ? {} : { reason: row.reason }),
    isCleared: Number(row.cleared) === 1,
    ...(row.cleared_by_json === null ? {} : { clearedBy: JSON.parse(row.cleared_by_json) as Actor }),
    ...(endedAtMs === null ? {} : { refused: { atMs: Number(endedAtMs), ...(note === null ? {} : { reason: note }) } }),
  };
}
