// The way in which the store committed messages when it was first measured, frozen: groups of up to 4,000 rows as one JSON text,
// the heads of their channels, one call for each commit. It does not change when the service's store does, so that ratios to
// it can be compared over time.
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import sqlite3 from 'sqlite3';

const groupMessages = 4000;
const columns =
  'channel_id, number, message_id, type, author, publish_key, key_owner, by_json, at_ms, data_json, notes';
const values = columns.split(', ').map((_, index) => `each.value->>${index}`);

export class FrozenStore {
  #folder = mkdtempSync(join(tmpdir(), 'bells-bench-'));
  #database = new sqlite3.Database(join(this.#folder, 'frozen.sqlite'));
  #heads = new Map();
  #waiting = [];
  #committing = false;

  static async open(synchronous, channels) {
    const store = new FrozenStore();
    await store.#run('PRAGMA journal_mode = WAL');
    await store.#run(`PRAGMA synchronous = ${synchronous}`);
    await store.#run(
      'CREATE TABLE channels (id INTEGER PRIMARY KEY, name TEXT UNIQUE, head BIGINT, last_at_ms BIGINT)',
    );
    await store.#run(
      `CREATE TABLE messages (channel_id INTEGER, number BIGINT, message_id TEXT, type TEXT, author TEXT, publish_key TEXT,
       key_owner TEXT, by_json TEXT, at_ms BIGINT, data_json TEXT, notes BIGINT, PRIMARY KEY (channel_id, number)) WITHOUT ROWID`,
    );
    await store.#run('CREATE UNIQUE INDEX by_key ON messages (channel_id, key_owner, author, publish_key)');
    const rows = channels.map((name, index) => [index + 1, name]);
    await store.#run(
      `INSERT INTO channels SELECT value->>0, value->>1, 0, 0 FROM jsonb_each('${JSON.stringify(rows)}')`,
    );
    for (const [id, name] of rows) store.#heads.set(name, { id, head: 0 });
    return store;
  }

  append(channel, draft) {
    return new Promise((resolve, reject) => {
      this.#waiting.push({ channel, draft, resolve, reject });
      if (!this.#committing) void this.#commitAll();
    });
  }

  async close() {
    await new Promise((resolve) => this.#database.close(resolve));
    rmSync(this.#folder, { recursive: true });
  }

  async #commitAll() {
    this.#committing = true;
    await Promise.resolve();
    while (this.#waiting.length > 0) {
      const group = this.#waiting.splice(0, groupMessages);
      const changed = new Set();
      const rows = group.map(({ channel, draft }) => {
        const row = this.#heads.get(channel);
        row.head += 1;
        row.lastAt = draft.atMs;
        changed.add(row);
        const { id, type, by, key, atMs, dataText } = draft;
        return [row.id, row.head, id, type, by.user, key, '', JSON.stringify(by), atMs, dataText, 0];
      });
      const heads = [...changed].map(({ id, head, lastAt }) => [id, head, lastAt]);
      const text = (list) => JSON.stringify(list).replaceAll("'", "''");
      await this.#run(
        `BEGIN IMMEDIATE; INSERT INTO messages (${columns}) SELECT ${values} FROM jsonb_each('${text(rows)}') AS each;
         UPDATE channels SET head = each.value->>1, last_at_ms = each.value->>2 FROM jsonb_each('${text(heads)}') AS each
         WHERE channels.id = each.value->>0; COMMIT`,
      );
      for (const { resolve } of group) resolve();
    }
    this.#committing = false;
  }

  #run(sql) {
    return new Promise((resolve, reject) => this.#database.exec(sql, (error) => (error ? reject(error) : resolve())));
  }
}
