import { existsSync } from 'node:fs';
import { join } from 'node:path';
import { defined } from '@nine-bells/wire';
import { QueryTypes, Sequelize, type Transaction } from 'sequelize';
import type { Database as SqliteConnection } from 'sqlite3';
import { makeDataFolder, makePrivateFile } from '../system/dataFolder.js';
import { failureOf, isPassing, isSetUpWrong, NotDone, UnknownOutcome } from './failures.js';
import { Health } from './health.js';
import { bringUpToDate, isUpToDate, NewerDatabase } from './migrations.js';
import { defineModels, type Models } from './models.js';
import { Sockets } from './sockets.js';
import { type Dialect, setFact } from './statements.js';

export interface DatabaseOptions {
  /** The folder in which `bells.sqlite` lies or is made. */
  readonly data: string;
  /** SQLite's `synchronous`: `full` survives a loss of power, `normal` only a crash. */
  readonly sqliteSynchronous: 'full' | 'normal';
  /** The URL of a database that several machines share (`postgres://`), in place of the file. */
  readonly database?: string | undefined;
  /** The relay that links instances, if any. They may share the file. */
  readonly relay?: object | undefined;
}

/** Reads within a transaction, before it writes. */
export interface Reads {
  /** Runs one SELECT; `values` replace `:name` in it. */
  select<Row extends object>(sql: string, values?: Readonly<Record<string, unknown>>): Promise<readonly Row[]>;
}

/** What a transaction writes, and what it gives once that is committed. */
export interface Plan<T> {
  readonly statements: readonly string[];
  readonly result: T;
}

/** The lock under which a shared database is written: its holder is the only writer, as with SQLite. */
const writersLock = 0x9b_e115;
/** How long to wait for another writer, in milliseconds. */
const lockMs = 3_000;
/** How long a transaction may wait for its client, in milliseconds: then the server ends the session and frees the lock. */
const idleMs = 1_000;
/** How long a statement may take, in milliseconds: for the server, and a little later for the client. */
const statementMs = 4_000;
const queryMs = 5_000;
/** How long a transaction waits for those before it, in milliseconds. */
const turnMs = 5_000;
/** How long a connection may take to be made, in milliseconds. */
const connectMs = 2_000;
/** The start waits this long for a shared database, and this long between two tries, in milliseconds. */
const startMs = 30_000;
const startAgainMs = 500;
/** How long to wait until a connection that has failed is closed, in milliseconds; then it is left to itself. */
const closeMs = 1_000;
/** How often a transaction is tried whose reads were overtaken by another process that writes to the same file. */
const maxTries = 50;

/**
 * The service's database: one connection that writes, one or more that read. Reading on the connection that writes would
 * show rows before their commit.
 *
 * A transaction reads first and then writes everything in one call. Between two calls a process can be stopped, or its
 * machine can vanish; so no lock is held there for longer than it takes others to notice:
 *
 * - An SQLite file is locked within one call only. What was read before is checked in it (`PRAGMA data_version`): if another
 *   process has written meanwhile, the transaction is rolled back and tried again.
 * - In PostgreSQL a transaction keeps its one connection from BEGIN to COMMIT and fails as a whole when that ends. The server
 *   ends a session that is idle in a transaction for a second.
 */
export class Database {
  /** Machines share it: then it can be away. */
  readonly isShared: boolean;
  /** Other instances may commit to it: always where machines share it, and in a file if a relay links instances. */
  readonly hasOtherWriters: boolean;
  readonly reader: Sequelize;
  readonly models: Models;
  /** Reads outside of any transaction. */
  readonly reads: Reads;
  /** Whether transactions have been getting through. */
  readonly health = new Health();
  readonly #writer: Sequelize;
  /** Those of a shared database. */
  readonly #sockets: Sockets | undefined;
  #writing: Promise<unknown> = Promise.resolve();
  #commits = 0;
  #probing = false;

  private constructor(reader: Sequelize, writer: Sequelize, { relay }: DatabaseOptions, sockets?: Sockets) {
    this.isShared = sockets !== undefined;
    this.hasOtherWriters = this.isShared || relay !== undefined;
    this.reader = reader;
    this.#writer = writer;
    this.#sockets = sockets;
    this.models = defineModels(reader);
    this.reads = readsOn(reader);
  }

  /**
   * Opens the database, makes it if there is none, and brings its shape up to date. Waits for a shared one that does not answer.
   *
   * @param waits - called once when it has to be waited for, with the reason
   * @throws {DatabaseAway} if it has not answered for half a minute
   */
  static async open(options: DatabaseOptions, waits: (why: string) => void = () => {}): Promise<Database> {
    const { database: url } = options;
    if (url !== undefined) {
      await whenThere(url, () => bringUpToDateShared(url), waits);
      const sockets = new Sockets();
      return new Database(connect(url, 4, sockets), connect(url, 1, sockets), options, sockets);
    }
    const { writer, reader } = openFile(options);
    try {
      for (const each of pragmas(options)) await writer.query(each);
      await bringUpToDate(writer, undefined, async () => void (await writer.query('BEGIN IMMEDIATE')));
      for (const each of [`PRAGMA busy_timeout = ${lockMs}`, 'PRAGMA query_only = ON']) await reader.query(each);
    } catch (error) {
      await writer.close();
      await reader.close();
      throw error;
    }
    return new Database(withFailures(reader), writer, options);
  }

  /**
   * Runs a transaction after those before it. `plan` reads, and says what to write; it may be called again.
   *
   * @throws {ProblemError} `unavailable` if it could not be committed, or if that is not known
   */
  async write<T>(plan: (reads: Reads) => Promise<Plan<T>>): Promise<T> {
    try {
      return await this.attempt(plan);
    } catch (error) {
      throw failureOf(error, this.isShared);
    }
  }

  /** As `write`, and rejects with the error as it came. */
  attempt<T>(plan: (reads: Reads) => Promise<Plan<T>>): Promise<T> {
    return this.#inTurn(() => (this.isShared ? this.#writeShared(plan) : this.#writeFile(plan)));
  }

  /**
   * Runs statements as one transaction, after those before it. Only for a file: they go to SQLite in one call.
   *
   * @throws what the driver throws; then nothing was done
   */
  commitToFile(statements: readonly string[]): Promise<void> {
    return this.#inTurn(async () => {
      await this.#execute(statements);
      this.#commits += 1;
    });
  }

  /** Transactions of this process that have written something. */
  get commits(): number {
    return this.#commits;
  }

  /** Finds out whether a transaction gets through, unless one did a moment ago. */
  async probe(): Promise<void> {
    if (this.#probing || !this.health.isUncertain) return;
    this.#probing = true;
    // Where a transaction has failed, only one that writes proves anything: the disk may be full.
    const statements = this.health.ailment === undefined ? [] : [probeOf(this)];
    await this.attempt(async () => ({ statements, result: undefined })).catch(() => {});
    this.#probing = false;
  }

  /** Waits for what is being written, then closes. */
  async close(): Promise<void> {
    await this.#writing;
    await within(this.reader.close());
    await within(this.#writer.close());
    this.#sockets?.destroy();
  }

  #inTurn<T>(act: () => Promise<T>): Promise<T> {
    const sinceMs = performance.now();
    const done = this.#writing.then(() => {
      // While nothing gets through, each one before it has taken all the time that it may.
      if (performance.now() - sinceMs > turnMs) throw new NotDone('it has waited too long for its turn');
      if (this.health.damage !== undefined) throw new NotDone(`the database file is damaged: ${this.health.damage}`);
      return this.health.watch(act, (error) => isPassing(error, this.isShared));
    });
    this.#writing = done.catch(() => {});
    return done;
  }

  async #writeFile<T>(plan: (reads: Reads) => Promise<Plan<T>>): Promise<T> {
    for (let tries = 1; ; tries++) {
      const [{ data_version: version } = { data_version: 0 }] = await this.#writer.query<{ data_version: number }>(
        'PRAGMA data_version',
        { type: QueryTypes.SELECT },
      );
      const { statements, result } = await plan(readsOn(this.#writer));
      try {
        await this.#execute([
          `INSERT OR ROLLBACK INTO temp.unchanged SELECT data_version = ${version} FROM pragma_data_version`,
          'DELETE FROM temp.unchanged',
          ...statements,
        ]);
        if (statements.length > 0) this.#commits += 1;
        return result;
      } catch (error) {
        if (!/CHECK constraint failed: unchanged/.test((error as Error).message)) throw error;
        if (tries === maxTries) throw new NotDone('other processes keep writing to the database');
      }
    }
  }

  async #execute(statements: readonly string[]): Promise<void> {
    const connection = (await this.#writer.connectionManager.getConnection({ type: 'write' })) as SqliteConnection;
    const run = (sql: string): Promise<void> =>
      new Promise((resolve, reject) => connection.exec(sql, (error) => (error ? reject(error) : resolve())));
    try {
      await run(['BEGIN IMMEDIATE', ...statements, 'COMMIT'].join(';'));
    } catch (error) {
      // Most failures have rolled it back already.
      await run('ROLLBACK').catch(() => {});
      throw error;
    }
  }

  async #writeShared<T>(plan: (reads: Reads) => Promise<Plan<T>>): Promise<T> {
    const writer = this.#writer;
    const transaction = await writer.transaction();
    // Not in the types: Sequelize's own `commit` and `rollback` write to the console when a connection has ended.
    const connection = transaction as unknown as { cleanup(): void; forceCleanup(): Promise<void> };
    const end = async (sql: 'COMMIT' | 'ROLLBACK'): Promise<void> => {
      await writer.query(sql, { transaction });
      connection.cleanup();
    };
    let planned: Plan<T>;
    try {
      await lock(writer, transaction, 'limited');
      planned = await plan(readsOn(writer, transaction));
      if (planned.statements.length > 0) await writer.query(planned.statements.join(';'), { transaction });
    } catch (error) {
      // A connection in doubt is thrown away; with it the server ends the transaction.
      await within(isPassing(error, true) ? connection.forceCleanup() : end('ROLLBACK'));
      throw error;
    }
    try {
      await end('COMMIT');
    } catch (error) {
      await within(connection.forceCleanup());
      throw new UnknownOutcome('the connection ended during COMMIT', { cause: error });
    }
    if (planned.statements.length > 0) this.#commits += 1;
    return planned.result;
  }
}

function probeOf(dialect: Dialect): string {
  return setFact('probed', new Date().toISOString(), dialect);
}

/** A shared database did not answer when the service started. */
export class DatabaseAway extends Error {}

/** Tries until a shared database answers. */
async function whenThere(url: string, act: () => Promise<void>, waits: (why: string) => void): Promise<void> {
  const { host, pathname } = new URL(url);
  const where = `the database ${pathname.slice(1)} at ${host}`;
  const endMs = performance.now() + startMs;
  for (let isTold = false; ; isTold = true) {
    try {
      return await act();
    } catch (error) {
      if (error instanceof NewerDatabase || isSetUpWrong(error) || !isPassing(error, true)) throw error;
      const why = `${where} does not answer: ${(error as Error).message}`;
      if (performance.now() > endMs)
        throw new DatabaseAway(`${why}. Is it running, and is \`service.database\` right?`, { cause: error });
      if (!isTold) waits(why);
      await new Promise((resolve) => setTimeout(resolve, startAgainMs));
    }
  }
}

/** Whether there is something to change is asked with the limits of all queries: a connection may be silent from the start. */
async function bringUpToDateShared(url: string): Promise<void> {
  const sockets = new Sockets();
  const asking = connect(url, 1, sockets);
  try {
    if (await isUpToDate(asking)) return;
  } finally {
    await within(asking.close());
    sockets.destroy();
  }
  // Changing a large table takes longer than any other statement may.
  const shaper = new Sequelize(url, {
    logging: false,
    pool: { max: 1 },
    dialectOptions: { keepAlive: true, connectionTimeoutMillis: connectMs, stream: sockets.make },
  });
  try {
    await shaper.transaction((transaction) =>
      bringUpToDate(shaper, transaction, () => lock(shaper, transaction, 'no limit')),
    );
  } finally {
    await within(shaper.close());
    sockets.destroy();
  }
}

/**
 * Gets the writers' lock for the rest of a transaction. The limits come in the same call as the lock, so that no session
 * holds it without them; and they hold for this transaction only, since a pooling proxy may give the session to others.
 */
async function lock(on: Sequelize, transaction: Transaction, limits: 'limited' | 'no limit'): Promise<void> {
  const limiting =
    limits === 'no limit'
      ? ''
      : `SET LOCAL idle_in_transaction_session_timeout = ${idleMs}; SET LOCAL lock_timeout = ${lockMs}; SET LOCAL statement_timeout = ${statementMs};`;
  await on.query(`${limiting} SELECT pg_advisory_xact_lock(${writersLock})`, { transaction });
}

function readsOn(on: Sequelize, transaction?: Transaction): Reads {
  return {
    select: <Row extends object>(sql: string, values: Readonly<Record<string, unknown>> = {}) =>
      on.query<Row>(sql, {
        replacements: { ...values },
        type: QueryTypes.SELECT,
        ...defined({ transaction }),
      }),
  };
}

function connect(url: string, max: number, sockets: Sockets): Sequelize {
  const sequelize = new Sequelize(url, {
    logging: false,
    // An idle connection that has gone silent is found out only when it is used: so it is closed soon.
    pool: { min: 0, max, acquire: connectMs + queryMs, idle: 10_000 },
    dialectOptions: {
      keepAlive: true,
      query_timeout: queryMs,
      connectionTimeoutMillis: connectMs,
      stream: sockets.make,
    },
  });
  return max === 1 ? sequelize : withFailures(sequelize);
}

/** Whatever is read through it rejects with `unavailable` where another try may succeed. */
function withFailures(sequelize: Sequelize): Sequelize {
  const isShared = sequelize.getDialect() !== 'sqlite';
  const query = sequelize.query.bind(sequelize) as (...args: unknown[]) => Promise<unknown>;
  // The one way on which Sequelize reaches the driver; its overloads cannot be written for a function that passes all on.
  sequelize.query = (async (...args: unknown[]) => {
    try {
      return await query(...args);
    } catch (error) {
      throw failureOf(error, isShared);
    }
  }) as unknown as typeof sequelize.query;
  return sequelize;
}

/** Waits for what ends a connection, but not for one whose other side does not answer. */
async function within(closing: Promise<unknown>): Promise<void> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<void>((resolve) => {
    timer = setTimeout(resolve, closeMs);
  });
  await Promise.race([closing.catch(() => {}), late]);
  clearTimeout(timer);
}

function openFile({ data }: DatabaseOptions): { readonly writer: Sequelize; readonly reader: Sequelize } {
  makeDataFolder(data);
  const file = join(data, 'bells.sqlite');
  // SQLite gives its other files the mode of this one.
  for (const each of [file, `${file}-wal`, `${file}-shm`]) if (each === file || existsSync(each)) makePrivateFile(each);
  const open = (): Sequelize => new Sequelize({ dialect: 'sqlite', storage: file, logging: false });
  return { writer: open(), reader: open() };
}

function pragmas({ sqliteSynchronous }: DatabaseOptions): readonly string[] {
  return [
    `PRAGMA busy_timeout = ${lockMs}`,
    // Of use only in a file that has no table yet: what is pruned is given back to the file system.
    'PRAGMA auto_vacuum = INCREMENTAL',
    // No copies of rows are left in pages that are written anyway; `overwriting` does more.
    'PRAGMA secure_delete = FAST',
    'PRAGMA journal_mode = WAL',
    `PRAGMA synchronous = ${sqliteSynchronous.toUpperCase()}`,
    // In KiB, and in pages of 4 KiB: what is written again soon is not read from the file, and not copied there, each time.
    'PRAGMA cache_size = -32768',
    'PRAGMA wal_autocheckpoint = 8000',
    'PRAGMA temp_store = MEMORY',
    // A row that is not true in it rolls a transaction back.
    'CREATE TEMP TABLE unchanged (ok INTEGER CONSTRAINT unchanged CHECK (ok))',
  ];
}
