import {
  type MarkState,
  type MarkStore,
  noteTypes,
  type Place,
  type ThreadMark,
  type UserMark,
} from '@nine-bells/core';
import { type BlockKind, type ChannelName, type ProblemError, refusal } from '@nine-bells/wire';
import type { Database, Plan, Reads } from './database.js';
import type { PersonalData } from './personalData.js';
import { forward } from './replyRows.js';
import { deletesOf, insertOf, makeChannels, tableOf, updateInstead } from './statements.js';
import type { Volumes } from './volumes.js';

/** A user's request to move a mark; `null` removes it. */
export interface MarkWish {
  readonly user: string;
  readonly channel: ChannelName;
  readonly place: Place | null;
  /** Most marks of one user. */
  readonly most: number;
}

interface Waiting {
  readonly wish: MarkWish;
  readonly resolve: (standing: MarkState) => void;
  readonly reject: (error: Error) => void;
}

/** A mark with the figures needed for its unread count. Numbers may be texts, depending on the database. */
interface StandingRow {
  readonly name: string;
  readonly volume: string;
  readonly head: number | string;
  readonly head_notes: number | string;
  readonly oldest: number | string;
  readonly pruned_notes: number | string;
  readonly number: number | string;
  readonly notes: number | string;
  readonly own: number | string;
  readonly withdrawn: number | string;
  readonly blocked: number | string;
  readonly muted: number | string;
}

/** A mark in a thread, with the replies behind it. */
interface ThreadRow {
  readonly name: ChannelName;
  readonly volume: string;
  readonly root: number | string;
  readonly number: number | string;
  readonly replies: number | string;
  readonly at_ms: number | string;
  readonly unread: number | string;
  readonly blocked: number | string;
  readonly muted: number | string;
}

/** Maximum number of threads read for a user: those where the user took part last. */
const mostThreads = 1_000;
/** Maximum number of replies counted as unread in a thread. */
const mostUnread = 100;
/** Most marks of one commit. */
const groupMarks = 500;

/**
 * Read marks of users. The unread count is a subtraction: each message has its number and the number of notes before it. Only the
 * user's own messages behind the mark are counted, in an index.
 */
export class SqlMarkStore implements MarkStore {
  readonly #database: Database;
  readonly #volumes: Volumes;
  #waiting: Waiting[] = [];
  #committing = false;

  constructor(database: Database, volumes: Volumes) {
    this.#database = database;
    this.#volumes = volumes;
  }

  /** Marks that come while a commit is under way share the next one. */
  mark(user: string, channel: ChannelName, place: Place | null, most: number): Promise<MarkState> {
    return new Promise((resolve, reject) => {
      // Between processes `null` arrives as `undefined`.
      this.#waiting.push({ wish: { user, channel, place: place ?? null, most }, resolve, reject });
      if (!this.#committing) void this.#commitAll();
    });
  }

  async unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkState[]> {
    return standingsOf(this.#database.reads, user, channels);
  }

  async markThread(
    user: string,
    channel: ChannelName,
    thread: Place,
    to: Place | null,
    atMs: number,
  ): Promise<ThreadMark | undefined> {
    const database = this.#database;
    const place = to ?? null;
    const refused = await database.write(async (reads): Promise<Plan<ProblemError | undefined>> => {
      const [row] = await reads.select<{ id: number; volume: string; head: number | string }>(
        'SELECT id, volume, head FROM channels WHERE name = :channel',
        { channel },
      );
      const isThere = (each: Place): boolean => each.volume === row?.volume && each.number <= Number(row.head);
      if (row === undefined || !isThere(thread) || (place !== null && !isThere(place)))
        return {
          statements: [],
          result: refusal('bad-cursor', 'the channel has no such message', { where: '/cursor' }),
        };
      const mark = { user_id: user, channel_id: row.id, root: thread.number };
      return {
        statements:
          place === null
            ? deletesOf('thread_marks', [mark], database)
            : [insertOf('thread_marks', [{ ...mark, number: place.number, at_ms: atMs }], database, forward)],
        result: undefined,
      };
    });
    if (refused !== undefined) throw refused;
    return (await this.threads(user, 1, channel, thread.number))[0];
  }

  async markedChannels(user: string): Promise<readonly ChannelName[]> {
    const rows = await this.#database.reads.select<{ name: ChannelName }>(
      'SELECT c.name FROM marks k JOIN channels c ON c.id = k.channel_id WHERE k.user_id = :user ORDER BY c.name',
      { user },
    );
    return rows.map(({ name }) => name);
  }

  async threads(user: string, limit: number, channel?: ChannelName, thread?: number): Promise<readonly ThreadMark[]> {
    // The replies come first: by author, a query would go through all that another has written.
    const behind = (condition: string): string =>
      `(SELECT COUNT(*) FROM (SELECT r.number FROM replies r WHERE r.channel_id = k.channel_id AND r.thread = k.root
          AND r.number > k.number ORDER BY r.number LIMIT ${mostUnread}) r
        CROSS JOIN messages m WHERE m.channel_id = k.channel_id AND m.number = r.number
          AND m.author <> k.user_id AND m.withdrawn IS NULL ${condition})`;
    const hidden = (kind: BlockKind): string =>
      behind(`AND m.author IN (SELECT b.other_id FROM blocks b WHERE b.user_id = k.user_id AND b.kind = '${kind}')`);
    const these =
      thread === undefined
        ? `user_id = :user ORDER BY at_ms DESC LIMIT ${mostThreads}`
        : 'user_id = :user AND root = :thread AND channel_id = (SELECT id FROM channels WHERE name = :channel)';
    const rows = await this.#database.reads.select<ThreadRow>(
      `SELECT k.*, ${behind('')} AS unread, ${hidden('blocked')} AS blocked, ${hidden('muted')} AS muted
       FROM (
         SELECT c.name, c.volume, k.user_id, k.channel_id, k.root, k.number, COALESCE(t.replies, 0) AS replies,
           COALESCE(t.at_ms, 0) AS at_ms
         FROM (SELECT * FROM thread_marks WHERE ${these}) k JOIN channels c ON c.id = k.channel_id
         LEFT JOIN threads t ON t.channel_id = k.channel_id AND t.root = k.root
         ${channel === undefined ? '' : 'WHERE c.name = :channel'}
         ORDER BY COALESCE(t.at_ms, 0) DESC, k.root DESC LIMIT :limit) k`,
      { user, limit, channel: channel ?? '', thread: thread ?? 0 },
    );
    return rows.map((row) => {
      const by = { blocked: Number(row.blocked), muted: Number(row.muted) };
      return {
        channel: row.name,
        volume: row.volume,
        thread: Number(row.root),
        number: Number(row.number),
        unread: Number(row.unread),
        count: Number(row.replies),
        atMs: Number(row.at_ms),
        ...(by.blocked + by.muted === 0 ? {} : { hidden: by }),
      };
    });
  }

  async takingPart(
    channel: ChannelName,
    number: number,
    limit: number,
  ): Promise<{ volume: string; users: readonly string[] }> {
    const rows = await this.#database.reads.select<{ user_id: string; volume: string }>(
      `SELECT k.user_id, c.volume FROM channels c JOIN thread_marks k ON k.channel_id = c.id AND k.root = :number
       WHERE c.name = :channel ORDER BY k.at_ms DESC LIMIT :limit`,
      { channel, number, limit },
    );
    return { volume: rows[0]?.volume ?? '', users: rows.map(({ user_id }) => user_id) };
  }

  async marks(channel: ChannelName, limit: number, after = ''): Promise<readonly UserMark[]> {
    const rows = await this.#database.reads.select<{ user_id: string; number: number | string; volume: string }>(
      `SELECT k.user_id, k.number, c.volume FROM marks k JOIN channels c ON c.id = k.channel_id
       WHERE c.name = :channel AND k.user_id > :after ORDER BY k.user_id LIMIT :limit`,
      { channel, limit, after },
    );
    return rows.map(({ user_id, number, volume }) => ({ user: user_id, place: { volume, number: Number(number) } }));
  }

  async #commitAll(): Promise<void> {
    this.#committing = true;
    while (this.#waiting.length > 0) {
      const group = this.#waiting.splice(0, groupMarks);
      try {
        const wishes = group.map(({ wish }) => wish);
        const refused = await this.#database.write((reads) => this.#move(reads, wishes));
        for (const [index, { wish, resolve, reject }] of group.entries()) {
          const problem = refused[index];
          if (problem !== undefined) reject(problem);
          // Reads the unread counts outside the transaction, because counting takes time.
          else this.#standing(wish).then(resolve, reject);
        }
      } catch (error) {
        for (const { reject } of group) reject(error as Error);
      }
    }
    this.#committing = false;
  }

  async #standing({ user, channel }: MarkWish): Promise<MarkState> {
    const [standing] = await standingsOf(this.#database.reads, user, [channel]);
    if (standing !== undefined) return standing;
    const row = (await channelRows(this.#database.reads, [channel])).get(channel);
    return { channel, unread: 0, counted: row === undefined ? 0 : row.head - row.notes };
  }

  /** Moves marks, or says why not: a refusal of one is no reason to undo the others of the group. */
  async #move(reads: Reads, wishes: readonly MarkWish[]): Promise<Plan<readonly (ProblemError | undefined)[]>> {
    const channels = await channelRows(reads, [...new Set(wishes.map(({ channel }) => channel))]);
    const had = await marksOf(reads, [...new Set(wishes.map(({ user }) => user))]);
    const moved = new Map<string, Moved>();
    const refused = wishes.map(({ user, channel, place, most }): ProblemError | undefined => {
      const row = channels.get(channel);
      const name = `${user}\u0000${channel}`;
      const own = had.get(user) ?? new Map<ChannelName, number>();
      had.set(user, own);
      if (place === null) {
        own.delete(channel);
        moved.set(name, { user, channel, number: null });
        return undefined;
      }
      if (place.volume !== (row?.volume ?? this.#volumes.current) || place.number > (row?.head ?? 0))
        return refusal('bad-cursor', 'the channel has no such message', { where: '/cursor' });
      const before = own.get(channel);
      if (before !== undefined && before >= place.number) return undefined;
      if (before === undefined && own.size >= most)
        return refusal('too-many-channels', `a user has read marks in at most ${most} channels`);
      own.set(channel, place.number);
      moved.set(name, { user, channel, number: place.number });
      return undefined;
    });
    return { statements: this.#statements([...moved.values()], channels), result: refused };
  }

  #statements(moved: readonly Moved[], channels: ReadonlyMap<ChannelName, ChannelAt>): readonly string[] {
    const dialect = this.#database;
    const forward = moved.filter(({ number }) => number !== null);
    // Users can also follow a channel without messages.
    const missing = [...new Set(forward.map(({ channel }) => channel))].filter((channel) => !channels.has(channel));
    const statements: string[] = [];
    if (missing.length > 0) statements.push(makeChannels(missing, this.#volumes.current, dialect));
    // For a mark that the group removes and sets again: the earlier row is deleted in any case, then the new one inserted.
    const away = moved.map(({ user, channel }) => [user, channel]);
    if (moved.some(({ number }) => number === null))
      statements.push(
        `DELETE FROM marks WHERE (user_id, channel_id) IN (SELECT each.value->>0, c.id
         FROM ${tableOf(away, dialect)} JOIN channels c ON c.name = each.value->>1)`,
      );
    if (forward.length > 0) {
      const rows = forward.map(({ user, channel, number }) => [user, channel, number]);
      const number = 'CAST(each.value->>2 AS BIGINT)';
      statements.push(
        `INSERT INTO marks (user_id, channel_id, number, notes)
         SELECT each.value->>0, c.id, ${number}, COALESCE(m.notes, 0)
         FROM ${tableOf(rows, dialect)} JOIN channels c ON c.name = each.value->>1
         LEFT JOIN messages m ON m.channel_id = c.id AND m.number = ${number} WHERE true
         ${updateInstead(['user_id', 'channel_id'], ['number', 'notes'])}`,
      );
    }
    return statements;
  }
}

/** The new state of a mark; number `null` removes it. */
interface Moved {
  readonly user: string;
  readonly channel: ChannelName;
  readonly number: number | null;
}

interface ChannelAt {
  readonly volume: string;
  readonly head: number;
  readonly notes: number;
}

async function channelRows(reads: Reads, names: readonly ChannelName[]): Promise<Map<ChannelName, ChannelAt>> {
  const rows = await reads.select<{ name: ChannelName; volume: string; head: number | string; notes: number | string }>(
    'SELECT name, volume, head, notes FROM channels WHERE name IN (:names)',
    { names },
  );
  return new Map(
    rows.map(({ name, volume, head, notes }) => [name, { volume, head: Number(head), notes: Number(notes) }]),
  );
}

/** The marks of users, by user and channel. */
async function marksOf(reads: Reads, users: readonly string[]): Promise<Map<string, Map<ChannelName, number>>> {
  const marks = new Map<string, Map<ChannelName, number>>();
  const rows = await reads.select<{ user_id: string; name: ChannelName; number: number | string }>(
    'SELECT k.user_id, c.name, k.number FROM marks k JOIN channels c ON c.id = k.channel_id WHERE k.user_id IN (:users)',
    { users },
  );
  for (const { user_id, name, number } of rows) {
    const own = marks.get(user_id) ?? new Map<ChannelName, number>();
    marks.set(user_id, own.set(name, Number(number)));
  }
  return marks;
}

async function standingsOf(
  reads: Reads,
  user: string,
  channels: readonly ChannelName[] | undefined,
): Promise<readonly MarkState[]> {
  if (channels?.length === 0) return [];
  const these = channels === undefined ? '' : 'AND c.name IN (:channels)';
  const rows = await reads.select<StandingRow>(
    `SELECT c.name, c.volume, c.head, c.notes AS head_notes, c.oldest, c.pruned_notes, k.number, k.notes,
       (SELECT COUNT(*) FROM messages m WHERE m.channel_id = k.channel_id AND m.author = k.user_id
          AND m.number > k.number AND m.type NOT IN (:types) AND m.target IS NULL) AS own,
       (SELECT COUNT(*) FROM messages m WHERE m.channel_id = k.channel_id AND m.number > k.number
          AND m.withdrawn IS NOT NULL AND m.author <> k.user_id) AS withdrawn,
       COALESCE(h.blocked, 0) AS blocked, COALESCE(h.muted, 0) AS muted
     FROM marks k JOIN channels c ON c.id = k.channel_id LEFT JOIN (${hiddenOf(these)}) h ON h.channel_id = k.channel_id
     WHERE k.user_id = :user ${these} ORDER BY c.name`,
    { user, channels: channels ?? [], types: [...noteTypes] },
  );
  return rows.map((row) => {
    const counted = Number(row.head) - Number(row.head_notes);
    const hidden = { blocked: Number(row.blocked), muted: Number(row.muted) };
    const pruned = Number(row.oldest) - 1;
    // Pruned messages do not count as unread.
    const read =
      Number(row.number) < pruned ? pruned - Number(row.pruned_notes) : Number(row.number) - Number(row.notes);
    return {
      channel: row.name as ChannelName,
      place: { volume: row.volume, number: Number(row.number) },
      unread: Math.max(0, counted - read - Number(row.own) - Number(row.withdrawn)),
      ...(hidden.blocked + hidden.muted === 0 ? {} : { hidden }),
      counted,
    };
  });
}

/**
 * Selects the number of messages behind a user's marks by users that the user has blocked or muted, by channel. It reads an index once
 * per such user and channel with unread messages.
 */
function hiddenOf(these: string): string {
  const sum = (kind: BlockKind): string => `SUM(CASE WHEN b.kind = '${kind}' THEN 1 ELSE 0 END) AS ${kind}`;
  return `SELECT k.channel_id, ${sum('blocked')}, ${sum('muted')}
    FROM marks k CROSS JOIN channels c CROSS JOIN blocks b CROSS JOIN messages m
    WHERE b.user_id = :user AND k.user_id = :user AND c.id = k.channel_id AND c.head > k.number ${these}
      AND m.channel_id = k.channel_id AND m.author = b.other_id AND m.number > k.number
      AND m.type NOT IN (:types) AND m.target IS NULL AND m.withdrawn IS NULL
    GROUP BY k.channel_id`;
}

/** Read marks. An erasure removes those of channels as the user would, so that unread counts follow. */
export const markData: PersonalData = {
  tables: ['marks', 'thread_marks'],
  exports: () => ({
    marks: `SELECT c.name AS channel, c.volume || ':' || CAST(k.number AS TEXT) AS cursor FROM marks k
      JOIN channels c ON c.id = k.channel_id WHERE k.user_id = :user ORDER BY c.name`,
    threads: `SELECT c.name AS channel, c.volume || ':' || CAST(k.root AS TEXT) AS thread,
        c.volume || ':' || CAST(k.number AS TEXT) AS cursor FROM thread_marks k
      JOIN channels c ON c.id = k.channel_id WHERE k.user_id = :user ORDER BY c.name, k.root`,
  }),
};
