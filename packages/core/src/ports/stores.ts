import type { ChannelName, Notice } from '@nine-bells/wire';
import type { BlockWish, KeptBlock } from '../model/block.js';
import type { BoardSnapshot } from '../model/board.js';
import type { ErasedRecord, Erasure, PersonRecords } from '../model/erasure.js';
import type {
  Delivery,
  DeliveryAttempt,
  DeliveryOutcome,
  DeliveryRecord,
  DeliveryWish,
  HookFigures,
  HookPause,
  HookState,
  QueuedEvent,
  RegisteredHook,
} from '../model/hook.js';
import type { Arrival, ArrivalDraft, ArrivalOutcome, ArrivalWish } from '../model/intake.js';
import type { Acceptance, Admission, InvitationDraft, KeptInvitation, whyOver } from '../model/invitation.js';
import type { KeptLevel, LevelWish } from '../model/level.js';
import type { MarkState, ThreadMark, UserMark } from '../model/mark.js';
import type {
  Appended,
  Draft,
  EarlierRevision,
  KeptChannel,
  LoggedMessage,
  LogSlice,
  Place,
  ReadLimit,
} from '../model/message.js';
import type { MessageReport, MessageReportDraft, ReportEnd, ReportWish } from '../model/messageReport.js';
import type { Actor, AuditEntry, Committing, InForce, ModerationAction, Revocation } from '../model/moderation.js';
import type { InboxEntry, InboxSlice, KnownUser, NoticeDraft } from '../model/notice.js';
import type {
  KnownUnderKey,
  PendingAnswer,
  PendingDraft,
  PendingEnd,
  PendingKey,
  PendingList,
  PendingMessage,
  PendingWish,
} from '../model/pending.js';
import type { Reacted, Reaction, ReactionSlice, Reactor, ReactorsWish } from '../model/reaction.js';
import type { Hold, KeptRange, RecordKind } from '../model/retention.js';
import type { SearchEntry, SearchFound, SearchLookup } from '../model/search.js';

/** Reads the record of channels. */
export interface LogReader {
  /** The place of the last message; number 0 of a volume if there is none. */
  head(channel: ChannelName): Promise<Place>;
  /** The same of several channels. */
  heads(channels: readonly ChannelName[]): Promise<readonly Place[]>;
  /** The messages after `after`, oldest first. Messages that are gone are reported by `gap`. */
  since(channel: ChannelName, after: Place, limit: ReadLimit): Promise<LogSlice>;
  /** The last messages before `before`, or the last of all, oldest first; among them places of changes, which do not count. */
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
   * A change (`Draft.change`) takes effect on its message in the same commit: what that held before is nowhere any more, unless
   * the rule keeps it or the channel is exempted from pruning.
   *
   * @throws {ProblemError} `unavailable` if it could not be committed and may be tried again; of a change `no-such-message`,
   *   `withdrawn`, `conflict`
   */
  append(channel: ChannelName, draft: Draft): Promise<Appended>;
  /**
   * Returns earlier contents of a message of a kept channel, oldest first: at most `limit`.
   *
   * @param after - number of a revision: returns those behind it; -1 = from the beginning
   */
  revisions(channel: ChannelName, place: Place, after: number, limit: number): Promise<readonly EarlierRevision[]>;
  /**
   * Kept channels that have been published to, by name: the first `limit` whose names come after `after`, and have the text
   * `find` in them, whatever its case.
   */
  channels(after: string, limit: number, find?: string): Promise<readonly KeptChannel[]>;
}

/** Moderation actions, with the audit log. */
export interface ModerationStore {
  /**
   * Commits a moderation action together with its entry in the audit log and the events for hooks, and returns that entry's
   * number.
   *
   * @throws {ProblemError} `unavailable` if it could not be committed and may be tried again
   */
  take(action: ModerationAction, events?: readonly QueuedEvent[]): Promise<number>;
  /** The number of the last entry of the audit log: it grows with each moderation action, and when API keys are made or revoked. */
  changes(): Promise<number>;
  /** Returns the bans, silences and revocations in force at `atMs`, in milliseconds since the epoch. */
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
  /** The notice of a user that has a key. */
  noticeWith(user: string, key: string): Promise<Notice | undefined>;
}

/** Users as they were seen last. */
export interface UserStore {
  /** Remembers users as they were seen last. */
  meet(users: readonly KnownUser[]): Promise<void>;
  /** The ids of users who had a role when they were seen last. */
  usersWith(role: string): Promise<readonly string[]>;
  /** A user as last seen. */
  user(id: string): Promise<KnownUser | undefined>;
  /** Returns the known ones among these users, as last seen. */
  knownUsers(ids: readonly string[]): Promise<readonly KnownUser[]>;
}

/** Read marks of users. */
export interface MarkStore {
  /**
   * Moves a user's mark in a kept channel forward, or with `null` takes it away. One that lies behind the mark there is
   * changes nothing. A user may have `most` marks.
   *
   * @throws {ProblemError} `bad-cursor` for a place that the channel does not have; `too-many-channels`; `unavailable`
   */
  mark(user: string, channel: ChannelName, place: Place | null, most: number): Promise<MarkState>;
  /** Returns a user's marks with their unread counts, in these channels or in all. */
  unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkState[]>;
  /** Returns the channels where a user has a mark. */
  markedChannels(user: string): Promise<readonly ChannelName[]>;
  /** The marks in a channel, by user id: the first `limit`. */
  marks(channel: ChannelName, limit: number, after?: string): Promise<readonly UserMark[]>;
  /**
   * Moves a user's mark in a thread forward, or with `null` takes it away: the user no longer takes part. Who answers takes part,
   * and whose message is answered.
   *
   * @throws {ProblemError} `bad-cursor` if no message of the channel is there; `unavailable`
   */
  markThread(
    user: string,
    channel: ChannelName,
    thread: Place,
    place: Place | null,
    atMs: number,
  ): Promise<ThreadMark | undefined>;
  /**
   * Returns the threads of a user, in one channel or in all, the one with the latest reply first. Of very many, those where the
   * user took part or read last.
   */
  threads(user: string, limit: number, channel?: ChannelName, thread?: number): Promise<readonly ThreadMark[]>;
  /** The users who take part in a thread: those who took part or read last, at most `limit`. */
  takingPart(
    channel: ChannelName,
    thread: number,
    limit: number,
  ): Promise<{ readonly volume: string; readonly users: readonly string[] }>;
}

/** The boards that outlive a restart. */
export interface BoardStore {
  /** Commits a board in place of the one saved before, unless that one is newer (of the same volume, with a higher number). */
  saveBoard(channel: ChannelName, board: BoardSnapshot): Promise<void>;
  /** A board as it was saved last; what its entries had left to live then has gone by since. */
  board(channel: ChannelName): Promise<BoardSnapshot | undefined>;
}

/** Query for due deliveries. */
export interface DueWish {
  readonly nowMs: number;
  /** Maximum wait. A delivery due later was postponed before the clock was set back, so it is due now. */
  readonly horizonMs: number;
  readonly count: number;
  /** Most characters of data, unless it is one delivery. */
  readonly chars: number;
  /** Channels limited to deliveries that failed before; `all` = all channels. */
  readonly heldUp: readonly string[] | 'all';
}

/** Query of a feed's reader for deliveries, with the end of its lease. */
export interface LeaseWish extends Pick<DueWish, 'nowMs' | 'horizonMs' | 'count' | 'chars'> {
  readonly untilMs: number;
}

/** A hook's next deliveries. */
export interface DueDeliveries {
  readonly deliveries: readonly Delivery[];
  /** Due time of the next waiting delivery, in milliseconds since the epoch. Absent if none waits, or if more are due now. */
  readonly nextAtMs?: number;
}

/** Selects deliveries: by id, or those of a hook since a time. */
export type DeliverySelection =
  | { readonly ids: readonly { readonly hook: string; readonly id: string }[] }
  | { readonly hook: string; readonly fromMs: number; readonly state?: 'dead' | 'delivered' };

/** The queues of hooks. Events of messages in kept channels are committed with the message (`Draft.hooks`). */
/** A request for leases of `hooks`. Times are in milliseconds since the epoch. */
export interface HookLeaseRequest {
  readonly holder: string;
  readonly hooks: readonly string[];
  readonly more: number;
  readonly nowMs: number;
  readonly untilMs: number;
}

export interface HookLeases {
  /** Hooks that the instance holds now. */
  readonly held: readonly string[];
  /** Hooks that no instance holds. */
  readonly free: readonly string[];
}

export interface HookStore {
  /**
   * Commits events to the queues of their hooks. One that a hook has already changes nothing.
   *
   * @param occupied - the channel that has got its first member, or lost its last one: nothing is done if that is known
   * @throws {ProblemError} `unavailable` if they could not be committed and may be tried again
   */
  queue(
    events: readonly QueuedEvent[],
    occupied?: { readonly channel: ChannelName; readonly is: boolean },
  ): Promise<void>;
  /** Channels that are known to be occupied, by name: the first `limit` after `after`. */
  occupied(after: string, limit: number): Promise<readonly ChannelName[]>;
  /** Returns the due deliveries of a hook: those that failed before, then new ones in the order of commits. */
  due(hook: string, wish: DueWish): Promise<DueDeliveries>;
  /** The channels that are held up by an event that has failed, and the number of the first such event. */
  heldUp(hook: string): Promise<readonly { readonly channel: string; readonly number: number }[]>;
  /**
   * Gives deliveries that are due to a reader of a feed, which has until `untilMs` to acknowledge them: then they are due again.
   */
  lease(hook: string, wish: LeaseWish): Promise<readonly Delivery[]>;
  /** Ends deliveries of a feed: they are acknowledged. Gives how many were waiting. */
  acknowledge(hook: string, ids: readonly string[], nowMs: number): Promise<number>;
  /** Those of these deliveries that are not acknowledged. */
  unacknowledged(hook: string, ids: readonly string[]): Promise<readonly string[]>;
  /** Makes deliveries of a feed due at once. */
  giveBack(hook: string, ids: readonly string[]): Promise<void>;
  /** Commits how attempts ended. */
  settle(outcomes: readonly DeliveryOutcome[]): Promise<void>;
  /** Extends an instance's leases of hooks, and adds up to `more` hooks without a lease. One instance sends the events of a hook. */
  leaseHooks(request: HookLeaseRequest): Promise<HookLeases>;
  releaseHooks(holder: string, hooks: readonly string[]): Promise<void>;
  /** Returns the states of hooks that fail, are paused, or were registered over HTTP. */
  hookStates(): Promise<readonly HookState[]>;
  /** Since when a hook has been failing; `null`: it does not. */
  hookFails(hook: string, sinceMs: number | null): Promise<void>;
  /** Pauses a hook, or with `null` lets it go on. */
  pauseHook(hook: string, pause: HookPause | null): Promise<void>;
  /** Keeps a hook that was registered over HTTP, in place of the one of this name; with `null`, removes it and its queue. */
  keepHook(hook: string, registered: RegisteredHook | null): Promise<void>;
  hookFigures(): Promise<Readonly<Record<string, HookFigures>>>;
  deliveries(wish: DeliveryWish): Promise<readonly DeliveryRecord[]>;
  delivery(which: { readonly hook: string; readonly id: string }): Promise<DeliveryRecord | undefined>;
  attempts(delivery: number): Promise<readonly DeliveryAttempt[]>;
  /** Notes an attempt that changes nothing: a copy that was sent elsewhere. */
  noteAttempt(delivery: number, attempt: DeliveryAttempt): Promise<void>;
  /** Puts deliveries back into the queue. Gives how many. */
  resend(which: DeliverySelection, nowMs: number): Promise<number>;
  /**
   * Gives up deliveries that have been waiting since before `giveUpMs`, and deletes those that ended before `forgetMs`: one batch of
   * each.
   *
   * @returns how many were given up, and how many forgotten
   */
  tidyHook(
    hook: string,
    nowMs: number,
    giveUpMs: number,
    forgetMs: number,
  ): Promise<{ gaveUp: number; forgot: number }>;
}

/** Arrivals at intakes. */
export interface IntakeStore {
  /**
   * Commits an arrival in a group with others. If its event id is known, stores nothing and returns the id of the first arrival.
   *
   * @throws {ProblemError} `unavailable` if it could not be committed and may be tried again
   */
  arrive(draft: ArrivalDraft): Promise<{ readonly id: string; readonly repeated: boolean }>;
  endArrival(outcome: ArrivalOutcome): Promise<void>;
  /**
   * Takes over waiting arrivals that no instance holds any longer: the oldest, at most `limit`.
   *
   * @param horizonMs - nothing is held for longer: the clock was set back
   */
  takeOverArrivals(nowMs: number, untilMs: number, horizonMs: number, limit: number): Promise<readonly Arrival[]>;
  arrivals(wish: ArrivalWish): Promise<readonly Arrival[]>;
  arrival(id: string): Promise<Arrival | undefined>;
  /**
   * Forgets some events that ended before a time, of those with an id of their sender all but that id. It forgets ids
   * of events that ended before `forgetIdsMs`, and the oldest above a million.
   *
   * @returns the number of events and ids forgotten
   */
  tidyIntake(intake: string, forgetMs: number, forgetIdsMs: number): Promise<number>;
}

/** Prunes kept logbooks and old records, and stores holds. */
export interface RetentionStore {
  /** Returns the ranges of kept channels with messages, by name: the first `limit` after `after`. */
  keptRanges(after: string, limit: number): Promise<readonly KeptRange[]>;
  /** The number of the first message that was taken in at `atMs` or later; one beyond the head if none was. */
  firstSince(channel: ChannelName, atMs: number): Promise<number>;
  /** The bytes of the messages of a range: of each its data, and 200 beside. */
  bytesOf(channel: ChannelName, from: number, upTo: number): Promise<number>;
  /**
   * Removes messages whose numbers lie below `before`, the oldest first: of at most `limit` numbers. A channel that is held
   * keeps all.
   *
   * @returns how many were removed, and the number of the first that was not
   */
  prune(
    channel: ChannelName,
    before: number,
    limit: number,
  ): Promise<{ readonly messages: number; readonly oldest: number }>;
  /** Forgets records that have been of no use since before a time: at most `limit`. Gives how many. */
  forget(kind: RecordKind, beforeMs: number, limit: number): Promise<number>;
  /** Returns the number of records that `forget` would delete. */
  forgettable(kind: RecordKind, beforeMs: number): Promise<number>;
  /**
   * Exempts a channel from pruning; with `end`, no longer. What changes something is in the audit log.
   *
   * @returns the exemption that stood before
   */
  hold(hold: Hold, end?: 'end'): Promise<Hold | undefined>;
  /** Channels that are exempted, by name: the first `limit` after `after`. */
  holds(after: string, limit: number): Promise<readonly Hold[]>;
}

/** Reactions to messages of kept channels. */
export interface ReactionStore {
  /**
   * Commits reactions, each after those before it, together with what else waits. One that is there already, or is not there
   * to be taken back, changes nothing.
   *
   * @throws {ProblemError} `no-such-message`, `withdrawn`, `too-many-reactions`, `unavailable`
   */
  react(reaction: Reaction): Promise<{ readonly reacted: Reacted; readonly volume: string; readonly changed: boolean }>;
  /** Reactions to the messages with these numbers, and among them those of a user. */
  reactions(channel: ChannelName, numbers: readonly number[], user?: string): Promise<ReactionSlice>;
  /** Messages whose reactions have changed since a version, in the order of the changes: the first `limit`. */
  reactionsSince(channel: ChannelName, version: number, limit: number): Promise<ReactionSlice>;
  reactors(wish: ReactorsWish): Promise<readonly Reactor[]>;
  /** Returns the versions of the channels' reactions, in the order of the channels. */
  reactionHeads(channels: readonly ChannelName[]): Promise<readonly Place[]>;
}

/** Invitations into channels, and admissions by them. */
export interface InvitationStore {
  /** @throws {ProblemError} `too-many-invitations` if so many into the channel are open; `unavailable` */
  invite(draft: InvitationDraft, most: number): Promise<void>;
  /**
   * Lets a user in whose code is that of an invitation, or says why not; `undefined`: none has that code. What its user has
   * accepted before is given again, and counts once.
   */
  accept(
    acceptance: Acceptance,
  ): Promise<Admission | { readonly over: NonNullable<ReturnType<typeof whyOver>> | 'too-many' } | undefined>;
  /** Those of a channel, the latest first: `limit` of those before one, by its id. */
  invitations(channel: ChannelName, limit: number, before?: string): Promise<readonly KeptInvitation[]>;
  invitation(id: string): Promise<KeptInvitation | undefined>;
  /** Ends one; with `admitted`, also what it has let in, by user id. `undefined`: there is none. Writes to the audit log. */
  endInvitation(
    id: string,
    admitted: boolean,
    done: { readonly by: Actor; readonly atMs: number },
  ): Promise<{ readonly invitation: KeptInvitation; readonly users: readonly string[] } | undefined>;
  /** Returns the admissions of a user. */
  admissions(user: string): Promise<readonly Admission[]>;
  /** Returns the admissions into a channel, by user id: the first `limit` after one. */
  admissionsIn(channel: ChannelName, limit: number, after: string): Promise<readonly Admission[]>;
  /** Gives whether there was one. Writes to the audit log. */
  endAdmission(
    channel: ChannelName,
    user: string,
    done: { readonly by: Actor; readonly atMs: number },
  ): Promise<boolean>;
}

/** Messages of kept channels that mention users. */
export interface MentionStore {
  /**
   * Returns the messages behind a user's mark that mention the user, the latest of a channel first: at most 100 per channel.
   *
   * @param sinceMs - where it has no mark: those taken in since then, in milliseconds since the epoch
   */
  mentions(
    user: string,
    sinceMs: number,
  ): Promise<readonly { readonly channel: ChannelName; readonly place: Place; readonly by?: string }[]>;
  /** Returns the times of the channels' last messages, in milliseconds since the epoch; 0 = no message. */
  lastAt(channels: readonly ChannelName[]): Promise<readonly number[]>;
}

/** Kept messages that are found by their words. */
export interface SearchStore {
  /** Returns the last indexed numbers, in the order of the channels; 0 = not indexed. */
  searchable(channels: readonly ChannelName[]): Promise<readonly number[]>;
  /**
   * Indexes a stretch of a channel: `entries` replace earlier entries of these messages. Nothing happens
   * if the channel is not searchable up to `from`: another instance has gone on meanwhile.
   */
  index(
    channel: ChannelName,
    stretch: { readonly from: number; readonly upTo: number },
    entries: readonly SearchEntry[],
  ): Promise<void>;
  /** Returns indexed channels with a prefix, by name: the first `limit` after one. */
  searchedChannels(after: string, limit: number, prefix?: string): Promise<readonly ChannelName[]>;
  /** No message of a channel is to be found: removes so many of them. Gives how many there were. */
  unindex(channel: ChannelName, limit: number): Promise<number>;
  search(lookup: SearchLookup): Promise<SearchFound>;
}

/** Notification levels that users have set for channels. */
export interface LevelStore {
  /** @throws {ProblemError} `too-many-levels`, `unavailable` */
  setLevel(wish: LevelWish): Promise<void>;
  /** The levels of a user that have not ended at `nowMs`, by the names of channels. */
  levels(user: string, nowMs: number): Promise<readonly KeptLevel[]>;
  /** The same of some users for one channel. */
  levelsIn(channel: ChannelName, users: readonly string[], nowMs: number): Promise<readonly KeptLevel[]>;
  /** Returns whether any user has set a level. */
  hasLevels(): Promise<boolean>;
}

/** Blocks and mutes between users. */
export interface BlockStore {
  /**
   * Writes down that a user blocks or mutes another, or no longer. Idempotent.
   *
   * @throws {ProblemError} `too-many-blocks`, `unavailable`
   */
  block(wish: BlockWish): Promise<void>;
  /** Returns all blocks and mutes of these users. */
  blocks(users: readonly string[]): Promise<readonly KeptBlock[]>;
  /** Those of some users who have blocked another, and not only muted it. */
  blocking(other: string, users: readonly string[]): Promise<readonly string[]>;
  /** Returns whether there is any block or mute. */
  hasBlocks(): Promise<boolean>;
}

/** Records about a user, for export and erasure. */
export interface PersonStore {
  /**
   * Begins an erasure and revokes the user's tokens, in one commit, with entries in the audit log. Returns the user's erasure under
   * way instead, if there is one.
   */
  beginErasure(
    erasure: Erasure & { readonly user: string },
    untilMs: number,
    revocation: Committing<Revocation>,
  ): Promise<Erasure>;
  /** Writes down the progress of an erasure, and holds it until `untilMs`. */
  noteErasure(erasure: Erasure, untilMs: number): Promise<void>;
  /**
   * Takes over, until `untilMs`, erasures that no instance holds any more: those that have not ended, whose users' tokens it revokes
   * in the same commit, and those that have ended and still say who it was.
   */
  takeErasures(nowMs: number, untilMs: number): Promise<readonly Erasure[]>;
  /** The last erasures, the latest first, or one by its id; those that have ended without the user. */
  erasures(limit: number, id?: string): Promise<readonly Erasure[]>;
  /** Returns the user's messages and notes of joining and leaving in kept channels, as they stand, after a place. */
  messagesOf(user: string, after: PersonPlace | undefined, limit: number): Promise<PersonMessages>;
  /** Removes or blanks some records of a user. Gives how many; 0: none is left. */
  eraseRecords(wish: RecordsToErase): Promise<number>;
  /** Writes into the audit log that all there is about a user was given out. */
  noteExport(user: string, by: Actor, atMs: number): Promise<void>;
  /** Returns all other records about a user, as rows by kind. */
  recordsOf(user: string): Promise<PersonRecords>;
}

/** Some records of a user that is erased. */
export interface RecordsToErase {
  readonly kind: ErasedRecord;
  readonly user: string;
  /** The id of the erasure. */
  readonly erasure: string;
  /** At most about so many. */
  readonly limit: number;
  /** Limits deliveries to events up to this time, in milliseconds since the epoch. */
  readonly untilMs?: number | undefined;
}

/** A place among a user's messages in all channels. */
export interface PersonPlace {
  /** By the store's own number of the channel. */
  readonly channel: number;
  readonly number: number;
}

export interface PersonMessages {
  readonly messages: readonly LoggedMessage[];
  /** For each message: its channel has a hold. */
  readonly held: readonly boolean[];
  /** Start of the next page; absent on the last page. */
  readonly next?: PersonPlace;
}

/** Messages that users have reported. */
export interface ReportStore {
  /**
   * Keeps a report, unless the user has reported the message before.
   *
   * @param most - reports that may be open: of all signed-in users, or if it is a guest's of all guests; and of the user
   * @throws {ProblemError} `busy` if so many are open; `unavailable`
   */
  report(
    draft: MessageReportDraft,
    most: { readonly all: number; readonly each: number },
  ): Promise<{ readonly id: string; readonly repeated: boolean }>;
  reports(wish: ReportWish): Promise<readonly MessageReport[]>;
  reportById(id: string): Promise<MessageReport | undefined>;
  /** Ends an open report and writes the audit log. Returns the report; `undefined` if none is open. */
  endReport(id: string, ended: ReportEnd): Promise<MessageReport | undefined>;
}

/** The moderators' queue: messages that wait, and those that were refused. */
export interface PendingStore {
  /** Finds the message that an author has sent with a key before: published in the kept channel, or in the queue. */
  knownUnder(channel: ChannelName, which: PendingKey): Promise<KnownUnderKey | undefined>;
  /** Returns whether messages of an author are pending in a channel. */
  hasPending(channel: ChannelName, user: string): Promise<boolean>;
  /**
   * Adds a message. If its author has used the key in the channel before, returns that message instead.
   *
   * @param most - bounds on waiting messages: `all` of signed-in users (or of guests, for a guest), `each` of the author
   * @throws {ProblemError} `busy` if so many wait; `unavailable`
   */
  keepPending(
    draft: PendingDraft,
    most: { readonly all: number; readonly each: number },
  ): Promise<{ readonly message: PendingMessage; readonly repeated: boolean }>;
  pending(wish: PendingWish): Promise<PendingList>;
  pendingById(id: string): Promise<PendingMessage | undefined>;
  /** The first message of an author that waits in a channel, or the first of those that may be published. */
  nextPending(channel: ChannelName, user: string, isCleared?: boolean): Promise<PendingMessage | undefined>;
  /** Messages that wait because the application did not answer, oldest first, behind the one of a number. */
  unansweredPending(after: number, limit: number): Promise<readonly PendingMessage[]>;
  /** Applies the application's late answer. Returns the message; `undefined` if it does not wait for one. */
  answerPending(id: string, answer: PendingAnswer): Promise<PendingMessage | undefined>;
  /** Channels and authors whose first waiting message may be published; `anyOfThem`: or any that a moderator has approved. */
  clearedPending(
    limit: number,
    anyOfThem?: boolean,
  ): Promise<readonly { readonly channel: ChannelName; readonly user: string }[]>;
  /** Marks a waiting message as approved and writes the audit log. Returns it; `undefined` if it does not wait. */
  clearPending(id: string, by: Actor, atMs: number): Promise<PendingMessage | undefined>;
  /**
   * Returns the place where a pending message was published, and the message that holds its text: itself, or the changed one.
   * `undefined` if it was not published, or if that record has expired.
   */
  released(
    id: string,
  ): Promise<{ readonly channel: ChannelName; readonly place: Place; readonly of: Place } | undefined>;
  /** Refuses a waiting message; writes the audit log unless the service itself refuses. */
  refusePending(id: string, end: PendingEnd): Promise<PendingMessage | undefined>;
  /** Removes a waiting message for its author. */
  takeBackPending(id: string, user: string): Promise<PendingMessage | undefined>;
}

/** Everything that outlives the process: one store for each feature. */
export interface Store {
  readonly messages: MessageStore;
  readonly moderation: ModerationStore;
  readonly inboxes: InboxStore;
  readonly users: UserStore;
  readonly marks: MarkStore;
  readonly boards: BoardStore;
  readonly hooks: HookStore;
  readonly intakes: IntakeStore;
  readonly retention: RetentionStore;
  readonly reports: ReportStore;
  readonly pending: PendingStore;
  readonly reactions: ReactionStore;
  readonly mentions: MentionStore;
  readonly levels: LevelStore;
  readonly blocks: BlockStore;
  readonly search: SearchStore;
  readonly invitations: InvitationStore;
  readonly persons: PersonStore;
}

const stores: Readonly<Record<keyof Store, true>> = {
  messages: true,
  moderation: true,
  inboxes: true,
  users: true,
  marks: true,
  boards: true,
  hooks: true,
  intakes: true,
  retention: true,
  reports: true,
  pending: true,
  reactions: true,
  mentions: true,
  levels: true,
  blocks: true,
  search: true,
  invitations: true,
  persons: true,
};
/** Names of all stores. */
export const storeNames = Object.keys(stores) as readonly (keyof Store)[];
