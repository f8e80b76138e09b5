import { type Draft, keyName, LoggedMessage, type Place } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Reads } from './database.js';
import type { ChannelRow, MarkRow, MessageRow } from './models.js';
import { type Columns, columnsOf, type Dialect, tableOf } from './statements.js';

export const messageColumns: Columns<MessageRow> = {
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

export const markColumns: Columns<MarkRow> = {
  user_id: 'TEXT',
  channel_id: 'INTEGER',
  number: 'BIGINT',
  notes: 'BIGINT',
};

const headColumns: Columns<Pick<ChannelRow, 'id' | 'head' | 'notes' | 'last_at_ms'>> = {
  id: 'INTEGER',
  head: 'BIGINT',
  notes: 'BIGINT',
  last_at_ms: 'BIGINT',
};

/** The values of a message, as `messageColumns` has them. Hot: once per message. */
export function valuesOf({ id, head, notes }: HeadRow, draft: Draft): unknown[] {
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

export function moveHeads(changed: readonly HeadRow[], dialect: Dialect): string {
  const rows = changed.map(({ id, head, notes, last_at_ms }) => [id, head, notes, last_at_ms]);
  const [id, ...values] = columnsOf(headColumns);
  const [, ...names] = Object.keys(headColumns);
  const moved = names.map((name, index) => `${name} = ${values[index]}`).join(', ');
  return `UPDATE channels SET ${moved} FROM ${tableOf(rows, dialect)} WHERE channels.id = ${id}`;
}

export type HeadRow = { -readonly [K in keyof ChannelRow]: ChannelRow[K] };

export function placeOf(row: ChannelRow | undefined, volume: string): Place {
  return row === undefined ? { volume, number: 0 } : { volume: row.volume, number: Number(row.head) };
}

export function keyOf(channel: number, key: Parameters<typeof keyName>[0]): string {
  return `${channel}\u0000${keyName(key)}`;
}

export function loggedOf(channel: ChannelName, volume: string, row: MessageRow): LoggedMessage {
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
export async function headsOf(reads: Reads, names: readonly ChannelName[]): Promise<Map<ChannelName, HeadRow>> {
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
export const lastOf = '(SELECT MAX(m.number) FROM messages m WHERE m.channel_id = c.id)';
