import { authorText, type Draft, keyName, LoggedMessage, lineOf, type Place, standingTail } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Reads } from './database.js';
import { type Dialect, insertRows, type Target, tableOf, valuesOf } from './statements.js';
import { type Row, typesOf } from './tables.js';

/** Columns of a message that nothing has changed; the others are empty. */
const publishedColumns = [
  'channel_id',
  'number',
  'message_id',
  'type',
  'author',
  'publish_key',
  'key_owner',
  'by_json',
  'at_ms',
  'data_json',
  'except_json',
  'notes',
] as const;

const published = { table: 'messages', columns: publishedColumns, types: typesOf('messages', publishedColumns) };
const nested: Target = {
  ...published,
  types: published.types.map((type, index) => (publishedColumns[index] === 'data_json' ? 'JSON' : type)),
};

/**
 * Most characters of data that stands in a row as it is: so it is nested 500 deep at most, and SQLite parses no more than
 * 1,000 levels.
 */
const nestedChars = 1000;

/**
 * Inserts messages. Short data stands in the rows as it is where the database is SQLite, which gives it back character by
 * character: so it is not escaped here and unescaped there. (PostgreSQL would refuse some escapes that JSON permits.)
 */
export function insertMessages(rows: readonly NewMessage[], dialect: Dialect): string {
  const isNested = !dialect.isShared && rows.every(({ draft }) => draft.dataText.length <= nestedChars);
  const texts = rows.map((row) => rowText(row, isNested));
  return insertRows(isNested ? nested : published, texts, dialect);
}

/** A message and the place that it has been given. */
export interface NewMessage {
  readonly draft: Draft;
  readonly channelId: number;
  readonly number: number;
  readonly notes: number;
}

/** The values of a message, in the order of `publishedColumns`, as JSON text. Hot: once per message. */
function rowText({ draft, channelId, number, notes }: NewMessage, isNested: boolean): string {
  const { by, except } = draft;
  const named = JSON.stringify([draft.id, draft.type, by?.user ?? '', draft.key ?? null, draft.owner ?? '']);
  const author = by === undefined ? 'null' : JSON.stringify(authorText(by));
  const data = isNested ? draft.dataText : JSON.stringify(draft.dataText);
  const left = except?.length ? JSON.stringify(JSON.stringify(except)) : 'null';
  return `[${channelId},${number},${named.slice(1, -1)},${author},${draft.atMs},${data},${left},${notes}]`;
}

export function moveHeads(changed: readonly HeadRow[], dialect: Dialect): string {
  const rows = changed.map(({ id, head, notes, last_at_ms }) => [id, head, notes, last_at_ms]);
  const moving = ['head', 'notes', 'last_at_ms'] as const;
  const [id, ...values] = valuesOf(typesOf('channels', ['id', ...moving]));
  const moved = moving.map((name, index) => `${name} = ${values[index]}`).join(', ');
  return `UPDATE channels SET ${moved} FROM ${tableOf(rows, dialect)} WHERE channels.id = ${id}`;
}

/** Head of a channel, within a commit. */
export interface HeadRow extends Row<'channels', 'id' | 'name' | 'volume'> {
  head: number;
  notes: number;
  last_at_ms: number | string;
}

export function placeOf(row: Pick<Row<'channels'>, 'volume' | 'head'> | undefined, volume: string): Place {
  return row === undefined ? { volume, number: 0 } : { volume: row.volume, number: Number(row.head) };
}

export function keyOf(channel: number, key: Parameters<typeof keyName>[0]): string {
  return `${channel}\u0000${keyName(key)}`;
}

/** A message as it stands. */
export function loggedOf(channel: ChannelName, volume: string, row: Row<'messages'>): LoggedMessage {
  const place = { volume, number: Number(row.number) };
  const draft = {
    id: row.message_id,
    type: row.type,
    atMs: Number(row.at_ms),
    dataText: row.data_json,
    ...(row.publish_key === null ? {} : { key: row.publish_key }),
    ...(row.by_json === null ? {} : { by: JSON.parse(row.by_json) }),
    ...(row.except_json === null ? {} : { except: JSON.parse(row.except_json) }),
    ...(row.mentions_json === null ? {} : { mentions: JSON.parse(row.mentions_json) }),
  };
  if (row.revision === null) return new LoggedMessage(channel, place, draft);
  const last = {
    atMs: Number(row.revised_at_ms),
    by: row.revised_by_json === null ? undefined : JSON.parse(row.revised_by_json),
    withdrawn: row.withdrawn === 1,
    reason: row.reason ?? undefined,
  };
  const { tail } = lineOf(draft);
  return new LoggedMessage(channel, place, {
    atMs: draft.atMs,
    except: draft.except,
    tail: standingTail(tail, last),
    revision: Number(row.revision),
  });
}

/**
 * A change, of a message as it stands; only its place, if there is a later one, or the message was pruned. A withdrawal says by
 * itself how its message stands.
 */
export function changeOf(
  channel: ChannelName,
  volume: string,
  row: Row<'messages'>,
  target: Row<'messages'> | undefined,
): LoggedMessage {
  const number = Number(row.number);
  const atMs = Number(row.at_ms);
  const of = Number(row.target);
  if (target === undefined && row.data_json !== 'null')
    return new LoggedMessage(channel, { volume, number }, { atMs, tail: row.data_json.slice(1), of });
  if (target === undefined || Number(target.revision) !== number)
    return new LoggedMessage(channel, { volume, number }, { atMs, tail: '', of, isVoid: true });
  const { tail, except } = loggedOf(channel, volume, target);
  return new LoggedMessage(channel, { volume, number }, { atMs, tail, of, except });
}

/** Returns the reply for a known key: the id and the place of the first message. */
export function knownOf(channel: ChannelName, volume: string, row: Row<'messages'>): LoggedMessage {
  const place = { volume, number: Number(row.number) };
  return new LoggedMessage(channel, place, {
    atMs: Number(row.at_ms),
    tail: `"id":${JSON.stringify(row.message_id)}}`,
  });
}

/** Returns the heads of existing channels. A head below a message is raised, so that no number is given twice. */
export async function headsOf(reads: Reads, names: readonly ChannelName[]): Promise<Map<ChannelName, HeadRow>> {
  return (await headsAndCutoffs(reads, names, [], { isShared: false })).heads;
}

/** Users, and until when their tokens are revoked. */
type Cutoffs = readonly [string, number][];

/** Rows of `headsOf`, and until when tokens of some users are revoked, in milliseconds since the epoch; in one query. */
export async function headsAndCutoffs(
  reads: Reads,
  names: readonly ChannelName[],
  users: readonly string[],
  { isShared }: Dialect,
): Promise<{ readonly heads: Map<ChannelName, HeadRow>; readonly cutoffs: ReadonlyMap<string, number> }> {
  const all = isShared
    ? 'json_agg(json_build_array(user_id, before_ms))'
    : 'json_group_array(json_array(user_id, before_ms))';
  const revoked = users.length === 0 ? '' : `, (SELECT ${all} FROM cutoffs WHERE user_id IN (:users)) AS cutoffs`;
  const rows = await reads.select<
    Row<'channels'> & { last: number | string | null; cutoffs?: Cutoffs | string | null }
  >(
    `SELECT id, name, volume, head, notes, last_at_ms, ${lastOf} AS last${revoked} FROM channels c WHERE name IN (:names)`,
    { names, users },
  );
  const heads = new Map<ChannelName, HeadRow>();
  for (const { last, cutoffs: _, ...row } of rows) {
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
  const found = rows[0]?.cutoffs ?? [];
  return { heads, cutoffs: new Map(typeof found === 'string' ? (JSON.parse(found) as Cutoffs) : found) };
}

/** The number of the last message of a channel that is there. */
export const lastOf = '(SELECT MAX(m.number) FROM messages m WHERE m.channel_id = c.id)';
