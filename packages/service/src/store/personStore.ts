import {
  type Actor,
  type Committing,
  type ErasedRecord,
  type Erasure,
  type PersonMessages,
  type PersonPlace,
  type PersonRecords,
  type PersonStore,
  pseudonymOf,
  type RecordsToErase,
  type Revocation,
} from '@nine-bells/core';
import type { ChannelName, Json } from '@nine-bells/wire';
import { addToAudit, auditData } from './audit.js';
import { blockData } from './blockStore.js';
import type { Database } from './database.js';
import { deliveryData } from './deliveryRows.js';
import { userData } from './inboxStore.js';
import { invitationData } from './invitationStore.js';
import { markData } from './markStore.js';
import { levelData, mentionData } from './mentionStore.js';
import { changeData } from './messageChanges.js';
import { loggedOf } from './messageRows.js';
import { banData, cutOff, effectOf } from './moderationStore.js';
import { pendingData } from './pendingStore.js';
import { nothingToErase, type PersonalData, textsNaming } from './personalData.js';
import { reactionData } from './reactionStore.js';
import { reportData } from './reportStore.js';
import { insertOf, overwriting, updatesOf } from './statements.js';
import type { Row } from './tables.js';

/** Maximum number of rows of a kind in an export. */
const maxRecords = 10_000;

/** Personal data of all tables. */
export const personalData: Readonly<Record<ErasedRecord | 'marks' | 'erasures', PersonalData>> = {
  changes: changeData,
  reactions: reactionData,
  blocks: blockData,
  levels: levelData,
  mentions: mentionData,
  invitations: invitationData,
  reports: reportData,
  pending: pendingData,
  bans: banData,
  deliveries: deliveryData,
  users: userData,
  audit: auditData,
  marks: markData,
  // An ended erasure no longer names the user. The operator stays, as in the audit log.
  erasures: { tables: ['erasures'] },
};

/** Exports and erases what the service stores about a user. */
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
    const row = {
      id,
      user_id: user ?? null,
      counts_json: JSON.stringify(counts),
      held_json: JSON.stringify(held),
      until_ms: untilMs,
      ended_at_ms: endedAtMs ?? null,
    };
    return this.#do(updatesOf('erasures', [row], this.#database));
  }

  takeErasures(nowMs: number, untilMs: number): Promise<readonly Erasure[]> {
    return this.#database.write(async (reads) => {
      const rows = await reads.select<Row<'erasures'>>(
        'SELECT * FROM erasures WHERE user_id IS NOT NULL AND (until_ms < :nowMs OR until_ms > :untilMs)',
        { nowMs, untilMs },
      );
      const taken = updatesOf(
        'erasures',
        rows.map(({ id }) => ({ id, until_ms: untilMs })),
        this.#database,
      );
      // Erasures begun by earlier versions may lack it.
      const open = rows.filter(({ ended_at_ms }) => ended_at_ms === null);
      const revoked = open.map(({ user_id, at_ms }) => [user_id as string, Number(at_ms)] as const);
      const statements = open.length === 0 ? taken : [...taken, cutOff(revoked, this.#database)];
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
      // Without the quoted message: its author is another user.
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

  async eraseRecords(records: RecordsToErase): Promise<number> {
    const { reads } = this.#database;
    const request = { ...records, pseudonym: pseudonymOf(records.erasure), dialect: this.#database };
    const { find, erase } = personalData[records.kind];
    const { numbers = [], notices = [] } = (await find?.(reads, request)) ?? {};
    return this.#database.write(async (writerReads) => {
      const plan = (await erase?.(writerReads, { ...request, numbers: [0, ...numbers], notices })) ?? nothingToErase;
      return { statements: overwriting(plan.statements, this.#database), result: plan.result };
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
    const found: Record<string, readonly { readonly [member: string]: Json }[]> = {};
    for (const { exports } of Object.values(personalData))
      for (const [name, query] of Object.entries(exports?.(this.#database) ?? {})) {
        const values = { user, ...textsNaming(user) };
        const rows = await this.#database.reads.select<Record<string, unknown>>(`${query} LIMIT ${maxRecords}`, values);
        found[name] = rows.map(shownRow);
      }
    return found;
  }

  #do(statements: readonly string[]): Promise<void> {
    return this.#database.write(async () => ({ statements, result: undefined }));
  }
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

/** Returns a row of an export: times as RFC 3339, JSON as it is. */
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
