import type { Draft, KeptLevel, LevelStore, LevelWish, MentionStore } from '@nine-bells/core';
import { type ChannelName, defined, type Level, ProblemError, refusal } from '@nine-bells/wire';
import type { Database, Plan, Reads } from './database.js';
import { Grouped } from './grouped.js';
import { eraseOwn, type PersonalData } from './personalData.js';
import { among, type Dialect, deletesOf, insertOf, tableOf, updateInstead } from './statements.js';
import type { Row } from './tables.js';

/** Mentions of a channel that are looked at. */
const mostMentions = 100;

/** Mentions in the messages of one commit. */
export class MentionRows {
  readonly #texts: unknown[][] = [];
  readonly #mentioned: Row<'mentioned'>[] = [];

  /** Adds a message that has its place. */
  add(channelId: number, number: number, { mentions, mentioned = [] }: Draft): void {
    this.#texts.push([channelId, number, JSON.stringify(mentions)]);
    for (const user of mentioned) this.#mentioned.push({ user_id: user, channel_id: channelId, number });
  }

  /** Returns the statements to run after the messages are inserted. */
  statements(dialect: Dialect): readonly string[] {
    if (this.#texts.length === 0) return [];
    return [
      `UPDATE messages SET mentions_json = each.value->>2 FROM ${tableOf(this.#texts, dialect)}
       WHERE messages.channel_id = CAST(each.value->>0 AS INTEGER) AND messages.number = CAST(each.value->>1 AS BIGINT)`,
      insertOf('mentioned', this.#mentioned, dialect),
    ];
  }
}

/** Mentions of users in messages, and notification levels. Concurrent level changes share a commit. */
export class SqlMentionStore implements MentionStore, LevelStore {
  readonly #database: Database;
  readonly #setting: Grouped<LevelWish, ProblemError | undefined>;

  constructor(database: Database) {
    this.#database = database;
    this.#setting = new Grouped({
      database,
      commit: (all) => database.attempt((reads) => planOf(reads, all, database)),
      charsOf: ({ user, channel }) => user.length + channel.length,
    });
  }

  /** Resolves when everything that was waiting has been committed. */
  settled(): Promise<void> {
    return this.#setting.settled();
  }

  async mentions(user: string, sinceMs: number): ReturnType<MentionStore['mentions']> {
    const rows = await this.#database.reads.select<{
      name: string;
      volume: string;
      number: number | string;
      author: string;
    }>(
      `SELECT * FROM (
         SELECT c.name, c.volume, x.number, m.author,
           ROW_NUMBER() OVER (PARTITION BY x.channel_id ORDER BY x.number DESC) AS rank
         FROM mentioned x JOIN channels c ON c.id = x.channel_id
         JOIN messages m ON m.channel_id = x.channel_id AND m.number = x.number AND m.author <> x.user_id
         LEFT JOIN marks k ON k.user_id = x.user_id AND k.channel_id = x.channel_id
         WHERE x.user_id = :user AND (x.number > k.number OR (k.number IS NULL AND m.at_ms >= :sinceMs))) ranked
       WHERE rank <= ${mostMentions} ORDER BY name, number DESC`,
      { user, sinceMs },
    );
    return rows.map(({ name, volume, number, author }) => ({
      channel: name as ChannelName,
      place: { volume, number: Number(number) },
      ...(author === '' ? {} : { by: author }),
    }));
  }

  async lastAt(channels: readonly ChannelName[]): Promise<readonly number[]> {
    if (channels.length === 0) return [];
    const rows = await this.#database.reads.select<{ name: string; last_at_ms: number | string }>(
      'SELECT name, last_at_ms FROM channels WHERE name IN (:channels)',
      { channels },
    );
    const times = new Map(rows.map(({ name, last_at_ms }) => [name, Number(last_at_ms)]));
    return channels.map((channel) => times.get(channel) ?? 0);
  }

  async setLevel(wish: LevelWish): Promise<void> {
    const refused = await this.#setting.add(wish);
    if (refused instanceof ProblemError) throw refused;
  }

  async levels(user: string, nowMs: number): Promise<readonly KeptLevel[]> {
    return levelsOf(this.#database.reads, 'user_id = :user', { user, nowMs });
  }

  async levelsIn(channel: ChannelName, users: readonly string[], nowMs: number): Promise<readonly KeptLevel[]> {
    return levelsOf(this.#database.reads, 'user_id IN (:users) AND channel = :channel', { users, channel, nowMs });
  }

  async hasLevels(): Promise<boolean> {
    return (await this.#database.reads.select('SELECT user_id FROM levels LIMIT 1', {})).length > 0;
  }
}

async function levelsOf(
  reads: Reads,
  condition: string,
  values: { readonly nowMs: number } & Readonly<Record<string, unknown>>,
): Promise<readonly KeptLevel[]> {
  const rows = await reads.select<Row<'levels'>>(
    `SELECT * FROM levels WHERE ${condition} AND (until_ms IS NULL OR until_ms > :nowMs) ORDER BY channel`,
    values,
  );
  return rows.map(({ user_id: user, channel, level, until_ms }) => ({
    user,
    channel: channel as ChannelName,
    level: level as Level,
    ...defined({ untilMs: until_ms === null ? undefined : Number(until_ms) }),
  }));
}

/** Takes a group of wishes one after another, and says what to write. Levels that have ended go. */
async function planOf(
  reads: Reads,
  all: readonly LevelWish[],
  database: Database,
): Promise<Plan<readonly (ProblemError | undefined)[]>> {
  const users = [...new Set(all.map(({ user }) => user))];
  const nowMs = Math.round(Math.max(...all.map(({ atMs }) => atMs)));
  const lists = new Map<string, Set<string>>(users.map((user) => [user, new Set()]));
  for (const { user, channel } of await levelsOf(reads, 'user_id IN (:users)', { users, nowMs }))
    lists.get(user)?.add(channel);
  const last = new Map<string, LevelWish>();
  const result = all.map((wish) => {
    const { user, channel, level, most } = wish;
    const list = lists.get(user) as Set<string>;
    if (level === null) list.delete(channel);
    else if (list.size >= most && !list.has(channel))
      return refusal('too-many-levels', `a user sets the levels of at most ${most} channels`);
    else list.add(channel);
    last.set(JSON.stringify([user, channel]), wish);
    return undefined;
  });
  const wishes = [...last.values()];
  const gone = wishes.filter(({ level }) => level === null).map(({ user, channel }) => ({ user_id: user, channel }));
  const set = wishes.flatMap(({ user, channel, level, untilMs = null }) =>
    level === null ? [] : [{ user_id: user, channel, level, until_ms: untilMs }],
  );
  const theirs = users.map((user) => ({ user_id: user }));
  const statements = [
    `DELETE FROM levels WHERE until_ms <= ${nowMs} AND ${among('levels', theirs, database, ['user_id'])}`,
    ...deletesOf('levels', gone, database),
  ];
  if (set.length > 0)
    statements.push(insertOf('levels', set, database, updateInstead(['user_id', 'channel'], ['level', 'until_ms'])));
  return { statements, result };
}

export const levelData: PersonalData = {
  tables: ['levels'],
  exports: () => ({ levels: 'SELECT channel, level, until_ms FROM levels WHERE user_id = :user ORDER BY channel' }),
  erase: (reads, request) => eraseOwn('levels', reads, request),
};

export const mentionData: PersonalData = {
  tables: ['mentioned'],
  exports: () => ({
    mentions: `SELECT c.name AS channel, c.volume || ':' || CAST(x.number AS TEXT) AS cursor FROM mentioned x
      JOIN channels c ON c.id = x.channel_id WHERE x.user_id = :user ORDER BY c.name, x.number`,
  }),
  erase: (reads, request) => eraseOwn('mentioned', reads, request),
};
