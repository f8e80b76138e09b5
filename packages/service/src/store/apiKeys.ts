import { createHash, randomBytes } from 'node:crypto';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { randomText } from '../system/ids.js';
import { equalInConstantTime } from '../system/serviceSecret.js';
import type { Database } from './database.js';
import type { ApiKeyRow } from './models.js';

/** An API key as the service knows it: not the key itself. */
export interface ApiKey {
  readonly id: string;
  readonly name: string;
}

const keyPattern = /^bells_([a-z0-9]{8})_[A-Za-z0-9_-]{43}$/;

/** The API keys of applications. Only their hashes are stored. */
export class ApiKeys {
  readonly #database: Database;
  readonly #rows = new Map<string, ApiKeyRow>();

  private constructor(database: Database) {
    this.#database = database;
  }

  static async open(database: Database): Promise<ApiKeys> {
    const keys = new ApiKeys(database);
    for (const row of (await database.models.apiKeys.findAll({ raw: true })) as unknown as ApiKeyRow[])
      keys.#rows.set(row.id, row);
    return keys;
  }

  /**
   * Makes the first key, if there is none yet, and puts it alone into `api-key` in the data folder, readable by its
   * owner only. Returns the file's path if it was made.
   */
  async makeFirst(folder: string): Promise<string | undefined> {
    if (this.#rows.size > 0) return undefined;
    const key = await this.make('first');
    const file = join(folder, 'api-key');
    writeFileSync(file, `${key}\n`, { mode: 0o600 });
    return file;
  }

  /** Makes a key and returns it; nobody can read it again. */
  async make(name: string): Promise<string> {
    const id = randomText(8);
    const key = `bells_${id}_${randomBytes(32).toString('base64url')}`;
    const row = { id, name, hash: hashOf(key), created_at_ms: Date.now() };
    await this.#database.write(async (writer) => {
      await writer.getQueryInterface().bulkInsert('api_keys', [row]);
    });
    this.#rows.set(id, row);
    return key;
  }

  /** The key that this text is, if it is one. */
  check(key: string): ApiKey | undefined {
    const row = this.#rows.get(keyPattern.exec(key)?.[1] ?? '');
    return row !== undefined && equalInConstantTime(row.hash, hashOf(key)) ? { id: row.id, name: row.name } : undefined;
  }

  /** The key that was made first. */
  get first(): ApiKey {
    const rows = [...this.#rows.values()].sort((a, b) => a.created_at_ms - b.created_at_ms);
    const { id, name } = rows[0] as ApiKeyRow;
    return { id, name };
  }

  byId(id: string): ApiKey | undefined {
    const row = this.#rows.get(id);
    return row === undefined ? undefined : { id: row.id, name: row.name };
  }
}

function hashOf(key: string): string {
  return createHash('sha256').update(key).digest('hex');
}
