import {
  type Appended,
  type AuditEntry,
  BoundedMap,
  countsAsUnread,
  type Draft,
  firstToRead,
  gapAfter,
  type InboxEntry,
  type InboxSlice,
  type InForce,
  type KeptChannel,
  type KnownUser,
  keyName,
  LoggedMessage,
  type LogSlice,
  lastWithinBytes,
  type MarkState,
  type ModerationAction,
  type NoticeDraft,
  type Place,
  type ReadLimit,
  type Report,
  type Store,
  type UserMark,
  withinBytes,
} from '@nine-bells/core';
import { type ChannelName, defined } from '@nine-bells/wire';
import { col, fn, Op, type WhereOptions, where } from 'sequelize';
import type { Database, Reads } from './database.js';
import { failureOf, isPassing, isTaken, UnknownOutcome } from './failures.js';
import { InboxStore } from './inboxStore.js';
import { MarkStore } from './markStore.js';
import type { ChannelRow, MarkRow, MessageRow } from './models.js';
import { ModerationStore } from './moderationStore.js';
import { type Columns, columnsOf, type Dialect, insertOf, makeChannels, tableOf } from './statements.js';

/** Most messages of one commit. */
const groupMessages = 4000;
/** Most characters of data of one commit; one message alone may have more. */
const groupChars = 8_388_608;
/** Most channels of which it is remembered where they stand. */
const maxHeads = 10_000;
/** Rows read at a time, so that a bound in bytes does not read thousands of long messages for nothing. */
const pageRows = 200;

/** Channels whose heads are checked in one query. */
const checkedChannels = 20_000;
/** For how long a group is tried again when the connection to a shared database ends, and how long between, in milliseconds. */
const tryMs = 3_000;
const tryAgainMs = 50;

interface Waiting {
  readonly channel: ChannelName;
  readonly draft: Draft;
  readonly resolve: (appended: Appended) => void;
  readonly reject: (error: Error) => void;
}

/** A part of a record without holes, in the order in which it was read. */
interface Stretch {
  readonly found: readonly LoggedMessage[];
  /** What comes first is not what was asked for: that is missing. */
  readonly isHoleFirst: boolean;
}

const nothing: Stretch = { found: [], isHoleFirst: false };

/** What a transaction has committed. */
interface Committed {
  readonly heads: ReadonlyMap<ChannelName, HeadRow>;
  readonly appended: readonly Appended[];
}

/** A group that is being committed. */
interface Attempt {
  readonly group: readonly Waiting[];
  /** What the last try may have committed: its connection ended during COMMIT. */
  unknown: readonly Appended[] | undefined;
}

/**
 * Kept logbooks in the database. What arrives while a commit is under way goes into the next one together, so that the
 * cost of a commit is shared (promise `acknowledged is safe`).
 */
export class SqlStore implements Store {
  readonly #database: Database;
  readonly #volume: string;
  readonly #inboxes: InboxStore;
  readonly #marks: MarkStore;
  readonly #moderation: ModerationStore;
  /** The heads of channels, if no other instance writes; of those written to last. */
  readonly #heads = new BoundedMap<ChannelName, HeadRow>(maxHeads);
  #waiting: Waiting[] = [];
  #committing: Promise<void> | undefined;

  private constructor(database: Database, volume: string) {
    this.#database = database;
    this.#volume = volume;
    this.#inboxes = new InboxStore(database, volume);
    this.#marks = new MarkStore(database, volume);
    this.#moderation = new ModerationStore(database);
  }

  /** @param report - told of records that are not whole */
  static async open(database: Database, report: Report = () => {}): Promise<SqlStore> {
    const fact = await database.models.facts.findByPk('volume', { raw: true });
    if (fact === null) throw new Error('the database has no volume: it was not made by this service');
    await checkHeads(database, report);
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
    const from = firstToRead(after, gapAfter(after, 1, head), 1, head);
    const { found, isHoleFirst } = from > head.number ? nothing : await this.#stretch(row, from, head.number, limit);
    const gap = gapAfter(after, 1, head) ?? (isHoleFirst ? 'lost' : undefined);
    const messages = withinBytes(found, limit.bytes);
    const last = messages.at(-1)?.place.number ?? head.number;
    return { messages, more: last < head.number, head, ...defined({ gap }) };
  }

  async before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): Promise<LogSlice> {
    const row = await this.#row(channel);
    const head = placeOf(row, this.#volume);
    const lost = before !== undefined && (before.volume !== head.volume || before.number > head.number + 1);
    const end = before === undefined || lost ? head.number : before.number - 1;
    const { found, isHoleFirst } = end < 1 ? nothing : await this.#stretch(row, end, 1, limit);
    const gap = lost ? 'new-volume' : isHoleFirst ? 'lost' : undefined;
    const messages = lastWithinBytes([...found].reverse(), limit.bytes);
    const more = messages.length === 0 ? limit.messages === 0 && end > 0 : (messages[0]?.place.number ?? 1) > 1;
    return { messages, more, head, ...defined({ gap }) };
  }

  async channels(after: string, limit: number, find = ''): Promise<readonly KeptChannel[]> {
    const position = this.#database.isShared ? 'STRPOS' : 'INSTR';
    const withText = where(fn(position, fn('LOWER', col('name')), find.toLowerCase()), { [Op.gt]: 0 });
    const rows = (await this.#database.models.channels.findAll({
      where: { [Op.and]: [{ head: { [Op.gt]: 0 }, name: { [Op.gt]: after } }, ...(find === '' ? [] : [withText])] },
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

  take(action: ModerationAction): Promise<number> {
    return this.#moderation.take(action);
  }

  changes(): Promise<number> {
    return this.#moderation.changes();
  }

  notify(drafts: readonly NoticeDraft[]): Promise<readonly InboxEntry[]> {
    return this.#inboxes.notify(drafts);
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

  mark(user: string, channel: ChannelName, place: Place | null, most: number): Promise<MarkState> {
    return this.#marks.mark({ user, channel, place, most });
  }

  unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkState[]> {
    return this.#marks.unread(user, channels);
  }

  marks(channel: ChannelName, limit: number): Promise<readonly UserMark[]> {
    return this.#marks.marks(channel, limit);
  }

  inForce(atMs: number): Promise<InForce> {
    return this.#moderation.inForce(atMs);
  }

  audit(before: number | undefined, limit: number, user?: string): Promise<readonly AuditEntry[]> {
    return this.#moderation.audit(before, limit, user);
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
        const appended = await this.#commitWithin(group);
        for (const [index, each] of group.entries()) each.resolve(appended[index] as Appended);
      } catch (error) {
        const failure = failureOf(error, this.#database.isShared);
        for (const each of group) each.reject(failure);
      }
    }
    this.#committing = undefined;
  }

  /**
   * Commits a group. When the connection ends, it is tried again on another one for a while. If that happened during COMMIT,
   * the next try finds out whether it was done: nothing is written twice, and what was written is announced.
   */
  async #commitWithin(group: readonly Waiting[]): Promise<readonly Appended[]> {
    const endMs = performance.now() + tryMs;
    const attempt: Attempt = { group, unknown: undefined };
    for (;;) {
      try {
        return await this.#commitGroup(attempt);
      } catch (error) {
        this.#heads.clear();
        const isShared = this.#database.isShared;
        if (!isShared || !isPassing(error, isShared) || performance.now() > endMs)
          throw attempt.unknown === undefined ? error : new UnknownOutcome('', { cause: error });
        await new Promise((resolve) => setTimeout(resolve, tryAgainMs));
      }
    }
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
  async #commitGroup(attempt: Attempt): Promise<readonly Appended[]> {
    const { group } = attempt;
    const heads = attempt.unknown === undefined ? this.#knownHeads(group) : undefined;
    try {
      if (heads === undefined) return await this.#commitLookedUp(attempt, false);
      const { appended, statements } = this.#entries(group, heads, new Map());
      await this.#database.commitToFile(statements);
      this.#remember(heads);
      return appended;
    } catch (error) {
      if (!isTaken(error)) throw error;
      return this.#commitLookedUp(attempt, true);
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
    for (const [name, row] of heads) this.#heads.set(name, row);
  }

  /** One transaction in which the channels are looked up, and if need be what was published before under the keys. */
  async #commitLookedUp(attempt: Attempt, looksUpKeys: boolean): Promise<readonly Appended[]> {
    const { group } = attempt;
    const names = [...new Set(group.map(({ channel }) => channel))];
    for (;;) {
      let planned: readonly Appended[] | undefined;
      try {
        const done = await this.#database.attempt<Committed | undefined>(async (reads) => {
          const before = await this.#whatWasDone(reads, attempt);
          if (before !== undefined) return { statements: [], result: { heads: new Map(), appended: before } };
          const heads = await headsOf(reads, names);
          const missing = names.filter((name) => !heads.has(name));
          if (missing.length > 0)
            return { statements: [makeChannels(missing, this.#volume, this.#database)], result: undefined };
          const known = looksUpKeys ? await this.#knownKeys(reads, group, heads) : new Map<string, LoggedMessage>();
          const { statements, appended } = this.#entries(group, heads, known);
          planned = appended;
          return { statements, result: { heads, appended } };
        });
        // The channels are there now.
        if (done === undefined) continue;
        this.#remember(done.heads);
        return done.appended;
      } catch (error) {
        if (error instanceof UnknownOutcome) attempt.unknown = planned;
        throw error;
      }
    }
  }

  /** What the last try has committed, whose outcome was not known; `undefined` if it was not done. */
  async #whatWasDone(reads: Reads, attempt: Attempt): Promise<readonly Appended[] | undefined> {
    const { unknown } = attempt;
    attempt.unknown = undefined;
    const first = unknown?.find(({ repeated }) => !repeated)?.logged;
    if (first === undefined) return undefined;
    const rows = await reads.select(
      `SELECT m.number FROM messages m JOIN channels c ON c.id = m.channel_id
       WHERE c.name = :channel AND m.number = :number AND m.message_id = :id`,
      { channel: first.channel, number: first.place.number, id: first.id },
    );
    return rows.length === 0 ? undefined : unknown;
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
      const key =
        draft.key === undefined
          ? undefined
          : keyOf(row.id, { owner: draft.owner, author: draft.by?.user, key: draft.key });
      const first = key === undefined ? undefined : known.get(key);
      if (first !== undefined) return { logged: first, repeated: true };
      row.head += 1;
      if (!countsAsUnread(draft.type)) row.notes += 1;
      row.last_at_ms = draft.atMs;
      changed.add(row);
      const logged = new LoggedMessage(channel, { volume: row.volume, number: row.head }, draft);
      if (key !== undefined) known.set(key, logged);
      rows.push(valuesOf(row, draft));
      if (row.head === 1) for (const user of draft.begins ?? []) begun.push([user, row.id, 0, 0]);
      return { logged, repeated: false, counted: row.head - row.notes };
    });
    const dialect = this.#database;
    const statements: string[] = [];
    if (rows.length > 0) statements.push(insertOf('messages', messageColumns, rows, dialect));
    if (changed.size > 0) statements.push(moveHeads([...changed], dialect));
    if (begun.length > 0) statements.push(insertOf('marks', markColumns, begun, dialect, 'ON CONFLICT DO NOTHING'));
    return { appended, statements };
  }

  /** What was published before under the keys of a group. */
  async #knownKeys(
    reads: Reads,
    group: readonly Waiting[],
    channels: ReadonlyMap<ChannelName, HeadRow>,
  ): Promise<Map<string, LoggedMessage>> {
    const known = new Map<string, LoggedMessage>();
    const keys = [...new Set(group.flatMap(({ draft }) => (draft.key === undefined ? [] : [draft.key])))];
    if (keys.length === 0) return known;
    const byId = new Map([...channels].map(([name, row]) => [row.id, { name, row }]));
    const rows = await reads.select<MessageRow>(
      'SELECT * FROM messages WHERE channel_id IN (:channels) AND publish_key IN (:keys)',
      { channels: [...byId.keys()], keys },
    );
    for (const row of rows) {
      const { name, row: channel } = byId.get(row.channel_id) as { name: ChannelName; row: HeadRow };
      const key = { owner: row.key_owner, author: row.author, key: row.publish_key as string };
      known.set(keyOf(row.channel_id, key), loggedOf(name, channel.volume, row));
    }
    return known;
  }

  // ------------------------------------------------------------------------------------------------ reading

  async #row(channel: ChannelName): Promise<ChannelRow | undefined> {
    const row = await this.#database.models.channels.findOne({ where: { name: channel }, raw: true });
    return (row ?? undefined) as ChannelRow | undefined;
  }

  /** Messages one after the other from a number to another, in either direction, until a bound or a hole ends the stretch. */
  async #stretch(row: ChannelRow | undefined, from: number, to: number, limit: ReadLimit): Promise<Stretch> {
    if (row === undefined) return nothing;
    const step = from <= to ? 1 : -1;
    const found: LoggedMessage[] = [];
    let isHoleFirst = false;
    let bytes = 0;
    for (let next = from; (to - next) * step >= 0; ) {
      const count = Math.min(pageRows, limit.messages - found.length);
      if (count <= 0 || bytes >= limit.bytes) break;
      const range = { [Op.between]: [Math.min(next, to), Math.max(next, to)] };
      const page = await this.#messages(row, range, count, step > 0 ? 'ASC' : 'DESC');
      if (page.length === 0) return { found, isHoleFirst: isHoleFirst || found.length === 0 };
      for (const each of page) {
        if (each.place.number !== next) {
          // The next stretch begins behind the hole, and says so.
          if (found.length > 0) return { found, isHoleFirst };
          isHoleFirst = true;
        }
        found.push(each);
        bytes += each.text.length;
        next = each.place.number + step;
      }
    }
    return { found, isHoleFirst };
  }

  async #messages(row: ChannelRow, number: object, limit: number, order: 'ASC' | 'DESC'): Promise<LoggedMessage[]> {
    const rows = (await this.#database.models.messages.findAll({
      where: { channel_id: row.id, number } as WhereOptions,
      order: [['number', order]],
      limit,
      raw: true,
    })) as unknown as MessageRow[];
    return rows.map((each) => loggedOf(row.name as ChannelName, row.volume, each));
  }
}

const messageColumns: Columns<MessageRow> = {
  channel_id: 'INTEGER',
  number: 'BIGINT',
  message_id: 'TEXT',
  type: 'TEXT',
  author: 'TEXT',
  publish_key: 'TEXT',
  key_owner: 'TEXT',
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
    draft.owner ?? '',
    by === undefined ? null : JSON.stringify(by),
    draft.atMs,
    draft.dataText,
    except?.length ? JSON.stringify(except) : null,
    notes,
  ];
}

function moveHeads(changed: readonly HeadRow[], dialect: Dialect): string {
  const rows = changed.map(({ id, head, notes, last_at_ms }) => [id, head, notes, last_at_ms]);
  const [id, ...values] = columnsOf(headColumns);
  const [, ...names] = Object.keys(headColumns);
  const moved = names.map((name, index) => `${name} = ${values[index]}`).join(', ');
  return `UPDATE channels SET ${moved} FROM ${tableOf(rows, dialect)} WHERE channels.id = ${id}`;
}

type HeadRow = { -readonly [K in keyof ChannelRow]: ChannelRow[K] };

function placeOf(row: ChannelRow | undefined, volume: string): Place {
  return row === undefined ? { volume, number: 0 } : { volume: row.volume, number: Number(row.head) };
}

function keyOf(channel: number, key: Parameters<typeof keyName>[0]): string {
  return `${channel}\u0000${keyName(key)}`;
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

/** Where channels stand, of those that are there. A head that is below a message is raised: no number is given twice. */
async function headsOf(reads: Reads, names: readonly ChannelName[]): Promise<Map<ChannelName, HeadRow>> {
  const rows = await reads.select<ChannelRow & { last: number | string | null }>(
    `SELECT id, name, volume, head, notes, last_at_ms, ${lastOf} AS last FROM channels c WHERE name IN (:names)`,
    { names },
  );
  const heads = new Map<ChannelName, HeadRow>();
  for (const { last, ...row } of rows) {
    const head = { ...row, head: Number(row.head), notes: Number(row.notes) };
    heads.set(row.name as ChannelName, head);
    if (Number(last ?? 0) <= head.head) continue;
    head.head = Number(last);
    const [found] = await reads.select<{ notes: number | string }>(
      'SELECT notes FROM messages WHERE channel_id = :id AND number = :last',
      { id: row.id, last },
    );
    head.notes = Number(found?.notes ?? head.notes);
  }
  return heads;
}

/** The number of the last message of a channel that is there. */
const lastOf = '(SELECT MAX(m.number) FROM messages m WHERE m.channel_id = c.id)';

/**
 * Compares the heads of all channels with their messages. A head that is too low is raised; where messages are missing, all
 * that can be done is to say so.
 */
async function checkHeads(database: Database, report: Report): Promise<void> {
  const [last] = await database.reads.select<{ id: number | null }>('SELECT MAX(id) AS id FROM channels');
  const wrong: { readonly name: ChannelName; readonly head: number | string }[] = [];
  // In portions, so that no query takes longer than it may.
  for (let from = 0; from <= (last?.id ?? 0); from += checkedChannels)
    wrong.push(
      ...(await database.reads.select<(typeof wrong)[number]>(
        `SELECT c.name, c.head FROM channels c
         WHERE c.id >= :from AND c.id < :to AND c.head <> COALESCE(${lastOf}, 0) ORDER BY c.name`,
        { from, to: from + checkedChannels },
      )),
    );
  for (let from = 0; from < wrong.length; from += pageRows) {
    const some = wrong.slice(from, from + pageRows);
    const changes = await database.write(async (reads) => {
      const heads = await headsOf(
        reads,
        some.map(({ name }) => name),
      );
      const result = some.map(({ name, head }) => ({
        name,
        was: Number(head),
        head: heads.get(name)?.head ?? Number(head),
      }));
      const raised = result.filter(({ head, was }) => head > was).map(({ name }) => heads.get(name) as HeadRow);
      return { statements: raised.length === 0 ? [] : [moveHeads(raised, database)], result };
    });
    for (const { name, head, was } of changes)
      report(
        new Error(
          was === head
            ? `messages are missing at the end of ${name}, whose head is ${head}: clients are told by a gap`
            : `the head of ${name} was ${was}, though there are messages up to ${head}: it was raised`,
        ),
        { what: 'a record was not as it should be', channel: name },
      );
  }
}
