import { chmodSync, copyFileSync, existsSync, mkdirSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Database } from '../../packages/service/dist/store/database.js';

const name = 'bells.sqlite';
let made: Promise<string> | undefined;

/** Puts an SQLite file with all tables into a data folder that has none: copying takes a tenth of the time. */
export async function copyMigratedFile(folder: string): Promise<void> {
  made ??= makeFile();
  const file = await made;
  if (existsSync(join(folder, name))) return;
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  copyFileSync(file, join(folder, name));
  chmodSync(join(folder, name), 0o600);
}

async function makeFile(): Promise<string> {
  const folder = mkdtempSync(join(tmpdir(), 'bells-migrated-'));
  process.once('exit', () => rmSync(folder, { recursive: true, force: true }));
  await (await Database.open({ data: folder, sqliteSynchronous: 'full' })).close();
  return join(folder, name);
}
