import {
  type Appended,
  BoundedMap,
  countsAsUnread,
  type Draft,
  LoggedMessage,
  type QueuedEvent,
} from '@nine-bells/core';
import { type ChannelName, ProblemError, refusal } from '@nine-bells/wire';
import type { Database, Reads } from './database.js';
import { insertDeliveries } from './deliveryRows.js';
import { isPassing, isTaken, NotDone, UnknownOutcome } from './failures.js';
import { commitApart } from './grouped.js';
import { MentionRows } from './mentionStore.js';
import { Changes } from './messageChanges.js';
import {
  type HeadRow,
  headsAndCutoffs,
  insertMessages,
  keyOf,
  knownOf,
  moveHeads,
  type NewMessage,
} from './messageRows.js';
import { Releases } from './pendingStore.js';
import { Replies } from './replyRows.js';
import { type Dialect, insertOf, makeChannels, tableOf } from './statements.js';
import type { Row } from './tables.js';
import type { Volumes } from './volumes.js';

/** Most messages of one commit. */
const groupMessages = 4000;
/** Most characters of data of one commit; one message alone may have more. */
const groupChars = 8_388_608;
/** Maximum number of channels whose heads are cached. */
const maxHeads = 10_000;
/** For how long a group is tried again when the connection to a shared database ends, and how long between, in milliseconds. */
const tryMs = 3_000;
const tryAgainMs = 50;

interface Waiting {
  readonly channel: ChannelName;
  readonly draft: Draft;
  readonly resolve: (appended: Appended) => void;
  readonly reject: (error: Error) => void;
}

/** Outcome of a draft; a change may be refused by itself. */
type Outcome = Appended | ProblemError;

/** Result of a transaction. */
interface Committed {
  readonly heads: ReadonlyMap<ChannelName, HeadRow>;
  readonly appended: readonly Outcome[];
}

/** A group that is being committed. */
interface Attempt {
  readonly group: readonly Waiting[];
  /** Drafts that the last attempt may have committed: its connection ended during COMMIT. */
  unknown: readonly Outcome[] | undefined;
}

/**
 * Numbers and commits the messages of kept channels. Messages that arrive while a commit is under way go into the next one
 * together, so that the cost of a commit is shared (promise `acknowledged is safe`).
 */
export class MessageCommits {
  readonly #database: Database;
  readonly #volumes: Volumes;
  /** The heads of channels, if no other instance writes; of those written to last. */
  readonly #heads = new BoundedMap<ChannelName, HeadRow>(maxHeads);
  /** Volume and head of channels in a shared database after the last commit of this process. */
  readonly #seen = new BoundedMap<ChannelName, { readonly volume: string; readonly head: number }>(maxHeads);
  #waiting: Waiting[] = [];
  #committing: Promise<void> | undefined;

  /** @param volumes - the volume of channels that are new */
  constructor(database: Database, volumes: Volumes) {
    this.#database = database;
    this.#volumes = volumes;
    volumes.onRenewed(() => this.#heads.clear());
  }

  append(channel: ChannelName, draft: Draft): Promise<Appended> {
    return new Promise((resolve, reject) => {
      this.#waiting.push({ channel, draft, resolve, reject });
      this.#committing ??= this.#commitAll();
    });
  }

  /** Resolves when everything that was waiting has been committed. */
  async settled(): Promise<void> {
    while (this.#committing !== undefined) await this.#committing;
  }

  async #commitAll(): Promise<void> {
    // The rest of this turn's messages join the first commit.
    await Promise.resolve();
    while (this.#waiting.length > 0) {
      const commit = (some: readonly Waiting[]): Promise<void> => this.#commitAndTell(some);
      await commitApart(this.#nextGroup(), this.#database.isShared, commit, (some, failure) => {
        for (const each of some) each.reject(failure);
      });
    }
    this.#committing = undefined;
  }

  async #commitAndTell(group: readonly Waiting[]): Promise<void> {
    const outcomes = await this.#commitWithin(group);
    for (const [index, { resolve, reject }] of group.entries()) {
      const outcome = outcomes[index] as Outcome;
      if (outcome instanceof ProblemError) reject(outcome);
      else resolve(outcome);
    }
  }

  /**
   * Commits a group. When the connection ends, it is tried again on another one for a while. If that happened during COMMIT,
   * the next try finds out whether it was done: nothing is written twice, and what was written is announced.
   */
  async #commitWithin(group: readonly Waiting[]): Promise<readonly Outcome[]> {
    const endMs = performance.now() + tryMs;
    const attempt: Attempt = { group, unknown: undefined };
    for (;;) {
      try {
        return await this.#commitGroup(attempt);
      } catch (error) {
        this.#heads.clear();
        const isShared = this.#database.isShared;
        if (!isShared || !isPassing(error, isShared) || performance.now() > endMs)
          throw attempt.unknown === undefined ? error : new UnknownOutcome('', { cause: error });
        await new Promise((resolve) => setTimeout(resolve, tryAgainMs));
      }
    }
  }

  /** As many of those that wait as one commit takes. */
  #nextGroup(): readonly Waiting[] {
    let chars = 0;
    let count = 0;
    for (; count < this.#waiting.length && count < groupMessages; count++) {
      chars += (this.#waiting[count] as Waiting).draft.dataText.length;
      if (chars > groupChars && count > 0) break;
    }
    return this.#waiting.splice(0, count);
  }

  /** A key is seldom known: it is looked up only when the database says that one of the group is. */
  async #commitGroup(attempt: Attempt): Promise<readonly Outcome[]> {
    const { group } = attempt;
    const isSimple =
      attempt.unknown === undefined &&
      group.every(
        ({ draft }) => draft.change === undefined && draft.reply === undefined && draft.releases === undefined,
      );
    const heads = isSimple ? this.#knownHeads(group) : undefined;
    try {
      if (heads === undefined) return await this.#commitLookedUp(attempt, false);
      const { appended, statements } = entriesOf(this.#database, group, heads, new Map(), {});
      await this.#database.commitToFile([...guardOf(group, this.#database), ...statements]);
      this.#remember(heads);
      return appended;
    } catch (error) {
      if (!isTaken(error)) throw error;
      return this.#commitLookedUp(attempt, true);
    }
  }

  /** As far as they are known, a group's channels; `undefined` where one must be looked up. */
  #knownHeads(group: readonly Waiting[]): Map<ChannelName, HeadRow> | undefined {
    const heads = new Map<ChannelName, HeadRow>();
    for (const { channel } of group) {
      if (heads.has(channel)) continue;
      const known = this.#heads.get(channel);
      if (known === undefined) return undefined;
      heads.set(channel, { ...known });
    }
    return heads;
  }

  /** Heads that other processes move must be read each time. */
  #remember(heads: ReadonlyMap<ChannelName, HeadRow>): void {
    if (this.#database.isShared) for (const [name, { volume, head }] of heads) this.#seen.set(name, { volume, head });
    else for (const [name, row] of heads) this.#heads.set(name, row);
  }

  /** @throws {NotDone} if a channel has lost numbers that were given out: it is tried again in a new volume */
  #checkSeen(names: readonly ChannelName[], heads: ReadonlyMap<ChannelName, HeadRow>): void {
    for (const name of names) {
      const seen = this.#seen.get(name);
      if (seen === undefined || seen.volume !== this.#volumes.current) continue;
      const row = heads.get(name);
      if (row !== undefined && (row.volume !== seen.volume || row.head >= seen.head)) continue;
      this.#volumes.foundBehind(seen.volume);
      throw new NotDone('the database has been restored from a backup');
    }
  }

  /** One transaction in which the channels are looked up, and if need be what was published before under the keys. */
  async #commitLookedUp(attempt: Attempt, looksUpKeys: boolean): Promise<readonly Outcome[]> {
    const { group } = attempt;
    const names = [...new Set(group.map(({ channel }) => channel))];
    for (;;) {
      let planned: readonly Outcome[] | undefined;
      try {
        const done = await this.#database.attempt<Committed | undefined>(async (reads) => {
          const before = await this.#whatWasDone(reads, attempt);
          if (before !== undefined) return { statements: [], result: { heads: new Map(), appended: before } };
          const users = this.#database.hasOtherWriters ? [...authorsOf(group).keys()] : [];
          const { heads, cutoffs } = await headsAndCutoffs(reads, names, users, this.#database);
          this.#checkSeen(names, heads);
          const missing = names.filter((name) => !heads.has(name));
          if (missing.length > 0)
            return { statements: [makeChannels(missing, this.#volumes.current, this.#database)], result: undefined };
          const changing = group.flatMap(({ channel, draft: { change } }) => (change ? [{ channel, change }] : []));
          const changes =
            changing.length === 0 ? undefined : await Changes.find(reads, changing, heads, this.#database);
          const replying = group.filter(({ draft }) => draft.reply !== undefined);
          const replies =
            replying.length === 0 ? undefined : await Replies.find(reads, replying, heads, this.#database);
          const released = group.flatMap(({ draft }) => (draft.releases === undefined ? [] : [draft]));
          const releases = released.length === 0 ? undefined : await Releases.find(reads, released);
          const known =
            looksUpKeys || releases !== undefined || replies !== undefined || changes !== undefined
              ? await knownKeys(reads, group, heads, this.#database)
              : new Map<string, LoggedMessage>();
          const { statements, appended } = entriesOf(this.#database, group, heads, known, {
            changes,
            replies,
            releases,
            cutoffs,
          });
          planned = appended;
          return { statements, result: { heads, appended } };
        });
        // The channels are there now.
        if (done === undefined) continue;
        this.#remember(done.heads);
        return done.appended;
      } catch (error) {
        if (error instanceof UnknownOutcome) attempt.unknown = planned;
        throw error;
      }
    }
  }

  /** Returns what the last attempt, whose outcome was unknown, has committed; `undefined` if nothing. */
  async #whatWasDone(reads: Reads, attempt: Attempt): Promise<readonly Outcome[] | undefined> {
    const { unknown } = attempt;
    attempt.unknown = undefined;
    const first = unknown?.find((each): each is Appended => !(each instanceof ProblemError) && !each.repeated)?.logged;
    if (first === undefined) return undefined;
    const rows = await reads.select(
      `SELECT m.number FROM messages m JOIN channels c ON c.id = m.channel_id
       WHERE c.name = :channel AND m.number = :number AND m.message_id = :id`,
      { channel: first.channel, number: first.place.number, id: first.id },
    );
    return rows.length === 0 ? undefined : unknown;
  }
}

/** Rows that changes, replies and released messages need. */
interface Beside {
  readonly changes?: Changes | undefined;
  readonly replies?: Replies | undefined;
  readonly releases?: Releases | undefined;
  /** Until when tokens of authors are revoked, in milliseconds since the epoch. */
  readonly cutoffs?: ReadonlyMap<string, number>;
}

/** Users who publish with a token, each with the issue time of the oldest one, in milliseconds since the epoch. */
function authorsOf(group: readonly Waiting[]): ReadonlyMap<string, number> {
  const authors = new Map<string, number>();
  for (const { draft } of group)
    if (draft.by !== undefined && draft.issuedAtMs !== undefined)
      authors.set(draft.by.user, Math.min(draft.issuedAtMs, authors.get(draft.by.user) ?? Number.POSITIVE_INFINITY));
  return authors;
}

/**
 * Statements that fail as taken numbers do if another instance has revoked a token of the group. A shared database needs none:
 * there, each commit looks the cutoffs up.
 */
function guardOf(group: readonly Waiting[], database: Database): readonly string[] {
  const authors = database.hasOtherWriters ? [...authorsOf(group)] : [];
  if (authors.length === 0) return [];
  return [
    `INSERT INTO cutoffs (user_id, before_ms) SELECT c.user_id, c.before_ms FROM ${tableOf(authors, database)}
     CROSS JOIN cutoffs c ON c.user_id = each.value->>0 AND c.before_ms > each.value->>1`,
  ];
}

/** Gives the numbers, and makes the statements that write the rows and move the heads. */
function entriesOf(
  dialect: Dialect,
  group: readonly Waiting[],
  heads: ReadonlyMap<ChannelName, HeadRow>,
  known: Map<string, LoggedMessage>,
  { changes, replies, releases, cutoffs }: Beside,
): { readonly appended: readonly Outcome[]; readonly statements: readonly string[] } {
  const rows: NewMessage[] = [];
  const changed = new Set<HeadRow>();
  const begun: Row<'marks'>[] = [];
  const queued: QueuedEvent[] = [];
  const mentions = new MentionRows();
  const appended = group.map(({ channel, draft }): Outcome => {
    const row = heads.get(channel) as HeadRow;
    const key =
      draft.key === undefined
        ? undefined
        : keyOf(row.id, { owner: draft.owner, author: draft.by?.user, key: draft.key });
    const first = key === undefined ? undefined : known.get(key);
    const { releases: released } = draft;
    const notWaiting = released === undefined ? undefined : releases?.refusalOf(released);
    if (notWaiting !== undefined) return notWaiting;
    if (first !== undefined) {
      if (released !== undefined) releases?.add({ id: released, channel, ...numbersOf(first), atMs: draft.atMs });
      return { logged: first, repeated: true };
    }
    const { change, reply, by, issuedAtMs } = draft;
    const cutoffMs = by && cutoffs?.get(by.user);
    if (cutoffMs !== undefined && issuedAtMs !== undefined && issuedAtMs < cutoffMs)
      return refusal('token-ended', 'the token was revoked') as ProblemError;
    const refused =
      (change && changes?.refusalOf(row, change)) ??
      (reply && replies?.refusalOf(row, reply, changes?.withdraws(row.id, reply.to) ?? false));
    if (refused !== undefined) return refused;
    row.head += 1;
    if (released !== undefined)
      releases?.add({ id: released, channel, number: row.head, of: change?.of.number ?? row.head, atMs: draft.atMs });
    if (change !== undefined || !countsAsUnread(draft.type)) row.notes += 1;
    row.last_at_ms = draft.atMs;
    changed.add(row);
    const logged = new LoggedMessage(channel, { volume: row.volume, number: row.head }, draft);
    if (key !== undefined) known.set(key, logged);
    const placed = { draft, channelId: row.id, number: row.head, notes: row.notes };
    if (reply !== undefined) replies?.add(row.id, row.head, draft);
    if (draft.mentioned !== undefined) mentions.add(row.id, row.head, draft);
    if (change === undefined) rows.push(placed);
    else changes?.add(channel, placed, change, logged);
    if (row.head === 1)
      for (const user of draft.begins ?? []) begun.push({ user_id: user, channel_id: row.id, number: 0, notes: 0 });
    if (draft.hooks !== undefined) for (const hook of draft.hooks) queued.push(eventOf(hook, channel, draft, logged));
    return { logged, repeated: false, counted: row.head - row.notes };
  });
  const statements: string[] = [];
  if (rows.length > 0) statements.push(insertMessages(rows, dialect), ...mentions.statements(dialect));
  if (changed.size > 0) statements.push(moveHeads([...changed], dialect));
  if (begun.length > 0) statements.push(insertOf('marks', begun, dialect, 'ON CONFLICT DO NOTHING'));
  if (queued.length > 0) statements.push(insertDeliveries(queued, dialect));
  if (replies !== undefined) statements.push(...replies.statements(dialect));
  if (changes !== undefined) statements.push(...changes.statements(dialect));
  if (releases !== undefined) statements.push(...releases.statements(dialect));
  return { appended, statements };
}

/** Returns the numbers of a message published earlier, and of the message that holds its text. */
function numbersOf({ place: { number }, of }: LoggedMessage): { readonly number: number; readonly of: number } {
  return { number, of: of ?? number };
}

/** A message as an event for a hook. */
function eventOf(hook: string, channel: ChannelName, draft: Draft, { text }: LoggedMessage): QueuedEvent {
  const { id, atMs, hops, change } = draft;
  return { hook, id, event: change === undefined ? 'message' : 'changed', atMs, channel, hops, dataText: text };
}

/** Returns messages published earlier with the keys of a group. */
async function knownKeys(
  reads: Reads,
  group: readonly Waiting[],
  channels: ReadonlyMap<ChannelName, HeadRow>,
  { isShared }: Dialect,
): Promise<Map<string, LoggedMessage>> {
  const known = new Map<string, LoggedMessage>();
  const keys = group.flatMap(({ channel, draft: { key, owner, by } }) =>
    key === undefined ? [] : [[(channels.get(channel) as HeadRow).id, by?.user ?? '', owner ?? '', key]],
  );
  if (keys.length === 0) return known;
  const byId = new Map([...channels].map(([name, row]) => [row.id, { name, row }]));
  const each = isShared ? 'json_array_elements(CAST(:keys AS json)) AS each(value)' : 'jsonb_each(:keys) AS each';
  const rows = await reads.select<Row<'messages'>>(
    `SELECT m.* FROM ${each} JOIN messages m ON m.channel_id = CAST(each.value->>0 AS INTEGER)
       AND m.author = each.value->>1 AND m.key_owner = each.value->>2 AND m.publish_key = each.value->>3
     WHERE m.publish_key IS NOT NULL`,
    { keys: JSON.stringify(keys) },
  );
  for (const row of rows) {
    const { name, row: channel } = byId.get(row.channel_id) as { name: ChannelName; row: HeadRow };
    const key = { owner: row.key_owner, author: row.author, key: row.publish_key as string };
    known.set(keyOf(row.channel_id, key), knownOf(name, channel.volume, row));
  }
  return known;
}
