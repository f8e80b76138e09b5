import { closeSync, mkdtempSync, openSync, rmSync, statSync, writeSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { channelName } from '@nine-bells/wire';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { makeLog } from '../src/log.js';
import { Database } from '../src/store/database.js';
import { checkSoundness, markClean } from '../src/store/soundness.js';
import { SqlStore } from '../src/store/sqlStore.js';
import { Watchman } from '../src/store/watchman.js';
import { ServiceClock } from '../src/system/clock.js';
import { Warnings } from '../src/system/warnings.js';

const chat = channelName('race/3/chat');
const fail = (error: unknown): never => {
  throw error;
};

let folder: string;
let database: Database;
beforeEach(async () => {
  folder = mkdtempSync(join(tmpdir(), 'bells-sound-'));
  database = await Database.open({ data: folder, sqliteSynchronous: 'full' });
});
afterEach(async () => {
  await database.close();
  rmSync(folder, { recursive: true, force: true });
});

async function fill(count: number): Promise<SqlStore> {
  const store = await SqlStore.open(database);
  const dataText = JSON.stringify('x'.repeat(2_000));
  const one = (n: number) => store.messages.append(chat, { id: `m${n}`, type: 'message', atMs: n, dataText });
  await Promise.all(Array.from({ length: count }, (_, n) => one(n)));
  return store;
}

/** Closes the database, writes nonsense over pages in the middle of its file, and opens it again. */
async function damage(): Promise<void> {
  await database.close();
  const file = join(folder, 'bells.sqlite');
  const descriptor = openSync(file, 'r+');
  const nonsense = Buffer.alloc(40 * 4096, 0xa5);
  writeSync(descriptor, nonsense, 0, nonsense.length, Math.floor(statSync(file).size / 8192) * 4096);
  closeSync(descriptor);
  database = await Database.open({ data: folder, sqliteSynchronous: 'full' });
}

describe('a database file that is damaged', () => {
  it('is found after an end that was not clean; nothing is written any more, and that is said', async () => {
    await fill(500);
    await checkSoundness(database, folder, fail);
    await damage();
    await checkSoundness(database, folder, () => {});
    expect(database.health.damage).toMatch(/\w/);
    const store = await SqlStore.open(database);
    await expect(
      store.messages.append(channelName('race/4/chat'), { id: 'm', type: 'message', atMs: 1, dataText: '1' }),
    ).rejects.toMatchObject({
      problem: { code: 'unavailable', detail: expect.stringContaining('damaged') },
    });
    const warnings = new Warnings(makeLog({ level: 'silent', readable: false }));
    const watchman = new Watchman({ database, clock: new ServiceClock(), warnings });
    await expect.poll(() => warnings.all.join()).toContain('restore a backup');
    watchman.stop();
  });

  it('is not looked for after a clean end', async () => {
    await fill(500);
    await checkSoundness(database, folder, fail);
    await markClean(database);
    await damage();
    await checkSoundness(database, folder, () => {});
    expect(database.health.damage).toBeUndefined();
  });

  it('is not found where there is none, whether new or killed', async () => {
    await checkSoundness(database, folder, fail);
    await fill(10);
    await checkSoundness(database, folder, fail);
    expect(database.health.damage).toBeUndefined();
  });
});

describe('a full disk', () => {
  it('is told to publishers and to the operator as long as it lasts, and counted', async () => {
    const store = await fill(1);
    await database.commitToFile(['PRAGMA max_page_count = 1']);
    const dataText = JSON.stringify('x'.repeat(2_000_000));
    const publish = () => store.messages.append(chat, { id: 'large', type: 'message', atMs: 1, dataText });
    await expect(publish()).rejects.toMatchObject({
      problem: { code: 'unavailable', detail: 'the disk of the database is full; nothing was done' },
    });
    expect(database.health.failed).toBe(1);
    const warnings = new Warnings(makeLog({ level: 'silent', readable: false }));
    const watchman = new Watchman({ database, clock: new ServiceClock(), warnings });
    await expect.poll(() => warnings.all.join()).toContain('nothing can be committed');
    expect(warnings.all.join()).toContain('full');
    await database.commitToFile(['PRAGMA max_page_count = 1073741823']);
    await publish();
    await expect.poll(() => warnings.all).toEqual([]);
    watchman.stop();
  });
});
