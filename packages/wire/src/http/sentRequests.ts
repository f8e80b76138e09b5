import type { ChannelName } from '../channelName.js';
import type { Cursor } from '../cursor.js';
import type { Json } from '../json.js';
import type { Author, Message, Notice, PendingMessage } from '../records.js';
import type { BoardInfo } from './answers.js';

/** The user of a request to the application. */
interface AskingUser {
  readonly user: string;
  readonly name?: string;
  readonly guest: boolean;
  readonly roles: readonly string[];
}

/** Data of an access question. */
export interface AccessQuestion extends AskingUser {
  readonly act: string;
  readonly channel?: ChannelName;
  /** The other user, for acts between users. */
  readonly whom?: string;
  /** Values of the parameters in the rule's pattern. */
  readonly parameters: Readonly<Record<string, string>>;
  readonly claims: Readonly<Record<string, Json>>;
  /** The message, for acts on one. */
  readonly message?: {
    readonly cursor: Cursor;
    readonly id?: string;
    readonly type?: string;
    readonly by?: string;
    readonly at: string;
  };
}

export interface AccessAnswer {
  readonly allow: boolean;
  /** Shown to the client that is refused. */
  readonly reason?: string;
  /** Shown of the member to others in the channel. */
  readonly member?: Json;
  /** Cache time of the answer, in milliseconds; at most a day. */
  readonly rememberMs?: number;
}

/** Data of a review question. */
export interface ReviewRequest extends AskingUser {
  readonly channel: ChannelName;
  readonly parameters: Readonly<Record<string, string>>;
  readonly message: {
    readonly type: string;
    readonly key?: string;
    readonly replyTo?: Cursor;
    readonly mentions?: Json;
    /** The message that it would revise. */
    readonly revises?: Cursor;
    readonly data: Json;
  };
}

/** One of `allow` and `hold: true`. */
export interface ReviewAnswer {
  readonly allow?: boolean;
  readonly hold?: true;
  /** Shown to the author. */
  readonly reason?: string;
  /** Replaces what the message holds. */
  readonly data?: Json;
}

/** Data of a call. */
export interface CallData extends AskingUser {
  /** Its name. */
  readonly call: string;
  readonly channel?: ChannelName;
  readonly parameters: Readonly<Record<string, string>>;
  readonly claims: Readonly<Record<string, Json>>;
  readonly session: string;
  /** The client's idempotency key. */
  readonly key?: string;
  readonly data: Json;
}

export interface CallReply {
  readonly data?: Json;
  readonly refuse?: { readonly code: string; readonly text: string };
  /** Up to 50 publications, each a map with one of `message`, `hail`, `entry` and `notice`. */
  readonly publish?: readonly { readonly [kind: string]: Json }[];
}

/** The moderator: a user, the holder of a key, or the service itself. */
export interface HookActor {
  readonly kind: 'key' | 'user' | 'service';
  readonly id: string;
  readonly name?: string;
  /** Id of the application's key, if it acted in the user's name. */
  readonly through?: string;
}

/** Data of an event about moderation. */
export interface ModerationEvent {
  readonly id: string;
  readonly by: HookActor;
  readonly at: string;
  readonly reason?: string;
  readonly user?: string;
  readonly address?: string;
  /** Absent: in the whole service. */
  readonly channel?: ChannelName;
  /** Time of expiry (RFC 3339). */
  readonly until?: string;
  /** Minimum interval between the user's publishes, in milliseconds; absent: none allowed. */
  readonly everyMs?: number;
  /** The ban that was ended. */
  readonly ban?: string;
  /** The silence that was ended. */
  readonly silence?: string;
  /** The user was erased. */
  readonly erases?: true;
}

/** Data of an event about a channel and perhaps a member. */
export interface MemberEvent {
  readonly channel: ChannelName;
  readonly by?: Author;
}

export interface ReportedEvent {
  readonly id: string;
  readonly channel: ChannelName;
  readonly cursor: Cursor;
  /** The message as it was then. */
  readonly message: Json;
  readonly by: Author;
  readonly at: string;
  readonly reason?: string;
}

export interface UnreachedEvent {
  readonly user: string;
  readonly notice: Notice;
}

export interface IntakeFailedEvent {
  readonly intake: string;
  readonly arrival: string;
  /** Cause of the failure. */
  readonly problem: string;
}

/** The `data` of each request that the service sends, and what it takes as an answer. Keys are the `type` of the request. */
export interface SentRequests {
  /** Asks the application whether a user may do something. */
  'access.ask': { readonly data: AccessQuestion; readonly answer: AccessAnswer };
  /** Asks the application about a message before it is published. */
  'message.review': { readonly data: ReviewRequest; readonly answer: ReviewAnswer };
  /** Hands a client's call to the application. */
  call: { readonly data: CallData; readonly answer: CallReply };
  /** A message was published. */
  'ninebells.message': { readonly data: Message };
  /** A message was revised or withdrawn: as it stands now. */
  'ninebells.changed': { readonly data: Message };
  /** A member has stayed for two seconds. */
  'ninebells.joined': { readonly data: MemberEvent };
  /** A member has gone. */
  'ninebells.left': { readonly data: MemberEvent };
  /** The channel has its first member. */
  'ninebells.first-in': { readonly data: MemberEvent };
  /** The channel has lost its last member. */
  'ninebells.last-out': { readonly data: MemberEvent };
  /** A notice reached none of a user's sessions in time. */
  'ninebells.unreached': { readonly data: UnreachedEvent };
  /** A user or an address was banned. */
  'ninebells.ban': { readonly data: ModerationEvent };
  /** A ban was ended. */
  'ninebells.unban': { readonly data: ModerationEvent };
  /** A user was removed from a channel. */
  'ninebells.remove': { readonly data: ModerationEvent };
  /** A user was silenced, or slowed down. */
  'ninebells.silence': { readonly data: ModerationEvent };
  /** A silence was ended. */
  'ninebells.end-silence': { readonly data: ModerationEvent };
  /** A user was signed out. */
  'ninebells.sign-out': { readonly data: ModerationEvent };
  /** The tokens of a user were revoked. */
  'ninebells.revoke-tokens': { readonly data: ModerationEvent };
  /** A message was reported. */
  'ninebells.reported': { readonly data: ReportedEvent };
  /** A message waits for a moderator. */
  'ninebells.pending': { readonly data: PendingMessage };
  /** A board has changed: as it is now. */
  'ninebells.board': { readonly data: BoardInfo };
  /** An event of an intake could not be published. */
  'ninebells.intake-failed': { readonly data: IntakeFailedEvent };
}
