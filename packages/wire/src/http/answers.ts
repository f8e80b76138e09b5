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
  /** Whom it mentions, where the channel has mentions. */
  readonly mentions?: Mentions;
}

/** How far messages can be found that were there before their rule had `search`, or came a moment ago. */
export interface SearchProgress {
  /** Channels that are searched. */
  readonly channels: number;
  /** Messages and changes there, and those of them that can be found. */
  readonly messages: number;
  readonly ready: number;
}

/** How much a user wants to hear of a channel. */
export interface LevelWish {
  readonly user: string;
  readonly channel: string;
  /** `null`: as if nothing were said. */
  readonly level: Level | null;
  /** For how long, in milliseconds; absent: it stays. */
  readonly forMs?: number;
}

/** What a user has missed, for a mail that the application sends. */
export interface Digest {
  readonly user: string;
  /** When it was made (RFC 3339, UTC, milliseconds). */
  readonly at: string;
  /** Messages that the user has not read, in all its channels. */
  readonly unread: number;
  /** Messages that mention the user, and that it has not read. */
  readonly mentions: number;
  /** Of the channels in which something is unread, those that had a message last. */
  readonly channels: readonly DigestChannel[];
  /** There are more channels. */
  readonly more: boolean;
}

/** What a user has missed in one channel. */
export interface DigestChannel {
  readonly channel: string;
  /** Absent where the user has no read mark, or wants to hear only of mentions. */
  readonly unread?: number;
  /** At most 100. */
  readonly mentions: number;
  /** How far the user has read. */
  readonly cursor?: Cursor;
  /** When the last message came. */
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

/** How a user reacts to a message. */
export interface ReactionWish {
  readonly channel: string;
  /** Of the message. */
  readonly cursor: string;
  /** A short word, or an emoji. */
  readonly word: string;
  /** `false` takes it back. Default `true`. */
  readonly on?: boolean;
  /** The user who reacts. */
  readonly by: { readonly user: string; readonly name?: string };
}

/** Who is to be erased, and how. */
export interface ErasureWish {
  readonly user: string;
  /** What becomes of the user's messages: taken back, or kept with their author blanked. Default `withdraw`. */
  readonly messages?: 'withdraw' | 'blank';
  /** The user in whose name it is done. */
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
  /** What was removed or blanked so far. */
  readonly counts: {
    readonly messages: number;
    /** Changes that the user has made of messages. */
    readonly changes: number;
    readonly marks: number;
    readonly reactions: number;
    /** Users whom the user kept away. */
    readonly blocks: number;
    /** Channels of which the user had said how much it wants to hear. */
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
    /** Deliveries to hooks that mention the user: what has ended is gone, what waits is blanked. */
    readonly deliveries: number;
    /** Names and roles. */
    readonly users: number;
    /** Entries of the audit log, which now have a pseudonym. */
    readonly audit: number;
  };
  /** Channels that are exempted from pruning, where messages are left: at most 100. */
  readonly held: readonly string[];
}

/** Some of what is kept about a user. */
export interface PersonInfo {
  readonly user: string;
  /** What is kept beside messages, by what it is; in the first part only. */
  readonly records?: Readonly<Record<string, readonly { readonly [member: string]: Json }[]>>;
  /** Sessions that are connected; in the first part only. */
  readonly sessions?: readonly SessionInfo[];
  readonly messages: readonly Message[];
  /** Ask again with `after` this; absent: that was all. */
  readonly next?: string;
}

/** Which message is to be changed. */
interface ChangeWish {
  readonly channel: string;
  /** Of the message. */
  readonly cursor: string;
  /** The id of the message, where that is known: refused if another one has the cursor. */
  readonly message?: string;
  /** Only if this was its last change; `null`: only if it is as it was published. */
  readonly ifRevision?: string | null;
  /** Changing again with the same key changes nothing. */
  readonly key?: string;
  /** The user to name as the one who changes it. */
  readonly by?: Author;
}

/** What a message is to hold. */
export interface RevisionWish extends ChangeWish {
  readonly data: Json;
}

/** A message that is to be taken back. */
export interface WithdrawalWish extends ChangeWish {
  /** Shown with the message to all who may read it. */
  readonly reason?: string;
}

/** Entries of a board to be set. */
export interface BoardDraft<Channel extends string = string, Value = Json> {
  readonly channel: Channel;
  /** Values by the names of entries; `null` removes. */
  readonly set: Readonly<Record<string, Value | null>>;
  /** How long they live, in milliseconds. */
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
  /** Where it stands; absent: nothing was ever set, or it has been forgotten. */
  readonly version?: Cursor;
  readonly entries: readonly {
    readonly entry: string;
    readonly value: Json;
    /** The version at which it was changed last. */
    readonly version: Cursor;
    /** The user who set it; absent: an application did. */
    readonly by?: string;
    /** How much longer it lives, in milliseconds; absent: until it is removed. */
    readonly leftMs?: number;
    /** It goes with this session. */
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
  /** How long the client took to answer the last ping; absent before the first answer. */
  readonly roundTripMs?: number;
}

/** Instances that did not answer in time, if there are any: what they know is missing. */
export interface Gathered {
  readonly missing?: readonly string[];
}

/** What went through a channel, or a rule's channels. */
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
  /** How long that is, in milliseconds. */
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

/** What was refused with one code at one door, since the instances have started. */
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

/** How many users were notified. */
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
  /** How long the relay took to answer the last time, in milliseconds. */
  readonly relayMs?: number;
  /** How far the service's time is ahead of the machine's clock, in milliseconds. */
  readonly clockMs?: number;
  /** What is not as it should be with the instance, or with what it needs. */
  readonly warnings?: readonly string[];
  /** How it writes frames to plain sockets: by the native writer, or through Node's streams. */
  readonly writer?: 'native' | 'streams';
  /** For how long its lease still holds, in milliseconds; of an instance alone 0. */
  readonly leaseMs: number;
  readonly draining: boolean;
}

/** The account of what became of a message, of all instances that answered. */
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
    /** How long until it had its place, and was committed where the channel is kept, in milliseconds. */
    readonly placedAfterMs: number;
    /** It was published again under its key so many times. */
    readonly repeats: number;
  };
  /** Where it was handed to connections, in the order in which it came in there. */
  readonly instances: readonly {
    readonly instance: string;
    readonly at: string;
    readonly connections: number;
    /** Of those that are still there, how many have said that they have got it. */
    readonly confirmed: number;
  }[];
  /** In words. */
  readonly sentence: string;
  readonly user?: {
    readonly user: string;
    readonly sentence: string;
    readonly fates: readonly Fate[];
    /** More sessions of the user that had ended before the message, and have not come back. */
    readonly earlier: number;
  };
}

/** What became of a message for one session. */
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
  /** How many there are; the numbers below are of all of them together, but for the memory. */
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
  /** For `call`: what is called. */
  readonly call?: string;
  /** For acts that concern a user. */
  readonly whom?: string;
  readonly user: string;
  /** The connected session whose token has given the roles and claims, where the question named the user only. */
  readonly session?: string;
  readonly allowed: boolean;
  /** What a client would be told. */
  readonly problem?: Problem;
  /** What keeps the user out, whatever the rules say. */
  readonly ban?: Ban;
  /** What lets the user read and not write. */
  readonly silence?: Silence;
  /** The channel rule that holds. */
  readonly rule?: { readonly pattern: string; readonly parameters: Readonly<Record<string, string>> };
  readonly others: readonly { readonly pattern: string; readonly why: string }[];
  readonly evaluation?: Evaluation;
  /** It is allowed, and the application sees the message before it is published. */
  readonly review?: {
    readonly withinMs: number;
    /** What becomes of it without an answer. */
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
  /** The id of the API key; beside `user`, the key with which an application acted in the user's name. */
  readonly key?: string;
  /** What part of the service acted. */
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
  /** When it ends by itself; absent: never. */
  readonly until?: string;
  readonly reason?: string;
}

/** Whom to keep out, and of what. */
export interface BanWish {
  /** A user, or else an address. */
  readonly user?: string;
  readonly address?: string;
  readonly channel?: string;
  /** Until it is lifted, if absent. */
  readonly forMs?: number;
  readonly reason?: string;
  /** The user in whose name it is done. */
  readonly by?: { readonly user: string; readonly name?: string };
}

export interface SilenceWish {
  readonly user: string;
  /** Absent: in the whole service. */
  readonly channel?: string;
  /** It may publish once in this time in each channel; absent: not at all. */
  readonly everyMs?: number;
  /** Until it is ended, if absent. */
  readonly forMs?: number;
  readonly reason?: string;
  /** The user in whose name it is done. */
  readonly by?: { readonly user: string; readonly name?: string };
}

/** What lets a user read and not write. */
export interface Silence {
  readonly id: string;
  readonly type: 'silence';
  readonly user: string;
  /** It may publish once in this time in each channel; absent: not at all. */
  readonly everyMs?: number;
  /** Absent: in the whole service. */
  readonly channel?: string;
  readonly by: Actor;
  readonly at: string;
  /** When it ends by itself; absent: never. */
  readonly until?: string;
  readonly reason?: string;
}

export interface RemovalWish {
  readonly channel: string;
  readonly user: string;
  readonly reason?: string;
  /** How long the user may not come back. Default: not at all. */
  readonly banMs?: number;
  /** The user in whose name it is done. */
  readonly by?: { readonly user: string; readonly name?: string };
}

/** Whose sessions or tokens are to end. */
export interface SignOutWish {
  readonly user: string;
  readonly reason?: string;
  /** The user in whose name it is done. */
  readonly by?: { readonly user: string; readonly name?: string };
}

/** What was done, and how many sessions it reached at once. */
export interface Effect {
  readonly id: string;
  readonly type: string;
  readonly by: Actor;
  readonly user?: string;
  /** Of a ban: the address or range in its canonical form. */
  readonly address?: string;
  readonly channel?: string;
  readonly at: string;
  readonly until?: string;
  readonly reason?: string;
  /** The ban that was ended. */
  readonly ban?: string;
  /** The silence that was ended. */
  readonly silence?: string;
  /** Of a silence: the user may publish once in this time. */
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
  /** How long it stays. Default: until it is done. */
  readonly forMs?: number;
  /** Only those who are connected and available now. */
  readonly ifAvailable?: boolean;
  /** Not those who have this channel in view. */
  readonly unlessLooking?: string;
  /** Not those who have blocked this user, in whose name the notice is. */
  readonly from?: string;
  /** Users who are busy are told when they no longer are. */
  readonly holdWhileBusy?: boolean;
  /** If no session of a user was told in time, the service reports it to the program that embeds it. */
  readonly reachWithinMs?: number;
}

/** What an application wants of an invitation. */
export interface InvitationWish {
  readonly channel: string;
  /** Only this user may accept it; it is notified. */
  readonly user?: string;
  readonly role?: string;
  /** How many users may accept it. Default 1. */
  readonly uses?: number;
  /** How long it can be accepted. Default 7 days. */
  readonly forMs?: number;
  /** The user in whose name it is made. */
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
  /** Where the channel stands. */
  readonly cursor: Cursor;
  /** Where the last that was looked at is a change: go on from here. */
  readonly upTo?: Cursor;
}

/** A user to be made up. */
export interface ExampleUser {
  /** Absent: any id will do. */
  readonly user?: string;
  readonly roles: readonly string[];
  readonly claims: Readonly<Record<string, Json>>;
}

/** What a token of the workbench is to say. */
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
  /** The user in whose name it is done. */
  readonly by?: { readonly user: string; readonly name?: string };
}

/** A channel that is exempted from pruning. */
export interface Hold {
  readonly channel: string;
  readonly by: Actor;
  readonly at: string;
  readonly reason?: string;
}

/** What is pruned of a channel. */
export interface StaleChannel {
  readonly channel: string;
  /** The pattern of its rule. */
  readonly pattern: string;
  readonly messages: number;
  /** The place of the last message that goes. */
  readonly upTo: Cursor;
  /** When the first one was taken in; absent: none is left. */
  readonly oldestAt?: string;
}

/** What is pruned. */
export interface Pruning {
  /** Nothing was changed: it is what would go. */
  readonly dryRun: boolean;
  /** By name, at most 1,000. */
  readonly channels: readonly StaleChannel[];
  /** All channels of which something goes, and the messages that go there. */
  readonly total: { readonly channels: number; readonly messages: number };
  /** Channels of which something would go if they were not exempted, at most 1,000. */
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
  /** Of the message. */
  readonly cursor: string;
  readonly reason?: string;
  /** The user who reports it. */
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
  /** The user who reported it. */
  readonly by: Author;
  readonly reason?: string;
  readonly at: string;
  /** How it was ended; absent: it is open. */
  readonly ended?: {
    readonly by: Actor;
    readonly at: string;
    /** What was done, in the moderator's words. */
    readonly note?: string;
  };
}
