import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { channelName, refusal } from '@nine-bells/wire';
import { afterEach, describe, expect, it } from 'vitest';
import { copyMigratedFile } from '../../../tests/support/migratedFile.js';
import { Database } from '../src/store/database.js';
import { remoteStore } from '../src/workers/remoteStore.js';
import { storeSuite } from './storeSuite.js';

describe('in SQLite', () => {
  storeSuite({
    isFile: true,
    make: async (folder) => {
      await copyMigratedFile(folder);
      return { url: undefined, remove: async () => {} };
    },
  });

  const clean: (() => unknown)[] = [];
  afterEach(async () => {
    for (const each of clean.splice(0).reverse()) await each();
  });
  const openTwice = async (): Promise<readonly [Database, Database]> => {
    const folder = mkdtempSync(join(tmpdir(), 'bells-store-'));
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
    const open = async (): Promise<Database> => {
      const database = await Database.open({ data: folder, sqliteSynchronous: 'full' });
      clean.push(() => database.close());
      return database;
    };
    return [await open(), await open()];
  };
  const fact = (name: string, value: string): string =>
    `INSERT INTO facts (name, value) VALUES ('${name}', '${value}') ON CONFLICT (name) DO UPDATE SET value = excluded.value`;

  it('a process that stops between reading and writing holds nobody up', async () => {
    const [hung, other] = await openTwice();
    let goOn: (value: unknown) => void = () => {};
    const stopped = new Promise((resolve) => {
      goOn = resolve;
    });
    const late = hung.write(async () => {
      await stopped;
      return { statements: [fact('late', '1')], result: 'written' };
    });
    await other.write(async () => ({ statements: [fact('other', '1')], result: undefined }));
    goOn(undefined);
    expect(await late).toBe('written');
  });

  it('what was read is read again when another process has written meanwhile', async () => {
    const [one, two] = await openTwice();
    const add = (database: Database): Promise<number> =>
      database.write(async (reads) => {
        const [row] = await reads.select<{ value: string }>("SELECT value FROM facts WHERE name = 'count'");
        const next = Number(row?.value ?? 0) + 1;
        return { statements: [fact('count', String(next))], result: next };
      });
    const counted = await Promise.all(Array.from({ length: 60 }, (_, n) => add(n % 2 ? one : two)));
    expect([...counted].sort((a, b) => a - b)).toEqual(Array.from({ length: 60 }, (_, n) => n + 1));
  });
});

describe('the store of a worker', () => {
  it.each([
    ['a commit that failed', refusal('unavailable', 'the disk is full'), 1],
    ['a fault inside', new Error('no such table'), 1],
    ['a refusal that has nothing to do with the database', refusal('bad-value', 'no such notice'), 0],
  ])('counts %s as the worker’s own', async (_, error, count) => {
    let failed = 0;
    const store = remoteStore({ call: () => Promise.reject(error) }, () => {
      failed += 1;
    });
    await expect(store.messages.head(channelName('race/3/chat'))).rejects.toBe(error);
    expect(failed).toBe(count);
  });
});
