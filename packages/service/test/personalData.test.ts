import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { erasedRecords } from '@nine-bells/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Database } from '../src/store/database.js';
import { personalData, SqlPersonStore } from '../src/store/personStore.js';
import { insertOf } from '../src/store/statements.js';
import { type ColumnOf, columnsOf, personColumnsOf, type TableName, tables, typesOf } from '../src/store/tables.js';

const user = 'zelda';
const actor = JSON.stringify({ kind: 'user', id: user });
const author = JSON.stringify({ user });
const message = JSON.stringify({ by: { user } });
/** JSON columns that name a user in another way than an actor. */
const naming: Readonly<Record<string, string>> = {
  'messages by_json': author,
  'messages revised_by_json': author,
  'messages mentions_json': JSON.stringify([user]),
  'revisions by_json': author,
  'reports by_json': author,
  'reports message_json': message,
  'pending_messages by_json': author,
  'pending_messages message_json': message,
  'deliveries data_json': message,
  'deliveries bare_json': message,
};
/** Columns that still name the user after all records were erased, and why. */
const remaining: Readonly<Record<string, string>> = {
  'cutoffs user_id': 'revocations of tokens outlive the user',
  'erasures user_id': 'forgotten when the erasure has ended',
  'erasures by_json': 'names who erased, not who was erased',
  'marks user_id': 'removed one by one, so that unread counts follow',
  'messages mentions_json': 'part of the text of a message',
};

/** A row with the user in every column that may name one. */
function rowNaming<T extends TableName>(table: T): Record<string, unknown> {
  const named: readonly string[] = personColumnsOf(table);
  const columns: readonly ColumnOf<T>[] = columnsOf(table);
  const types = typesOf(table, columns);
  return Object.fromEntries(
    columns.map((name, index) => {
      if (named.includes(name)) return [name, name.endsWith('_json') ? (naming[`${table} ${name}`] ?? actor) : user];
      return [name, types[index] !== 'TEXT' ? 1 : name.endsWith('_json') ? '{}' : 'x'];
    }),
  );
}

describe('personal data', () => {
  const owned = Object.values(personalData).flatMap((each) => each.tables);
  const folder = mkdtempSync(join(tmpdir(), 'bells-persons-'));
  let database: Database;

  beforeAll(async () => {
    database = await Database.open({ data: folder, sqliteSynchronous: 'normal' });
    const statements = [
      'DELETE FROM facts',
      ...(Object.keys(tables) as TableName[]).map((table) => insertOf(table, [rowNaming(table)], database)),
    ];
    await database.write(async () => ({ statements, result: undefined }));
  });
  afterAll(async () => {
    await database.close();
    rmSync(folder, { recursive: true, force: true });
  });

  it.each(Object.keys(tables) as TableName[])('in the table %s has one owner, if there is any', (table) => {
    const isNamed = (name: string): boolean =>
      /(^|_)(user_id|other_id|author|reporter|by_json|message_json)$/.test(name);
    expect(personColumnsOf(table)).toEqual(expect.arrayContaining(columnsOf(table).filter(isNamed)));
    expect(owned.filter((each) => each === table)).toHaveLength(personColumnsOf(table).length > 0 ? 1 : 0);
  });

  it('is exported from every list', async () => {
    const exported = await new SqlPersonStore(database).recordsOf(user);
    expect(Object.keys(exported).filter((name) => exported[name]?.length === 0)).toEqual([]);
  });

  it('is erased everywhere but where it has to remain', async () => {
    const store = new SqlPersonStore(database);
    const erase = (kind: (typeof erasedRecords)[number]) =>
      store.eraseRecords({ kind, user, erasure: 'e1', limit: 50 });
    for (const kind of erasedRecords) while ((await erase(kind)) > 0);
    const left: string[] = [];
    for (const table of Object.keys(tables) as TableName[])
      for (const row of await database.reads.select<Record<string, unknown>>(`SELECT * FROM ${table}`))
        for (const [name, value] of Object.entries(row))
          if (String(value).includes(user)) left.push(`${table} ${name}`);
    expect(left.sort()).toEqual(Object.keys(remaining).sort());
  });
});
