import {
  answeringRefused,
  answersText,
  type Draft,
  erasedAuthor,
  type LoggedMessage,
  type ThreadState,
} from '@nine-bells/core';
import { type ChannelName, GUEST_PREFIX, type ProblemError } from '@nine-bells/wire';
import type { Reads } from './database.js';
import type { HeadRow } from './messageRows.js';
import { type Dialect, insertOf, listOf, tableOf } from './statements.js';
import type { Row } from './tables.js';

/** Replies in a commit. */
export class Replies {
  /** The messages that are answered, as they stand before the commit: whether each was withdrawn. */
  readonly #answered: ReadonlyMap<string, boolean>;
  readonly #rows: Row<'replies'>[] = [];
  readonly #threads = new Map<string, Row<'threads'> & { readonly replies: number }>();
  /** Marks of the authors: they have read up to their own replies. */
  readonly #marks = new Map<string, Row<'thread_marks'>>();

  private constructor(answered: ReadonlyMap<string, boolean>) {
    this.#answered = answered;
  }

  static async find(
    reads: Reads,
    replying: readonly { readonly channel: ChannelName; readonly draft: Draft }[],
    heads: ReadonlyMap<ChannelName, HeadRow>,
    { isShared }: Dialect,
  ): Promise<Replies> {
    const asked = replying.flatMap(({ channel, draft: { reply } }) =>
      reply === undefined ? [] : [[(heads.get(channel) as HeadRow).id, reply.to]],
    );
    const each = isShared ? 'json_array_elements(CAST(:asked AS json)) AS each(value)' : 'jsonb_each(:asked) AS each';
    const rows = await reads.select<Pick<Row<'messages'>, 'channel_id' | 'number' | 'withdrawn'>>(
      `SELECT m.channel_id, m.number, m.withdrawn FROM ${each}
       JOIN messages m ON m.channel_id = CAST(each.value->>0 AS INTEGER) AND m.number = CAST(each.value->>1 AS BIGINT)
         AND m.target IS NULL`,
      { asked: JSON.stringify(asked) },
    );
    return new Replies(
      new Map(rows.map((row) => [`${row.channel_id} ${Number(row.number)}`, row.withdrawn === 1] as const)),
    );
  }

  /**
   * Returns the problem that prevents a reply; `undefined` if there is none.
   *
   * @param isWithdrawnNow - the same commit withdraws it, before this reply
   */
  refusalOf({ id }: HeadRow, { to }: NonNullable<Draft['reply']>, isWithdrawnNow: boolean): ProblemError | undefined {
    const wasWithdrawn = this.#answered.get(`${id} ${to}`);
    return answeringRefused(wasWithdrawn === undefined ? undefined : { isWithdrawn: wasWithdrawn || isWithdrawnNow });
  }

  /** Adds a reply that has its place. */
  add(channelId: number, number: number, { reply, atMs, by }: Draft): void {
    if (reply === undefined) return;
    const { to, thread } = reply;
    this.#rows.push({ channel_id: channelId, number, reply_to: to, thread });
    const key = `${channelId} ${thread}`;
    const root = { channel_id: channelId, root: thread, number, at_ms: atMs };
    if (by !== undefined && !by.user.startsWith(GUEST_PREFIX))
      this.#marks.set(JSON.stringify([key, by.user]), { user_id: by.user, ...root });
    this.#threads.set(key, { ...root, replies: (this.#threads.get(key)?.replies ?? 0) + 1 });
  }

  /** Adds participants: authors of replies, and with the first reply the author of the first message, who may leave later. */
  #takePart(dialect: Dialect): readonly string[] {
    const roots = [...this.#threads.values()].map(({ channel_id, root, at_ms }) => [channel_id, root, at_ms]);
    const marks = [...this.#marks.values()];
    return [
      `INSERT INTO thread_marks (user_id, channel_id, root, number, at_ms)
       SELECT m.author, m.channel_id, m.number, m.number, CAST(each.value->>2 AS BIGINT) FROM ${tableOf(roots, dialect)}
       JOIN messages m ON m.channel_id = CAST(each.value->>0 AS INTEGER) AND m.number = CAST(each.value->>1 AS BIGINT)
       WHERE m.author NOT IN ('', '${erasedAuthor.user}') AND m.author NOT LIKE '${GUEST_PREFIX}%'
         AND NOT EXISTS (SELECT 1 FROM threads t WHERE t.channel_id = m.channel_id AND t.root = m.number)
       ON CONFLICT DO NOTHING`,
      ...(marks.length === 0 ? [] : [insertOf('thread_marks', marks, dialect, forward)]),
    ];
  }

  statements(dialect: Dialect): readonly string[] {
    if (this.#rows.length === 0) return [];
    const channels = [...new Set(this.#rows.map(({ channel_id }) => channel_id))].map((id) => [id]);
    return [
      insertOf('replies', this.#rows, dialect),
      ...this.#takePart(dialect),
      insertOf(
        'threads',
        [...this.#threads.values()],
        dialect,
        `ON CONFLICT (channel_id, root) DO UPDATE SET replies = threads.replies + excluded.replies,
           number = excluded.number, at_ms = excluded.at_ms`,
      ),
      `UPDATE channels SET threads = 1 WHERE id IN ${listOf(['INTEGER'], channels, dialect)} AND threads = 0`,
    ];
  }
}

/** A mark moves forward. */
export const forward = `ON CONFLICT (user_id, channel_id, root) DO UPDATE SET at_ms = excluded.at_ms,
  number = CASE WHEN excluded.number > thread_marks.number THEN excluded.number ELSE thread_marks.number END`;

/** Threads have one reply less each: these replies were withdrawn, by changes with these numbers. */
export function withdrawnReplies(
  withdrawn: readonly { readonly channelId: number; readonly number: number; readonly revision: number }[],
  dialect: Dialect,
): string {
  const rows = withdrawn.map(({ channelId, number, revision }) => [channelId, number, revision]);
  const channel = 'CAST(each.value->>0 AS INTEGER)';
  // Several of one thread: each row is updated once.
  return `UPDATE threads SET replies = threads.replies - gone.count, number = gone.revision FROM (
      SELECT r.channel_id, r.thread, COUNT(*) AS count, MAX(CAST(each.value->>2 AS BIGINT)) AS revision
      FROM ${tableOf(rows, dialect)} JOIN replies r ON r.channel_id = ${channel}
        AND r.number = CAST(each.value->>1 AS BIGINT) GROUP BY r.channel_id, r.thread) AS gone
    WHERE threads.channel_id = gone.channel_id AND threads.root = gone.thread`;
}

/** Gives messages what stands beside them: what they answer, and how their threads stand. */
export async function withReplies(
  reads: Reads,
  { id }: Pick<Row<'channels'>, 'id'>,
  messages: readonly LoggedMessage[],
): Promise<LoggedMessage[]> {
  const numbers = messages.flatMap(({ place, of, isVoid }) => (isVoid ? [] : [of ?? place.number]));
  if (numbers.length === 0) return [...messages];
  const about = { id, numbers };
  const replies = await reads.select<Row<'replies'> & Pick<Row<'messages'>, 'by_json' | 'data_json' | 'withdrawn'>>(
    `SELECT r.*, m.by_json, m.data_json, m.withdrawn FROM replies r
     LEFT JOIN messages m ON m.channel_id = r.channel_id AND m.number = r.reply_to
     WHERE r.channel_id = :id AND r.number IN (:numbers)`,
    about,
  );
  const threads = await reads.select<Row<'threads'>>(
    'SELECT * FROM threads WHERE channel_id = :id AND root IN (:numbers)',
    about,
  );
  if (replies.length === 0 && threads.length === 0) return [...messages];
  const answering = new Map(replies.map((row) => [Number(row.number), row]));
  const answered = new Map(threads.map((row) => [Number(row.root), threadOf(row)]));
  return messages.map((each) => {
    const row = answering.get(each.of ?? each.place.number);
    const thread = each.isMessage ? answered.get(each.place.number) : undefined;
    if (each.isVoid || (row === undefined && thread === undefined)) return each;
    return each.with({
      ...(row && { reply: { to: Number(row.reply_to), thread: Number(row.thread) } }),
      ...(row && each.isMessage && typeof row.data_json === 'string' && { answers: answersOf(row) }),
      ...(thread && { replies: thread }),
    });
  });
}

function answersOf({
  by_json,
  data_json,
  withdrawn,
}: Pick<Row<'messages'>, 'by_json' | 'data_json' | 'withdrawn'>): string {
  return answersText({
    ...(by_json === null ? {} : { by: JSON.parse(by_json) }),
    data: JSON.parse(data_json),
    ...(withdrawn === 1 ? { withdrawn: true } : {}),
  });
}

function threadOf({ replies, number, at_ms }: Row<'threads'>): ThreadState {
  return { count: Number(replies), number: Number(number), atMs: Number(at_ms) };
}

/** The condition that a message begins a thread or is one of its replies; all numbers are of this service. */
export function ofThread(channelId: number, root: number, [first, last]: readonly [number, number]): string {
  return `number IN (SELECT ${root} UNION ALL SELECT r.number FROM replies r
    WHERE r.channel_id = ${channelId} AND r.thread = ${root} AND r.number BETWEEN ${first} AND ${last})`;
}

/** Returns the number of the reply that is so many replies before a number; `undefined` if there are fewer. */
export async function farInThread(
  reads: Reads,
  { id, root, from, replies }: { id: number; root: number; from: number; replies: number },
): Promise<number | undefined> {
  const [row] = await reads.select<Pick<Row<'replies'>, 'number'>>(
    `SELECT number FROM replies WHERE channel_id = :id AND thread = :root AND number <= :from
     ORDER BY number DESC LIMIT 1 OFFSET :replies`,
    { id, root, from, replies },
  );
  return row && Number(row.number);
}
