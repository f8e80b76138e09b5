import type { ChannelName } from './channelName.js';
import type { Cursor } from './cursor.js';
import type { Json } from './json.js';

/** The author of a message, as other users see them. */
export interface Author {
  readonly user: string;
  readonly name?: string;
  readonly guest?: true;
}

/** A message of a channel: ordered, numbered, recoverable. */
export interface Message {
  readonly channel: ChannelName;
  readonly cursor: Cursor;
  /** Unique among all messages of a service; sorts by time (a ULID). */
  readonly id: string;
  readonly type: string;
  /** The publisher's idempotency key, if it gave one. */
  readonly key?: string;
  /** Absent when an application published without naming a user. */
  readonly by?: Author;
  /** Time of publication (RFC 3339, UTC, milliseconds). */
  readonly at: string;
  /** As it stands now; `null` of a message that was withdrawn. */
  readonly data: Json;
  /** The cursor of its last change; absent: it is as it was published. */
  readonly revision?: Cursor;
  /** Time of the last change (RFC 3339, UTC, milliseconds). */
  readonly revisedAt?: string;
  /** Author of the last change; absent if an application made it without naming a user. */
  readonly revisedBy?: Author;
  /** It was taken back: what it held is gone. */
  readonly withdrawn?: true;
  /** Reason of the withdrawal, if given. */
  readonly reason?: string;
  /** The message that it answers. */
  readonly replyTo?: Cursor;
  /** First message of its thread. */
  readonly thread?: Cursor;
  /** Mentioned users and roles. */
  readonly mentions?: Mentions;
  /** Quote of the answered message. Absent in changes, if that message was pruned, and where the reader may not see it. */
  readonly answers?: Answered;
  /** Number of replies in its thread, and time of the last one. Absent in changes. */
  readonly replies?: { readonly count: number; readonly at: string };
  /** It was revised and does not fit your filter (any more): `data` is `null`, and not told. Only in changes. */
  readonly unfit?: true;
}

/** A message that a search has found. */
export interface SearchHit {
  readonly channel: ChannelName;
  readonly cursor: Cursor;
  /** Enter or read after it, and the message comes first. */
  readonly after: Cursor;
  readonly id: string;
  readonly type: string;
  readonly by?: Author;
  readonly at: string;
  /** The found words with their context. */
  readonly text: string;
  /** Ranges of the words in `text`: start, and end (exclusive), in UTF-16 code units. */
  readonly marks: readonly { readonly from: number; readonly to: number }[];
}

/** Mentioned users and roles. The service notifies them. */
export interface Mentions {
  /** By their ids. */
  readonly users?: readonly string[];
  /** All who have one of these roles, and may enter the channel. */
  readonly roles?: readonly string[];
}

/** A message that another one answers, in short. */
export interface Answered {
  readonly by?: Author;
  /** Its first words; absent: it holds no text, or was withdrawn. */
  readonly text?: string;
  readonly withdrawn?: true;
}

/** A thread of a user. */
export interface ThreadInfo {
  readonly channel: ChannelName;
  /** First message of the thread. */
  readonly thread: Cursor;
  /** Replies behind the mark: not the user's own, not those that were withdrawn. */
  readonly unread: number;
  /** Replies in all, and when the last one came (RFC 3339, UTC, milliseconds). */
  readonly count: number;
  readonly at: string;
  /** The user's read mark. */
  readonly cursor: Cursor;
}

/** An earlier content of a message. */
export interface EarlierRevision {
  /** The cursor of the change that had made it so; absent: it was published so. */
  readonly revision?: Cursor;
  /** Time of that content (RFC 3339, UTC, milliseconds). */
  readonly at: string;
  /** Absent when an application did without naming a user. */
  readonly by?: Author;
  readonly data: Json;
}

/** Number of users per reaction, by word or emoji. */
export type ReactionCounts = Readonly<Record<string, number>>;

/** Reactions to messages. */
export interface ReactionsOf {
  /** By the cursors of messages; empty: there are no reactions any longer. Messages without any are not named. */
  readonly counts: Readonly<Record<string, ReactionCounts>>;
  /** Your own reactions, by the cursors of messages. */
  readonly own?: Readonly<Record<string, readonly string[]>>;
  /** Counts of the earliest messages given are left out, for lack of room: read those messages in smaller parts. */
  readonly partial?: true;
}

/** A user's reaction to a message. */
export interface Reactor {
  readonly word: string;
  readonly user: string;
  readonly name?: string;
  /** Time of the reaction (RFC 3339, UTC, milliseconds). */
  readonly at: string;
}

/** The explicit word that some messages can no longer be recovered. */
export interface Gap {
  readonly channel: ChannelName;
  /** The cursor that was asked for. */
  readonly after: Cursor;
  /** Place behind which nothing is missing. */
  readonly cursor: Cursor;
  readonly why: 'expired' | 'new-volume' | 'lost';
}

/**
 * How a user keeps another away. `muted`: its messages and hails in channels are not delivered. `blocked`: nor those in direct
 * channels, the user is not notified of them, and the other cannot begin direct talk.
 */
export type BlockKind = 'blocked' | 'muted';

/** A user that another one keeps away. */
export interface Block {
  readonly user: string;
  readonly as: BlockKind;
  /** Since when (RFC 3339, UTC, milliseconds). */
  readonly at: string;
}

/** Its code lets users into a channel whose access rule has the condition `invited`. */
export interface Invitation {
  readonly id: string;
  readonly channel: ChannelName;
  /** Absent: an application made it, and named no user. */
  readonly by?: Author;
  /** Times of its creation and of its end (RFC 3339, UTC, milliseconds). */
  readonly at: string;
  readonly until: string;
  /** Maximum number of users who may accept, and number of those who have. */
  readonly uses: number;
  readonly used: number;
  /** The only user who may accept. */
  readonly user?: string;
  /** Role of those who accept. */
  readonly role?: string;
  /** It can no longer be accepted, and why. */
  readonly over?: 'used-up' | 'expired' | 'revoked';
}

/**
 * A message in the moderators' queue.
 *
 * - `waiting`: undecided, or behind an earlier message of its author
 * - `published`: it has a place in the channel and has left the queue
 * - `refused`: it is not published; its author can list it until it is deleted
 * - `taken-back`: its author has removed it
 */
export interface PendingMessage {
  readonly id: string;
  readonly channel: ChannelName;
  readonly state: 'waiting' | 'published' | 'refused' | 'taken-back';
  readonly by: Author;
  /** Time of the request to publish (RFC 3339, UTC, milliseconds). */
  readonly at: string;
  readonly type: string;
  readonly key?: string;
  readonly data: Json;
  readonly replyTo?: Cursor;
  readonly mentions?: Mentions;
  /** The message that it is to revise. */
  readonly revises?: Cursor;
  /** Reason why it is pending or was rejected, for its author. */
  readonly reason?: string;
  /** It may be published, and only waits for earlier messages of its author. */
  readonly cleared?: true;
  /** Place of the published message, or of the change. */
  readonly cursor?: Cursor;
}

/**
 * How much a user wants to hear of a channel. `everything`: as if nothing were said; `mentions`: notices only of messages that
 * mention it; `nothing`: no notices, and no place in its digest.
 */
export type Level = (typeof levels)[number];
export const levels = ['everything', 'mentions', 'nothing'] as const;

/** The level that a user has set for a channel. */
export interface ChannelLevel {
  readonly channel: ChannelName;
  readonly level: Level;
  /** End time (RFC 3339, UTC, milliseconds); absent = unlimited. */
  readonly until?: string;
}

/** One user in a channel, with the number of its sessions there. */
export interface Member {
  readonly user: string;
  readonly name?: string;
  readonly guest?: true;
  /** Time when the user's first session entered (RFC 3339). */
  readonly since: string;
  readonly sessions: number;
  /** Status of the user's most available session; absent = no status, which counts as available. */
  readonly status?: Json;
  /** Data of the member that the application shows. */
  readonly data?: Json;
}

/** A notification to a user, kept in its inbox until it is done. */
export interface Notice {
  readonly cursor: Cursor;
  readonly id: string;
  readonly title: string;
  readonly data?: Json;
  readonly at: string;
  /** A later notice with the same key takes the place of this one. */
  readonly key?: string;
  /** End time (RFC 3339). */
  readonly until?: string;
}
