import { createHash, randomBytes } from 'node:crypto';
import { readdirSync, readFileSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Actor } from '@nine-bells/core';
import { defined, refusal } from '@nine-bells/wire';
import { makeDataFolder } from '../system/dataFolder.js';
import { randomText } from '../system/ids.js';
import { equalInConstantTime } from '../system/serviceSecret.js';
import { addToAudit } from './audit.js';
import type { Database, Reads } from './database.js';
import { rowsOf } from './models.js';
import { type Right, Rights } from './rights.js';
import { insertOf, updatesOf } from './statements.js';
import type { Row } from './tables.js';

/** An API key as the service knows it: not the key itself. */
export interface ApiKey {
  readonly id: string;
  readonly name: string;
  readonly rights: Rights;
  readonly createdAtMs: number;
  readonly expiresAtMs?: number;
  /** To the minute. */
  readonly lastUsedAtMs?: number;
  readonly revokedAtMs?: number;
}

/** Options of a new key. */
export interface KeyWish {
  readonly name: string;
  readonly rights: readonly Right[];
  /** Lifetime, in milliseconds; absent = until revoked. */
  readonly forMs?: number | undefined;
}

const keyPattern = /^bells_([a-z0-9]{8})_[A-Za-z0-9_-]{43}$/;
/** Prefix of the file name of a key that may not be committed yet; the key's id follows. */
const madePrefix = 'api-key.made-';
/** For how long such a file is left alone, in milliseconds. */
const youngMs = 60_000;
/** A key's last use is written down at most this often, in milliseconds. */
const useWrittenMs = 60_000;

interface Held {
  key: ApiKey;
  readonly hash: string;
  lastUsedAtMs: number | undefined;
  writtenAtMs: number;
}

/** The API keys of applications and operators. Only their hashes are stored. */
export class ApiKeys {
  readonly #database: Database;
  readonly #now: () => number;
  readonly #held = new Map<string, Held>();

  private constructor(database: Database, now: () => number) {
    this.#database = database;
    this.#now = now;
  }

  /** @param now - the time, in milliseconds since the epoch */
  static async open(database: Database, now: () => number = Date.now): Promise<ApiKeys> {
    const keys = new ApiKeys(database, now);
    await keys.readAgain();
    return keys;
  }

  /** Reads which keys there are: another instance may have made or revoked some. */
  async readAgain(): Promise<void> {
    for (const row of rowsOf(await this.#database.models.api_keys.findAll({ raw: true }))) this.#hold(row);
  }

  /**
   * Makes the first key, if there is none that may administer, and puts it alone into `api-key` in the data folder,
   * readable by its owner only. Returns the file's path if it was made.
   */
  async makeFirst(folder: string): Promise<string | undefined> {
    makeDataFolder(folder);
    const file = join(folder, 'api-key');
    const recovered = this.#recover(folder, file);
    if (recovered !== undefined || this.#administrators().length > 0) return recovered;
    const by = { kind: 'service', id: 'start' } as const;
    const { text, row } = newKey({ name: 'first', rights: ['administer'] }, this.#now());
    // It is written down before it is committed: whatever happens in between, a key that counts is not lost.
    const made = join(folder, `${madePrefix}${row.id}`);
    writeFileSync(made, `${text}\n`, { mode: 0o600 });
    const isMade = await this.#database.write(async (reads) => {
      // Another instance that starts at the same time may have been first.
      for (const each of await reads.select<Row<'api_keys'>>('SELECT * FROM api_keys')) this.#hold(each);
      if (this.#administrators().length > 0) return { statements: [], result: false };
      return { statements: await this.#insert(reads, row, by), result: true };
    });
    if (!isMade) {
      rmSync(made, { force: true });
      return undefined;
    }
    this.#hold(row);
    renameSync(made, file);
    return file;
  }

  /** A key that was committed just before its process was killed lies in its file under another name. */
  #recover(folder: string, file: string): string | undefined {
    const found = readdirSync(folder).filter((name) => name.startsWith(madePrefix));
    for (const made of found.map((name) => join(folder, name))) {
      if (this.check(readFileSync(made, 'utf8').trim()) !== undefined) {
        renameSync(made, file);
        return file;
      }
      // A young file may be that of another instance, about to be committed.
      if (Date.now() - statSync(made).mtimeMs > youngMs) rmSync(made, { force: true });
    }
    return undefined;
  }

  /** Makes a key. Its text is returned this once and cannot be read again. */
  async make(wish: KeyWish, by: Actor): Promise<{ text: string; key: ApiKey }> {
    const { text, row } = newKey(wish, this.#now());
    await this.#database.write(async (reads) => ({
      statements: await this.#insert(reads, row, by),
      result: undefined,
    }));
    return { text, key: this.#hold(row).key };
  }

  async #insert(reads: Reads, row: Row<'api_keys'>, by: Actor): Promise<readonly string[]> {
    const { id, name, rights_json: rights } = row;
    const atMs = Number(row.created_at_ms);
    const about = `${name} (${id}): ${JSON.parse(rights).join(', ')}`;
    const audit = await addToAudit(reads, { type: 'make-key', by, atMs, about }, this.#database);
    return [insertOf('api_keys', [row], this.#database), audit.statement];
  }

  /** Writes into the audit log that the key's holder has made up a user in the workbench. */
  async usesWorkbench(by: Actor, about: string): Promise<void> {
    await this.#database.write(async (reads) => {
      const deed = { type: 'use-workbench', by, atMs: this.#now(), about } as const;
      const audit = await addToAudit(reads, deed, this.#database);
      return { statements: [audit.statement], result: undefined };
    });
  }

  /** Returns whether a key exists and is neither revoked nor expired. */
  isInUse(id: string): boolean {
    const key = this.#held.get(id)?.key;
    return key !== undefined && key.revokedAtMs === undefined && (key.expiresAtMs ?? Infinity) > this.#now();
  }

  /**
   * Ends a key's life at once.
   *
   * @throws {ProblemError} `bad-value` if there is no such key, or it is the last that may administer
   */
  async revoke(id: string, by: Actor): Promise<ApiKey> {
    const held = this.#held.get(id);
    if (held === undefined || held.key.revokedAtMs !== undefined)
      throw refusal('no-such-id', 'there is no key of this id');
    const administrators = this.#administrators();
    if (administrators.length === 1 && administrators[0] === held)
      throw refusal('bad-value', 'it is the last key that may administer; make another first');
    const now = this.#now();
    const about = `${held.key.name} (${id})`;
    await this.#database.write(async (reads) => {
      const audit = await addToAudit(reads, { type: 'revoke-key', by, atMs: now, about }, this.#database);
      return { statements: [...this.#update('revoked_at_ms', now, id), audit.statement], result: undefined };
    });
    held.key = { ...held.key, revokedAtMs: now };
    return held.key;
  }

  #update(column: 'revoked_at_ms' | 'last_used_at_ms', atMs: number, id: string): readonly string[] {
    return updatesOf('api_keys', [{ id, [column]: atMs }], this.#database);
  }

  /** The key that this text is, if it is one and good now. Counts as a use. */
  check(text: string): ApiKey | undefined {
    const held = this.#held.get(keyPattern.exec(text)?.[1] ?? '');
    if (held === undefined || !equalInConstantTime(held.hash, hashOf(text)) || !isGood(held.key, this.#now()))
      return undefined;
    this.#used(held);
    return held.key;
  }

  /** A key by its id, if it is good now. */
  byId(id: string): ApiKey | undefined {
    const held = this.#held.get(id);
    return held !== undefined && isGood(held.key, this.#now()) ? held.key : undefined;
  }

  /** All keys, the latest first; those that are over too. */
  get all(): readonly ApiKey[] {
    return [...this.#held.values()]
      .map(({ key, lastUsedAtMs }) => ({ ...key, ...defined({ lastUsedAtMs }) }))
      .sort((a, b) => b.createdAtMs - a.createdAtMs);
  }

  /** The first key that may administer. */
  get first(): ApiKey {
    return (this.#administrators()[0] as Held).key;
  }

  #administrators(): readonly Held[] {
    return [...this.#held.values()]
      .filter(({ key }) => isGood(key, this.#now()) && key.rights.has('administer'))
      .sort((a, b) => a.key.createdAtMs - b.key.createdAtMs);
  }

  #used(held: Held): void {
    const now = this.#now();
    held.lastUsedAtMs = now;
    if (now - held.writtenAtMs < useWrittenMs) return;
    held.writtenAtMs = now;
    // Shown to people only: a failure is ignored.
    const statements = this.#update('last_used_at_ms', now, held.key.id);
    this.#database.write(async () => ({ statements, result: undefined })).catch(() => {});
  }

  #hold(row: Row<'api_keys'>): Held {
    const held: Held = {
      key: {
        id: row.id,
        name: row.name,
        rights: new Rights(JSON.parse(row.rights_json)),
        createdAtMs: Number(row.created_at_ms),
        ...(row.expires_at_ms === null ? {} : { expiresAtMs: Number(row.expires_at_ms) }),
        ...(row.revoked_at_ms === null ? {} : { revokedAtMs: Number(row.revoked_at_ms) }),
      },
      hash: row.hash,
      lastUsedAtMs: Math.max(Number(row.last_used_at_ms ?? 0), this.#held.get(row.id)?.lastUsedAtMs ?? 0) || undefined,
      writtenAtMs: this.#held.get(row.id)?.writtenAtMs ?? 0,
    };
    this.#held.set(row.id, held);
    return held;
  }
}

function isGood({ expiresAtMs, revokedAtMs }: ApiKey, nowMs: number): boolean {
  return revokedAtMs === undefined && (expiresAtMs === undefined || expiresAtMs > nowMs);
}

/** A key that is not stored yet, and its text. */
function newKey({ name, rights, forMs }: KeyWish, now: number): { text: string; row: Row<'api_keys'> } {
  const id = randomText(8);
  const text = `bells_${id}_${randomBytes(32).toString('base64url')}`;
  const row = {
    id,
    name,
    hash: hashOf(text),
    created_at_ms: now,
    rights_json: JSON.stringify([...new Set(rights)]),
    expires_at_ms: forMs === undefined ? null : now + forMs,
    last_used_at_ms: null,
    revoked_at_ms: null,
  };
  return { text, row };
}

function hashOf(key: string): string {
  return createHash('sha256').update(key).digest('hex');
}
