import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { Sequelize } from 'sequelize';
import type { Database as SqliteConnection } from 'sqlite3';
import { SequelizeStorage, Umzug } from 'umzug';
import { migrations } from './migrations.js';
import { defineModels, type Models } from './models.js';

export interface DatabaseOptions {
  /** The folder in which `bells.sqlite` lies or is made. */
  readonly data: string;
  /** SQLite's `synchronous`: `full` survives a loss of power, `normal` only a crash. */
  readonly sqliteSynchronous: 'full' | 'normal';
  /** The URL of a database that several machines share (`postgres://`), in place of the file. */
  readonly database?: string | undefined;
}

/** The lock under which a shared database is written: whoever holds it is alone, as with SQLite. */
const writersLock = 0x9b_e115;

/**
 * The service's database: one connection that writes, one that reads.
 *
 * What reads must not share the connection that writes, or it would see rows that are not committed yet.
 */
export class Database {
  /** Whether it is shared by machines: then it can be away. */
  readonly isShared: boolean;
  readonly reader: Sequelize;
  readonly models: Models;
  readonly #writer: Sequelize;
  #writing: Promise<unknown> = Promise.resolve();

  private constructor(reader: Sequelize, writer: Sequelize) {
    this.isShared = writer.getDialect() !== 'sqlite';
    this.reader = reader;
    this.#writer = writer;
    this.models = defineModels(reader);
  }

  /** Opens the database, makes it if there is none, and brings its shape up to date. */
  static async open(options: DatabaseOptions): Promise<Database> {
    const { writer, reader } = options.database === undefined ? openFile(options) : openShared(options.database);
    for (const each of options.database === undefined ? pragmas(options) : []) await writer.query(each);
    const umzug = new Umzug({
      migrations: [...migrations],
      context: writer.getQueryInterface(),
      storage: new SequelizeStorage({ sequelize: writer, tableName: 'migrations' }),
      logger: undefined,
    });
    // Several processes may start together: one changes the shape, the others wait.
    try {
      await inTransaction(writer, () => umzug.up());
    } catch (error) {
      await writer.close();
      throw error;
    }
    if (options.database === undefined)
      for (const each of ['PRAGMA busy_timeout = 5000', 'PRAGMA query_only = ON']) await reader.query(each);
    return new Database(reader, writer);
  }

  /** Runs `act` in a transaction of its own, after those before it. */
  write<T>(act: (writer: Sequelize) => Promise<T>): Promise<T> {
    const done = this.#writing.then(() => inTransaction(this.#writer, act));
    this.#writing = done.catch(() => {});
    return done;
  }

  /**
   * Runs statements that need no answer as one transaction of their own, after those before it. Only of a file: SQLite is
   * given all of them in one go, so that nothing waits for this process between them.
   *
   * @throws what the driver throws; then nothing was done
   */
  commitToFile(statements: readonly string[]): Promise<void> {
    const done = this.#writing.then(() => this.#execute(`BEGIN IMMEDIATE;${statements.join(';')};COMMIT`));
    this.#writing = done.catch(() => {});
    return done;
  }

  async #execute(statements: string): Promise<void> {
    const connection = (await this.#writer.connectionManager.getConnection({ type: 'write' })) as SqliteConnection;
    const run = (sql: string): Promise<void> =>
      new Promise((resolve, reject) => connection.exec(sql, (error) => (error ? reject(error) : resolve())));
    try {
      await run(statements);
    } catch (error) {
      await run('ROLLBACK').catch(() => {});
      throw error;
    }
  }

  /** Waits for what is being written, then closes. */
  async close(): Promise<void> {
    await this.#writing;
    await this.reader.close();
    await this.#writer.close();
  }
}

/** Runs `act` on the one connection that writes, alone. */
async function inTransaction<T>(writer: Sequelize, act: (writer: Sequelize) => Promise<T>): Promise<T> {
  const isFile = writer.getDialect() === 'sqlite';
  await writer.query(isFile ? 'BEGIN IMMEDIATE' : 'BEGIN');
  try {
    if (!isFile) await writer.query(`SELECT pg_advisory_xact_lock(${writersLock})`);
    const result = await act(writer);
    await writer.query('COMMIT');
    return result;
  } catch (error) {
    await writer.query('ROLLBACK').catch(() => {});
    throw error;
  }
}

interface Opened {
  readonly writer: Sequelize;
  readonly reader: Sequelize;
}

function openFile({ data }: DatabaseOptions): Opened {
  mkdirSync(data, { recursive: true });
  const connect = (): Sequelize =>
    new Sequelize({ dialect: 'sqlite', storage: join(data, 'bells.sqlite'), logging: false });
  return { writer: connect(), reader: connect() };
}

function pragmas({ sqliteSynchronous }: DatabaseOptions): readonly string[] {
  return [
    'PRAGMA busy_timeout = 5000',
    'PRAGMA journal_mode = WAL',
    `PRAGMA synchronous = ${sqliteSynchronous.toUpperCase()}`,
    // In KiB, and in pages of 4 KiB: what is written again soon is not read from the file, and not copied there, each time.
    'PRAGMA cache_size = -32768',
    'PRAGMA wal_autocheckpoint = 8000',
  ];
}

function openShared(url: string): Opened {
  const connect = (max: number): Sequelize =>
    new Sequelize(url, { logging: false, pool: { min: 1, max, acquire: 10_000 } });
  // One connection that writes: what is one transaction stays on it.
  return { writer: connect(1), reader: connect(4) };
}
