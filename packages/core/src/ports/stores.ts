import type { ChannelName } from '@nine-bells/wire';
import type { BoardSnapshot } from '../model/board.js';
import type { MarkState, UserMark } from '../model/mark.js';
import type { Appended, Draft, KeptChannel, LogSlice, Place, ReadLimit } from '../model/message.js';
import type { AuditEntry, InForce, ModerationAction } from '../model/moderation.js';
import type { InboxEntry, InboxSlice, KnownUser, NoticeDraft } from '../model/notice.js';

/** Reads the record of channels. */
export interface LogReader {
  /** The place of the last message; number 0 of a volume if there is none. */
  head(channel: ChannelName): Promise<Place>;
  /** The same of several channels. */
  heads(channels: readonly ChannelName[]): Promise<readonly Place[]>;
  /** The messages after `after`, oldest first. Messages that are gone are reported by `gap`. */
  since(channel: ChannelName, after: Place, limit: ReadLimit): Promise<LogSlice>;
  /** The last messages before `before`, or the last of all, oldest first. */
  before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): Promise<LogSlice>;
}

/** The messages of kept channels. */
export interface MessageStore extends LogReader {
  /**
   * Numbers a message of a kept channel and commits it, together with what else waits.
   *
   * Resolves after the commit, for one channel in the order of the numbers. A key that its author used in this channel
   * before gives the message published then.
   *
   * @throws {ProblemError} `unavailable` if it could not be committed and may be tried again
   */
  append(channel: ChannelName, draft: Draft): Promise<Appended>;
  /**
   * Kept channels that have been published to, by name: the first `limit` whose names come after `after`, and have the text
   * `find` in them, whatever its case.
   */
  channels(after: string, limit: number, find?: string): Promise<readonly KeptChannel[]>;
}

/** Moderation actions, with the audit log. */
export interface ModerationStore {
  /**
   * Commits a moderation action together with its entry in the audit log, and returns that entry's number.
   *
   * @throws {ProblemError} `unavailable` if it could not be committed and may be tried again
   */
  take(action: ModerationAction): Promise<number>;
  /** The number of the last entry of the audit log: it grows with each moderation action, and when API keys are made or revoked. */
  changes(): Promise<number>;
  /** What is in force at a time, in milliseconds since the epoch. */
  inForce(atMs: number): Promise<InForce>;
  /** The audit log, or what of it is about a user: the last `limit` entries before a number, the latest first. */
  audit(before: number | undefined, limit: number, user?: string): Promise<readonly AuditEntry[]>;
}

/** The notices of users. */
export interface InboxStore {
  /**
   * Commits notices to the inboxes of their users, each after those before it. One with a key takes the place of the one
   * that has it.
   *
   * @throws {ProblemError} `unavailable` if they could not be committed and may be tried again
   */
  notify(drafts: readonly NoticeDraft[]): Promise<readonly InboxEntry[]>;
  /** The notices of a user after a place, or all, that have not ended at `nowMs`. */
  inbox(user: string, after: Place | undefined, limit: number, nowMs: number): Promise<InboxSlice>;
  /** Takes notices out of an inbox: these, or all. Gives how many are left. */
  done(user: string, ids: readonly string[] | true, nowMs: number): Promise<number>;
}

/** Users as they were seen last. */
export interface UserStore {
  /** Remembers users as they were seen last. */
  meet(users: readonly KnownUser[]): Promise<void>;
  /** The ids of users who had a role when they were seen last. */
  usersWith(role: string): Promise<readonly string[]>;
  /** A user as last seen. */
  user(id: string): Promise<KnownUser | undefined>;
}

/** How far users have read. */
export interface MarkStore {
  /**
   * Moves a user's mark in a kept channel forward, or with `null` takes it away. One that lies behind the mark there is
   * changes nothing. A user may have `most` marks.
   *
   * @throws {ProblemError} `bad-cursor` for a place that the channel does not have; `too-many-channels`; `unavailable`
   */
  mark(user: string, channel: ChannelName, place: Place | null, most: number): Promise<MarkState>;
  /** How a user's marks stand: in these channels, or in all where it has one. */
  unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkState[]>;
  /** The marks in a channel, by user id: the first `limit`. */
  marks(channel: ChannelName, limit: number): Promise<readonly UserMark[]>;
}

/** The boards that outlive a restart. */
export interface BoardStore {
  /** Commits a board in place of the one saved before, unless that one is newer (of the same volume, with a higher number). */
  saveBoard(channel: ChannelName, board: BoardSnapshot): Promise<void>;
  /** A board as it was saved last; what its entries had left to live then has gone by since. */
  board(channel: ChannelName): Promise<BoardSnapshot | undefined>;
}

/** Everything that must outlive the process. */
export interface Store extends MessageStore, ModerationStore, InboxStore, UserStore, MarkStore, BoardStore {}
