import {
  type Actor,
  copyOfMessage,
  copyOfPending,
  type Draft,
  type KnownUnderKey,
  type PendingAnswer,
  type PendingDraft,
  type PendingEnd,
  type PendingKey,
  type PendingList,
  type PendingMessage,
  type PendingStore,
  type PendingWish,
  unansweredReason,
} from '@nine-bells/core';
import { type ChannelName, defined, GUEST_PREFIX, ProblemError, refusal } from '@nine-bells/wire';
import { addToAudit, type Deed } from './audit.js';
import type { Database, Plan, Reads } from './database.js';
import { blankCopies, moveCopies } from './deliveryRows.js';
import { Grouped } from './grouped.js';
import { type ErasureRequest, numbersWhere, type PersonalData, withoutActor } from './personalData.js';
import {
  among,
  type Dialect,
  deletesOf,
  insertOf,
  type NewRow,
  overwriting,
  tableOf,
  updatesOf,
} from './statements.js';
import type { Row } from './tables.js';

/** The part of a row that is stored as JSON. */
type Content = Pick<PendingDraft, 'type' | 'data' | 'replyTo' | 'mentions' | 'revises' | 'ifRevision' | 'unanswered'>;

type Most = Parameters<PendingStore['keepPending']>[1];
type Kept = Awaited<ReturnType<PendingStore['keepPending']>>;

interface Wish {
  readonly draft: PendingDraft;
  readonly most: Most;
}

/** The moderators' queue in the database. Concurrent messages share commits. */
export class SqlPendingStore implements PendingStore {
  readonly #database: Database;
  readonly #grouped: Grouped<Wish, Kept | ProblemError>;

  constructor(database: Database) {
    this.#database = database;
    this.#grouped = new Grouped({
      database,
      commit: (all) => database.attempt((reads) => planOf(reads, all, database)),
      charsOf: ({ draft: { id, data } }) => id.length + JSON.stringify(data).length,
    });
  }

  /** Resolves when everything that was waiting has been committed. */
  settled(): Promise<void> {
    return this.#grouped.settled();
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

  async keepPending(draft: PendingDraft, most: Most): Promise<Kept> {
    const kept = await this.#grouped.add({ draft, most });
    if (kept instanceof ProblemError) throw kept;
    return kept;
  }

  async pending({ isWaiting, channel, user, from, limit, chars }: PendingWish): Promise<PendingList> {
    const conditions = [
      `ended_at_ms IS ${isWaiting ? '' : 'NOT '}NULL`,
      ...(channel === undefined ? [] : ['channel = :channel']),
      ...(user === undefined ? [] : ['user_id = :user']),
      ...(from === undefined ? [] : [`number ${isWaiting ? '>' : '<'} :from`]),
    ];
    const order = `ORDER BY number ${isWaiting ? 'ASC' : 'DESC'}`;
    const found = await this.#database.reads.select<{ number: number | string; chars: number | string }>(
      `SELECT number, LENGTH(message_json) AS chars FROM pending_messages WHERE ${conditions.join(' AND ')}
       ${order} LIMIT :limit`,
      { channel: channel ?? '', user: user ?? '', from: from ?? 0, limit: limit + 1 },
    );
    let sum = 0;
    const some = found.slice(0, limit).filter((each, index) => {
      sum += Number(each.chars);
      return index === 0 || sum <= chars;
    });
    if (some.length === 0) return { messages: [], more: false };
    const rows = await this.#database.reads.select<Row<'pending_messages'>>(
      `SELECT * FROM pending_messages WHERE number IN (:numbers) ${order}`,
      { numbers: some.map(({ number }) => number) },
    );
    return { messages: rows.map(pendingOf), more: some.length < found.length };
  }

  pendingById(id: string): Promise<PendingMessage | undefined> {
    return byId(this.#database.reads, id);
  }

  async nextPending(channel: ChannelName, user: string, isCleared = false): Promise<PendingMessage | undefined> {
    const [row] = await this.#database.reads.select<Row<'pending_messages'>>(
      `SELECT * FROM pending_messages WHERE channel = :channel AND user_id = :user AND ended_at_ms IS NULL
       ${isCleared ? 'AND cleared = 1' : ''} ORDER BY number LIMIT 1`,
      { channel, user },
    );
    return row && pendingOf(row);
  }

  async unansweredPending(after: number, limit: number): Promise<readonly PendingMessage[]> {
    const rows = await this.#database.reads.select<Row<'pending_messages'>>(
      `SELECT * FROM pending_messages
       WHERE ended_at_ms IS NULL AND cleared = 0 AND reason = :reason AND number > :after ORDER BY number LIMIT :limit`,
      { reason: unansweredReason, after, limit },
    );
    return rows.map(pendingOf);
  }

  answerPending(id: string, { isCleared, reason, data }: PendingAnswer): Promise<PendingMessage | undefined> {
    return this.#decide(id, async ({ unanswered, ...found }) => {
      if (unanswered === undefined || found.isCleared) return { statements: [], result: undefined };
      const result = { ...found, isCleared, reason, data: data ?? found.data };
      const row = tableOf([[JSON.stringify(contentOf(result)), reason ?? null, id]], this.#database);
      const statement = `UPDATE pending_messages SET cleared = ${isCleared ? 1 : 0}, message_json = each.value->>0, reason = each.value->>1
         FROM ${row} WHERE pending_messages.id = each.value->>2`;
      return { statements: overwriting([statement], this.#database), result };
    });
  }

  async clearedPending(limit: number, anyOfThem = false): Promise<readonly { channel: ChannelName; user: string }[]> {
    const rows = await this.#database.reads.select<{ channel: ChannelName; user: string }>(
      `SELECT channel, user_id AS "user" FROM pending_messages p
       WHERE ended_at_ms IS NULL AND cleared = 1 AND (${anyOfThem ? 'cleared_by_json IS NOT NULL OR' : ''} NOT EXISTS (SELECT 1 FROM pending_messages b
         WHERE b.channel = p.channel AND b.user_id = p.user_id AND b.ended_at_ms IS NULL AND b.number < p.number))
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

  async released(id: string): ReturnType<PendingStore['released']> {
    const [row] = await this.#database.reads.select<ReleasedRow>(
      `SELECT r.channel, c.volume, r.number, r.of_number FROM released_messages r JOIN channels c ON c.name = r.channel WHERE r.id = :id`,
      { id },
    );
    if (row === undefined) return undefined;
    const { channel, volume } = row;
    return { channel, place: { volume, number: Number(row.number) }, of: { volume, number: Number(row.of_number) } };
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
      const statements = [
        ...deletesOf('pending_messages', [{ id }], this.#database, ['id']),
        blankCopies([copyOfPending(id)], this.#database),
      ];
      return { statements: overwriting(statements, this.#database), result: found };
    });
  }

  /** Runs a change of a waiting message; `undefined` if it does not wait. */
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

/** Plans one commit for several messages. Each may be a repeat of its key, or exceed a bound. */
async function planOf(
  reads: Reads,
  all: readonly Wish[],
  database: Database,
): Promise<Plan<readonly (Kept | ProblemError)[]>> {
  const known = await knownOf(reads, all, database);
  const counts = await waitingNow(reads, all);
  const rows: NewRow<'pending_messages'>[] = [];
  const result = all.map(({ draft, most }): Kept | ProblemError => {
    const { id, by } = draft;
    const done = known.get(id);
    // The previous attempt was committed, but its answer was lost.
    if (done !== undefined) return { message: done, repeated: false };
    const key = keyOf(draft);
    const first = key === undefined ? undefined : known.get(key);
    if (first !== undefined) return { message: first, repeated: true };
    const kind = by.guest ? 'guests' : 'users';
    const own = counts.of.get(by.user) ?? 0;
    if (counts[kind] >= most.all || own >= most.each)
      return refusal('busy', 'too many messages wait for the moderators', { retryAfterMs: 60_000 });
    counts[kind] += 1;
    counts.of.set(by.user, own + 1);
    // Its number is known only after the commit, and not needed here.
    const message = { ...draft, number: 0 };
    if (key !== undefined) known.set(key, message);
    rows.push(rowOf(draft));
    return { message, repeated: false };
  });
  const statements = rows.length === 0 ? [] : [insertOf('pending_messages', rows, database)];
  return { statements, result };
}

/** Finds pending messages by id and by key. */
async function knownOf(reads: Reads, all: readonly Wish[], dialect: Dialect): Promise<Map<string, PendingMessage>> {
  const known = new Map<string, PendingMessage>();
  const keyed = all.flatMap(({ draft: { channel, by, key, revises } }) =>
    key === undefined
      ? []
      : [{ user_id: by.user, channel, publish_key: key, key_owner: ownerOf(revises !== undefined) }],
  );
  const same = among('pending_messages', keyed, dialect, ['user_id', 'channel', 'publish_key', 'key_owner']);
  const rows = await reads.select<Row<'pending_messages'>>(
    `SELECT * FROM pending_messages WHERE id IN (:ids)${
      keyed.length === 0 ? '' : ` UNION SELECT * FROM pending_messages WHERE ${same}`
    }`,
    { ids: all.map(({ draft }) => draft.id) },
  );
  for (const row of rows) {
    const message = pendingOf(row);
    const key = keyOf(message);
    known.set(message.id, message);
    if (key !== undefined) known.set(key, message);
  }
  return known;
}

/** Counts pending messages: of signed-in users, of guests, and of each of these authors. */
async function waitingNow(
  reads: Reads,
  all: readonly Wish[],
): Promise<{ users: number; guests: number; of: Map<string, number> }> {
  const [sum] = await reads.select<{ count: number | string; guests: number | string | null }>(
    `SELECT COUNT(*) AS count, SUM(CASE WHEN user_id LIKE '${GUEST_PREFIX}%' THEN 1 ELSE 0 END) AS guests
     FROM pending_messages WHERE ended_at_ms IS NULL`,
  );
  const users = [...new Set(all.map(({ draft }) => draft.by.user))];
  const each = await reads.select<{ user_id: string; count: number | string }>(
    `SELECT user_id, COUNT(*) AS count FROM pending_messages
     WHERE ended_at_ms IS NULL AND user_id IN (:users) GROUP BY user_id`,
    { users },
  );
  const guests = Number(sum?.guests ?? 0);
  return {
    users: Number(sum?.count ?? 0) - guests,
    guests,
    of: new Map(each.map(({ user_id, count }) => [user_id, Number(count)])),
  };
}

function keyOf({ channel, by, key, revises }: PendingDraft): string | undefined {
  return key === undefined ? undefined : JSON.stringify([channel, by.user, key, revises !== undefined]);
}

function rowOf(draft: PendingDraft): NewRow<'pending_messages'> {
  const { id, channel, by, atMs, key, reason, isCleared, ...content } = draft;
  return {
    id,
    channel,
    user_id: by.user,
    publish_key: key ?? null,
    key_owner: ownerOf(content.revises !== undefined),
    by_json: JSON.stringify(by),
    message_json: JSON.stringify(contentOf(content)),
    reason: reason ?? null,
    at_ms: atMs,
    cleared: isCleared ? 1 : 0,
  };
}

function contentOf({ type, data, replyTo, mentions, revises, ifRevision, unanswered }: Content): Content {
  return { type, data, ...defined({ replyTo, mentions, revises, ifRevision, unanswered }) };
}

/** Removes messages from the queue in the commit that publishes them. */
export interface Released {
  readonly id: string;
  readonly channel: ChannelName;
  /** The number of the message, or of the change. */
  readonly number: number;
  /** The number of the message that holds the text now: itself, or the one that was changed. */
  readonly of: number;
  readonly atMs: number;
}

type ReleasedRow = Row<'released_messages', 'channel' | 'number' | 'of_number'> & Row<'channels', 'volume'>;

export class Releases {
  readonly #waiting: Set<string>;
  readonly #released: Released[] = [];

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

  add(released: Released): void {
    this.#waiting.delete(released.id);
    this.#released.push(released);
  }

  /** Overwrites the rows, so that no copy remains if a message is withdrawn later. */
  statements(dialect: Dialect): readonly string[] {
    if (this.#released.length === 0) return [];
    const rows = this.#released.map(({ id, channel, number, of, atMs }) => ({
      ...{ id, channel, number, of_number: of, at_ms: atMs },
    }));
    const moved = this.#released.map(({ id, channel, of }) => [copyOfPending(id), copyOfMessage(channel, of)] as const);
    return [
      ...overwriting(deletesOf('pending_messages', rows, dialect, ['id']), dialect),
      moveCopies(moved, dialect),
      insertOf('released_messages', rows, dialect, 'ON CONFLICT DO NOTHING'),
    ];
  }
}

function ownerOf(isChange: boolean): string {
  return isChange ? '~' : '';
}

async function underKey(
  reads: Reads,
  which: { readonly channel: string; readonly user: string; readonly key: string; readonly owner: string },
): Promise<PendingMessage | undefined> {
  const [row] = await reads.select<Row<'pending_messages'>>(
    `SELECT * FROM pending_messages
     WHERE channel = :channel AND user_id = :user AND publish_key = :key AND key_owner = :owner`,
    which,
  );
  return row && pendingOf(row);
}

async function byId(reads: Reads, id: string): Promise<PendingMessage | undefined> {
  const [row] = await reads.select<Row<'pending_messages'>>('SELECT * FROM pending_messages WHERE id = :id', { id });
  return row && pendingOf(row);
}

function pendingOf(row: Row<'pending_messages'>): PendingMessage {
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

/** The user's messages in review, and their decisions as a moderator, which stay under the pseudonym. */
export const pendingData: PersonalData = {
  tables: ['pending_messages'],
  exports: () => ({
    pending: `SELECT id, channel, message_json, reason, at_ms, ended_at_ms, note FROM pending_messages
      WHERE user_id = :user ORDER BY number`,
  }),
  find: (reads, request) =>
    numbersWhere(
      'pending_messages',
      reads,
      request,
      (has) => `user_id = :user OR ${has('cleared_by_json', ':actor')} OR ${has('ended_by_json', ':actor')}`,
      (row) => {
        const { cleared_by_json, ended_by_json } = withoutDecider(row, request);
        const isSame = cleared_by_json === row.cleared_by_json && ended_by_json === row.ended_by_json;
        return row.user_id === request.user || !isSame;
      },
    ),
  async erase(reads, request) {
    const { user, numbers, dialect } = request;
    const rows = await reads.select<Row<'pending_messages'>>(
      'SELECT * FROM pending_messages WHERE number IN (:numbers)',
      { numbers },
    );
    const own = rows.filter((row) => row.user_id === user);
    const decided = rows.filter((row) => row.user_id !== user).map((row) => withoutDecider(row, request));
    const copies = own.map(({ id }) => copyOfPending(id));
    const statements = [
      ...deletesOf('pending_messages', own, dialect, ['id']),
      ...(own.length === 0 ? [] : [blankCopies(copies, dialect)]),
      ...updatesOf('pending_messages', decided, dialect, ['id']),
    ];
    return { statements, result: rows.length };
  },
};

function withoutDecider(
  { id, cleared_by_json, ended_by_json }: Row<'pending_messages'>,
  request: ErasureRequest,
): Pick<Row<'pending_messages'>, 'id' | 'cleared_by_json' | 'ended_by_json'> {
  return {
    id,
    cleared_by_json: withoutActor(cleared_by_json, request),
    ended_by_json: withoutActor(ended_by_json, request),
  };
}
