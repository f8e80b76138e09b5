import {
  type EarlierRevision,
  firstToRead,
  gapAfter,
  type KeptChannel,
  type LoggedMessage,
  type LogReader,
  type LogSlice,
  lastWithinBytes,
  type Place,
  type ReadLimit,
  withinBytes,
} from '@nine-bells/core';
import { type ChannelName, type Cursor, defined, type MessageFilter, parseCursor } from '@nine-bells/wire';
import { col, fn, literal, Op, type WhereOptions, where } from 'sequelize';
import type { Database } from './database.js';
import { changeOf, loggedOf, placeOf } from './messageRows.js';
import { rowsOf } from './models.js';
import { farInThread, ofThread, withReplies } from './replyRows.js';
import type { Row } from './tables.js';
import type { Volumes } from './volumes.js';

/** Batch size, in rows, so that a limit in bytes does not read thousands of long messages for nothing. */
const pageRows = 200;

/** A part of a record without holes, in reading order. */
interface Stretch {
  readonly found: readonly LoggedMessage[];
  /** The first requested message is missing. */
  readonly isHoleFirst: boolean;
}

/** Numbers that are looked at in one read, where only some messages are wanted. */
const lookedAtOnce = 3_000;

const nothing: Stretch = { found: [], isHoleFirst: false };

/** Reads the records of kept channels. */
export class MessageReads implements LogReader {
  readonly #database: Database;
  readonly #volumes: Volumes;

  /** @param volumes - the volume of channels that are not there yet */
  constructor(database: Database, volumes: Volumes) {
    this.#database = database;
    this.#volumes = volumes;
  }

  async head(channel: ChannelName): Promise<Place> {
    return placeOf(await this.#row(channel), this.#volumes.current);
  }

  async heads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    const rows = rowsOf(
      await this.#database.models.channels.findAll({
        attributes: ['name', 'volume', 'head'],
        where: { name: [...channels] },
        raw: true,
      }),
    );
    const found = new Map(rows.map((row) => [row.name, row]));
    return channels.map((channel) => placeOf(found.get(channel), this.#volumes.current));
  }

  async since(channel: ChannelName, after: Place, limit: ReadLimit): Promise<LogSlice> {
    const row = await this.#row(channel);
    const head = placeOf(row, this.#volumes.current);
    const oldest = oldestOf(row);
    const unreachable = gapAfter(after, oldest, head);
    const from = firstToRead(after, unreachable, oldest, head);
    if (limit.filters !== undefined && row !== undefined && from <= head.number)
      return this.#fitting(row, from, Math.min(head.number, from + lookedAtOnce - 1), limit, head, {
        ...defined({ gap: unreachable }),
      });
    const { found, isHoleFirst } = from > head.number ? nothing : await this.#stretch(row, from, head.number, limit);
    const gap = unreachable ?? (isHoleFirst ? await this.#whyMissing(channel, from) : undefined);
    const messages = withinBytes(found, limit.bytes);
    const last = messages.at(-1)?.place.number ?? head.number;
    return { messages, more: last < head.number, head, ...defined({ gap }) };
  }

  async before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): Promise<LogSlice> {
    const row = await this.#row(channel);
    const head = placeOf(row, this.#volumes.current);
    const lost = before !== undefined && (before.volume !== head.volume || before.number > head.number + 1);
    const end = before === undefined || lost ? head.number : before.number - 1;
    const oldest = oldestOf(row);
    if (limit.filters !== undefined && row !== undefined && end >= oldest)
      return this.#fitting(
        row,
        end,
        await this.#farthest(row, end, oldest, limit.filters),
        limit,
        head,
        lost ? { gap: 'new-volume' } : {},
      );
    const { found, isHoleFirst } = end < oldest ? nothing : await this.#stretch(row, end, oldest, limit);
    const messages = lastWithinBytes([...found].reverse(), limit.bytes);
    const first = messages[0]?.place.number ?? (limit.messages === 0 ? end + 1 : oldest);
    const gap = lost
      ? 'new-volume'
      : isHoleFirst
        ? await this.#whyMissing(channel, end)
        : first <= oldest && oldest > 1
          ? 'expired'
          : undefined;
    return { messages, more: first > oldest, head, ...defined({ gap }) };
  }

  async revisions(
    channel: ChannelName,
    { number }: Place,
    after: number,
    limit: number,
  ): Promise<readonly EarlierRevision[]> {
    const rows = await this.#database.reads.select<Row<'revisions'>>(
      `SELECT r.* FROM revisions r JOIN channels c ON c.id = r.channel_id
       WHERE c.name = :channel AND r.number = :number AND r.revision > :after ORDER BY r.revision LIMIT :limit`,
      { channel, number, after, limit },
    );
    return rows.map(({ revision, data_json, at_ms, by_json }) => ({
      number: Number(revision),
      dataText: data_json,
      atMs: Number(at_ms),
      ...(by_json === null ? {} : { by: JSON.parse(by_json) }),
    }));
  }

  async channels(after: string, limit: number, find = ''): Promise<readonly KeptChannel[]> {
    const position = this.#database.isShared ? 'STRPOS' : 'INSTR';
    const withText = where(fn(position, fn('LOWER', col('name')), find.toLowerCase()), { [Op.gt]: 0 });
    const rows = rowsOf(
      await this.#database.models.channels.findAll({
        where: { [Op.and]: [{ head: { [Op.gt]: 0 }, name: { [Op.gt]: after } }, ...(find === '' ? [] : [withText])] },
        order: ['name'],
        limit,
        raw: true,
      }),
    );
    return rows.map((row) => ({
      channel: row.name as ChannelName,
      head: placeOf(row, row.volume),
      lastAt: Number(row.last_at_ms),
    }));
  }

  /** Returns why a message is missing: it may have been pruned during the read. */
  async #whyMissing(channel: ChannelName, number: number): Promise<'expired' | 'lost'> {
    return number < oldestOf(await this.#row(channel)) ? 'expired' : 'lost';
  }

  async #row(channel: ChannelName): Promise<Row<'channels'> | undefined> {
    const row = await this.#database.models.channels.findOne({ where: { name: channel }, raw: true });
    return (row ?? undefined) as Row<'channels'> | undefined;
  }

  /**
   * The messages of a range that may fit, in its order, and how far was looked. A hole in the range is not seen: what is
   * missing there may be what does not fit.
   */
  async #fitting(
    row: Row<'channels'>,
    from: number,
    to: number,
    { messages: most, filters = [] }: ReadLimit,
    head: Place,
    gap: Pick<LogSlice, 'gap'>,
  ): Promise<LogSlice> {
    const isForward = from <= to;
    const limit = Math.min(most, pageRows);
    const numbers: [number, number] = isForward ? [from, to] : [to, from];
    const range = { [Op.between]: numbers };
    // A change has nothing of its own that a filter could look at. Backwards, changes are not wanted.
    const fits = filters.flatMap((each) => this.#conditionsOf(each, row, numbers));
    const isMessage = { target: null } as WhereOptions;
    const isChange = { target: { [Op.not]: null } } as WhereOptions;
    // Without conditions everything fits, and not nothing.
    const orChange = fits.length === 0 ? [] : [{ [Op.or]: [isChange, { [Op.and]: fits }] } as WhereOptions];
    const conditions = isForward ? orChange : [isMessage, ...fits];
    const found = await this.#messages(row, range, limit, isForward ? 'ASC' : 'DESC', conditions);
    const last = found.length < limit ? to : (found.at(-1) as LoggedMessage).place.number;
    const messages = isForward ? found : found.reverse();
    const upTo = { volume: row.volume, number: last };
    const oldest = oldestOf(row);
    const atOldest = !isForward && last <= oldest && oldest > 1 ? { gap: 'expired' as const } : {};
    return { messages, more: isForward ? last < head.number : last > oldest, head, upTo, ...atOldest, ...gap };
  }

  /** The last number to look at, backwards. A thread has an index, so only its replies count. */
  async #farthest(
    row: Row<'channels'>,
    from: number,
    oldest: number,
    filters: readonly MessageFilter[],
  ): Promise<number> {
    const [root] = filters.flatMap(({ thread }) => rootIn(row, thread) ?? []);
    if (root === undefined) return Math.max(oldest, from - lookedAtOnce + 1);
    const about = { id: row.id, root, from, replies: lookedAtOnce };
    return (await farInThread(this.#database.reads, about)) ?? oldest;
  }

  /** Returns the part of a filter that the database can evaluate. The reader of the messages evaluates the rest. */
  #conditionsOf(
    { types, by, notBy, thread, where: terms = {} }: MessageFilter,
    row: Row<'channels'>,
    range: readonly [number, number],
  ): WhereOptions[] {
    const conditions: WhereOptions[] = [];
    if (types !== undefined) conditions.push({ type: [...types] });
    if (by !== undefined) conditions.push({ author: [...by] });
    if (notBy !== undefined)
      conditions.push({ [Op.or]: [{ author: null }, { author: { [Op.notIn]: [...notBy] } }] } as WhereOptions);
    const root = rootIn(row, thread);
    if (root !== undefined) conditions.push(literal(ofThread(row.id, root, range)) as unknown as WhereOptions);
    // PostgreSQL refuses some texts that JSON may hold.
    if (!this.#database.isShared)
      for (const [pointer, value] of Object.entries(terms)) {
        const member = memberOf(pointer);
        if (member !== undefined && typeof value === 'string') conditions.push(where(literal(member), value));
      }
    return conditions;
  }

  /**
   * What stands one after the other from a number to another, in either direction, until a bound or a hole ends the stretch.
   * Backwards, changes do not count.
   */
  async #stretch(row: Row<'channels'> | undefined, from: number, to: number, limit: ReadLimit): Promise<Stretch> {
    if (row === undefined) return nothing;
    const step = from <= to ? 1 : -1;
    const found: LoggedMessage[] = [];
    let isHoleFirst = false;
    let bytes = 0;
    let counted = 0;
    for (let next = from; (to - next) * step >= 0; ) {
      const count = Math.min(pageRows, limit.messages - counted);
      if (count <= 0 || bytes >= limit.bytes || found.length >= limit.messages + lookedAtOnce) break;
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
        if (step > 0 || each.isMessage) counted += 1;
        bytes += each.text.length;
        next = each.place.number + step;
      }
    }
    return { found, isHoleFirst };
  }

  async #messages(
    row: Row<'channels'>,
    number: object,
    limit: number,
    order: 'ASC' | 'DESC',
    conditions: readonly WhereOptions[] = [],
  ): Promise<LoggedMessage[]> {
    const found = await this.#alone(row, number, limit, order, conditions);
    return Number(row.threads) === 1 ? withReplies(this.#database.reads, row, found) : found;
  }

  /** Messages without what stands beside them. */
  async #alone(
    row: Row<'channels'>,
    number: object,
    limit: number,
    order: 'ASC' | 'DESC',
    conditions: readonly WhereOptions[],
  ): Promise<LoggedMessage[]> {
    const rows = rowsOf(
      await this.#database.models.messages.findAll({
        where: { [Op.and]: [{ channel_id: row.id, number }, ...conditions] } as WhereOptions,
        order: [['number', order]],
        limit,
        raw: true,
      }),
    );
    const channel = row.name as ChannelName;
    const changed = rows.flatMap(({ target }) => (target === null ? [] : [target]));
    if (changed.length === 0) return rows.map((each) => loggedOf(channel, row.volume, each));
    const targets = order === 'ASC' ? await this.#byNumber(row, changed) : new Map<number, Row<'messages'>>();
    return rows.map((each) =>
      each.target === null
        ? loggedOf(channel, row.volume, each)
        : changeOf(channel, row.volume, each, targets.get(Number(each.target))),
    );
  }

  /** Messages that were changed. Who reads backwards needs none: each message comes as it stands. */
  async #byNumber(
    row: Row<'channels'>,
    numbers: readonly (number | string)[],
  ): Promise<ReadonlyMap<number, Row<'messages'>>> {
    const where = { channel_id: row.id, number: [...new Set(numbers)] } as WhereOptions;
    const rows = rowsOf(await this.#database.models.messages.findAll({ where, raw: true }));
    return new Map(rows.map((each) => [Number(each.number), each]));
  }
}

/** The number of the first message of a channel that was not pruned. */
function oldestOf(row: Row<'channels'> | undefined): number {
  return Number(row?.oldest ?? 1);
}

/**
 * What a JSON Pointer points to, as an expression of SQLite; `undefined` where a step may be an element of a list, or is odd:
 * nothing that needs to be quoted gets into the expression.
 */
function memberOf(pointer: string): string | undefined {
  const steps = pointer.split('/').slice(1);
  if (!steps.every((step) => /^[A-Za-z_][A-Za-z0-9_-]*$/.test(step))) return undefined;
  return `data_json${steps.map((step, index) => ` ->${index === steps.length - 1 ? '>' : ''} '${step}'`).join('')}`;
}

/** Returns the number of the first message of a channel's thread. */
function rootIn({ volume }: Row<'channels'>, thread: Cursor | undefined): number | undefined {
  const root = thread === undefined ? undefined : parseCursor(thread);
  return root?.volume === volume ? root.number : undefined;
}
