import {
  erasedAuthor,
  type MessageReport,
  type MessageReportDraft,
  type ReportEnd,
  type ReportWish,
} from '@nine-bells/core';
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
import {
  type ErasureRequest,
  hasText,
  numbersWhere,
  type PersonalData,
  withoutActor,
  withoutAuthor,
} from './personalData.js';
import { insertOf, overwriting, tableOf, updatesOf } from './statements.js';
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
            // The copy of a withdrawn message is deleted when the report ends.
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

/** Reports by the user, of their messages, and ended by them. */
export const reportData: PersonalData = {
  tables: ['reports'],
  exports: (dialect) => ({
    reportsMade: 'SELECT id, channel, cursor, reason, at_ms, ended_at_ms FROM reports WHERE reporter = :user',
    reportsAbout: `SELECT id, channel, cursor, message_json, reason, at_ms, ended_at_ms FROM reports
      WHERE ${hasText('message_json', ':author', dialect)}`,
  }),
  find: (reads, request) =>
    numbersWhere(
      'reports',
      reads,
      request,
      (has) => `reporter = :user OR ${has('ended_by_json', ':actor')} OR ${has('message_json', ':author')}`,
      (row) => withoutReporter(row, request) !== undefined,
    ),
  async erase(reads, request) {
    const { numbers } = request;
    const rows = await reads.select<Row<'reports'>>('SELECT * FROM reports WHERE number IN (:numbers)', { numbers });
    const changed = rows.flatMap((row) => withoutReporter(row, request) ?? []);
    return { statements: updatesOf('reports', changed, request.dialect, ['id']), result: changed.length };
  },
};

/** Returns a report without the user; `undefined` if it does not name them. */
function withoutReporter(
  row: Row<'reports'>,
  request: Pick<ErasureRequest, 'user' | 'pseudonym'>,
): Pick<Row<'reports'>, 'id' | 'reporter' | 'by_json' | 'reason' | 'ended_by_json' | 'message_json'> | undefined {
  const { id, reporter, by_json, reason, ended_by_json, message_json } = row;
  const others = {
    id,
    ended_by_json: withoutActor(ended_by_json, request),
    message_json: withoutAuthor(message_json, request.user),
  };
  if (reporter === request.user) {
    // Each user may report a message once, also several erased ones.
    const anonymous = { reporter: `${erasedAuthor.user}:${id}`, by_json: JSON.stringify(erasedAuthor), reason: null };
    return { ...others, ...anonymous };
  }
  const isSame = others.ended_by_json === ended_by_json && others.message_json === message_json;
  return isSame ? undefined : { ...others, reporter, by_json, reason };
}
