import {
  type Actor,
  type Committing,
  copyOfPending,
  type ErasedRecord,
  type Erasure,
  erasedAuthor,
  type PersonMessages,
  type PersonPlace,
  type PersonRecords,
  type PersonStore,
  pseudonymOf,
  type RecordsToErase,
  type Revocation,
} from '@nine-bells/core';
import type { Author, ChannelName, Json } from '@nine-bells/wire';
import { addToAudit } from './audit.js';
import type { Database, Plan, Reads } from './database.js';
import { blankCopies } from './deliveryRows.js';
import { loggedOf } from './messageRows.js';
import { cutOff, effectOf } from './moderationStore.js';
import { type Dialect, insertOf, listOf, overwriting, tableOf } from './statements.js';
import type { Row } from './tables.js';

/** Rows of a person in an export, of each kind at most. */
const mostRecords = 10_000;

/** What there is about a user, and how it is erased. */
export class SqlPersonStore implements PersonStore {
  readonly #database: Database;

  constructor(database: Database) {
    this.#database = database;
  }

  beginErasure(
    erasure: Erasure & { readonly user: string },
    untilMs: number,
    { action, events }: Committing<Revocation>,
  ): Promise<Erasure> {
    const database = this.#database;
    return database.write<Erasure>(async (reads) => {
      const { id, user, messages, by, atMs, counts, held } = erasure;
      const [open] = await reads.select<Row<'erasures'>>(
        'SELECT * FROM erasures WHERE user_id = :user AND ended_at_ms IS NULL',
        { user },
      );
      if (open !== undefined) return { statements: [], result: erasureOf(open) };
      const row = {
        ...{ id, user_id: user, messages, by_json: JSON.stringify(by), at_ms: atMs, until_ms: untilMs },
        ...{ counts_json: JSON.stringify(counts), held_json: JSON.stringify(held) },
      };
      const deed = { type: 'erase', by, atMs, user: pseudonymOf(id), about: messages } as const;
      const { statement } = await addToAudit(reads, [deed, action], database);
      const begun = insertOf('erasures', [row], database);
      return { statements: [begun, statement, ...effectOf(action, events, database)], result: erasure };
    });
  }

  noteErasure({ id, user, counts, held, endedAtMs }: Erasure, untilMs: number): Promise<void> {
    const row = [id, user ?? null, JSON.stringify(counts), JSON.stringify(held), untilMs, endedAtMs ?? null];
    return this.#do([
      `UPDATE erasures SET user_id = each.value->>1, counts_json = each.value->>2, held_json = each.value->>3,
         until_ms = CAST(each.value->>4 AS BIGINT), ended_at_ms = CAST(each.value->>5 AS BIGINT)
       FROM ${tableOf([row], this.#database)} WHERE erasures.id = each.value->>0`,
    ]);
  }

  takeErasures(nowMs: number, untilMs: number): Promise<readonly Erasure[]> {
    return this.#database.write(async (reads) => {
      const rows = await reads.select<Row<'erasures'>>(
        'SELECT * FROM erasures WHERE user_id IS NOT NULL AND (until_ms < :nowMs OR until_ms > :untilMs)',
        { nowMs, untilMs },
      );
      const which = listOf(
        ['TEXT'],
        rows.map(({ id }) => [id]),
        this.#database,
      );
      if (rows.length === 0) return { statements: [], result: [] };
      const taken = `UPDATE erasures SET until_ms = ${untilMs} WHERE id IN ${which}`;
      // Erasures begun by earlier versions may lack it.
      const open = rows.filter(({ ended_at_ms }) => ended_at_ms === null);
      const revoked = open.map(({ user_id, at_ms }) => [user_id as string, Number(at_ms)] as const);
      const statements = open.length === 0 ? [taken] : [taken, cutOff(revoked, this.#database)];
      return { statements, result: rows.map(erasureOf) };
    });
  }

  async erasures(limit: number, id?: string): Promise<readonly Erasure[]> {
    const rows = await this.#database.reads.select<Row<'erasures'>>(
      `SELECT * FROM erasures ${id === undefined ? '' : 'WHERE id = :id'} ORDER BY at_ms DESC, id DESC LIMIT :limit`,
      { limit, id: id ?? '' },
    );
    return rows.map((row) => erasureOf(row.ended_at_ms === null ? row : { ...row, user_id: null }));
  }

  async messagesOf(user: string, after: PersonPlace | undefined, limit: number): Promise<PersonMessages> {
    const { channel, number } = after ?? { channel: 0, number: 0 };
    // Channel by channel, by the index of authors there.
    const rows = await this.#database.reads.select<
      Row<'messages'> & {
        readonly name: ChannelName;
        readonly volume: string;
        readonly held: string | null;
        readonly reply_to: number | string | null;
        readonly thread: number | string | null;
      }
    >(
      `SELECT m.*, c.name, c.volume, h.channel AS held, r.reply_to, r.thread FROM channels c
       JOIN messages m ON m.channel_id = c.id AND m.author = :user LEFT JOIN holds h ON h.channel = c.name
       LEFT JOIN replies r ON r.channel_id = m.channel_id AND r.number = m.number
       WHERE m.target IS NULL AND (c.id > :channel OR (c.id = :channel AND m.number > :number))
       ORDER BY c.id, m.number LIMIT :limit`,
      { user, channel, number, limit },
    );
    const last = rows.at(-1);
    return {
      // Which message each answers, but not what that says: those are the words of another.
      messages: rows.map((row) => {
        const message = loggedOf(row.name, row.volume, row);
        if (row.reply_to === null) return message;
        return message.with({ reply: { to: Number(row.reply_to), thread: Number(row.thread) } });
      }),
      held: rows.map(({ held }) => held !== null),
      ...(rows.length < limit || last === undefined
        ? {}
        : { next: { channel: last.channel_id, number: Number(last.number) } }),
    };
  }

  async eraseRecords({ kind, user, erasure, limit, untilMs }: RecordsToErase): Promise<number> {
    const wish = { user, pseudonym: pseudonymOf(erasure), limit, untilMs, dialect: this.#database };
    const numbers = (await numbersOf[kind]?.(this.#database.reads, wish)) ?? [];
    const written = (await writtenBy[kind]?.(this.#database.reads, wish)) ?? [];
    return this.#database.write(async (reads) => {
      const about = { ...wish, numbers: [0, ...numbers], written };
      const { statements, result } = await erasing[kind](reads, about);
      return { statements: overwriting(statements, this.#database), result };
    });
  }

  noteExport(user: string, by: Actor, atMs: number): Promise<void> {
    const database = this.#database;
    return database.write(async (reads) => {
      const { statement } = await addToAudit(reads, { type: 'export', by, atMs, user }, database);
      return { statements: [statement], result: undefined };
    });
  }

  async recordsOf(user: string): Promise<PersonRecords> {
    const { reads, isShared } = this.#database;
    const found: Record<string, readonly { readonly [member: string]: Json }[]> = {};
    for (const [kind, sql] of Object.entries(recordQueries(isShared)))
      found[kind] = (
        await reads.select<Record<string, unknown>>(`${sql} LIMIT ${mostRecords}`, { user, ...needlesOf(user) })
      ).map(shownRow);
    return found;
  }

  #do(statements: readonly string[]): Promise<void> {
    return this.#database.write(async () => ({ statements, result: undefined }));
  }
}

interface Wish {
  readonly user: string;
  readonly pseudonym: string;
  readonly limit: number;
  readonly untilMs: number | undefined;
  readonly dialect: Dialect;
}

interface About extends Wish {
  /** The numbers of rows to look at, and 0, since a list is never empty in SQL. */
  readonly numbers: readonly number[];
  /** Notices to others that the user wrote to them: whose, and their numbers. */
  readonly written: readonly (readonly [user: string, number: number])[];
}

/** Finds notices to others that the user wrote or caused: of messages, and of invitations, which have the name and the code. */
const writtenBy: Readonly<Partial<Record<ErasedRecord, (reads: Reads, wish: Wish) => Promise<About['written']>>>> = {
  users: (reads, wish) =>
    noticesWhere(
      reads,
      wish,
      `(notice_key LIKE 'direct %' OR notice_key LIKE 'mention %') AND ${within('data_json', ':from', wish.dialect.isShared)}`,
    ),
  invitations: (reads, wish) =>
    noticesWhere(
      reads,
      // All at once: nothing leads to them once the invitations do not say who made them.
      { ...wish, limit: 10_000 },
      `notice_key IN (SELECT 'invitation ' || id FROM invitations WHERE ${within('by_json', ':actor', wish.dialect.isShared)})`,
    ),
};

async function noticesWhere(reads: Reads, { user, limit }: Wish, condition: string): Promise<About['written']> {
  const rows = await reads.select<{ user_id: string; number: number | string }>(
    `SELECT user_id, number FROM notices WHERE ${condition} LIMIT :limit`,
    { limit, ...needlesOf(user) },
  );
  return rows.map((row) => [row.user_id, Number(row.number)]);
}

function withoutNotices(written: About['written'], dialect: Dialect): readonly string[] {
  if (written.length === 0) return [];
  return [`DELETE FROM notices WHERE (user_id, number) IN ${listOf(['TEXT', 'BIGINT'], written, dialect)}`];
}

/**
 * Finds rows that no index leads to, and that are the user's: what only looks like the user stands in what another has written.
 * Beside the writer, which others wait for: such a table may be long.
 */
const numbersOf: Readonly<Partial<Record<ErasedRecord, (reads: Reads, wish: Wish) => Promise<readonly number[]>>>> = {
  reports: (reads, wish) =>
    numbersIn<Row<'reports'>>(
      reads,
      wish,
      'reports',
      (has) => `reporter = :user OR ${has('ended_by_json', ':actor')} OR ${has('message_json', ':author')}`,
      (row) => withoutReporter(row, wish) !== undefined,
    ),
  pending: (reads, wish) =>
    numbersIn<Row<'pending_messages'>>(
      reads,
      wish,
      'pending_messages',
      (has) => `user_id = :user OR ${has('cleared_by_json', ':actor')} OR ${has('ended_by_json', ':actor')}`,
      (row) =>
        row.user_id === wish.user ||
        [row.cleared_by_json, row.ended_by_json].some((json) => json !== null && withoutActor(json, wish) !== json),
    ),
  deliveries: (reads, wish) =>
    numbersIn<Row<'deliveries'>>(
      reads,
      wish,
      'deliveries',
      (has) =>
        `(${has('data_json', ':mention')} OR ${has('bare_json', ':mention')}) AND at_ms <= ${wish.untilMs ?? Number.MAX_SAFE_INTEGER}`,
      (row) =>
        row.state !== 'waiting' ||
        [row.data_json, row.bare_json].some((json) => json !== null && withoutUser(json, wish.user) !== json),
    ),
  audit: (reads, wish) =>
    numbersIn<Row<'audit'>>(
      reads,
      wish,
      'audit',
      (has) => `user_id = :user OR ${has('by_json', ':actor')}`,
      (row) => row.user_id === wish.user || withoutActor(row.by_json, wish) !== row.by_json,
    ),
};

async function numbersIn<Row extends { readonly number: number | string }>(
  reads: Reads,
  { user, limit, dialect }: Wish,
  table: string,
  condition: (has: (column: string, text: string) => string) => string,
  isTheirs: (row: Row) => boolean,
): Promise<readonly number[]> {
  const fits = condition((column, text) => within(column, text, dialect.isShared));
  const found: number[] = [];
  for (let after = 0; ; ) {
    const rows = await reads.select<Row>(
      `SELECT * FROM ${table} WHERE number > :after AND (${fits}) ORDER BY number LIMIT :limit`,
      { user, after, limit, ...needlesOf(user) },
    );
    found.push(...rows.filter(isTheirs).map(({ number }) => Number(number)));
    if (rows.length < limit || found.length >= limit) return found;
    after = Number(rows.at(-1)?.number);
  }
}

/** How records of each kind are erased: some of them, and how many that were. */
const erasing: Readonly<Record<ErasedRecord, (reads: Reads, about: About) => Promise<Plan<number>>>> = {
  async changes(reads, { user, limit, dialect }) {
    const rows = await reads.select<Pick<Row<'messages'>, 'channel_id' | 'number' | 'target' | 'data_json'>>(
      `SELECT m.channel_id, m.number, m.target, m.data_json FROM channels c
       JOIN messages m ON m.channel_id = c.id AND m.author = :user WHERE m.target IS NOT NULL LIMIT :limit`,
      { user, limit },
    );
    if (rows.length === 0) return nothing;
    const by = JSON.stringify(erasedAuthor);
    const table = tableOf(
      rows.map(({ channel_id, number, target, data_json }) => [
        ...[channel_id, Number(number), Number(target), erasedAuthor.user, by, withReviser(data_json)],
      ]),
      dialect,
    );
    const channel = 'CAST(each.value->>0 AS INTEGER)';
    const [number, target] = [1, 2].map((at) => `CAST(each.value->>${at} AS BIGINT)`);
    return {
      statements: [
        `UPDATE messages SET author = each.value->>3, by_json = each.value->>4, publish_key = NULL, key_owner = '',
           data_json = each.value->>5 FROM ${table} WHERE channel_id = ${channel} AND number = ${number}`,
        `UPDATE messages SET revised_by_json = each.value->>4, reason = NULL FROM ${table}
         WHERE channel_id = ${channel} AND number = ${target} AND revision = ${number}`,
        `UPDATE revisions SET by_json = each.value->>4 FROM ${table}
         WHERE channel_id = ${channel} AND number = ${target} AND revision = ${number}`,
      ],
      result: rows.length,
    };
  },

  async reactions(reads, { user, limit, dialect }) {
    const rows = await reads.select<{
      id: number;
      number: number | string;
      word: string;
      counts_json: string;
      head: number | string;
    }>(
      `SELECT c.id, r.number, r.word, k.counts_json, h.version AS head FROM channels c
       JOIN reactions r ON r.channel_id = c.id AND r.user_id = :user
       JOIN reaction_heads h ON h.channel_id = c.id
       JOIN reaction_counts k ON k.channel_id = c.id AND k.number = r.number LIMIT :limit`,
      { user, limit },
    );
    if (rows.length === 0) return nothing;
    const counts = new Map<string, { id: number; number: number; counts: Record<string, number> }>();
    const heads = new Map<number, number>();
    for (const { id, number, word, counts_json, head } of rows) {
      heads.set(id, heads.get(id) ?? Number(head));
      const key = `${id} ${number}`;
      const each = counts.get(key) ?? { id, number: Number(number), counts: JSON.parse(counts_json) };
      each.counts[word] = (each.counts[word] ?? 1) - 1;
      if ((each.counts[word] as number) <= 0) delete each.counts[word];
      counts.set(key, each);
    }
    // Each message has a version of its own, so that what has changed can be sent in parts.
    const left = [...counts.values()].map((each) => {
      const version = (heads.get(each.id) as number) + 1;
      heads.set(each.id, version);
      return [each.id, each.number, JSON.stringify(each.counts), version];
    });
    const which = listOf(
      ['INTEGER', 'BIGINT', 'TEXT', 'TEXT'],
      rows.map(({ id, number, word }) => [id, Number(number), word, user]),
      dialect,
    );
    return {
      statements: [
        `DELETE FROM reactions WHERE (channel_id, number, word, user_id) IN ${which}`,
        // Clients that come back hear of it, and instances when they look.
        `UPDATE reaction_heads SET version = CAST(each.value->>1 AS BIGINT) FROM ${tableOf([...heads], dialect)}
         WHERE channel_id = CAST(each.value->>0 AS INTEGER)`,
        `UPDATE reaction_counts SET counts_json = each.value->>2, version = CAST(each.value->>3 AS BIGINT)
         FROM ${tableOf(left, dialect)}
         WHERE channel_id = CAST(each.value->>0 AS INTEGER) AND number = CAST(each.value->>1 AS BIGINT)`,
      ],
      result: rows.length,
    };
  },

  async blocks(reads, { user, limit, dialect }) {
    const rows = await reads.select<Row<'blocks'>>('SELECT * FROM blocks WHERE user_id = :user LIMIT :limit', {
      user,
      limit,
    });
    if (rows.length === 0) return nothing;
    const which = listOf(
      ['TEXT', 'TEXT'],
      rows.map(({ other_id }) => [user, other_id]),
      dialect,
    );
    return { statements: [`DELETE FROM blocks WHERE (user_id, other_id) IN ${which}`], result: rows.length };
  },

  async levels(reads, { user, limit, dialect }) {
    const rows = await reads.select<Row<'levels'>>('SELECT * FROM levels WHERE user_id = :user LIMIT :limit', {
      user,
      limit,
    });
    if (rows.length === 0) return nothing;
    const which = rows.map(({ channel }) => [user, channel]);
    const those = listOf(['TEXT', 'TEXT'], which, dialect);
    return { statements: [`DELETE FROM levels WHERE (user_id, channel) IN ${those}`], result: rows.length };
  },

  async mentions(reads, { user, limit, dialect }) {
    const rows = await reads.select<Row<'mentioned'>>('SELECT * FROM mentioned WHERE user_id = :user LIMIT :limit', {
      user,
      limit,
    });
    if (rows.length === 0) return nothing;
    const which = rows.map(({ channel_id, number }) => [user, channel_id, Number(number)]);
    const those = listOf(['TEXT', 'INTEGER', 'BIGINT'], which, dialect);
    return {
      statements: [`DELETE FROM mentioned WHERE (user_id, channel_id, number) IN ${those}`],
      result: rows.length,
    };
  },

  async invitations(reads, { user, pseudonym, limit, dialect, written }) {
    const { isShared } = dialect;
    const admissions = await reads.select<Row<'admissions'>>(
      'SELECT * FROM admissions WHERE user_id = :user LIMIT :limit',
      {
        user,
        limit,
      },
    );
    const made = await reads.select<Row<'invitations'>>(
      `SELECT * FROM invitations WHERE user_id = :user OR ${within('by_json', ':actor', isShared)} LIMIT :limit`,
      { user, limit, ...needlesOf(user) },
    );
    if (admissions.length + made.length === 0) return nothing;
    const which = listOf(
      ['TEXT', 'TEXT'],
      admissions.map(({ channel }) => [user, channel]),
      dialect,
    );
    const table = tableOf(
      made.map(({ id, user_id, by_json }) => [
        id,
        user_id === user ? pseudonym : user_id,
        withoutActor(by_json, { user, pseudonym }),
      ]),
      dialect,
    );
    return {
      statements: [
        `DELETE FROM admissions WHERE (user_id, channel) IN ${which}`,
        `UPDATE invitations SET user_id = each.value->>1, by_json = each.value->>2 FROM ${table}
         WHERE invitations.id = each.value->>0`,
        // They have the name, and the code.
        ...withoutNotices(written, dialect),
      ],
      result: admissions.length + made.length,
    };
  },

  async reports(reads, about) {
    const rows = await reads.select<Row<'reports'>>('SELECT * FROM reports WHERE number IN (:numbers)', {
      numbers: about.numbers,
    });
    const changed = rows.flatMap((row) => withoutReporter(row, about) ?? []);
    if (changed.length === 0) return nothing;
    const table = tableOf(
      changed.map((row) => [row.id, row.reporter, row.by_json, row.ended_by_json, row.message_json, row.reason]),
      about.dialect,
    );
    return {
      statements: [
        `UPDATE reports SET reporter = each.value->>1, by_json = each.value->>2, ended_by_json = each.value->>3,
           message_json = each.value->>4, reason = each.value->>5 FROM ${table} WHERE reports.id = each.value->>0`,
      ],
      result: changed.length,
    };
  },

  async pending(reads, { user, pseudonym, numbers, dialect }) {
    const rows = await reads.select<Row<'pending_messages'>>(
      'SELECT * FROM pending_messages WHERE number IN (:numbers)',
      {
        numbers,
      },
    );
    if (rows.length === 0) return nothing;
    // Decisions of the user as a moderator stay, under the pseudonym.
    const [own, others] = [true, false].map((is) => rows.filter((row) => (row.user_id === user) === is));
    const blanked = (json: string | null): string | null => json && withoutActor(json, { user, pseudonym });
    const decided = others?.map((row) => [row.id, blanked(row.cleared_by_json), blanked(row.ended_by_json)]) ?? [];
    const gone = own?.map(({ id }) => [id]) ?? [];
    return {
      statements: [
        ...(own === undefined || own.length === 0
          ? []
          : [
              `DELETE FROM pending_messages WHERE id IN ${listOf(['TEXT'], gone, dialect)}`,
              blankCopies(
                own.map(({ id }) => copyOfPending(id)),
                dialect,
              ),
            ]),
        ...(decided.length === 0
          ? []
          : [
              `UPDATE pending_messages SET cleared_by_json = each.value->>1, ended_by_json = each.value->>2
               FROM ${tableOf(decided, dialect)} WHERE pending_messages.id = each.value->>0`,
            ]),
      ],
      result: rows.length,
    };
  },

  async bans(reads, { user, pseudonym, limit, dialect }) {
    const { isShared } = dialect;
    // What is in force needs to know whom it keeps out.
    const ended = `(lifted_at_ms IS NOT NULL OR until_ms < ${Date.now()})`;
    const rows = await reads.select<{ id: string; user_id: string | null; by_json: string; isEnded: number | boolean }>(
      `SELECT id, user_id, by_json, CASE WHEN ${ended} THEN 1 ELSE 0 END AS "isEnded" FROM bans
       WHERE (user_id = :user AND ${ended}) OR ${within('by_json', ':actor', isShared)} LIMIT :limit`,
      { user, limit, ...needlesOf(user) },
    );
    if (rows.length === 0) return nothing;
    const table = tableOf(
      rows.map(({ id, user_id, by_json, isEnded }) => [
        id,
        user_id === user && Number(isEnded) === 1 ? pseudonym : user_id,
        withoutActor(by_json, { user, pseudonym }),
      ]),
      dialect,
    );
    return {
      statements: [
        `UPDATE bans SET user_id = each.value->>1, by_json = each.value->>2 FROM ${table} WHERE bans.id = each.value->>0`,
      ],
      result: rows.length,
    };
  },

  async deliveries(reads, { user, numbers, dialect }) {
    const rows = await reads.select<Row<'deliveries'>>(
      'SELECT number, state, data_json, bare_json FROM deliveries WHERE number IN (:numbers)',
      { numbers },
    );
    if (rows.length === 0) return nothing;
    const [waiting, ended] = [true, false].map((is) => rows.filter(({ state }) => (state === 'waiting') === is));
    const which = listOf(
      ['BIGINT'],
      (ended as typeof rows).map(({ number }) => [Number(number)]),
      dialect,
    );
    const table = tableOf(
      (waiting as typeof rows).map(({ number, data_json, bare_json }) => [
        Number(number),
        withoutUser(data_json, user),
        bare_json && withoutUser(bare_json, user),
      ]),
      dialect,
    );
    return {
      statements: [
        `DELETE FROM attempts WHERE delivery IN ${which}`,
        `DELETE FROM deliveries WHERE number IN ${which}`,
        `UPDATE deliveries SET data_json = each.value->>1, bare_json = each.value->>2 FROM ${table}
         WHERE deliveries.number = CAST(each.value->>0 AS BIGINT)`,
      ],
      result: rows.length,
    };
  },

  async users(reads, { user, written, limit, dialect }) {
    const threads = await reads.select<{ channel_id: number; root: number | string }>(
      'SELECT channel_id, root FROM thread_marks WHERE user_id = :user LIMIT :limit',
      { user, limit },
    );
    if (threads.length > 0) {
      const which = threads.map(({ channel_id, root }) => [user, channel_id, Number(root)]);
      const those = listOf(['TEXT', 'INTEGER', 'BIGINT'], which, dialect);
      return {
        statements: [`DELETE FROM thread_marks WHERE (user_id, channel_id, root) IN ${those}`],
        result: threads.length,
      };
    }
    const [row] = await reads.select<{ count: number | string }>(
      `SELECT (SELECT COUNT(*) FROM users WHERE id = :user) + (SELECT COUNT(*) FROM user_roles WHERE user_id = :user)
         + (SELECT COUNT(*) FROM notices WHERE user_id = :user) AS count`,
      { user },
    );
    const result = Number(row?.count ?? 0) + written.length;
    if (result === 0) return nothing;
    const which = listOf(['TEXT'], [[user]], dialect);
    return {
      statements: [
        `DELETE FROM notices WHERE user_id IN ${which}`,
        ...withoutNotices(written, dialect),
        `DELETE FROM user_roles WHERE user_id IN ${which}`,
        `DELETE FROM users WHERE id IN ${which}`,
      ],
      result,
    };
  },

  async audit(reads, { user, pseudonym, limit, numbers, dialect }) {
    const { isShared } = dialect;
    const rows = await reads.select<Row<'audit'>>(
      'SELECT number, user_id, by_json FROM audit WHERE number IN (:numbers)',
      {
        numbers,
      },
    );
    const holds = await reads.select<{ channel: string; by_json: string }>(
      `SELECT channel, by_json FROM holds WHERE ${within('by_json', ':actor', isShared)} LIMIT :limit`,
      { limit, ...needlesOf(user) },
    );
    if (rows.length + holds.length === 0) return nothing;
    const entries = rows.map(({ number, user_id, by_json }) => [
      Number(number),
      user_id === user ? pseudonym : user_id,
      withoutActor(by_json, { user, pseudonym }),
    ]);
    const held = holds.map(({ channel, by_json }) => [channel, withoutActor(by_json, { user, pseudonym })]);
    return {
      statements: [
        ...(entries.length === 0
          ? []
          : [
              `UPDATE audit SET user_id = each.value->>1, by_json = each.value->>2 FROM ${tableOf(entries, dialect)}
               WHERE audit.number = CAST(each.value->>0 AS BIGINT)`,
            ]),
        ...(held.length === 0
          ? []
          : [
              `UPDATE holds SET by_json = each.value->>1 FROM ${tableOf(held, dialect)}
               WHERE holds.channel = each.value->>0`,
            ]),
      ],
      result: rows.length + holds.length,
    };
  },
};

const nothing = { statements: [], result: 0 };

/** What is looked for in JSON texts: the user as an actor, as an author, and anywhere. */
function needlesOf(user: string): Readonly<Record<'actor' | 'author' | 'mention' | 'from', string>> {
  const id = JSON.stringify(user);
  return {
    from: `"from":${id}`,
    actor: `{"kind":"user","id":${id}`,
    author: `"by":{"user":${id}`,
    mention: `"user":${id}`,
  };
}

/** Whether a column has a text in it. */
function within(column: string, text: string, isShared: boolean): string {
  return `COALESCE(${isShared ? 'STRPOS' : 'INSTR'}(${column}, ${text}), 0) > 0`;
}

function withoutActor(json: string, { user, pseudonym }: Pick<Wish, 'user' | 'pseudonym'>): string {
  const actor = JSON.parse(json) as { readonly kind: string; readonly id: string };
  return actor.kind === 'user' && actor.id === user ? JSON.stringify({ kind: 'user', id: pseudonym }) : json;
}

/** A report without the user; `undefined` if the user is not in it. */
function withoutReporter(row: Row<'reports'>, wish: Pick<Wish, 'user' | 'pseudonym'>): Row<'reports'> | undefined {
  const { id, reporter, by_json, ended_by_json, message_json } = row;
  const isOwn = reporter === wish.user;
  const changed = {
    ...row,
    // Each may be reported once by each user, also by several who were erased.
    reporter: isOwn ? `${erasedAuthor.user}:${id}` : reporter,
    by_json: isOwn ? JSON.stringify(erasedAuthor) : by_json,
    reason: isOwn ? null : row.reason,
    ended_by_json: ended_by_json === null ? null : withoutActor(ended_by_json, wish),
    message_json: withoutAuthor(message_json, wish.user),
  };
  const isSame = !isOwn && changed.ended_by_json === ended_by_json && changed.message_json === message_json;
  return isSame ? undefined : changed;
}

function withoutAuthor(json: string, user: string): string {
  const message = JSON.parse(json) as { readonly by?: { readonly user: string }; readonly key?: string };
  if (message.by?.user !== user) return json;
  const { key: _, ...rest } = message;
  return JSON.stringify({ ...rest, by: erasedAuthor });
}

/** JSON in which nothing is the user any more, wherever it stands. */
function withoutUser(json: string, user: string): string {
  return JSON.stringify(
    JSON.parse(json, (_, value: Json) => {
      if (typeof value !== 'object' || value === null || Array.isArray(value)) return value;
      const { name: __, ...rest } = value as { readonly [member: string]: Json };
      if (rest.user === user) return { ...rest, ...erasedAuthor };
      // A reason is in the words of who reported or withdrew.
      const { reason: ___, ...silent } = value as { readonly [member: string]: Json };
      return isErased(silent.by) || isErased(silent.revisedBy) ? silent : value;
    }),
  );
}

function isErased(author: Json | undefined): boolean {
  return (author as Partial<Author> | null | undefined)?.user === erasedAuthor.user;
}

/** How a message stands that the user has withdrawn, as its change has it. */
function withReviser(json: string): string {
  if (json === 'null') return json;
  const { reason: _, ...change } = JSON.parse(json) as { readonly reason?: string };
  return JSON.stringify({ ...change, revisedBy: erasedAuthor });
}

function erasureOf(row: Row<'erasures'>): Erasure {
  const { id, user_id, messages, by_json, at_ms, counts_json, held_json, ended_at_ms } = row;
  return {
    id,
    ...(user_id === null ? {} : { user: user_id }),
    messages: messages as Erasure['messages'],
    by: JSON.parse(by_json),
    atMs: Number(at_ms),
    counts: JSON.parse(counts_json),
    held: JSON.parse(held_json),
    ...(ended_at_ms === null ? {} : { endedAtMs: Number(ended_at_ms) }),
  };
}

/** What is given of a person, by its name in the export. */
function recordQueries(isShared: boolean): Readonly<Record<string, string>> {
  return {
    known: `SELECT name, seen_at_ms, inbox_head AS "noticesEver" FROM users WHERE id = :user`,
    roles: 'SELECT role FROM user_roles WHERE user_id = :user',
    notices:
      'SELECT notice_id AS id, title, data_json, at_ms, until_ms FROM notices WHERE user_id = :user ORDER BY number',
    marks: `SELECT c.name AS channel, c.volume || ':' || CAST(k.number AS TEXT) AS cursor FROM marks k
      JOIN channels c ON c.id = k.channel_id WHERE k.user_id = :user ORDER BY c.name`,
    threads: `SELECT c.name AS channel, c.volume || ':' || CAST(k.root AS TEXT) AS thread,
        c.volume || ':' || CAST(k.number AS TEXT) AS cursor FROM thread_marks k
      JOIN channels c ON c.id = k.channel_id WHERE k.user_id = :user ORDER BY c.name, k.root`,
    bans: 'SELECT id, did AS type, channel, reason, at_ms, until_ms, lifted_at_ms FROM bans WHERE user_id = :user',
    cutoffs: 'SELECT before_ms FROM cutoffs WHERE user_id = :user',
    reportsMade: 'SELECT id, channel, cursor, reason, at_ms, ended_at_ms FROM reports WHERE reporter = :user',
    reportsAbout: `SELECT id, channel, cursor, message_json, reason, at_ms, ended_at_ms FROM reports
      WHERE ${within('message_json', ':author', isShared)}`,
    pending: `SELECT id, channel, message_json, reason, at_ms, ended_at_ms, note FROM pending_messages
      WHERE user_id = :user ORDER BY number`,
    audit: `SELECT number, did AS type, user_id AS "user", channel, reason, about, at_ms FROM audit
      WHERE user_id = :user OR ${within('by_json', ':actor', isShared)} ORDER BY number`,
    reactions: `SELECT c.name AS channel, c.volume || ':' || CAST(r.number AS TEXT) AS "of", r.word, r.at_ms
      FROM channels c JOIN reactions r ON r.channel_id = c.id AND r.user_id = :user`,
    blocks: 'SELECT other_id AS "user", kind AS "as", at_ms FROM blocks WHERE user_id = :user ORDER BY other_id',
    levels: 'SELECT channel, level, until_ms FROM levels WHERE user_id = :user ORDER BY channel',
    mentions: `SELECT c.name AS channel, c.volume || ':' || CAST(x.number AS TEXT) AS cursor FROM mentioned x
      JOIN channels c ON c.id = x.channel_id WHERE x.user_id = :user ORDER BY c.name, x.number`,
    admissions:
      'SELECT channel, role, invitation, at_ms, until_ms FROM admissions WHERE user_id = :user ORDER BY channel',
    invitations: `SELECT id, channel, user_id AS "user", role, uses, used, at_ms, until_ms, revoked_at_ms FROM invitations
      WHERE user_id = :user OR ${within('by_json', ':actor', isShared)} ORDER BY number`,
    changes: `SELECT c.name AS channel, c.volume || ':' || CAST(m.number AS TEXT) AS cursor,
        c.volume || ':' || CAST(m.target AS TEXT) AS "of", m.at_ms FROM channels c
      JOIN messages m ON m.channel_id = c.id AND m.author = :user WHERE m.target IS NOT NULL`,
  };
}

/** A row with times as RFC 3339 and JSON as it is. */
function shownRow(row: Readonly<Record<string, unknown>>): { readonly [member: string]: Json } {
  const shown: Record<string, Json> = {};
  for (const [name, value] of Object.entries(row)) {
    if (value === null || value === undefined) continue;
    if (name.endsWith('_json')) shown[name.slice(0, -5)] = JSON.parse(String(value)) as Json;
    else if (name.endsWith('_at_ms') || name === 'at_ms')
      shown[camel(name.replace(/_ms$/, ''))] = new Date(Number(value)).toISOString();
    else if (name.endsWith('_ms')) shown[camel(name.slice(0, -3))] = new Date(Number(value)).toISOString();
    else shown[camel(name)] = /^(number|noticesEver)$/.test(name) ? Number(value) : (value as Json);
  }
  return shown;
}

function camel(name: string): string {
  return name.replaceAll(/_([a-z])/g, (_, letter: string) => letter.toUpperCase());
}
