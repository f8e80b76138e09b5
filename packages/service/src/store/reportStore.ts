import type { MessageReport, MessageReportDraft, ReportEnd, ReportWish } from '@nine-bells/core';
import {
  type ChannelName,
  type Cursor,
  GUEST_PREFIX,
  type Message,
  type Place,
  parseCursor,
  refusal,
} from '@nine-bells/wire';
import { addToAudit } from './audit.js';
import type { Database, Reads } from './database.js';
import { loggedOf } from './messageRows.js';
import { insertOf, overwriting, tableOf } from './statements.js';
import type { Row } from './tables.js';

/** Messages that users have reported. */
export class SqlReportStore {
  readonly #database: Database;

  constructor(database: Database) {
    this.#database = database;
  }

  report(
    draft: MessageReportDraft,
    most: { readonly all: number; readonly each: number },
  ): Promise<{ id: string; repeated: boolean }> {
    const { id, channel, cursor, message, by, reason, atMs } = draft;
    return this.#database.write<{ id: string; repeated: boolean }>(async (reads) => {
      const [known] = await reads.select<{ id: string }>(
        'SELECT id FROM reports WHERE channel = :channel AND cursor = :cursor AND reporter = :user',
        { channel, cursor, user: by.user },
      );
      if (known !== undefined) return { statements: [], result: { id: known.id, repeated: true } };
      const [open] = await reads.select<{ count: number | string; own: number | string | null }>(
        `SELECT COUNT(*) AS count, SUM(CASE WHEN reporter = :user THEN 1 ELSE 0 END) AS own FROM reports
         WHERE ended_at_ms IS NULL AND reporter ${by.guest ? '' : 'NOT '}LIKE '${GUEST_PREFIX}%'`,
        { user: by.user },
      );
      if (Number(open?.count ?? 0) >= most.all || Number(open?.own ?? 0) >= most.each)
        throw refusal('busy', 'too many reports wait for the moderators', { retryAfterMs: 60_000 });
      const row = {
        ...{ id, channel, cursor, reporter: by.user, message_json: JSON.stringify(message) },
        ...{ by_json: JSON.stringify(by), reason: reason ?? null, at_ms: atMs },
      };
      return {
        statements: [insertOf('reports', [row], this.#database)],
        result: { id, repeated: false },
      };
    });
  }

  async reports({ isOpen, channel, from, limit }: ReportWish): Promise<readonly MessageReport[]> {
    const conditions = [
      `ended_at_ms IS ${isOpen ? '' : 'NOT '}NULL`,
      ...(channel === undefined ? [] : ['channel = :channel']),
      ...(from === undefined ? [] : [`number ${isOpen ? '>' : '<'} :from`]),
    ];
    const rows = await this.#database.reads.select<Row<'reports'>>(
      `SELECT * FROM reports WHERE ${conditions.join(' AND ')} ORDER BY number ${isOpen ? 'ASC' : 'DESC'} LIMIT :limit`,
      { channel: channel ?? '', from: from ?? 0, limit },
    );
    return rows.map(reportOf);
  }

  reportById(id: string): Promise<MessageReport | undefined> {
    return byId(this.#database.reads, id);
  }

  endReport(id: string, ended: ReportEnd): Promise<MessageReport | undefined> {
    const database = this.#database;
    return database.write(async (reads) => {
      const report = await byId(reads, id);
      if (report === undefined || report.ended !== undefined) return { statements: [], result: undefined };
      const { by, atMs, note } = ended;
      const { channel, message } = report;
      const why = note === undefined ? {} : { reason: note };
      const whom = message.by === undefined ? {} : { user: message.by.user };
      const deed = { type: 'end-report', by, atMs, channel, about: id, ...whom, ...why } as const;
      const { statement } = await addToAudit(reads, deed, database);
      const standing = (await withdrawnMessage(reads, channel, report.cursor)) ?? message;
      const row = tableOf([[JSON.stringify(by), note ?? null, id]], database);
      return {
        statements: overwriting(
          [
            `UPDATE reports SET ended_at_ms = ${atMs}, ended_by_json = each.value->>0, note = each.value->>1
           FROM ${row} WHERE reports.id = each.value->>2`,
            // What was withdrawn is kept for the moderators only until they are done.
            `UPDATE reports SET message_json = each.value->>0 FROM ${tableOf([[JSON.stringify(standing), id]], database)}
           WHERE reports.id = each.value->>1`,
            statement,
          ],
          database,
        ),
        result: { ...report, message: standing, ended },
      };
    });
  }
}

/** The message that was reported, if it was withdrawn. */
async function withdrawnMessage(reads: Reads, channel: ChannelName, cursor: Cursor): Promise<Message | undefined> {
  const { volume, number } = parseCursor(cursor) as Place;
  const [row] = await reads.select<Row<'messages'>>(
    `SELECT m.* FROM messages m JOIN channels c ON c.id = m.channel_id
     WHERE c.name = :channel AND c.volume = :volume AND m.number = :number AND m.withdrawn IS NOT NULL`,
    { channel, volume, number },
  );
  return row && loggedOf(channel, volume, row).message;
}

async function byId(reads: Reads, id: string): Promise<MessageReport | undefined> {
  const [row] = await reads.select<Row<'reports'>>('SELECT * FROM reports WHERE id = :id', { id });
  return row && reportOf(row);
}

function reportOf(row: Row<'reports'>): MessageReport {
  const { ended_at_ms: endedAtMs } = row;
  return {
    number: Number(row.number),
    id: row.id,
    channel: row.channel as ChannelName,
    cursor: row.cursor as Cursor,
    message: JSON.parse(row.message_json),
    by: JSON.parse(row.by_json),
    atMs: Number(row.at_ms),
    ...(row.reason === null ? {} : { reason: row.reason }),
    ...(endedAtMs === null
      ? {}
      : {
          ended: {
            by: JSON.parse(row.ended_by_json as string),
            atMs: Number(endedAtMs),
            ...(row.note === null ? {} : { note: row.note }),
          },
        }),
  };
}
