import {
  type Appended,
  type AuditEntry,
  counts,
  type Draft,
  firstToRead,
  gapAfter,
  type InboxEntry,
  type InboxSlice,
  type InForce,
  type KeepingOut,
  type KeptChannel,
  type KnownUser,
  keepsOut,
  LoggedMessage,
  type LogSlice,
  lastWithinBytes,
  type MarkStanding,
  type Measure,
  type NoticeDraft,
  type Place,
  type ReadLimit,
  type Store,
  type UserMark,
  withinBytes,
} from '@nine-bells/core';
import { type ChannelName, ProblemError, refusal } from '@nine-bells/wire';
import {
  ConnectionError,
  DatabaseError,
  Op,
  QueryTypes,
  type Sequelize,
  UniqueConstraintError,
  type WhereOptions,
} from 'sequelize';
import { addToAudit, auditEntryOf } from './audit.js';
import type { Database } from './database.js';
import { InboxStore } from './inboxStore.js';
import { MarkStore } from './markStore.js';
import type { AuditRow, BanRow, ChannelRow, CutoffRow, MarkRow, MessageRow } from './models.js';

/** Most messages of one commit. */
const groupMessages = 4000;
/** Most characters of data of one commit; one message alone may have more. */
const groupChars = 8_388_608;
/** Most channels of which it is remembered where they stand. */
const mostHeads = 10_000;
/** Rows read at a time, so that a bound in bytes does not read thousands of long messages for nothing. */
const pageRows = 200;

interface Waiting {
  readonly channel: ChannelName;
  readonly draft: Draft;
  readonly resolve: (appended: Appended) => void;
  readonly reject: (error: Error) => void;
}

/**
 * Kept logbooks in the database. What arrives while a commit is under way goes into the next one together, so that the
 * cost of a commit is shared (promise 4).
 */
export class SqlStore implements Store {
  readonly #database: Database;
  readonly #volume: string;
  readonly #inboxes: InboxStore;
  readonly #marks: MarkStore;
  /** Where channels stand, if nobody else writes; of those written to last. */
  readonly #heads = new Map<ChannelName, HeadRow>();
  #waiting: Waiting[] = [];
  #committing: Promise<void> | undefined;

  private constructor(database: Database, volume: string) {
    this.#database = database;
    this.#volume = volume;
    this.#inboxes = new InboxStore(database, volume);
    this.#marks = new MarkStore(database, volume);
  }

  static async open(database: Database): Promise<SqlStore> {
    const fact = await database.models.facts.findByPk('volume', { raw: true });
    if (fact === null) throw new Error('the database has no volume: it was not made by this service');
    return new SqlStore(database, (fact as unknown as { value: string }).value);
  }

  append(channel: ChannelName, draft: Draft): Promise<Appended> {
    return new Promise((resolve, reject) => {
      this.#waiting.push({ channel, draft, resolve, reject });
      this.#committing ??= this.#commitAll();
    });
  }

  async head(channel: ChannelName): Promise<Place> {
    return placeOf(await this.#row(channel), this.#volume);
  }

  async heads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    const rows = (await this.#database.models.channels.findAll({
      attributes: ['name', 'volume', 'head'],
      where: { name: [...channels] },
      raw: true,
    })) as unknown as ChannelRow[];
    const found = new Map(rows.map((row) => [row.name, row]));
    return channels.map((channel) => placeOf(found.get(channel), this.#volume));
  }

  async since(channel: ChannelName, after: Place, limit: ReadLimit): Promise<LogSlice> {
    const row = await this.#row(channel);
    const head = placeOf(row, this.#volume);
    const gap = gapAfter(after, 1, head);
    const from = firstToRead(after, gap, 1, head);
    const given = gap === undefined ? {} : { gap };
    if (row === undefined || from > head.number) return { messages: [], more: false, head, ...given };

    const found: LoggedMessage[] = [];
    let bytes = 0;
    for (let next = from; next <= head.number && found.length < limit.messages && bytes < limit.bytes; ) {
      const count = Math.min(pageRows, limit.messages - found.length);
      const page = await this.#messages(row, { [Op.between]: [next, Math.min(head.number, next + count - 1)] }, count);
      if (page.length === 0)
        throw new Error(`channel ${channel} has no message ${next}, though its head is ${head.number}`);
      found.push(...page);
      bytes += page.reduce((sum, each) => sum + each.text.length, 0);
      next = (page.at(-1) as LoggedMessage).place.number + 1;
    }
    const messages = withinBytes(found, limit.bytes);
    return { messages, more: (messages.at(-1)?.place.number ?? head.number) < head.number, head, ...given };
  }

  async before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): Promise<LogSlice> {
    const row = await this.#row(channel);
    const head = placeOf(row, this.#volume);
    const lost = before !== undefined && (before.volume !== head.volume || before.number > head.number + 1);
    const end = before === undefined || lost ? head.number : before.number - 1;
    const given = lost ? { gap: 'new-volume' as const } : {};
    if (row === undefined || end < 1 || limit.messages === 0) return { messages: [], more: end > 0, head, ...given };

    const found: LoggedMessage[] = [];
    let bytes = 0;
    for (let last = end; last >= 1 && found.length < limit.messages && bytes < limit.bytes; last -= pageRows) {
      const count = Math.min(pageRows, limit.messages - found.length);
      found.unshift(...(await this.#messages(row, { [Op.between]: [Math.max(1, last - count + 1), last] }, count)));
      bytes = found.reduce((sum, each) => sum + each.text.length, 0);
    }
    const messages = lastWithinBytes(found, limit.bytes);
    return { messages, more: (messages[0]?.place.number ?? 1) > 1, head, ...given };
  }

  async channels(after: string, limit: number): Promise<readonly KeptChannel[]> {
    const rows = (await this.#database.models.channels.findAll({
      where: { head: { [Op.gt]: 0 }, name: { [Op.gt]: after } },
      order: ['name'],
      limit,
      raw: true,
    })) as unknown as ChannelRow[];
    return rows.map((row) => ({
      channel: row.name as ChannelName,
      head: placeOf(row, row.volume),
      lastAt: Number(row.last_at_ms),
    }));
  }

  async take(measure: Measure): Promise<void> {
    try {
      await this.#database.write(async (writer) => {
        const tables = writer.getQueryInterface();
        if (keepsOut(measure)) await tables.bulkInsert('bans', [banRowOf(measure)]);
        else if (measure.did === 'lift')
          await tables.bulkUpdate('bans', { lifted_at_ms: measure.atMs }, { id: measure.ban });
        else if (measure.did !== 'remove')
          await tables.bulkInsert('cutoffs', [{ user_id: measure.user, before_ms: measure.atMs }], {
            updateOnDuplicate: ['before_ms'],
            upsertKeys: ['user_id'],
          } as object);
        await addToAudit(writer, measure);
      });
    } catch (error) {
      throw failureOf(error);
    }
  }

  async notify(drafts: readonly NoticeDraft[]): Promise<readonly InboxEntry[]> {
    try {
      return await this.#inboxes.notify(drafts);
    } catch (error) {
      throw failureOf(error);
    }
  }

  inbox(user: string, after: Place | undefined, limit: number, nowMs: number): Promise<InboxSlice> {
    return this.#inboxes.inbox(user, after, limit, nowMs);
  }

  done(user: string, ids: readonly string[] | true, nowMs: number): Promise<number> {
    return this.#inboxes.done(user, ids, nowMs);
  }

  meet(users: readonly KnownUser[]): Promise<void> {
    return this.#inboxes.meet(users);
  }

  usersWith(role: string): Promise<readonly string[]> {
    return this.#inboxes.usersWith(role);
  }

  user(id: string): Promise<KnownUser | undefined> {
    return this.#inboxes.user(id);
  }

  async mark(user: string, channel: ChannelName, place: Place | null, most: number): Promise<MarkStanding> {
    try {
      return await this.#marks.mark({ user, channel, place, most });
    } catch (error) {
      throw failureOf(error);
    }
  }

  unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkStanding[]> {
    return this.#marks.unread(user, channels);
  }

  marks(channel: ChannelName, limit: number): Promise<readonly UserMark[]> {
    return this.#marks.marks(channel, limit);
  }

  async inForce(atMs: number): Promise<InForce> {
    const { bans, cutoffs } = this.#database.models;
    const inForce = { lifted_at_ms: null, until_ms: { [Op.or]: [{ [Op.is]: null }, { [Op.gt]: atMs }] } };
    const banRows = (await bans.findAll({ where: inForce as WhereOptions, raw: true })) as unknown as BanRow[];
    const cutoffRows = (await cutoffs.findAll({ raw: true })) as unknown as CutoffRow[];
    return {
      keepingOut: banRows.map(keepingOutOf),
      cutoffs: cutoffRows.map((row) => ({ user: row.user_id, beforeMs: Number(row.before_ms) })),
    };
  }

  async audit(before: number | undefined, limit: number): Promise<readonly AuditEntry[]> {
    const rows = await this.#database.models.audit.findAll({
      ...(before === undefined ? {} : { where: { number: { [Op.lt]: before } } }),
      order: [['number', 'DESC']],
      limit,
      raw: true,
    });
    return (rows as unknown as AuditRow[]).map(auditEntryOf);
  }

  /** Resolves when everything that was waiting has been committed. */
  async settled(): Promise<void> {
    while (this.#committing !== undefined) await this.#committing;
  }

  // --------------------------------------------------------------------------------------------- committing

  async #commitAll(): Promise<void> {
    // The rest of this turn's messages join the first commit.
    await Promise.resolve();
    while (this.#waiting.length > 0) {
      const group = this.#nextGroup();
      try {
        const appended = await this.#commitGroup(group);
        for (const [index, each] of group.entries()) each.resolve(appended[index] as Appended);
      } catch (error) {
        this.#heads.clear();
        const failure = failureOf(error);
        for (const each of group) each.reject(failure);
      }
    }
    this.#committing = undefined;
  }

  /** As many of those that wait as one commit takes. */
  #nextGroup(): readonly Waiting[] {
    let chars = 0;
    let count = 0;
    for (; count < this.#waiting.length && count < groupMessages; count++) {
      chars += (this.#waiting[count] as Waiting).draft.dataText.length;
      if (chars > groupChars && count > 0) break;
    }
    return this.#waiting.splice(0, count);
  }

  /** A key is seldom known: it is looked up only when the database says that one of the group is. */
  async #commitGroup(group: readonly Waiting[]): Promise<readonly Appended[]> {
    const heads = this.#knownHeads(group);
    try {
      if (heads === undefined) return await this.#commitLookedUp(group, false);
      const { appended, statements } = this.#entries(group, heads, new Map());
      await this.#database.commitToFile(statements);
      this.#remember(heads);
      return appended;
    } catch (error) {
      if (!isTaken(error)) throw error;
      return this.#commitLookedUp(group, true);
    }
  }

  /** As far as they are known, a group's channels; `undefined` where one must be looked up. */
  #knownHeads(group: readonly Waiting[]): Map<ChannelName, HeadRow> | undefined {
    const heads = new Map<ChannelName, HeadRow>();
    for (const { channel } of group) {
      if (heads.has(channel)) continue;
      const known = this.#heads.get(channel);
      if (known === undefined) return undefined;
      heads.set(channel, { ...known });
    }
    return heads;
  }

  /** What others write too must be looked up each time. */
  #remember(heads: ReadonlyMap<ChannelName, HeadRow>): void {
    if (this.#database.isShared) return;
    if (this.#heads.size + heads.size > mostHeads) this.#heads.clear();
    for (const [name, row] of heads) this.#heads.set(name, row);
  }

  /** One transaction in which the channels are looked up, and if need be what was published before under the keys. */
  async #commitLookedUp(group: readonly Waiting[], looksUpKeys: boolean): Promise<readonly Appended[]> {
    const { heads, appended } = await this.#database.write(async (writer) => {
      const found = await this.#channelsOf(writer, group);
      const known = looksUpKeys ? await this.#knownKeys(writer, group, found) : new Map<string, LoggedMessage>();
      const entries = this.#entries(group, found, known);
      for (const each of entries.statements) await writer.query(each);
      return { heads: found, appended: entries.appended };
    });
    this.#remember(heads);
    return appended;
  }

  /** Gives the numbers, and makes the statements that write the rows and move the heads. */
  #entries(
    group: readonly Waiting[],
    heads: ReadonlyMap<ChannelName, HeadRow>,
    known: Map<string, LoggedMessage>,
  ): { readonly appended: readonly Appended[]; readonly statements: readonly string[] } {
    const rows: unknown[][] = [];
    const changed = new Set<HeadRow>();
    const begun: unknown[][] = [];
    const appended = group.map(({ channel, draft }): Appended => {
      const row = heads.get(channel) as HeadRow;
      const key = draft.key === undefined ? undefined : keyOf(row.id, draft.by?.user ?? '', draft.key);
      const first = key === undefined ? undefined : known.get(key);
      if (first !== undefined) return { logged: first, repeated: true };
      row.head += 1;
      if (!counts(draft.type)) row.notes += 1;
      row.last_at_ms = draft.atMs;
      changed.add(row);
      const logged = new LoggedMessage(channel, { volume: row.volume, number: row.head }, draft);
      if (key !== undefined) known.set(key, logged);
      rows.push(valuesOf(row, draft));
      if (row.head === 1) for (const user of draft.begins ?? []) begun.push([user, row.id, 0, 0]);
      return { logged, repeated: false, counted: row.head - row.notes };
    });
    const { isShared } = this.#database;
    const statements: string[] = [];
    if (rows.length > 0) statements.push(insertOf('messages', messageColumns, rows, isShared));
    if (changed.size > 0) statements.push(moveHeads([...changed], isShared));
    if (begun.length > 0) statements.push(`${insertOf('marks', markColumns, begun, isShared)} ON CONFLICT DO NOTHING`);
    return { appended, statements };
  }

  /** The rows of a group's channels, made where there are none. */
  async #channelsOf(writer: Sequelize, group: readonly Waiting[]): Promise<Map<ChannelName, HeadRow>> {
    const names = [...new Set(group.map(({ channel }) => channel))];
    const select = async (): Promise<Map<ChannelName, HeadRow>> => {
      const rows = await writer.query<ChannelRow>(
        'SELECT id, name, volume, head, notes, last_at_ms FROM channels WHERE name IN (:names)',
        {
          replacements: { names },
          type: QueryTypes.SELECT,
        },
      );
      return new Map(
        rows.map((row) => [row.name as ChannelName, { ...row, head: Number(row.head), notes: Number(row.notes) }]),
      );
    };
    const found = await select();
    const missing = names.filter((name) => !found.has(name));
    if (missing.length === 0) return found;
    await writer.getQueryInterface().bulkInsert(
      'channels',
      missing.map((name) => ({ name, volume: this.#volume, head: 0, notes: 0, last_at_ms: 0 })),
    );
    return select();
  }

  /** What was published before under the keys of a group. */
  async #knownKeys(
    writer: Sequelize,
    group: readonly Waiting[],
    channels: ReadonlyMap<ChannelName, HeadRow>,
  ): Promise<Map<string, LoggedMessage>> {
    const known = new Map<string, LoggedMessage>();
    const keys = [...new Set(group.flatMap(({ draft }) => (draft.key === undefined ? [] : [draft.key])))];
    if (keys.length === 0) return known;
    const byId = new Map([...channels].map(([name, row]) => [row.id, { name, row }]));
    const rows = await writer.query<MessageRow>(
      'SELECT * FROM messages WHERE channel_id IN (:channels) AND publish_key IN (:keys)',
      { replacements: { channels: [...byId.keys()], keys }, type: QueryTypes.SELECT },
    );
    for (const row of rows) {
      const { name, row: channel } = byId.get(row.channel_id) as { name: ChannelName; row: HeadRow };
      known.set(keyOf(row.channel_id, row.author, row.publish_key as string), loggedOf(name, channel.volume, row));
    }
    return known;
  }

  // ------------------------------------------------------------------------------------------------ reading

  async #row(channel: ChannelName): Promise<ChannelRow | undefined> {
    const row = await this.#database.models.channels.findOne({ where: { name: channel }, raw: true });
    return (row ?? undefined) as ChannelRow | undefined;
  }

  async #messages(row: ChannelRow, number: object, limit: number): Promise<LoggedMessage[]> {
    const rows = (await this.#database.models.messages.findAll({
      where: { channel_id: row.id, number } as WhereOptions,
      order: ['number'],
      limit,
      raw: true,
    })) as unknown as MessageRow[];
    return rows.map((each) => loggedOf(row.name as ChannelName, row.volume, each));
  }
}

/** The columns of a row, in the order in which its values are given; with the type of those that are not text. */
type Columns<Row> = Readonly<Record<keyof Row, 'TEXT' | 'INTEGER' | 'BIGINT'>>;

const messageColumns: Columns<MessageRow> = {
  channel_id: 'INTEGER',
  number: 'BIGINT',
  message_id: 'TEXT',
  type: 'TEXT',
  author: 'TEXT',
  publish_key: 'TEXT',
  by_json: 'TEXT',
  at_ms: 'BIGINT',
  data_json: 'TEXT',
  except_json: 'TEXT',
  notes: 'BIGINT',
};

const markColumns: Columns<MarkRow> = { user_id: 'TEXT', channel_id: 'INTEGER', number: 'BIGINT', notes: 'BIGINT' };

const headColumns: Columns<Pick<ChannelRow, 'id' | 'head' | 'notes' | 'last_at_ms'>> = {
  id: 'INTEGER',
  head: 'BIGINT',
  notes: 'BIGINT',
  last_at_ms: 'BIGINT',
};

/** The values of a message, as `messageColumns` has them. Hot: once per message. */
function valuesOf({ id, head, notes }: HeadRow, draft: Draft): unknown[] {
  const { by, except } = draft;
  return [
    id,
    head,
    draft.id,
    draft.type,
    by?.user ?? '',
    draft.key ?? null,
    by === undefined ? null : JSON.stringify(by),
    draft.atMs,
    draft.dataText,
    except?.length ? JSON.stringify(except) : null,
    notes,
  ];
}

/**
 * Rows as a table that a statement selects from. All are one JSON text, which the database takes apart itself, in a thread
 * that is not ours; values written out one by one take several times as long to make.
 */
function tableOf(rows: readonly unknown[][], isShared: boolean): string {
  // In JSON text there is no character that ends a literal but the quote, and none that SQL reads otherwise.
  const literal = `'${JSON.stringify(rows).replaceAll("'", "''")}'`;
  return isShared ? `json_array_elements(CAST(${literal} AS json)) AS each(value)` : `jsonb_each(${literal}) AS each`;
}

function columnsOf(columns: Columns<unknown>): string[] {
  return Object.values(columns).map((type, index) =>
    type === 'TEXT' ? `each.value->>${index}` : `CAST(each.value->>${index} AS ${type})`,
  );
}

function insertOf<Row>(table: string, columns: Columns<Row>, rows: readonly unknown[][], isShared: boolean): string {
  const names = Object.keys(columns).join(', ');
  // SQLite takes what follows for a part of a join, were there no condition.
  return `INSERT INTO ${table} (${names}) SELECT ${columnsOf(columns).join(', ')} FROM ${tableOf(rows, isShared)} WHERE true`;
}

function moveHeads(changed: readonly HeadRow[], isShared: boolean): string {
  const rows = changed.map(({ id, head, notes, last_at_ms }) => [id, head, notes, last_at_ms]);
  const [id, ...values] = columnsOf(headColumns);
  const [, ...names] = Object.keys(headColumns);
  const moved = names.map((name, index) => `${name} = ${values[index]}`).join(', ');
  return `UPDATE channels SET ${moved} FROM ${tableOf(rows, isShared)} WHERE channels.id = ${id}`;
}

type HeadRow = { -readonly [K in keyof ChannelRow]: ChannelRow[K] };

function placeOf(row: ChannelRow | undefined, volume: string): Place {
  return row === undefined ? { volume, number: 0 } : { volume: row.volume, number: Number(row.head) };
}

function keyOf(channel: number, author: string, key: string): string {
  return `${channel}\u0000${author}\u0000${key}`;
}

function loggedOf(channel: ChannelName, volume: string, row: MessageRow): LoggedMessage {
  return new LoggedMessage(
    channel,
    { volume, number: Number(row.number) },
    {
      id: row.message_id,
      type: row.type,
      atMs: Number(row.at_ms),
      dataText: row.data_json,
      ...(row.publish_key === null ? {} : { key: row.publish_key }),
      ...(row.by_json === null ? {} : { by: JSON.parse(row.by_json) }),
      ...(row.except_json === null ? {} : { except: JSON.parse(row.except_json) }),
    },
  );
}

function banRowOf(measure: KeepingOut): BanRow {
  return {
    id: measure.id,
    did: measure.did,
    user_id: measure.user ?? null,
    address: measure.did === 'ban' ? (measure.address ?? null) : null,
    channel: measure.channel ?? null,
    reason: measure.reason ?? null,
    by_json: JSON.stringify(measure.by),
    at_ms: measure.atMs,
    until_ms: measure.untilMs ?? null,
    lifted_at_ms: null,
  };
}

function keepingOutOf(row: BanRow): KeepingOut {
  return {
    id: row.id,
    did: row.did,
    by: JSON.parse(row.by_json),
    atMs: Number(row.at_ms),
    ...(row.user_id === null ? {} : { user: row.user_id }),
    ...(row.address === null ? {} : { address: row.address }),
    ...(row.channel === null ? {} : { channel: row.channel }),
    ...(row.reason === null ? {} : { reason: row.reason }),
    ...(row.until_ms === null ? {} : { untilMs: Number(row.until_ms) }),
  } as KeepingOut;
}

/** What a shared database says while it is away (SQLSTATE classes 08, 53 and 57), or cannot be reached at all. */
function isAway(error: Error): boolean {
  const { code } = (error instanceof DatabaseError ? error.original : {}) as { code?: string };
  return error instanceof ConnectionError || /^(08|53|57)/.test(code ?? '') || /terminat|closed/i.test(error.message);
}

/** A row with this key, or this number, is there already. */
function isTaken(error: unknown): boolean {
  return (
    error instanceof UniqueConstraintError || (error instanceof Error && /UNIQUE constraint failed/.test(error.message))
  );
}

/** SQLite's own words for "not now". */
const passing = /SQLITE_(BUSY|FULL|IOERR|LOCKED|READONLY|CANTOPEN)/;

function failureOf(error: unknown): Error {
  if (error instanceof ProblemError) return error;
  if (error instanceof Error && (passing.test(error.message) || isAway(error))) {
    const refused = refusal('unavailable', 'it could not be committed to the database; nothing was done', {
      retryAfterMs: 1000,
    });
    refused.cause = error;
    return refused;
  }
  return error instanceof Error ? error : new Error(String(error));
}
