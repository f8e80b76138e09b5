import {
  noSuchMessage,
  noVolume,
  type Place,
  type Reacted,
  type Reaction,
  type ReactionSlice,
  type ReactionStore,
  type Reactor,
  type ReactorsWish,
} from '@nine-bells/core';
import { type ChannelName, ProblemError, type ReactionCounts, refusal } from '@nine-bells/wire';
import type { Database, Plan, Reads } from './database.js';
import { Grouped } from './grouped.js';
import type { PersonalData } from './personalData.js';
import { deletesOf, insertOf, updateInstead, updatesOf } from './statements.js';
import type { Row } from './tables.js';

interface HeadRow {
  readonly volume: string;
  readonly head: number | string | null;
}

type Done = Awaited<ReturnType<ReactionStore['react']>>;

/** Stores reactions to messages. Concurrent changes share a commit. */
export class SqlReactionStore implements ReactionStore {
  readonly #database: Database;
  readonly #grouped: Grouped<Reaction, Done | ProblemError>;

  constructor(database: Database) {
    this.#database = database;
    this.#grouped = new Grouped({
      database,
      commit: (all) => database.attempt((reads) => planOf(reads, all, database)),
      charsOf: ({ word }) => word.length + 100,
    });
  }

  /** Resolves when everything that was waiting has been committed. */
  settled(): Promise<void> {
    return this.#grouped.settled();
  }

  async react(reaction: Reaction): Promise<Done> {
    const done = await this.#grouped.add(reaction);
    if (done instanceof ProblemError) throw done;
    return done;
  }

  async reactions(channel: ChannelName, numbers: readonly number[], user?: string): Promise<ReactionSlice> {
    const { reads } = this.#database;
    // A list is never empty in SQL.
    const about = { channel, numbers: [0, ...numbers], user: user ?? '' };
    // In one statement, so that the version is that of the counts.
    const found = await reads.select<Partial<Row<'reaction_counts'>> & HeadRow>(
      `SELECT c.volume, h.version AS head, k.number, k.counts_json, k.version FROM channels c
       LEFT JOIN reaction_heads h ON h.channel_id = c.id
       LEFT JOIN reaction_counts k ON k.channel_id = c.id AND k.number IN (:numbers) AND k.counts_json <> '{}'
       WHERE c.name = :channel`,
      about,
    );
    const version = versionOf(found[0]);
    const counts = found.filter((row): row is Row<'reaction_counts'> & HeadRow => typeof row.counts_json === 'string');
    if (user === undefined || counts.length === 0) return { version, reacted: counts.map(reactedOf), own: [] };
    const rows = await reads.select<Pick<Row<'reactions'>, 'number' | 'word'>>(
      `SELECT r.number, r.word FROM channels c
       JOIN reactions r ON r.channel_id = c.id AND r.user_id = :user AND r.number IN (:numbers)
       WHERE c.name = :channel ORDER BY r.number, r.word`,
      about,
    );
    const own = new Map<number, string[]>();
    for (const { number, word } of rows) own.set(Number(number), [...(own.get(Number(number)) ?? []), word]);
    return { version, reacted: counts.map(reactedOf), own: [...own] };
  }

  async reactionsSince(channel: ChannelName, version: number, limit: number): Promise<ReactionSlice> {
    const [now] = (await this.reactionHeads([channel])) as [Place];
    if (version >= now.number) return { version: now, reacted: [], own: [] };
    const rows = await this.#database.reads.select<Row<'reaction_counts'>>(
      `SELECT k.* FROM channels c JOIN reaction_counts k ON k.channel_id = c.id AND k.version > :version
       WHERE c.name = :channel ORDER BY k.version LIMIT :limit`,
      { channel, version, limit },
    );
    return { version: now, reacted: rows.map(reactedOf), own: [] };
  }

  async reactors({ channel, number, word, after, limit }: ReactorsWish): Promise<readonly Reactor[]> {
    const conditions = [
      'c.name = :channel',
      ...(word === undefined ? [] : ['r.word = :word']),
      ...(after === undefined ? [] : ['(r.word > :afterWord OR (r.word = :afterWord AND r.user_id > :afterUser))']),
    ];
    const rows = await this.#database.reads.select<Row<'reactions'>>(
      `SELECT r.* FROM channels c JOIN reactions r ON r.channel_id = c.id AND r.number = :number
       WHERE ${conditions.join(' AND ')} ORDER BY r.word, r.user_id LIMIT :limit`,
      { channel, number, word: word ?? '', afterWord: after?.word ?? '', afterUser: after?.user ?? '', limit },
    );
    return rows.map((row) => ({
      word: row.word,
      user: row.user_id,
      ...(row.name === null ? {} : { name: row.name }),
      at: new Date(Number(row.at_ms)).toISOString(),
    }));
  }

  async reactionHeads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    const rows = await this.#database.reads.select<HeadRow & { readonly name: string }>(
      `SELECT c.name, c.volume, h.version AS head FROM channels c LEFT JOIN reaction_heads h ON h.channel_id = c.id
       WHERE c.name IN (:channels)`,
      { channels },
    );
    const found = new Map(rows.map((row) => [row.name, row]));
    return channels.map((channel) => versionOf(found.get(channel)));
  }
}

/** Returns the version of a channel's reactions; a channel without messages has no volume. */
function versionOf(row: HeadRow | undefined): Place {
  return { volume: row?.volume ?? noVolume, number: Number(row?.head ?? 0) };
}

/** State of a message while a group of changes is applied. */
interface State {
  readonly channelId: number;
  readonly number: number;
  readonly counts: Map<string, number>;
  version: number;
  changed: boolean;
}

/** Takes a group of reactions one after another, and says what to write. */
async function planOf(
  reads: Reads,
  all: readonly Reaction[],
  database: Database,
): Promise<Plan<readonly (Done | ProblemError)[]>> {
  const each = database.isShared
    ? 'json_array_elements(CAST(:rows AS json)) AS each(value)'
    : 'jsonb_each(:rows) AS each';
  const asked = [
    ...new Map(all.map((one) => [`${one.channel} ${one.place.number}`, [one.channel, one.place.number]])).values(),
  ];
  const found = await reads.select<{
    id: number;
    name: ChannelName;
    volume: string;
    head: number | string | null;
    number: number | string;
    withdrawn: number | null;
    counts_json: string | null;
    version: number | string | null;
  }>(
    `SELECT c.id, c.name, c.volume, h.version AS head, m.number, m.withdrawn, k.counts_json, k.version
     FROM ${each} JOIN channels c ON c.name = each.value->>0
     JOIN messages m ON m.channel_id = c.id AND m.number = CAST(each.value->>1 AS BIGINT) AND m.target IS NULL
     LEFT JOIN reaction_heads h ON h.channel_id = c.id
     LEFT JOIN reaction_counts k ON k.channel_id = c.id AND k.number = m.number`,
    { rows: JSON.stringify(asked) },
  );
  const mine = await reads.select<Row<'reactions'> & { readonly channel: string }>(
    `SELECT c.name AS channel, r.* FROM ${each} JOIN channels c ON c.name = each.value->>0
     JOIN reactions r ON r.channel_id = c.id AND r.user_id = each.value->>2 AND r.number = CAST(each.value->>1 AS BIGINT)`,
    { rows: JSON.stringify(all.map(({ channel, place, by }) => [channel, place.number, by.user])) },
  );
  const states = new Map<string, State & { readonly volume: string; readonly isWithdrawn: boolean }>();
  const heads = new Map<number, number>();
  for (const row of found) {
    heads.set(row.id, Number(row.head ?? 0));
    states.set(`${row.name} ${Number(row.number)}`, {
      channelId: row.id,
      number: Number(row.number),
      counts: new Map(Object.entries(JSON.parse(row.counts_json ?? '{}') as ReactionCounts)),
      version: Number(row.version ?? 0),
      volume: row.volume,
      isWithdrawn: row.withdrawn === 1,
      changed: false,
    });
  }
  /** Each user's reactions to each message, with the changes to write. */
  const words = new Map<string, Map<string, Reaction | 'there' | 'gone'>>();
  const wordsOf = (channel: string, number: number, user: string): Map<string, Reaction | 'there' | 'gone'> => {
    const key = JSON.stringify([channel, number, user]);
    const known = words.get(key) ?? new Map<string, Reaction | 'there' | 'gone'>();
    words.set(key, known);
    return known;
  };
  for (const row of mine) wordsOf(row.channel, Number(row.number), row.user_id).set(row.word, 'there');

  const touched = new Set<number>();
  const result = all.map((one): Done | ProblemError => {
    const { channel, place, by, word, on, most } = one;
    const { number } = place;
    const state = states.get(`${channel} ${number}`);
    if (state === undefined || state.volume !== place.volume) return noSuchMessage() as ProblemError;
    if (state.isWithdrawn) return refusal('withdrawn', undefined, { where: '/cursor' });
    const own = wordsOf(channel, number, by.user);
    const isThere = own.has(word) && own.get(word) !== 'gone';
    const changed = on !== isThere;
    if (changed && on) {
      const count = [...own.values()].filter((each) => each !== 'gone').length;
      if (count >= most.each)
        return refusal('too-many-reactions', `you react to a message with at most ${most.each} words`);
      if (!state.counts.has(word) && state.counts.size >= most.kinds)
        return refusal('too-many-reactions', `a message has at most ${most.kinds} kinds of reactions`);
    }
    if (changed) {
      own.set(word, on ? one : 'gone');
      const count = (state.counts.get(word) ?? 0) + (on ? 1 : -1);
      if (count <= 0) state.counts.delete(word);
      else state.counts.set(word, count);
      state.version = (heads.get(state.channelId) ?? 0) + 1;
      heads.set(state.channelId, state.version);
      state.changed = true;
      touched.add(state.channelId);
    }
    const counts = Object.fromEntries(state.counts);
    return { reacted: { number, counts, version: state.version }, volume: state.volume, changed };
  });

  const added: Row<'reactions'>[] = [];
  const gone: Row<'reactions', 'channel_id' | 'number' | 'word' | 'user_id'>[] = [];
  for (const [key, own] of words) {
    const [channel, number, user] = JSON.parse(key) as [string, number, string];
    const state = states.get(`${channel} ${number}`);
    if (state === undefined) continue;
    for (const [word, what] of own)
      if (what === 'gone') gone.push({ channel_id: state.channelId, number, word, user_id: user });
      else if (what !== 'there')
        added.push({
          ...{ channel_id: state.channelId, number, word },
          ...{ user_id: user, name: what.by.name ?? null, at_ms: what.atMs },
        });
  }
  const changed = [...states.values()].filter((state) => state.changed);
  const statements = [...deletesOf('reactions', gone, database)];
  if (added.length > 0) statements.push(insertOf('reactions', added, database, 'ON CONFLICT DO NOTHING'));
  if (changed.length > 0) {
    const rows = changed.map(({ channelId, number, counts, version }) => {
      const counts_json = JSON.stringify(Object.fromEntries(counts));
      return { channel_id: channelId, number, counts_json, version };
    });
    const instead = updateInstead(['channel_id', 'number'], ['counts_json', 'version']);
    statements.push(insertOf('reaction_counts', rows, database, instead));
    const moved = [...touched].map((id) => ({ channel_id: id, version: heads.get(id) as number }));
    statements.push(insertOf('reaction_heads', moved, database, updateInstead(['channel_id'], ['version'])));
  }
  return { statements, result };
}

function reactedOf({ number, counts_json, version }: Row<'reaction_counts'>): Reacted {
  return { number: Number(number), counts: JSON.parse(counts_json), version: Number(version) };
}

/** The user's reactions. Each message gets a version of its own, so that clients receive the changes in parts. */
export const reactionData: PersonalData = {
  tables: ['reactions'],
  exports: () => ({
    reactions: `SELECT c.name AS channel, c.volume || ':' || CAST(r.number AS TEXT) AS "of", r.word, r.at_ms
      FROM channels c JOIN reactions r ON r.channel_id = c.id AND r.user_id = :user`,
  }),
  async erase(reads, { user, limit, dialect }) {
    const rows = await reads.select<
      Row<'reactions'> & { readonly counts_json: string; readonly head: number | string }
    >(
      `SELECT r.*, k.counts_json, h.version AS head FROM channels c
       JOIN reactions r ON r.channel_id = c.id AND r.user_id = :user
       JOIN reaction_heads h ON h.channel_id = c.id
       JOIN reaction_counts k ON k.channel_id = c.id AND k.number = r.number LIMIT :limit`,
      { user, limit },
    );
    const messages = new Map<string, { row: (typeof rows)[number]; counts: Record<string, number> }>();
    for (const row of rows) {
      const key = `${row.channel_id} ${row.number}`;
      const message = messages.get(key) ?? { row, counts: JSON.parse(row.counts_json) };
      messages.set(key, message);
      const count = (message.counts[row.word] ?? 1) - 1;
      if (count > 0) message.counts[row.word] = count;
      else delete message.counts[row.word];
    }
    const heads = new Map<number, number>();
    const changed = [...messages.values()].map(({ row: { channel_id, number, head }, counts }) => {
      const version = (heads.get(channel_id) ?? Number(head)) + 1;
      heads.set(channel_id, version);
      return { channel_id, number, counts_json: JSON.stringify(counts), version };
    });
    const moved = [...heads].map(([channel_id, version]) => ({ channel_id, version }));
    const statements = [
      ...deletesOf('reactions', rows, dialect),
      ...updatesOf('reaction_heads', moved, dialect),
      ...updatesOf('reaction_counts', changed, dialect),
    ];
    return { statements, result: rows.length };
  },
};
