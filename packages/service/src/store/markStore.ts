import { type MarkStanding, noteTypes, type Place, type UserMark } from '@nine-bells/core';
import { type ChannelName, type ProblemError, refusal } from '@nine-bells/wire';
import { QueryTypes, type Sequelize } from 'sequelize';
import type { Database } from './database.js';

/** Where a user's mark is to go; `null`: away. */
export interface MarkWish {
  readonly user: string;
  readonly channel: ChannelName;
  readonly place: Place | null;
  /** Most marks of one user. */
  readonly most: number;
}

interface Waiting {
  readonly wish: MarkWish;
  readonly resolve: (standing: MarkStanding) => void;
  readonly reject: (error: Error) => void;
}

/** A mark with what it takes to say how much is unread; numbers may come as text, depending on the database. */
interface StandingRow {
  readonly name: string;
  readonly volume: string;
  readonly head: number | string;
  readonly head_notes: number | string;
  readonly number: number | string;
  readonly notes: number | string;
  readonly own: number | string;
}

/** Most marks of one commit. */
const groupMarks = 500;

/**
 * How far users have read. What is unread is a subtraction: each message knows its number and how many notes of comings
 * and goings came before it; only the user's own messages after its mark are counted, in an index.
 */
export class MarkStore {
  readonly #database: Database;
  readonly #volume: string;
  #waiting: Waiting[] = [];
  #committing = false;

  constructor(database: Database, volume: string) {
    this.#database = database;
    this.#volume = volume;
  }

  /** Marks that come while a commit is under way share the next one. */
  mark(wish: MarkWish): Promise<MarkStanding> {
    return new Promise((resolve, reject) => {
      this.#waiting.push({ wish, resolve, reject });
      if (!this.#committing) void this.#commitAll();
    });
  }

  async unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkStanding[]> {
    return standingsOf(this.#database.reader, user, channels);
  }

  async marks(channel: ChannelName, limit: number): Promise<readonly UserMark[]> {
    const rows = await this.#database.reader.query<{ user_id: string; number: number | string; volume: string }>(
      `SELECT k.user_id, k.number, c.volume FROM marks k JOIN channels c ON c.id = k.channel_id
       WHERE c.name = :channel ORDER BY k.user_id LIMIT :limit`,
      { replacements: { channel, limit }, type: QueryTypes.SELECT },
    );
    return rows.map(({ user_id, number, volume }) => ({ user: user_id, place: { volume, number: Number(number) } }));
  }

  async #commitAll(): Promise<void> {
    this.#committing = true;
    while (this.#waiting.length > 0) {
      const group = this.#waiting.splice(0, groupMarks);
      try {
        const settled = await this.#database.write(async (writer) => {
          const all: (MarkStanding | ProblemError)[] = [];
          for (const { wish } of group) all.push(await this.#move(writer, wish));
          return all;
        });
        for (const [index, { resolve, reject }] of group.entries()) {
          const outcome = settled[index] as MarkStanding | ProblemError;
          if (outcome instanceof Error) reject(outcome);
          else resolve(outcome);
        }
      } catch (error) {
        for (const { reject } of group) reject(error as Error);
      }
    }
    this.#committing = false;
  }

  /** Moves one mark, or says why not: a refusal is no reason to undo the others of the group. */
  async #move(writer: Sequelize, { user, channel, place, most }: MarkWish): Promise<MarkStanding | ProblemError> {
    const row = await channelOf(writer, channel);
    const head = { volume: row?.volume ?? this.#volume, number: Number(row?.head ?? 0) };
    const counted = head.number - Number(row?.notes ?? 0);
    const tables = writer.getQueryInterface();
    if (place === null) {
      if (row !== undefined) await tables.bulkDelete('marks', { user_id: user, channel_id: row.id });
      return { channel, unread: 0, counted };
    }
    if (place.volume !== head.volume || place.number > head.number)
      return refusal('bad-cursor', 'the channel has no such message', { where: '/cursor' });
    const id = row?.id ?? (await this.#makeChannel(writer, channel));
    const notes = await notesAt(writer, id, place.number);
    const at = { user, channel: id, number: place.number, notes };
    const moved = await writer.query(
      'UPDATE marks SET number = :number, notes = :notes WHERE user_id = :user AND channel_id = :channel AND number < :number',
      { replacements: at, type: QueryTypes.BULKUPDATE },
    );
    if (moved === 0) {
      const [known] = await standingsOf(writer, user, [channel]);
      if (known !== undefined) return known;
      const [{ had } = { had: 0 }] = await writer.query<{ had: number | string }>(
        'SELECT COUNT(*) AS had FROM marks WHERE user_id = :user',
        { replacements: { user }, type: QueryTypes.SELECT },
      );
      if (Number(had) >= most) return refusal('too-many-channels', `a user has read marks in at most ${most} channels`);
      await tables.bulkInsert('marks', [{ user_id: user, channel_id: id, number: place.number, notes }]);
    }
    return (await standingsOf(writer, user, [channel]))[0] as MarkStanding;
  }

  /** A channel in which nothing was said yet can be followed too. */
  async #makeChannel(writer: Sequelize, name: ChannelName): Promise<number> {
    const row = { name, volume: this.#volume, head: 0, notes: 0, last_at_ms: 0 };
    await writer.getQueryInterface().bulkInsert('channels', [row]);
    return (await channelOf(writer, name))?.id as number;
  }
}

async function channelOf(on: Sequelize, name: ChannelName) {
  const [row] = await on.query<{ id: number; volume: string; head: number | string; notes: number | string }>(
    'SELECT id, volume, head, notes FROM channels WHERE name = :name',
    { replacements: { name }, type: QueryTypes.SELECT },
  );
  return row;
}

/** How many notes a channel has up to a number. */
async function notesAt(on: Sequelize, channel: number, number: number): Promise<number> {
  const [row] = await on.query<{ notes: number | string }>(
    'SELECT notes FROM messages WHERE channel_id = :channel AND number = :number',
    { replacements: { channel, number }, type: QueryTypes.SELECT },
  );
  return Number(row?.notes ?? 0);
}

async function standingsOf(
  on: Sequelize,
  user: string,
  channels: readonly ChannelName[] | undefined,
): Promise<readonly MarkStanding[]> {
  if (channels?.length === 0) return [];
  const these = channels === undefined ? '' : 'AND c.name IN (:channels)';
  const rows = await on.query<StandingRow>(
    `SELECT c.name, c.volume, c.head, c.notes AS head_notes, k.number, k.notes,
       (SELECT COUNT(*) FROM messages m WHERE m.channel_id = k.channel_id AND m.author = k.user_id
          AND m.number > k.number AND m.type NOT IN (:types)) AS own
     FROM marks k JOIN channels c ON c.id = k.channel_id WHERE k.user_id = :user ${these} ORDER BY c.name`,
    { replacements: { user, channels: channels ?? [], types: [...noteTypes] }, type: QueryTypes.SELECT },
  );
  return rows.map((row) => {
    const counted = Number(row.head) - Number(row.head_notes);
    const read = Number(row.number) - Number(row.notes);
    return {
      channel: row.name as ChannelName,
      place: { volume: row.volume, number: Number(row.number) },
      unread: Math.max(0, counted - read - Number(row.own)),
      counted,
    };
  });
}
