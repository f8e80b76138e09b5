import { createHash } from 'node:crypto';
import type { SearchEntry, SearchFound, SearchLookup, SearchStore, SearchTerm } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Database, Plan } from './database.js';
import { loggedOf } from './messageRows.js';
import { type Dialect, insertOf, insertRows, listOf, overwriting, type Target, tableOf } from './statements.js';
import type { Row } from './tables.js';

/** The end of the times that are searched: the year 2150. */
const latestMs = 5_680_281_600_000;
/** Pages of the index that one commit merges. */
const mergedPages = 8;
/** Positions of one word in PostgreSQL. */
const maxPositions = 255;

/** Messages that are found by their words: in SQLite by FTS5, in PostgreSQL by its own text search. */
export class SqlSearchStore implements SearchStore {
  readonly #database: Database;

  constructor(database: Database) {
    this.#database = database;
  }

  async searchable(channels: readonly ChannelName[]): Promise<readonly number[]> {
    if (channels.length === 0) return [];
    const rows = await this.#database.reads.select<{ name: string; number: number | string }>(
      'SELECT c.name, h.number FROM channels c JOIN search_heads h ON h.channel_id = c.id WHERE c.name IN (:channels)',
      { channels },
    );
    const numbers = new Map(rows.map(({ name, number }) => [name, Number(number)]));
    return channels.map((channel) => numbers.get(channel) ?? 0);
  }

  index(...[channel, { from, upTo }, entries]: Parameters<SearchStore['index']>): Promise<void> {
    const database = this.#database;
    return database.write(async (reads): Promise<Plan<void>> => {
      const [row] = await reads.select<{
        id: number;
        oldest: number | string;
        number: number | string | null;
        last: number | string | null;
      }>(
        `SELECT c.id, c.oldest, h.number, (SELECT MAX(id) FROM searched) AS last FROM channels c
         LEFT JOIN search_heads h ON h.channel_id = c.id WHERE c.name = :channel`,
        { channel },
      );
      // Another instance may have gone on meanwhile.
      if (row === undefined || Number(row.number ?? 0) !== from) return { statements: [], result: undefined };
      // Messages withdrawn meanwhile are read in this transaction.
      const gone = await reads.select<{ number: number | string }>(
        'SELECT number FROM messages WHERE channel_id = :id AND withdrawn IS NOT NULL AND number IN (:numbers)',
        { id: row.id, numbers: [0, ...entries.map(({ number }) => number)] },
      );
      const withdrawn = new Set(gone.map(({ number }) => Number(number)));
      const there = await reads.select<{ number: number | string }>(
        'SELECT number FROM searched WHERE channel_id = :id AND number IN (:numbers)',
        { id: row.id, numbers: [0, ...entries.map(({ number }) => number)] },
      );
      const replaced = there.map(({ number }) => ({ number: Number(number) }));
      const found = entries.filter(
        ({ words, number }) => words.length > 0 && !withdrawn.has(number) && number >= Number(row.oldest),
      );
      const head = { channel_id: row.id, number: upTo };
      const statements = [
        ...(replaced.length === 0 ? [] : unindexed(row.id, replaced, database)),
        ...(found.length === 0 ? [] : indexed(row.id, found, Number(row.last ?? 0), database)),
        ...(found.length === 0 || database.isShared
          ? []
          : [`INSERT INTO search_words (search_words, rank) VALUES ('merge', ${mergedPages})`]),
        insertOf('search_heads', [head], database, 'ON CONFLICT (channel_id) DO UPDATE SET number = excluded.number'),
      ];
      return { statements: replaced.length === 0 ? statements : overwriting(statements, database), result: undefined };
    });
  }

  async searchedChannels(after: string, limit: number, prefix = ''): Promise<readonly ChannelName[]> {
    const rows = await this.#database.reads.select<{ name: string }>(
      `SELECT c.name FROM search_heads h JOIN channels c ON c.id = h.channel_id WHERE c.name > :after
         AND SUBSTR(c.name, 1, :length) = :prefix ORDER BY c.name LIMIT :limit`,
      { after, limit, prefix, length: prefix.length },
    );
    return rows.map(({ name }) => name as ChannelName);
  }

  unindex(channel: ChannelName, limit: number): Promise<number> {
    const database = this.#database;
    return database.write(async (reads): Promise<Plan<number>> => {
      const rows = await reads.select<{ id: number; number: number | string }>(
        `SELECT c.id, s.number FROM channels c JOIN searched s ON s.channel_id = c.id WHERE c.name = :channel LIMIT :limit`,
        { channel, limit },
      );
      const [first] = rows;
      const statements =
        first === undefined
          ? [
              `DELETE FROM search_heads WHERE channel_id IN
               (SELECT id FROM channels WHERE name IN ${listOf(['TEXT'], [[channel]], database)})`,
            ]
          : unindexed(
              first.id,
              rows.map(({ number }) => ({ number: Number(number) })),
              database,
            );
      return { statements: overwriting(statements, database), result: rows.length };
    });
  }

  async search(lookup: SearchLookup): Promise<SearchFound> {
    const { channels, sinceMs = 0, untilMs = Number.MAX_SAFE_INTEGER, after, limit, lookedAt } = lookup;
    const { reads, isShared } = this.#database;
    // No time lies in a range that ends before it begins.
    if (untilMs <= sinceMs) return { messages: [] };
    const ids =
      channels === undefined
        ? undefined
        : (await reads.select<{ id: number }>('SELECT id FROM channels WHERE name IN (:channels)', { channels })).map(
            ({ id }) => id,
          );
    if (ids?.length === 0) return { messages: [] };
    const match = isShared ? tsqueryOf(lookup, ids) : fts5Of(lookup, ids);
    const found = isShared
      ? `SELECT id FROM searched WHERE words @@ CAST(:match AS tsquery) AND id < :before ORDER BY id DESC LIMIT :lookedAt`
      : `SELECT rowid AS id FROM search_words WHERE search_words MATCH :match AND rowid < :before
         ORDER BY rowid DESC LIMIT :lookedAt`;
    const isTimed = lookup.sinceMs !== undefined || lookup.untilMs !== undefined;
    // Only where a time is wanted, more are looked at than are read.
    const most = isTimed ? lookedAt : limit;
    const values = { match, before: after ?? Number.MAX_SAFE_INTEGER, lookedAt: most };
    const looked = (await reads.select<{ id: number | string }>(found, values)).map(({ id }) => Number(id));
    if (looked.length === 0) return { messages: [] };
    const rows = await reads.select<Row<'messages'> & { search_id: number | string; name: string; volume: string }>(
      `SELECT m.*, c.name, c.volume, s.id AS search_id FROM searched s
       JOIN messages m ON m.channel_id = s.channel_id AND m.number = s.number AND m.withdrawn IS NULL
       JOIN channels c ON c.id = s.channel_id AND s.number >= c.oldest
       WHERE s.id IN (:looked) AND s.at_ms >= :sinceMs AND s.at_ms < :untilMs ORDER BY s.id DESC LIMIT :limit`,
      { looked, sinceMs, untilMs, limit },
    );
    // A full page continues behind its last message; otherwise behind the last row that was read.
    const next = rows.length < limit ? looked.at(-1) : Number(rows.at(-1)?.search_id);
    const isAll = rows.length < limit && looked.length < most;
    return {
      messages: rows.map((row) => loggedOf(row.name as ChannelName, row.volume, row)),
      ...(isAll || next === undefined ? {} : { next }),
    };
  }
}

/** Statements after which messages are no longer found; all numbers are of this service. */
export function unindexed(
  channelId: number,
  entries: readonly Pick<SearchEntry, 'number'>[],
  dialect: Dialect,
): readonly string[] {
  const numbers = entries.map(({ number }) => number).join(', ');
  return unindexedWhere(`channel_id = ${channelId} AND number IN (${numbers})`, dialect);
}

/** The same, of the rows of `searched` that a condition of this service finds. */
export function unindexedWhere(condition: string, { isShared }: Dialect): readonly string[] {
  const rows = `DELETE FROM searched WHERE ${condition}`;
  if (isShared) return [rows];
  return [`DELETE FROM search_words WHERE rowid IN (SELECT id FROM searched WHERE ${condition})`, rows];
}

function indexed(
  channelId: number,
  entries: readonly SearchEntry[],
  last: number,
  dialect: Dialect,
): readonly string[] {
  if (dialect.isShared) {
    const rows = entries.map((each) => [channelId, each.number, each.atMs, vectorOf(channelId, each)]);
    return [
      `INSERT INTO searched (channel_id, number, at_ms, words)
       SELECT CAST(each.value->>0 AS INTEGER), CAST(each.value->>1 AS BIGINT), CAST(each.value->>2 AS BIGINT),
         CAST(each.value->>3 AS tsvector) FROM ${tableOf(rows, dialect)}
       ON CONFLICT (channel_id, number) DO UPDATE SET words = excluded.words, at_ms = excluded.at_ms`,
    ];
  }
  const ids = entries.map(({ number, atMs }, index) => ({
    ...{ id: last + 1 + index, channel_id: channelId, number, at_ms: atMs },
  }));
  const words = entries.map((each, index) => [
    ...[last + 1 + index, each.words.join(' '), aboutOf(channelId, each).join(' ')],
  ]);
  return [insertOf('searched', ids, dialect), insertRows(searchWords, words, dialect)];
}

/** The full-text index of SQLite. */
const searchWords: Target = {
  table: 'search_words',
  columns: ['rowid', 'words', 'about'],
  types: ['BIGINT', 'TEXT', 'TEXT'],
};

/** Returns marks indexed among the words of a message; words hold only letters and digits. */
function aboutOf(channelId: number, { type, by, atMs }: Omit<SearchEntry, 'words' | 'number'>): readonly string[] {
  return [
    channelMark(channelId),
    markOf('t', type),
    ...(by === undefined ? [] : [markOf('a', by)]),
    ...Object.values(timeMarks(new Date(atMs))),
  ];
}

/** The day, the month and the year of a time (UTC). */
function timeMarks(time: Date): { readonly day: string; readonly month: string; readonly year: string } {
  const [year = '', month = '', day = ''] = time.toISOString().slice(0, 10).split('-');
  return { day: `d${year}${month}${day}`, month: `m${year}${month}`, year: `y${year}` };
}

/** Returns marks that cover a range of time: of whole years and months where they fit, and of the days at its ends. */
function marksBetween(sinceMs: number, untilMs: number): readonly string[] {
  const marks: string[] = [];
  const at = new Date(sinceMs);
  at.setUTCHours(0, 0, 0, 0);
  while (at.getTime() < untilMs) {
    const { day, month, year } = timeMarks(at);
    const first = at.getUTCDate() === 1;
    const nextMonth = Date.UTC(at.getUTCFullYear(), at.getUTCMonth() + 1);
    const nextYear = Date.UTC(at.getUTCFullYear() + 1, 0);
    if (first && at.getUTCMonth() === 0 && nextYear <= untilMs) {
      marks.push(year);
      at.setTime(nextYear);
    } else if (first && nextMonth <= untilMs) {
      marks.push(month);
      at.setTime(nextMonth);
    } else {
      marks.push(day);
      at.setUTCDate(at.getUTCDate() + 1);
    }
  }
  return marks;
}

function channelMark(id: number): string {
  return `c${id}`;
}

function markOf(kind: 'a' | 't', name: string): string {
  return `${kind}${createHash('sha256').update(name).digest('hex').slice(0, 32)}`;
}

/** Returns alternatives of marks; a match needs one of each kind. */
function marksOf(
  { by, types, sinceMs, untilMs }: SearchLookup,
  ids: readonly number[] | undefined,
): readonly (readonly string[])[] {
  const isTimed = sinceMs !== undefined || untilMs !== undefined;
  const since = Math.max(0, sinceMs ?? 0);
  return [
    isTimed ? marksBetween(since, Math.min(latestMs, untilMs ?? latestMs)) : undefined,
    ids?.map(channelMark),
    by?.map((each) => markOf('a', each)),
    types?.map((each) => markOf('t', each)),
  ].filter((each) => each !== undefined);
}

/** A lookup in the language of FTS5. */
function fts5Of(lookup: SearchLookup, ids: readonly number[] | undefined): string {
  const term = ({ words, isPrefix }: SearchTerm): string => `"${words.join(' ')}"${isPrefix ? ' *' : ''}`;
  const { all, none } = lookup.query;
  const wanted = [
    `words : (${all.map(term).join(' AND ')})`,
    ...marksOf(lookup, ids).map((each) => `about : (${each.join(' OR ')})`),
  ].map((each) => `(${each})`);
  const without = none.length === 0 ? '' : ` NOT (words : (${none.map(term).join(' OR ')}))`;
  return `(${wanted.join(' AND ')})${without}`;
}

/** The same in the language of PostgreSQL; marks begin with a character that no word has. */
function tsqueryOf(lookup: SearchLookup, ids: readonly number[] | undefined): string {
  const term = ({ words, isPrefix }: SearchTerm): string =>
    `(${words.map((word, index) => `'${word}'${isPrefix && index === words.length - 1 ? ':*' : ''}`).join(' <-> ')})`;
  const { all, none } = lookup.query;
  return [
    ...all.map(term),
    ...marksOf(lookup, ids).map((each) => `(${each.map((mark) => `'#${mark}'`).join(' | ')})`),
    ...none.map((each) => `!${term(each)}`),
  ].join(' & ');
}

/** The words of a message with their positions, for PostgreSQL. */
function vectorOf(channelId: number, entry: Omit<SearchEntry, 'number'>): string {
  const positions = new Map<string, number[]>();
  for (const [index, word] of entry.words.entries()) {
    const places = positions.get(word) ?? [];
    positions.set(word, places);
    if (places.length < maxPositions) places.push(index + 1);
  }
  const words = [...positions].map(([word, places]) => `'${word}':${places.join(',')}`);
  return [...words, ...aboutOf(channelId, entry).map((mark) => `'#${mark}'`)].join(' ');
}
