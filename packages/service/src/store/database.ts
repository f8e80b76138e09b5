import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { Sequelize } from 'sequelize';
import { SequelizeStorage, Umzug } from 'umzug';
import { migrations } from './migrations.js';
import { defineModels, type Models } from './models.js';

export interface DatabaseOptions {
  /** The folder in which `bells.sqlite` lies or is made. */
  readonly data: string;
  /** SQLite's `synchronous`: `full` survives a loss of power, `normal` only a crash. */
  readonly sqliteSynchronous: 'full' | 'normal';
}

/**
 * The service's database: one connection that writes, one that reads.
 *
 * What reads must not share the connection that writes, or it would see rows that are not committed yet.
 */
export class Database {
  readonly reader: Sequelize;
  readonly models: Models;
  readonly #writer: Sequelize;
  #writing: Promise<unknown> = Promise.resolve();

  private constructor(reader: Sequelize, writer: Sequelize) {
    this.reader = reader;
    this.#writer = writer;
    this.models = defineModels(reader);
  }

  /** Opens the database, makes it if there is none, and brings its shape up to date. */
  static async open({ data: folder, sqliteSynchronous: synchronous }: DatabaseOptions): Promise<Database> {
    mkdirSync(folder, { recursive: true });
    const connect = (): Sequelize =>
      new Sequelize({ dialect: 'sqlite', storage: join(folder, 'bells.sqlite'), logging: false });
    const writer = connect();
    await writer.query('PRAGMA busy_timeout = 5000');
    await writer.query('PRAGMA journal_mode = WAL');
    await writer.query(`PRAGMA synchronous = ${synchronous.toUpperCase()}`);
    const umzug = new Umzug({
      migrations: [...migrations],
      context: writer.getQueryInterface(),
      storage: new SequelizeStorage({ sequelize: writer, tableName: 'migrations' }),
      logger: undefined,
    });
    // Several processes may start together: one changes the shape, the others wait.
    await writer.query('BEGIN IMMEDIATE');
    try {
      await umzug.up();
      await writer.query('COMMIT');
    } catch (error) {
      await writer.query('ROLLBACK').catch(() => {});
      await writer.close();
      throw error;
    }
    const reader = connect();
    await reader.query('PRAGMA busy_timeout = 5000');
    await reader.query('PRAGMA query_only = ON');
    return new Database(reader, writer);
  }

  /** Runs `act` in a transaction of its own, after those before it. */
  write<T>(act: (writer: Sequelize) => Promise<T>): Promise<T> {
    const done = this.#writing.then(() => this.#transact(act));
    this.#writing = done.catch(() => {});
    return done;
  }

  /** Waits for what is being written, then closes. */
  async close(): Promise<void> {
    await this.#writing;
    await this.reader.close();
    await this.#writer.close();
  }

  async #transact<T>(act: (writer: Sequelize) => Promise<T>): Promise<T> {
    await this.#writer.query('BEGIN IMMEDIATE');
    try {
      const result = await act(this.#writer);
      await this.#writer.query('COMMIT');
      return result;
    } catch (error) {
      await this.#writer.query('ROLLBACK').catch(() => {});
      throw error;
    }
  }
}
