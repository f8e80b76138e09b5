import type { ChannelRow } from './models.js';

/** The type of a column, as a value is cast to it; `JSON` of one whose value stands in the row as it is, and is kept as text. */
export type ColumnType = 'TEXT' | 'INTEGER' | 'BIGINT' | 'JSON';

/** The columns that a statement writes, in the order in which a row gives its values. */
export type Columns<Row> = Readonly<Record<keyof Row, ColumnType>>;

/** Which database the statements are for: a PostgreSQL that machines share, or an SQLite file. */
export interface Dialect {
  readonly isShared: boolean;
}

/**
 * Rows as a table to select from. All rows are one JSON text, which the database parses in a thread of its own; literals
 * written out one by one take several times as long to make, and JSON text needs no quoting but that of the quote.
 */
export function tableOf(rows: Rows, { isShared }: Dialect): string {
  const literal = `'${textOf(rows).replaceAll("'", "''")}'`;
  return isShared ? `json_array_elements(CAST(${literal} AS json)) AS each(value)` : `jsonb_each(${literal}) AS each`;
}

/** Rows, each as a list of values, or as the JSON text of that list. */
export type Rows = readonly (readonly unknown[])[] | readonly string[];

function textOf(rows: Rows): string {
  return typeof rows[0] === 'string' ? `[${rows.join(',')}]` : JSON.stringify(rows);
}

/** What selects the values of `tableOf`, a column each. */
export function columnsOf(columns: Columns<never> | Readonly<Record<string, ColumnType>>): string[] {
  return Object.values(columns).map((type, index) => {
    if (type === 'JSON') return `each.value->${index}`;
    return type === 'TEXT' ? `each.value->>${index}` : `CAST(each.value->>${index} AS ${type})`;
  });
}

/** A subquery that selects rows of literals, for `IN`. */
export function listOf(types: readonly ColumnType[], rows: readonly (readonly unknown[])[], dialect: Dialect): string {
  const columns = Object.fromEntries(types.map((type, index) => [`c${index}`, type]));
  return `(SELECT ${columnsOf(columns).join(', ')} FROM ${tableOf(rows, dialect)})`;
}

/**
 * Inserts rows.
 *
 * In SQLite a row that is already there ends the whole transaction at once (`OR ROLLBACK`), so that no lock is held until
 * this process gets round to it.
 *
 * @param onConflict - what to do about rows that are there, such as `ON CONFLICT DO NOTHING`
 */
export function insertOf<Row>(
  table: string,
  columns: Columns<Row>,
  rows: Rows,
  dialect: Dialect,
  onConflict = '',
): string {
  const names = Object.keys(columns).join(', ');
  const insert = dialect.isShared || onConflict !== '' ? 'INSERT INTO' : 'INSERT OR ROLLBACK INTO';
  // Without the condition, SQLite would parse `ON CONFLICT` as part of a join.
  return `${insert} ${table} (${names}) SELECT ${columnsOf(columns).join(', ')} FROM ${tableOf(rows, dialect)} WHERE true ${onConflict}`;
}

/** Replaces these columns of rows that are there. */
export function updateInstead(key: readonly string[], columns: readonly string[]): string {
  const set = columns.map((name) => `${name} = excluded.${name}`).join(', ');
  return `ON CONFLICT (${key.join(', ')}) DO UPDATE SET ${set}`;
}

const newChannelColumns: Columns<Omit<ChannelRow, 'id' | 'oldest' | 'pruned_notes' | 'threads'>> = {
  name: 'TEXT',
  volume: 'TEXT',
  head: 'BIGINT',
  notes: 'BIGINT',
  last_at_ms: 'BIGINT',
};

/** Makes channels, unless they are there. */
export function makeChannels(names: readonly string[], volume: string, dialect: Dialect): string {
  const rows = names.map((name) => [name, volume, 0, 0, 0]);
  return insertOf('channels', newChannelColumns, rows, dialect, 'ON CONFLICT DO NOTHING');
}

/** What these statements replace or remove is overwritten, not only let go of: it must not be found in the file any more. */
export function overwriting(statements: readonly string[], { isShared }: Dialect): readonly string[] {
  return isShared ? statements : ['PRAGMA secure_delete = ON', ...statements, 'PRAGMA secure_delete = FAST'];
}
