import type { Cursor } from '../cursor.js';
import type { Json } from '../json.js';
import type { Problem } from '../problems.js';
import type { Author, Level, Mentions, Message, PendingMessage } from '../records.js';
import type { ReadResult, SetResult } from '../replies.js';

/** A message to publish, of a channel that is named and a type that is said. */
export interface Draft<Channel extends string = string, Data = Json, Type extends string = string> {
  readonly channel: Channel;
  readonly data: Data;
  /** Default `message`. */
  readonly type?: Type;
  /** Publishing again with the same key publishes nothing. */
  readonly key?: string;
  /** The user to name as author. */
  readonly by?: Author;
  /** Sessions that are not to get it. */
  readonly except?: readonly string[];
  /** The message that it answers: a cursor, where the channel has replies. */
  readonly replyTo?: string;
  /** Mentioned users and roles, in channels with mentions. */
  readonly mentions?: Mentions;
}

/** Progress of the search index: messages from before their rule had `search`, and new ones. */
export interface SearchProgress {
  /** Channels that are searched. */
  readonly channels: number;
  /** Messages and changes there, and those of them that can be found. */
  readonly messages: number;
  readonly ready: number;
}

/** A user's notification level for a channel. */
export interface LevelWish {
  readonly user: string;
  readonly channel: string;
  /** `null` removes the level. */
  readonly level: Level | null;
  /** Lifetime, in milliseconds; absent = unlimited. */
  readonly forMs?: number;
}

/** Messages that a user has missed, for an email from the application. */
export interface Digest {
  readonly user: string;
  /** Time of the digest (RFC 3339, UTC, milliseconds). */
  readonly at: string;
  /** Number of unread messages in all the user's channels. */
  readonly unread: number;
  /** Number of unread messages that mention the user. */
  readonly mentions: number;
  /** Channels with unread messages, the one with the latest message first. */
  readonly channels: readonly DigestChannel[];
  /** There are more channels. */
  readonly more: boolean;
}

/** Messages that a user has missed in one channel. */
export interface DigestChannel {
  readonly channel: string;
  /** Absent where the user has no read mark, or wants to hear only of mentions. */
  readonly unread?: number;
  /** At most 100. */
  readonly mentions: number;
  /** The user's read mark. */
  readonly cursor?: Cursor;
  /** Time of the last message. */
  readonly at: string;
  /** The first unread messages, and those that mention the user, in the order of the channel. */
  readonly lines: readonly DigestLine[];
}

/** A message in short. */
export interface DigestLine {
  readonly cursor: Cursor;
  readonly at: string;
  readonly by?: Author;
  /** Its first words; absent: it holds no text. */
  readonly text?: string;
  /** It mentions the user. */
  readonly mention?: true;
}

/** A user's reaction to a message. */
export interface ReactionWish {
  readonly channel: string;
  /** Cursor of the message. */
  readonly cursor: string;
  /** A short word, or an emoji. */
  readonly word: string;
  /** `false` takes it back. Default `true`. */
  readonly on?: boolean;
  /** The user who reacts. */
  readonly by: { readonly user: string; readonly name?: string };
}

/** Request to erase a user. */
export interface ErasureWish {
  readonly user: string;
  /** Withdraws the user's messages, or keeps them with a blank author. Default `withdraw`. */
  readonly messages?: 'withdraw' | 'blank';
  /** The user on whose behalf the application acts. */
  readonly by?: { readonly user: string; readonly name?: string };
}

/** The erasure of a user. */
export interface ErasureInfo {
  readonly id: string;
  /** Absent once it has ended: nothing says any more who it was. */
  readonly user?: string;
  readonly messages: 'withdraw' | 'blank';
  readonly by: Actor;
  readonly at: string;
  readonly endedAt?: string;
  /** Numbers of records removed or blanked so far. */
  readonly counts: {
    readonly messages: number;
    /** Changes that the user has made of messages. */
    readonly changes: number;
    readonly marks: number;
    readonly reactions: number;
    /** Users that the user had blocked or muted. */
    readonly blocks: number;
    /** Channels with a notification level of the user. */
    readonly levels: number;
    /** Messages that had mentioned the user. */
    readonly mentions: number;
    /** Invitations that the user has made, which are blanked, or accepted, which end. */
    readonly invitations: number;
    readonly notices: number;
    /** Reports that the user has made, or that are about the user's messages. */
    readonly reports: number;
    /** Messages of the user that waited for a moderator, or were refused. */
    readonly pending: number;
    /** Bans and silences that have ended. */
    readonly bans: number;
    /** Deliveries to hooks that mention the user: ended ones are deleted, waiting ones blanked. */
    readonly deliveries: number;
    /** Names and roles. */
    readonly users: number;
    /** Entries of the audit log, which now have a pseudonym. */
    readonly audit: number;
  };
  /** Channels that are exempted from pruning, where messages are left: at most 100. */
  readonly held: readonly string[];
}

/** A part of the records about a user. */
export interface PersonInfo {
  readonly user: string;
  /** Records other than messages, by kind; in the first part only. */
  readonly records?: Readonly<Record<string, readonly { readonly [member: string]: Json }[]>>;
  /** Sessions that are connected; in the first part only. */
  readonly sessions?: readonly SessionInfo[];
  readonly messages: readonly Message[];
  /** Ask again with `after` this; absent: that was all. */
  readonly next?: string;
}

/** Selects the message to change. */
interface ChangeWish {
  readonly channel: string;
  /** Cursor of the message. */
  readonly cursor: string;
  /** The id of the message, where that is known: refused if another one has the cursor. */
  readonly message?: string;
  /** Only if this was its last change; `null`: only if it is as it was published. */
  readonly ifRevision?: string | null;
  /** Changing again with the same key changes nothing. */
  readonly key?: string;
  /** The user to name as the author of the change. */
  readonly by?: Author;
}

/** New content of a message. */
export interface RevisionWish extends ChangeWish {
  readonly data: Json;
}

/** Request to withdraw a message. */
export interface WithdrawalWish extends ChangeWish {
  /** Shown with the message to all who may read it. */
  readonly reason?: string;
}

/** Entries of a board to be set. */
export interface BoardDraft<Channel extends string = string, Value = Json> {
  readonly channel: Channel;
  /** Values by the names of entries; `null` removes. */
  readonly set: Readonly<Record<string, Value | null>>;
  /** Lifetime of the entries, in milliseconds. */
  readonly forMs?: number;
  /** Only those that have not changed since this version; `null`: only where there is no such entry. */
  readonly ifVersion?: string | null;
}

export interface BoardAnswer {
  readonly channel: string;
  readonly entries: readonly (SetResult | { readonly entry: string; readonly problem: Problem })[];
}

/** A board as it is. */
export interface BoardInfo {
  readonly channel: string;
  /** Version of the board; absent if no entry was ever set, or if the board has expired. */
  readonly version?: Cursor;
  readonly entries: readonly {
    readonly entry: string;
    readonly value: Json;
    /** Version of the last change. */
    readonly version: Cursor;
    /** The user who set the entry; absent if an application did. */
    readonly by?: string;
    /** Remaining lifetime, in milliseconds; absent = until removed. */
    readonly leftMs?: number;
    /** The entry ends with this session. */
    readonly session?: string;
  }[];
}

export interface ChannelInfo {
  readonly channel: string;
  readonly pattern?: string;
  readonly about?: string;
  readonly logbook?: 'kept' | 'recent';
  /** It shows who is there; it has a board. */
  readonly presence?: true;
  readonly board?: true;
  /** Sessions that get its messages. */
  readonly entered: number;
  readonly cursor?: Cursor;
  readonly lastAt?: string;
}

export interface SessionInfo {
  readonly session: string;
  /** The instance that it is connected to. */
  readonly instance: string;
  readonly user: string;
  readonly name?: string;
  readonly guest: boolean;
  readonly observer: boolean;
  /** A made-up user of the console's workbench. */
  readonly workbench?: true;
  readonly transport: string;
  readonly remote?: string;
  readonly since: string;
  readonly channels: readonly string[];
  readonly waitingBytes: number;
  /** Round trip of the last ping, in milliseconds; absent before the first answer. */
  readonly roundTripMs?: number;
}

/** Instances that did not answer in time, if there are any: what they know is missing. */
export interface Gathered {
  readonly missing?: readonly string[];
}

/** Traffic of a channel, or of a rule's channels. */
export interface TrafficFigures {
  readonly messages: number;
  /** Changes of boards' entries that were asked for; `merged`: replaced before they went to a client. */
  readonly changes: number;
  readonly merged: number;
  /** Frames to clients, and their bytes. */
  readonly deliveries: number;
  readonly bytes: number;
}

export interface Traffic extends Gathered {
  /** The last minutes, up to an hour, the latest last. */
  readonly minutes: readonly (TrafficFigures & { readonly at: string; readonly forMs: number })[];
  /** Duration of these minutes, in milliseconds. */
  readonly minutesForMs: number;
  /** All of these minutes, by channel rule. */
  readonly rules: readonly (TrafficFigures & { readonly pattern: string })[];
  /** The busiest channels of the last minute or so. */
  readonly channels: readonly (TrafficFigures & {
    readonly channel: string;
    readonly pattern: string;
    readonly recipients: number;
    /** Messages that a board would carry better. */
    readonly advice?: {
      readonly type: string;
      readonly entry: string;
      readonly perS: number;
      readonly entries: number;
      /** Frames to each client in a second, as a board; as messages it is `perS`. */
      readonly framesPerS: number;
    };
  })[];
  readonly channelsForMs: number;
  /** Frames handed to connections, and in how many writes, since the instances have started. */
  readonly frames: number;
  readonly writes: number;
}

/** Refusals of one act with one code, since the instances started. */
export interface RefusalKind {
  readonly code: string;
  /** The verb that was refused, `connect`, or a method and a path. */
  readonly act: string;
  /** They were let pass: the channel rule only reports what does not fit its contracts. */
  readonly reportOnly?: true;
  readonly count: number;
  readonly firstAt: string;
  readonly lastAt: string;
  /** The latest ones, oldest first; none holds a token, a key or a secret. */
  readonly latest: readonly {
    readonly at: string;
    readonly detail?: string;
    readonly user?: string;
    readonly session?: string;
    readonly address?: string;
    readonly channel?: string;
    readonly origin?: string;
  }[];
}

/** Result of a notification. */
export interface Notified {
  readonly id: string;
  /** Users who have it in their inbox now. */
  readonly users: number;
  /** Users who were passed over by a condition. */
  readonly passedOver: number;
  /** Users who were not notified, because something failed on the way: notify them again. */
  readonly left?: readonly string[];
  readonly problem?: Problem;
}

/** One process of the service, as the one that was asked knows it. */
export interface InstanceInfo {
  readonly instance: string;
  /** The instance and its incarnation: a restarted instance has another id. */
  readonly instanceId: string;
  /** It is the one that was asked. */
  readonly isThis: boolean;
  readonly address?: string;
  readonly version?: string;
  /** Format of what instances share; those of different formats do not run together. */
  readonly format?: number;
  readonly since: string;
  readonly connections: number;
  /** Channels that a client there has entered. */
  readonly channels: number;
  /** Since it has started. */
  readonly messagesIn: number;
  readonly deliveries: number;
  readonly refusals: number;
  readonly messagesPerS: number;
  readonly deliveriesPerS: number;
  /** p99 event-loop delay over the last seconds, in milliseconds. */
  readonly loopDelayMs?: number;
  /** Last response time of the relay, in milliseconds. */
  readonly relayMs?: number;
  /** Offset of the service's time from the machine's clock, in milliseconds. */
  readonly clockMs?: number;
  /** Faults of the instance or of its dependencies. */
  readonly warnings?: readonly string[];
  /** Writer of frames to plain sockets: the native writer, or Node's streams. */
  readonly writer?: 'native' | 'streams';
  /** For how long its lease still holds, in milliseconds; of an instance alone 0. */
  readonly leaseMs: number;
  readonly draining: boolean;
}

/** The history of a message, from all instances that answered. */
export interface Trace extends Gathered {
  readonly id: string;
  readonly channel: string;
  readonly cursor: Cursor;
  /** The instance that took it in; absent if that has ended. */
  readonly accepted?: {
    readonly instance: string;
    readonly at: string;
    readonly by?: Author;
    readonly key?: string;
    /** Time until the message had its place and, in a kept channel, was committed; in milliseconds. */
    readonly placedAfterMs: number;
    /** It was published again under its key so many times. */
    readonly repeats: number;
  };
  /** Instances that handed the message to connections, in the order of its arrival there. */
  readonly instances: readonly {
    readonly instance: string;
    readonly at: string;
    readonly connections: number;
    /** Number of still open connections that have confirmed the message. */
    readonly confirmed: number;
  }[];
  /** In words. */
  readonly sentence: string;
  readonly user?: {
    readonly user: string;
    readonly sentence: string;
    readonly fates: readonly Fate[];
    /** Number of other sessions of the user that ended before the message and did not return. */
    readonly earlier: number;
  };
}

/** Delivery of a message to one session. */
export interface Fate {
  readonly session: string;
  readonly instance: string;
  /** It is connected, and of a made-up user of the workbench. */
  readonly workbench?: true;
  /** Such as `got`, `recovered`, `left`, `too-slow`, `refused`. */
  readonly outcome: string;
  readonly at?: string;
  readonly recoveredAt?: string;
  readonly problem?: Problem;
  readonly sentence: string;
}

export interface Overview {
  readonly name: string;
  readonly version: string;
  readonly instance: string;
  readonly startedAt: string;
  readonly at: string;
  /** Number of instances. The figures below are sums over all of them, except the memory. */
  readonly instances: number;
  readonly connections: number;
  readonly enteredChannels: number;
  readonly totals: { readonly messagesIn: number; readonly deliveries: number; readonly refusals: number };
  readonly memoryBytes: number;
}

/**
 * Who, for an access question: made up, a guest, the user of a token, or a session that is connected; for `set`, of which
 * entry of the board; for acts about a message, its cursor.
 */
export type Asked = { readonly entry?: string; readonly cursor?: string; readonly channel?: string } & (
  | { readonly user: string; readonly roles?: readonly string[]; readonly claims?: Readonly<Record<string, Json>> }
  | { readonly guest: true }
  | { readonly token: string }
  | { readonly session: string }
);

/** An access rule evaluation: what it asks, whether it holds, on which facts. */
export interface Evaluation {
  readonly asks: string;
  readonly holds: boolean;
  readonly found?: string;
  readonly parts?: readonly Evaluation[];
}

/** An access question answered in full. */
export interface Explanation {
  readonly act: string;
  /** For acts in a channel. */
  readonly channel?: string;
  /** Name of the call, for `call`. */
  readonly call?: string;
  /** For acts that concern a user. */
  readonly whom?: string;
  readonly user: string;
  /** The connected session whose token has given the roles and claims, where the question named the user only. */
  readonly session?: string;
  readonly allowed: boolean;
  /** The problem that a client would receive. */
  readonly problem?: Problem;
  /** The ban that overrides the rules. */
  readonly ban?: Ban;
  /** The silence that forbids the user to write. */
  readonly silence?: Silence;
  /** The channel rule that holds. */
  readonly rule?: { readonly pattern: string; readonly parameters: Readonly<Record<string, string>> };
  readonly others: readonly { readonly pattern: string; readonly why: string }[];
  readonly evaluation?: Evaluation;
  /** It is allowed, and the application sees the message before it is published. */
  readonly review?: {
    readonly withinMs: number;
    /** Outcome without an answer. */
    readonly otherwise: 'refuse' | 'pass' | 'hold';
    /** Earlier messages of the user wait in this channel: a new one waits behind them. */
    readonly waits: boolean;
  };
}

/** An actor: a user (`user`), an API key (`key`), or the service itself (`service`). */
export interface Actor {
  /** The user's id. */
  readonly user?: string;
  /** The name of the user, or of the key. */
  readonly name?: string;
  /** The user is a guest. */
  readonly guest?: true;
  /** Id of the API key; beside `user`, the key of the application that acted on the user's behalf. */
  readonly key?: string;
  /** The part of the service that acted. */
  readonly service?: string;
}

/** A user or an address that is kept out of a channel, or of the service. */
export interface Ban {
  readonly id: string;
  readonly type: 'ban' | 'remove';
  readonly user?: string;
  readonly address?: string;
  /** Absent: of the whole service. */
  readonly channel?: string;
  readonly by: Actor;
  readonly at: string;
  /** End time; absent = unlimited. */
  readonly until?: string;
  readonly reason?: string;
}

/** Request to ban a user or an address. */
export interface BanWish {
  /** A user, or else an address. */
  readonly user?: string;
  readonly address?: string;
  readonly channel?: string;
  /** Until it is lifted, if absent. */
  readonly forMs?: number;
  readonly reason?: string;
  /** The user on whose behalf the application acts. */
  readonly by?: { readonly user: string; readonly name?: string };
}

export interface SilenceWish {
  readonly user: string;
  /** Absent: in the whole service. */
  readonly channel?: string;
  /** Minimum interval between messages per channel, in milliseconds; absent = no messages. */
  readonly everyMs?: number;
  /** Until it is ended, if absent. */
  readonly forMs?: number;
  readonly reason?: string;
  /** The user on whose behalf the application acts. */
  readonly by?: { readonly user: string; readonly name?: string };
}

/** A silence: the user may read and not write. */
export interface Silence {
  readonly id: string;
  readonly type: 'silence';
  readonly user: string;
  /** Minimum interval between messages per channel, in milliseconds; absent = no messages. */
  readonly everyMs?: number;
  /** Absent: in the whole service. */
  readonly channel?: string;
  readonly by: Actor;
  readonly at: string;
  /** End time; absent = unlimited. */
  readonly until?: string;
  readonly reason?: string;
}

export interface RemovalWish {
  readonly channel: string;
  readonly user: string;
  readonly reason?: string;
  /** Duration of a ban from the channel, in milliseconds. Default: none. */
  readonly banMs?: number;
  /** The user on whose behalf the application acts. */
  readonly by?: { readonly user: string; readonly name?: string };
}

/** The user whose sessions or tokens end. */
export interface SignOutWish {
  readonly user: string;
  readonly reason?: string;
  /** The user on whose behalf the application acts. */
  readonly by?: { readonly user: string; readonly name?: string };
}

/** The action, with the number of sessions affected at once. */
export interface Effect {
  readonly id: string;
  readonly type: string;
  readonly by: Actor;
  readonly user?: string;
  /** Canonical form of a banned address or range. */
  readonly address?: string;
  readonly channel?: string;
  readonly at: string;
  readonly until?: string;
  readonly reason?: string;
  /** The ban that was ended. */
  readonly ban?: string;
  /** The silence that was ended. */
  readonly silence?: string;
  /** Minimum interval between the silenced user's messages, in milliseconds. */
  readonly everyMs?: number;
  readonly sessions: number;
}

/** One line of the audit log. */
export interface AuditEntry {
  readonly number: number;
  readonly at: string;
  readonly type: string;
  readonly by: Actor;
  readonly user?: string;
  readonly address?: string;
  readonly channel?: string;
  readonly reason?: string;
  readonly until?: string;
  readonly about?: string;
}

export interface ApiKeyInfo {
  readonly id: string;
  readonly name: string;
  readonly rights: readonly string[];
  readonly createdAt: string;
  readonly expiresAt?: string;
  readonly lastUsedAt?: string;
  readonly revokedAt?: string;
}

/** Whom to notify, of what, and when not. One of `users`, `channel` (its members now) and `role` (as last seen). */
export interface NoticeWish {
  readonly users?: readonly string[];
  readonly channel?: string;
  readonly role?: string;
  readonly title: string;
  readonly data?: Json;
  /** Takes the place of the notice that has the same key. */
  readonly key?: string;
  /** Lifetime, in milliseconds. Default: until done. */
  readonly forMs?: number;
  /** Only those who are connected and available now. */
  readonly ifAvailable?: boolean;
  /** Not those who have this channel in view. */
  readonly unlessLooking?: string;
  /** Not those who have blocked this user, in whose name the notice is. */
  readonly from?: string;
  /** Delays the push to busy users until they are available. */
  readonly holdWhileBusy?: boolean;
  /** Reports users to the embedding program whose sessions did not receive the notice in this time, in milliseconds. */
  readonly reachWithinMs?: number;
}

/** Request for an invitation. */
export interface InvitationWish {
  readonly channel: string;
  /** The only user who may accept the invitation; the service notifies them. */
  readonly user?: string;
  readonly role?: string;
  /** Maximum number of users who may accept. Default 1. */
  readonly uses?: number;
  /** Lifetime, in milliseconds. Default 7 days. */
  readonly forMs?: number;
  /** The user on whose behalf the application invites. */
  readonly by?: Author;
}

/** A user who is let into a channel by an invitation. */
export interface Admission {
  readonly user: string;
  readonly role?: string;
  /** The id of the invitation. */
  readonly invitation: string;
  readonly at: string;
  /** Absent: until that is ended. */
  readonly until?: string;
}

/** A user as last seen. */
export interface KnownUser {
  readonly id: string;
  readonly name?: string;
  readonly roles: readonly string[];
  readonly seenAt: string;
}

export interface Reading extends ReadResult {
  /** Cursor of the channel's last message. */
  readonly cursor: Cursor;
  /** Place to continue from, if the last entry read is a change. */
  readonly upTo?: Cursor;
}

/** A user to be made up. */
export interface ExampleUser {
  /** Absent: any id will do. */
  readonly user?: string;
  readonly roles: readonly string[];
  readonly claims: Readonly<Record<string, Json>>;
}

/** Contents of a token for the workbench. */
export interface WorkbenchWish {
  readonly user: string;
  readonly name?: string;
  readonly roles?: readonly string[];
  readonly claims?: Readonly<Record<string, Json>>;
  /** Its lifetime in milliseconds, at most and by default an hour. */
  readonly forMs?: number;
}

/** Exempts a channel from pruning. */
export interface HoldWish {
  readonly channel: string;
  readonly reason?: string;
  /** The user on whose behalf the application acts. */
  readonly by?: { readonly user: string; readonly name?: string };
}

/** A channel that is exempted from pruning. */
export interface Hold {
  readonly channel: string;
  readonly by: Actor;
  readonly at: string;
  readonly reason?: string;
}

/** Pruned messages of a channel. */
export interface StaleChannel {
  readonly channel: string;
  /** The pattern of its rule. */
  readonly pattern: string;
  readonly messages: number;
  /** The place of the last message that goes. */
  readonly upTo: Cursor;
  /** Time of the first remaining message; absent if none is left. */
  readonly oldestAt?: string;
}

/** Pruned records. */
export interface Pruning {
  /** Nothing was changed: it is what would go. */
  readonly dryRun: boolean;
  /** By name, at most 1,000. */
  readonly channels: readonly StaleChannel[];
  /** Number of pruned channels, and of pruned messages. */
  readonly total: { readonly channels: number; readonly messages: number };
  /** Channels that a hold saves from pruning, at most 1,000. */
  readonly held: readonly string[];
  /** Records beside messages that go, by kind. */
  readonly records: {
    readonly audit: number;
    readonly notices: number;
    readonly users: number;
    readonly bans: number;
    readonly keys: number;
    readonly reports: number;
    readonly pending: number;
    readonly invitations: number;
  };
}

/** A message that waits for a moderator, or was refused, in a list. */
export interface NumberedPending extends PendingMessage {
  /** Rises with time. */
  readonly number: number;
}

/** Reports a message in the name of a user. */
export interface ReportWish {
  readonly channel: string;
  /** Cursor of the message. */
  readonly cursor: string;
  readonly reason?: string;
  /** The reporting user. */
  readonly by: { readonly user: string; readonly name?: string };
}

/** A message that a user has reported. */
export interface MessageReport {
  readonly id: string;
  /** Rises with time. */
  readonly number: number;
  readonly channel: string;
  readonly cursor: Cursor;
  /** The message as it was when it was reported. */
  readonly message: Message;
  /** The user who made the report. */
  readonly by: Author;
  readonly reason?: string;
  readonly at: string;
  /** End of the report; absent while open. */
  readonly ended?: {
    readonly by: Actor;
    readonly at: string;
    /** The moderator's note. */
    readonly note?: string;
  };
}
