import type { Author, ChannelName, Json } from '@nine-bells/wire';
import type { Batch, Encoding } from './fanout/batch.js';
import type { Identity } from './identity.js';
import type { InboxEntry, InboxSlice, KnownUser, NoticeDraft, UserWord } from './inbox/notice.js';
import type {
  InstanceAnswers,
  InstanceCard,
  InstanceInfo,
  InstanceQuestion,
  InstanceWord,
} from './instances/instance.js';
import type { Appended, Draft, LogBounds, LoggedMessage, LogSlice, Place, ReadLimit } from './logbook/logbook.js';
import type { Growth, MarkStanding, MarkWord, UserMark } from './marks/mark.js';
import type { AuditEntry, InForce, Measure } from './measures/measure.js';
import type { Hail } from './presence/hail.js';
import type { TableWord } from './presence/tables.js';
import type { Continuation } from './session/continuation.js';

/** Time, as the core sees it. The service passes the real one, the simulator a virtual one. */
export interface Clock {
  /** Milliseconds since the Unix epoch; may jump when the machine's clock is set. */
  now(): number;
  /** Milliseconds since some moment; never jumps. For how long something takes, and when it is due. */
  monotonic(): number;
  /** Calls `act` once, `delayMs` from now, unless the returned function is called before. */
  setTimer(delayMs: number, act: () => void): () => void;
  /** Calls `act` at the end of the present turn of the event loop, after what came in with it. */
  endOfTurn(act: () => void): void;
}

/** Names that nobody can guess and that do not repeat. */
export interface Ids {
  /** A message id that sorts by time (a ULID). */
  message(atMs: number): string;
  session(): string;
  /** A volume of a logbook: 1 to 16 of `a-z0-9`. */
  volume(): string;
  /** A measure: 1 to 32 of `a-z0-9_`. */
  measure(): string;
}

/** A keyed hash (HMAC). Instances of one service share the key. */
export interface Seal {
  /** The MAC of `text`, as text of `A-Z a-z 0-9 - _`, at least 32 characters. */
  sign(text: string): string;
  /** Compares in constant time. */
  matches(text: string, mac: string): boolean;
}

/** Reads tokens. */
export interface TokenReader {
  /** @throws {ProblemError} `token-invalid` or `token-ended` */
  read(token: string): Promise<Identity>;
}

/** Between instances: orders the messages of recent channels and carries all messages to every instance that wants them. */
export interface Relay {
  /**
   * Numbers a message of a recent channel, records it, and carries it to everyone who wants the channel.
   *
   * Calls for one channel take effect in the order made. A key that its author used in this channel before gives the
   * message published then.
   *
   * @throws {ProblemError} `busy` while nothing is carried
   */
  append(channel: ChannelName, draft: Draft, bounds: LogBounds): Promise<Appended>;
  /** Carries messages that the store has numbered and committed. */
  announce(channel: ChannelName, messages: readonly LoggedMessage[]): void;
  /**
   * Begins to hand over the channel's messages. They may come doubled, late or not at all: whoever receives them sees
   * that by the numbers. Where it takes time until nothing is missed, it gives a promise.
   */
  want(
    channel: ChannelName,
    receive: (messages: readonly LoggedMessage[]) => void,
    hear: (signal: Signal) => void,
  ): Promise<void> | undefined;
  unwant(channel: ChannelName): void;
  /** Carries what has no number to everyone who wants the channel. It may be lost. */
  cast(signal: Signal): void;
  /** The record of a recent channel. */
  readonly recent: LogReader;
  /** What must not be lost and is no channel's. */
  readonly control: ControlLog;
  /** Carries a word to whichever instances a user's sessions are connected to. It may be lost: the inbox keeps it. */
  tellUser(word: UserWord): void;
  followUsers(receive: (word: UserWord) => void): void;
  /** Carries that a kept channel has grown, to whoever wants to know. It may be lost: a later one says more. */
  tellGrowth(growth: Growth): void;
  followGrowth(receive: (growth: Growth) => void): void;
  /** Where it takes time until nothing is missed, it gives a promise. */
  wantGrowth(channel: ChannelName): Promise<void> | undefined;
  unwantGrowth(channel: ChannelName): void;
  /** Nothing is carried at present. */
  readonly isCut: boolean;
  /** The other instances; absent where there can be none. */
  readonly others?: Others;
}

/** What is carried to everyone who wants a channel and has no number there. */
export type Signal = Hail | MarkWord | TableWord;

/** What all instances must hear of, in one order. */
export type ControlEntry = MeasureTaken | Continuation | KeysChanged;

/** A measure with the number of its entry in the audit log; an instance of an older version does not say it. */
export type MeasureTaken = Measure & { readonly change?: number };

/** API keys were made or revoked. */
export interface KeysChanged {
  readonly did: 'keys-changed';
}

/** Carries entries to all instances, this one included, in one order. */
export interface ControlLog {
  /** Resolves when this instance has been handed the entry. While nothing is carried, the others are handed it later. */
  append(entry: ControlEntry): Promise<void>;
  /**
   * Begins to hand over entries. One may come twice.
   *
   * @param lost - called when entries have been lost: what is in force must be read anew
   */
  follow(receive: (entry: ControlEntry) => void, lost: () => void): void;
  /** Resolves when nothing that is appended from now on will be missed. */
  ready(): Promise<void>;
  /** Whether it could be read of late; while not, there may be bans that this instance does not know. */
  readonly isFresh: boolean;
}

/** The other instances of the service. */
export interface Others {
  /** This instance and its incarnation. */
  readonly self: string;
  /** Texts that have come in of the others, and of this one's own that come back. */
  readonly heard: number;
  /** Asks all others. */
  ask<T>(question: InstanceQuestion, withinMs: number): Promise<InstanceAnswers<T>>;
  tell(word: InstanceWord): void;
  /** All instances, this one included. */
  list(): readonly InstanceInfo[];
  /** Whether this is the first instance to claim a name within `ttlMs`. */
  claim(name: string, ttlMs: number): Promise<boolean>;
  follow(ears: OthersEars): void;
}

/** What an instance wants of the others. */
export interface OthersEars {
  answer(question: InstanceQuestion): Json | Promise<Json>;
  hear(from: string, word: InstanceWord): void;
  /** An instance has ended, or nothing was heard of it for as long as its lease. */
  gone(holder: string): void;
  /** Something may have been lost, or the others have taken this instance for dead. */
  resumed(): void;
  /** What this instance says of itself. */
  card(): InstanceCard;
}

/** Reads the record of channels. */
export interface LogReader {
  /** The place of the last message; number 0 of a volume if there is none. */
  head(channel: ChannelName): Promise<Place>;
  /** The same of several channels. */
  heads(channels: readonly ChannelName[]): Promise<readonly Place[]>;
  /** What came after `after`, oldest first. What is not there any more is said by `gap`. */
  since(channel: ChannelName, after: Place, limit: ReadLimit): Promise<LogSlice>;
  /** The last messages before `before`, or the last of all, oldest first. */
  before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): Promise<LogSlice>;
}

/** What must outlive the process. */
export interface Store extends LogReader {
  /**
   * Numbers a message of a kept channel and commits it, together with what else waits.
   *
   * Resolves after the commit, for one channel in the order of the numbers. A key that its author used in this channel
   * before gives the message published then.
   *
   * @throws {ProblemError} `unavailable` if it could not be committed and may be tried again
   */
  append(channel: ChannelName, draft: Draft): Promise<Appended>;
  /** Kept channels that have been published to, by name: the first `limit` whose names come after `after`. */
  channels(after: string, limit: number): Promise<readonly KeptChannel[]>;
  /**
   * Commits a measure together with its entry in the audit log, and returns that entry's number.
   *
   * @throws {ProblemError} `unavailable` if it could not be committed and may be tried again
   */
  take(measure: Measure): Promise<number>;
  /** The number of the last entry of the audit log: it grows with each measure, and when API keys are made or revoked. */
  changes(): Promise<number>;
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
  /** Remembers users as they were seen last. */
  meet(users: readonly KnownUser[]): Promise<void>;
  /** The ids of users who had a role when they were seen last. */
  usersWith(role: string): Promise<readonly string[]>;
  /** A user as last seen. */
  user(id: string): Promise<KnownUser | undefined>;
  /**
   * Moves a user's mark in a kept channel forward, or with `null` takes it away. One that lies behind the mark there is
   * changes nothing. A user may have `most` marks.
   *
   * @throws {ProblemError} `bad-cursor` for a place that the channel does not have; `too-many-channels`; `unavailable`
   */
  mark(user: string, channel: ChannelName, place: Place | null, most: number): Promise<MarkStanding>;
  /** How a user's marks stand: in these channels, or in all where it has one. */
  unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkStanding[]>;
  /** The marks in a channel, by user id: the first `limit`. */
  marks(channel: ChannelName, limit: number): Promise<readonly UserMark[]>;
  /** What is in force at a time, in milliseconds since the epoch. */
  inForce(atMs: number): Promise<InForce>;
  /** The audit log: the last `limit` entries before a number, the latest first. */
  audit(before: number | undefined, limit: number): Promise<readonly AuditEntry[]>;
}

export interface KeptChannel {
  readonly channel: ChannelName;
  readonly head: Place;
  /** When its last message was taken in, in milliseconds since the epoch. */
  readonly lastAt?: number;
}

/** A connection, as the core sees it. */
export interface Link {
  /** Which transport it is, such as `websocket`. */
  readonly transport: string;
  /** Where the client is, for people to read. */
  readonly remote?: string;
  readonly encoding: Encoding;
  /** Of the page that has opened it (RFC 6454), as the browser says. */
  readonly origin?: string | undefined;
  /** Nothing can come of the client: its silence means nothing. */
  readonly oneWay?: boolean;
  /** Bytes that were handed over and not yet taken by the operating system. While there are any, nothing is written. */
  readonly waitingBytes: number;
  write(batch: Batch): void;
  /** Asks the other side for a sign of life that needs no program there (RFC 6455, section 5.5.2). */
  ping(): void;
  /** Stops and resumes taking frames from the client. */
  pause(): void;
  resume(): void;
  /** Says goodbye after what was written, then ends; at once if the client does not take it. */
  close(code: number, reason: string): void;
}

/** A word about something that went wrong inside, for the service's log. */
export type Report = (error: unknown, about: Readonly<Record<string, Json | undefined>>) => void;

/** The author to show for a message, from who published it. */
export function authorOf(identity: Identity): Author {
  return {
    user: identity.user,
    ...(identity.name === undefined ? {} : { name: identity.name }),
    ...(identity.guest ? { guest: true as const } : {}),
  };
}
