import { chmodSync, closeSync, mkdirSync, openSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { hostname } from 'node:os';
import { join } from 'node:path';
import sqlite3 from 'sqlite3';

/** Makes the data folder if there is none, accessible to its owner only. */
export function makeDataFolder(folder: string): void {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  closeToOthers(folder, 0o700);
}

/** Makes a file if there is none, readable by its owner only. */
export function makePrivateFile(file: string): void {
  closeSync(openSync(file, 'a', 0o600));
  closeToOthers(file, 0o600);
}

function closeToOthers(path: string, mode: number): void {
  const { mode: found, uid } = statSync(path);
  // What belongs to another user is not this process's to change.
  if ((found & 0o077) !== 0 && uid === process.getuid?.()) chmodSync(path, mode);
}

/** How long to wait for a process that is about to end, in milliseconds. */
const waitMs = 2_000;

/** Who holds a data folder, for people to read. */
interface Holder {
  readonly pid: number;
  readonly host: string;
  readonly since: string;
}

/** The data folder is in use by another instance. */
export class FolderTaken extends Error {}

/**
 * Keeps instances that do not know of each other out of one data folder. It is a lock of the operating system, held through
 * an SQLite file of its own: a process that is killed gives it back.
 */
export class FolderLock {
  readonly #connection: sqlite3.Database;

  /** No other instance has the folder. */
  readonly isExclusive: boolean;

  private constructor(connection: sqlite3.Database, isExclusive: boolean) {
    this.#connection = connection;
    this.isExclusive = isExclusive;
  }

  /**
   * @param isLinked - a relay links the instances: then several may share the folder
   * @throws {FolderTaken} saying who has it, and what to do
   */
  static async take(folder: string, isLinked: boolean): Promise<FolderLock> {
    makeDataFolder(folder);
    const file = join(folder, 'lock.sqlite');
    makePrivateFile(file);
    const connection = new sqlite3.Database(file);
    const run = (sql: string): Promise<void> =>
      new Promise((resolve, reject) => connection.exec(sql, (error) => (error ? reject(error) : resolve())));
    try {
      await run(`PRAGMA busy_timeout = ${waitMs}`);
      // A read transaction that stays open shares the file; an exclusive one has it alone.
      await run(isLinked ? 'BEGIN; SELECT COUNT(*) FROM sqlite_master' : 'BEGIN EXCLUSIVE');
    } catch (error) {
      await new Promise<void>((resolve) => connection.close(() => resolve()));
      if (!/SQLITE_BUSY/.test((error as Error).message)) throw error;
      throw new FolderTaken(sentenceOf(folder, isLinked));
    }
    const holder: Holder = { pid: process.pid, host: hostname(), since: new Date().toISOString() };
    writeFileSync(join(folder, 'holder.json'), `${JSON.stringify(holder)}\n`, { mode: 0o600 });
    return new FolderLock(connection, !isLinked);
  }

  release(): Promise<void> {
    return new Promise((resolve) => this.#connection.close(() => resolve()));
  }
}

function sentenceOf(folder: string, isLinked: boolean): string {
  const { pid, host, since } = holderOf(folder) ?? {};
  const who = pid === undefined ? '' : `, process ${pid} on ${host}, since ${since}`;
  const what = isLinked
    ? 'Stop it, or give it the relay too.'
    : 'Stop it first, or give each instance a data folder of its own. Several instances of one service need a relay (docs/scaling.md).';
  return `the data folder ${folder} is in use by another instance${who}. ${what}`;
}

function holderOf(folder: string): Holder | undefined {
  try {
    return JSON.parse(readFileSync(join(folder, 'holder.json'), 'utf8')) as Holder;
  } catch {
    return undefined;
  }
}
