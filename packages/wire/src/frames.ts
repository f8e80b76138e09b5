import type { ChannelName } from './channelName.js';
import type { Cursor } from './cursor.js';
import type { Json } from './json.js';
import type { Problem } from './problems.js';

/** Who published a message, as others see it. */
export interface Author {
  readonly user: string;
  readonly name?: string;
  readonly guest?: true;
}

/** What is published to a channel: ordered, numbered, recoverable. */
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
  /** When the service took it in (RFC 3339, UTC, milliseconds). */
  readonly at: string;
  readonly data: Json;
}

/** The explicit word that some messages can no longer be recovered. */
export interface Gap {
  readonly channel: ChannelName;
  /** The cursor that was asked for. */
  readonly after: Cursor;
  /** The place from which on everything is there. */
  readonly cursor: Cursor;
  readonly why: 'expired' | 'new-volume' | 'lost';
}

/** One user in a channel, with the number of its sessions there. */
export interface Member {
  readonly user: string;
  readonly name?: string;
  readonly guest?: true;
  /** When the first of its sessions entered (RFC 3339). */
  readonly since: string;
  readonly sessions: number;
  /** Of the most available of its sessions; absent: it has said nothing, and counts as available. */
  readonly status?: Json;
  /** What the application has to show of it. */
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
  /** When it goes by itself (RFC 3339). */
  readonly until?: string;
}

/** The reply to `inbox`, and what hello gives of it. */
export interface InboxReply {
  /** Oldest first. */
  readonly notices: readonly Notice[];
  /** There are more after these. */
  readonly more: boolean;
  /** How many are in the inbox. */
  readonly unread: number;
  /** Of the last one given, or where the inbox stands. */
  readonly cursor: Cursor;
}

// ---------------------------------------------------------------------------------------------- requests

/** What `enter` asks for. Neither `after` nor `last`: from now on. */
export interface EnterWish {
  readonly channel: ChannelName;
  readonly after?: Cursor;
  readonly last?: number;
  readonly quiet?: boolean;
  readonly status?: Json;
}

interface Numbered {
  /** The client's own number for the request, a positive integer. Without it there is no reply unless it fails. */
  readonly id?: number;
}

export interface HelloRequest extends Numbered {
  readonly do: 'hello';
  readonly token?: string;
  readonly session?: string;
  readonly secret?: string;
  readonly inbox?: Cursor;
  readonly enter?: readonly EnterWish[];
  /** More channels are entered by requests right behind: those where the session is still shown are not left yet. */
  readonly partial?: boolean;
  /** Members that the protocol does not know are a problem, in this request and in all that follow. */
  readonly strict?: boolean;
}
export interface EnterRequest extends Numbered, EnterWish {
  readonly do: 'enter';
}
export interface LeaveRequest extends Numbered {
  readonly do: 'leave';
  readonly channel: ChannelName;
}
export interface PublishRequest extends Numbered {
  readonly do: 'publish';
  readonly channel: ChannelName;
  readonly data: Json;
  readonly type?: string;
  readonly key?: string;
  /** `false`: not to this session. Default `true`. */
  readonly echo?: boolean;
}
export interface HailRequest extends Numbered {
  readonly do: 'hail';
  readonly channel: ChannelName;
  readonly type: string;
  readonly data?: Json;
  readonly to?: readonly string[];
}
export interface SetRequest extends Numbered {
  readonly do: 'set';
  readonly channel: ChannelName;
  readonly entry: string;
  readonly value: Json;
}
export interface ReadRequest extends Numbered {
  readonly do: 'read';
  readonly channel: ChannelName;
  readonly after?: Cursor;
  readonly before?: Cursor;
  readonly limit?: number;
}
export interface StatusRequest extends Numbered {
  readonly do: 'status';
  readonly status?: Json;
  readonly channel?: ChannelName;
  readonly looking?: ChannelName | null;
}
export interface MarkRequest extends Numbered {
  readonly do: 'mark';
  readonly channel: ChannelName;
  /** Read up to here; `null`: the mark is removed, and new messages are no longer counted. */
  readonly cursor: Cursor | null;
}
export interface UnreadRequest extends Numbered {
  readonly do: 'unread';
}
export interface WatchRequest extends Numbered {
  readonly do: 'watch' | 'unwatch';
  readonly user: string;
}
export interface InboxRequest extends Numbered {
  readonly do: 'inbox';
  readonly after?: Cursor;
  readonly limit?: number;
  readonly done?: readonly string[] | true;
}
export interface RemoveRequest extends Numbered {
  readonly do: 'remove';
  readonly channel: ChannelName;
  readonly user: string;
  readonly reason?: string;
  readonly banMs?: number;
}
export interface RefreshRequest extends Numbered {
  readonly do: 'refresh';
  readonly token: string;
}
export interface PulseRequest extends Numbered {
  readonly do: 'pulse';
  /** How far the client has channels; those that are not named are as they were. */
  readonly got?: Readonly<Record<string, Cursor>>;
}

/** Everything a client may say. */
export type Request =
  | HelloRequest
  | EnterRequest
  | LeaveRequest
  | PublishRequest
  | HailRequest
  | SetRequest
  | ReadRequest
  | StatusRequest
  | MarkRequest
  | UnreadRequest
  | WatchRequest
  | InboxRequest
  | RemoveRequest
  | RefreshRequest
  | PulseRequest;

export type Verb = Request['do'];

/** The request of a verb. */
export type RequestOf<V extends Verb, R extends Request = Request> = R extends Request
  ? V extends R['do']
    ? R
    : never
  : never;

// ------------------------------------------------------------------------------------------------ replies

/** The reply to `enter`, and one element of `entered` in the reply to `hello`. */
export interface Entered {
  readonly channel: ChannelName;
  /** Of the last message given, or where the channel stands. */
  readonly cursor: Cursor;
  /** Oldest first. */
  readonly messages: readonly Message[];
  /** More is to come: enter again with `after` = `cursor`; until then nothing of the channel is pushed. */
  readonly more: boolean;
  readonly gap?: Gap;
  readonly members?: readonly Member[];
  readonly count?: number;
  readonly partial?: true;
  /** How far users have read, by user id, where the channel shows it and it is not too many. */
  readonly marks?: Readonly<Record<string, Cursor>>;
}

export interface EnterRefused {
  readonly channel: ChannelName;
  readonly problem: Problem;
}

/** How the last connection of a session ended. */
export type Ending =
  | 'left'
  | 'lost'
  | 'too-slow'
  | 'continued-elsewhere'
  | 'token-ended'
  | 'signed-out'
  | 'drained'
  | 'refused';

export interface Welcome {
  readonly session: string;
  readonly secret: string;
  readonly user: string;
  readonly name?: string;
  readonly guest?: true;
  readonly continued: boolean;
  readonly ended?: Ending;
  readonly instance: string;
  readonly pulseMs: number;
  readonly limits: LineLimits;
  /** What the names of direct channels begin with, if there are any: `direct/`. */
  readonly direct?: string;
  /** Users' inboxes; guests have none. With `inbox` in hello, the notices after that cursor. */
  readonly inbox?: InboxReply;
  readonly entered: readonly (Entered | EnterRefused)[];
}

/** What this service takes from one connection. */
export interface LineLimits {
  /** Largest frame to the service, in bytes; a larger one ends the connection with 1009. */
  readonly frameBytes: number;
  /** Largest `data` of one message, in bytes of JSON text. */
  readonly dataBytes: number;
  /** Most channels entered at a time. */
  readonly channels: number;
}

export interface Published {
  readonly id: string;
  readonly cursor: Cursor;
  /** The key was known: this is the message published first, and nothing was published now. */
  readonly repeated?: true;
}

export interface ReadResult {
  readonly channel: ChannelName;
  /** Oldest first. */
  readonly messages: readonly Message[];
  /** There are more in the direction that was asked for. */
  readonly more: boolean;
  readonly gap?: Gap;
}

/** The reply to `refresh`. */
export interface Refreshed {
  /** When the new token ends (RFC 3339); absent if it does not. */
  readonly expiresAt?: string;
  /** Channels that the new token does not let one into any more; they have been left. */
  readonly lost: readonly ChannelName[];
}

/** The reply to `remove`. */
export interface Removed {
  /** Until when the user may not come back (RFC 3339); absent: at once. */
  readonly until?: string;
}

/** The reply to `mark`. */
export interface Marked {
  readonly channel: ChannelName;
  /** Where the mark stands; absent if there is none any more. */
  readonly cursor?: Cursor;
  /** Messages after it that count. */
  readonly unread: number;
}

/** The reply to `unread`. */
export interface UnreadReply {
  /** For each channel in which the user has a mark. */
  readonly counts: Readonly<Record<string, number>>;
}

/** The reply of each verb that this version of the service answers. */
export interface ReplyOf {
  readonly hello: Welcome;
  readonly enter: Entered;
  readonly leave: { readonly channel: ChannelName };
  readonly publish: Published;
  readonly read: ReadResult;
  readonly refresh: Refreshed;
  readonly remove: Removed;
  readonly hail: Record<never, never>;
  readonly status: Record<never, never>;
  readonly inbox: InboxReply;
  readonly watch: { readonly user: string; readonly status: Json };
  readonly unwatch: { readonly user: string };
  readonly mark: Marked;
  readonly unread: UnreadReply;
}

export interface ReplyFrame {
  readonly re: number;
  readonly problem?: Problem;
  readonly [member: string]: unknown;
}

// ------------------------------------------------------------------------------------------------- pushes

export interface MessagePush extends Message {
  readonly on: 'message';
}
export interface HailPush {
  readonly on: 'hail';
  readonly channel: ChannelName;
  readonly type: string;
  readonly by?: Author;
  readonly data?: Json;
}
export interface MembersPush {
  readonly on: 'members';
  readonly channel: ChannelName;
  readonly joined?: readonly Member[];
  readonly left?: readonly string[];
  readonly changed?: readonly Member[];
  /** `joined` is the whole list: it replaces the earlier one. */
  readonly whole?: true;
  readonly count: number;
  readonly partial?: true;
}
export interface BoardPush {
  readonly on: 'board';
  readonly channel: ChannelName;
  readonly version: number;
  readonly set?: Readonly<Record<string, Json>>;
  readonly gone?: readonly string[];
}
export interface NoticePush extends Notice {
  readonly on: 'notice';
  readonly unread: number;
}
export interface InboxPush {
  readonly on: 'inbox';
  /** Notices that are done, on whichever device: these, or all. */
  readonly done: readonly string[] | true;
  readonly unread: number;
}
export interface UnreadPush {
  readonly on: 'unread';
  /** Only what has changed. */
  readonly counts: Readonly<Record<string, number>>;
}
export interface MarksPush {
  readonly on: 'marks';
  readonly channel: ChannelName;
  /** Only what has changed; `null`: the user's mark is gone. */
  readonly marks: Readonly<Record<string, Cursor | null>>;
}
export interface UserPush {
  readonly on: 'user';
  readonly user: string;
  readonly status: Json;
  /** The client may not watch the user any more, and why; `status` is `null`, and nothing more is told. */
  readonly problem?: Problem;
}
export interface GapPush extends Gap {
  readonly on: 'gap';
}
export interface RemovedPush {
  readonly on: 'removed';
  readonly channel: ChannelName;
  readonly reason?: string;
  readonly by?: Author;
  /** Until when you may not come back (RFC 3339); absent: you may come back at once. */
  readonly until?: string;
  /** No moderator removed you: your access was decided anew, and this is why it ended. */
  readonly problem?: Problem;
}
export interface ExpiringPush {
  readonly on: 'expiring';
  readonly withinMs: number;
}
export interface DrainPush {
  readonly on: 'drain';
  readonly withinMs: number;
}
export interface ProblemPush extends Problem {
  readonly on: 'problem';
  /** The connection ends for this reason: the goodbye that follows has no room for it. */
  readonly ends?: true;
}
export interface PulsePush {
  readonly on: 'pulse';
}

/** Everything the service may say unasked. */
export type Push =
  | MessagePush
  | HailPush
  | MembersPush
  | BoardPush
  | NoticePush
  | InboxPush
  | UnreadPush
  | MarksPush
  | UserPush
  | GapPush
  | RemovedPush
  | ExpiringPush
  | DrainPush
  | ProblemPush
  | PulsePush;

export type PushKind = Push['on'];

/** Everything the service may say. */
export type ServerFrame = ReplyFrame | Push;
