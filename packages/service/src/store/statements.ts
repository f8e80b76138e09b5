import { type ColumnOf, type ColumnType, columnsOf, keysOf, type Row, type TableName, typesOf } from './tables.js';

/** The kind of database that statements are for: a PostgreSQL that machines share, or an SQLite file. */
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

/** Returns expressions that select the values of `tableOf`. Type `JSON` selects a value that is JSON itself, not a JSON text. */
export function valuesOf(types: readonly (ColumnType | 'JSON')[]): string[] {
  return types.map((type, index) => {
    if (type === 'JSON') return `each.value->${index}`;
    return type === 'TEXT' ? `each.value->>${index}` : `CAST(each.value->>${index} AS ${type})`;
  });
}

/** A subquery that selects rows of literals, for `IN`. */
export function listOf(types: readonly ColumnType[], rows: readonly (readonly unknown[])[], dialect: Dialect): string {
  return `(SELECT ${valuesOf(types).join(', ')} FROM ${tableOf(rows, dialect)})`;
}

/** A new row, or some columns of it; the database fills in the others. */
export type NewRow<T extends TableName> = { readonly [C in ColumnOf<T>]?: Row<T>[C] };

/**
 * Inserts rows, all with the same columns.
 *
 * @param onConflict - what to do about rows that are there, such as `ON CONFLICT DO NOTHING`
 */
export function insertOf<T extends TableName>(
  table: T,
  rows: readonly NewRow<T>[],
  dialect: Dialect,
  onConflict = '',
): string {
  const columns = rows[0] === undefined ? columnsOf(table) : (Object.keys(rows[0]) as ColumnOf<T>[]);
  const lists = rows.map((row) => columns.map((name) => row[name]));
  return insertRows({ table, columns, types: typesOf(table, columns) }, lists, dialect, onConflict);
}

/** A table and the columns of its new rows, in the order of the rows' values. */
export interface Target {
  readonly table: string;
  readonly columns: readonly string[];
  readonly types: readonly (ColumnType | 'JSON')[];
}

/**
 * Inserts rows that are lists of values, or JSON texts of such lists.
 *
 * In SQLite a row that is already there ends the whole transaction at once (`OR ROLLBACK`), so that no lock is held until
 * this process gets round to it.
 */
export function insertRows({ table, columns, types }: Target, rows: Rows, dialect: Dialect, onConflict = ''): string {
  const insert = dialect.isShared || onConflict !== '' ? 'INSERT INTO' : 'INSERT OR ROLLBACK INTO';
  // Without the condition, SQLite would parse `ON CONFLICT` as part of a join.
  return `${insert} ${table} (${columns.join(', ')}) SELECT ${valuesOf(types).join(', ')} FROM ${tableOf(rows, dialect)} WHERE true ${onConflict}`;
}

/** Replaces these columns of rows that are there. */
export function updateInstead(key: readonly string[], columns: readonly string[]): string {
  const set = columns.map((name) => `${name} = excluded.${name}`).join(', ');
  return `ON CONFLICT (${key.join(', ')}) DO UPDATE SET ${set}`;
}

/** Returns a condition: a row has the same values in these columns as one of `rows`. */
export function among<T extends TableName>(
  table: T,
  rows: readonly NewRow<T>[],
  dialect: Dialect,
  columns: readonly ColumnOf<T>[] = keysOf(table),
): string {
  const values = rows.map((row) => columns.map((name) => row[name]));
  return `(${columns.join(', ')}) IN ${listOf(typesOf(table, columns), values, dialect)}`;
}

/** Deletes rows by their keys: one statement, or none without rows. */
export function deletesOf<T extends TableName>(
  table: T,
  rows: readonly NewRow<T>[],
  dialect: Dialect,
  keys: readonly ColumnOf<T>[] = keysOf(table),
): readonly string[] {
  return rows.length === 0 ? [] : [`DELETE FROM ${table} WHERE ${among(table, rows, dialect, keys)}`];
}

/** Sets the other columns of rows with these keys: one statement, or none without rows. All rows have the same columns. */
export function updatesOf<T extends TableName>(
  table: T,
  rows: readonly NewRow<T>[],
  dialect: Dialect,
  keys: readonly ColumnOf<T>[] = keysOf(table),
): readonly string[] {
  if (rows[0] === undefined) return [];
  const columns = Object.keys(rows[0]) as ColumnOf<T>[];
  const values = valuesOf(typesOf(table, columns));
  const equal = (which: readonly ColumnOf<T>[], prefix: string): string[] =>
    which.map((name) => `${prefix}${name} = ${values[columns.indexOf(name)]}`);
  const set = equal(
    columns.filter((name) => !keys.includes(name)),
    '',
  );
  const lists = rows.map((row) => columns.map((name) => row[name]));
  return [
    `UPDATE ${table} SET ${set.join(', ')} FROM ${tableOf(lists, dialect)}
     WHERE ${equal(keys, `${table}.`).join(' AND ')}`,
  ];
}

/** Sets a fact about the database. */
export function setFact(name: string, value: string, dialect: Dialect): string {
  return insertOf('facts', [{ name, value }], dialect, updateInstead(['name'], ['value']));
}

/** Makes channels, unless they are there. */
export function makeChannels(names: readonly string[], volume: string, dialect: Dialect): string {
  const rows = names.map((name) => ({ name, volume, head: 0, notes: 0, last_at_ms: 0 }));
  return insertOf('channels', rows, dialect, 'ON CONFLICT DO NOTHING');
}

/** Makes the database overwrite contents that these statements replace or remove, so that they do not remain in the file. */
export function overwriting(statements: readonly string[], { isShared }: Dialect): readonly string[] {
  return isShared ? statements : ['PRAGMA secure_delete = ON', ...statements, 'PRAGMA secure_delete = FAST'];
}
