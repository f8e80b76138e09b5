import type { BoardSnapshot, BoardStore, PlacedRecord } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Database } from './database.js';
import { insertOf, listOf } from './statements.js';
import type { ColumnType, Row } from './tables.js';

/** An older state of the same volume does not replace a newer one: two instances may save the same board. */
const unlessNewer = `ON CONFLICT (channel) DO UPDATE SET volume = excluded.volume, number = excluded.number,
  saved_at_ms = excluded.saved_at_ms, entries_json = excluded.entries_json
  WHERE boards.volume <> excluded.volume OR boards.number <= excluded.number`;

/** The boards that outlive a restart: a row each, so that none is ever half there. */
export class SqlBoardStore implements BoardStore {
  readonly #database: Database;

  constructor(database: Database) {
    this.#database = database;
  }

  async saveBoard(channel: ChannelName, { volume, number, records }: BoardSnapshot): Promise<void> {
    if (records.length === 0) {
      // An empty board is as one that was never saved.
      const one = (type: ColumnType, value: unknown): string => listOf([type], [[value]], this.#database);
      const statement = `DELETE FROM boards WHERE channel IN ${one('TEXT', channel)}
        AND (volume NOT IN ${one('TEXT', volume)} OR number <= ${one('BIGINT', number)})`;
      await this.#database.write(async () => ({ statements: [statement], result: undefined }));
      return;
    }
    const row = { channel, volume, number, saved_at_ms: Date.now(), entries_json: JSON.stringify(records) };
    const statement = insertOf('boards', [row], this.#database, unlessNewer);
    await this.#database.write(async () => ({ statements: [statement], result: undefined }));
  }

  async board(channel: ChannelName): Promise<BoardSnapshot | undefined> {
    const [row] = await this.#database.reads.select<Row<'boards'>>('SELECT * FROM boards WHERE channel = :channel', {
      channel,
    });
    if (row === undefined) return undefined;
    const goneByMs = Math.max(0, Date.now() - Number(row.saved_at_ms));
    const records = (JSON.parse(row.entries_json) as readonly PlacedRecord[]).map((record) =>
      record.forMs === undefined ? record : { ...record, forMs: Math.max(0, record.forMs - goneByMs) },
    );
    return { volume: row.volume, number: Number(row.number), records };
  }
}
