import type {
  Appended,
  AuditEntry,
  BoardSnapshot,
  Draft,
  InboxEntry,
  InboxSlice,
  InForce,
  KeptChannel,
  KnownUser,
  LogSlice,
  MarkState,
  ModerationAction,
  NoticeDraft,
  Place,
  ReadLimit,
  Report,
  Store,
  UserMark,
} from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import { BoardStore } from './boardStore.js';
import type { Database } from './database.js';
import { InboxStore } from './inboxStore.js';
import { MarkStore } from './markStore.js';
import { MessageCommits } from './messageCommits.js';
import { MessageReads } from './messageReads.js';
import { type FactRow, rowsOf } from './models.js';
import { ModerationStore } from './moderationStore.js';
import { checkHeads } from './recordCheck.js';

/** Everything that outlives the process, in the database. */
export class SqlStore implements Store {
  readonly #commits: MessageCommits;
  readonly #reads: MessageReads;
  readonly #inboxes: InboxStore;
  readonly #marks: MarkStore;
  readonly #moderation: ModerationStore;
  readonly #boards: BoardStore;

  private constructor(database: Database, volume: string) {
    this.#commits = new MessageCommits(database, volume);
    this.#reads = new MessageReads(database, volume);
    this.#inboxes = new InboxStore(database, volume);
    this.#marks = new MarkStore(database, volume);
    this.#moderation = new ModerationStore(database);
    this.#boards = new BoardStore(database);
  }

  /** @param report - told of records that are not whole */
  static async open(database: Database, report: Report = () => {}): Promise<SqlStore> {
    const where = { name: 'volume' };
    const [volume] = rowsOf<FactRow>(await database.models.facts.findAll({ where, raw: true }));
    if (volume === undefined) throw new Error('the database has no volume: it was not made by this service');
    await checkHeads(database, report);
    return new SqlStore(database, volume.value);
  }

  append(channel: ChannelName, draft: Draft): Promise<Appended> {
    return this.#commits.append(channel, draft);
  }

  /** Resolves when everything that was waiting has been committed. */
  settled(): Promise<void> {
    return this.#commits.settled();
  }

  head(channel: ChannelName): Promise<Place> {
    return this.#reads.head(channel);
  }

  heads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    return this.#reads.heads(channels);
  }

  since(channel: ChannelName, after: Place, limit: ReadLimit): Promise<LogSlice> {
    return this.#reads.since(channel, after, limit);
  }

  before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): Promise<LogSlice> {
    return this.#reads.before(channel, before, limit);
  }

  channels(after: string, limit: number, find?: string): Promise<readonly KeptChannel[]> {
    return this.#reads.channels(after, limit, find);
  }

  take(action: ModerationAction): Promise<number> {
    return this.#moderation.take(action);
  }

  changes(): Promise<number> {
    return this.#moderation.changes();
  }

  notify(drafts: readonly NoticeDraft[]): Promise<readonly InboxEntry[]> {
    return this.#inboxes.notify(drafts);
  }

  inbox(user: string, after: Place | undefined, limit: number, nowMs: number): Promise<InboxSlice> {
    return this.#inboxes.inbox(user, after, limit, nowMs);
  }

  done(user: string, ids: readonly string[] | true, nowMs: number): Promise<number> {
    return this.#inboxes.done(user, ids, nowMs);
  }

  meet(users: readonly KnownUser[]): Promise<void> {
    return this.#inboxes.meet(users);
  }

  usersWith(role: string): Promise<readonly string[]> {
    return this.#inboxes.usersWith(role);
  }

  user(id: string): Promise<KnownUser | undefined> {
    return this.#inboxes.user(id);
  }

  mark(user: string, channel: ChannelName, place: Place | null, most: number): Promise<MarkState> {
    return this.#marks.mark({ user, channel, place, most });
  }

  unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkState[]> {
    return this.#marks.unread(user, channels);
  }

  marks(channel: ChannelName, limit: number): Promise<readonly UserMark[]> {
    return this.#marks.marks(channel, limit);
  }

  saveBoard(channel: ChannelName, board: BoardSnapshot): Promise<void> {
    return this.#boards.saveBoard(channel, board);
  }

  board(channel: ChannelName): Promise<BoardSnapshot | undefined> {
    return this.#boards.board(channel);
  }

  inForce(atMs: number): Promise<InForce> {
    return this.#moderation.inForce(atMs);
  }

  audit(before: number | undefined, limit: number, user?: string): Promise<readonly AuditEntry[]> {
    return this.#moderation.audit(before, limit, user);
  }
}
