import type { ChannelName } from './channelName.js';
import type { Cursor } from './cursor.js';
import type { MessageFilter } from './filter.js';
import type { Json } from './json.js';
import type { BlockKind, Level, Mentions } from './records.js';

/** Start and filters of `enter`; without `after` and `last`, only new messages. */
export interface EnterWish {
  readonly channel: ChannelName;
  readonly after?: Cursor;
  readonly last?: number;
  readonly quiet?: boolean;
  /** Minimum interval between frames of the board, in milliseconds. */
  readonly pace?: number;
  /** `false`: of the board, not what this session has set itself. Default `true`. */
  readonly echo?: boolean;
  readonly status?: Json;
  /** Only these messages; what it passes over is not missing. */
  readonly filter?: MessageFilter;
  /** Known version of the channel's reactions; the service sends changes since. */
  readonly reactions?: Cursor;
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
  /** The message that it answers, where the channel has replies. */
  readonly replyTo?: Cursor;
  /** Mentioned users and roles, in channels with mentions. */
  readonly mentions?: Mentions;
  /** `false`: not to this session. Default `true`. */
  readonly echo?: boolean;
}
export interface ReviseRequest extends Numbered {
  readonly do: 'revise';
  readonly channel: ChannelName;
  /** Cursor of the message. */
  readonly cursor: Cursor;
  /** The id of the message, where that is known: refused if another one has the cursor. */
  readonly message?: string;
  readonly data: Json;
  /** Only if this was its last change; `null`: only if it is as it was published. */
  readonly ifRevision?: Cursor | null;
  readonly key?: string;
}
export interface WithdrawRequest extends Numbered {
  readonly do: 'withdraw';
  readonly channel: ChannelName;
  /** Cursor of the message. */
  readonly cursor: Cursor;
  /** As in `revise`. */
  readonly message?: string;
  /** Shown with the message to all who may read it. */
  readonly reason?: string;
  /** As in `revise`. */
  readonly ifRevision?: Cursor | null;
  readonly key?: string;
}
export interface RevisionsRequest extends Numbered {
  readonly do: 'revisions';
  readonly channel: ChannelName;
  /** Cursor of the message. */
  readonly cursor: Cursor;
  /** Only those behind this `revision`. */
  readonly after?: Cursor;
  readonly limit?: number;
}
export interface ReactRequest extends Numbered {
  readonly do: 'react';
  readonly channel: ChannelName;
  /** Cursor of the message. */
  readonly cursor: Cursor;
  /** A short word, or an emoji. */
  readonly word: string;
  /** `false` takes it back. Default `true`. */
  readonly on?: boolean;
}
export interface ReactorsRequest extends Numbered {
  readonly do: 'reactors';
  readonly channel: ChannelName;
  /** Cursor of the message. */
  readonly cursor: Cursor;
  /** Only those who have reacted with this. */
  readonly word?: string;
  /** `next` of the previous page. */
  readonly after?: string;
  readonly limit?: number;
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
  /** `null` removes it. */
  readonly value: Json;
  /** Only if the entry has not changed since this version of the board; `null`: only if there is no such entry. */
  readonly ifVersion?: Cursor | null;
  /** Lifetime, in milliseconds. */
  readonly forMs?: number;
  /** It goes when this session leaves the channel; when the connection breaks, after the grace of presence. */
  readonly whileHere?: boolean;
}
export interface CallRequest extends Numbered {
  readonly do: 'call';
  readonly name: string;
  /** The channel that the call is about. */
  readonly channel?: ChannelName;
  readonly data?: Json;
  /** A call that comes again with the same key gets the first answer. */
  readonly key?: string;
  /** Set if the call may have been sent before, over a connection that broke. */
  readonly again?: boolean;
}
export interface ReadRequest extends Numbered {
  readonly do: 'read';
  readonly channel: ChannelName;
  readonly after?: Cursor;
  readonly before?: Cursor;
  readonly limit?: number;
  /** Only these of the messages that are looked at. */
  readonly filter?: MessageFilter;
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
  /** Only in this thread, by its first message: the mark of the channel stays. `null` as `cursor` ends that you take part. */
  readonly thread?: Cursor;
}
export interface ThreadsRequest extends Numbered {
  readonly do: 'threads';
  /** Only of this channel. */
  readonly channel?: ChannelName;
  readonly limit?: number;
  /** Sends a push `threads` for each later change, in any channel. */
  readonly follow?: boolean;
}
export interface UnreadRequest extends Numbered {
  readonly do: 'unread';
}
/** Query of a search. */
export interface SearchWish {
  /** Words that must all be there; `"these words"` together; `sail*`: words that begin so; `-word`: not that. */
  readonly words: string;
  /** Channels, or patterns such as `race/:race/chat`. Absent: the channels that you have entered or have a read mark in. */
  readonly in?: readonly string[];
  /** Only by these authors, by user id. */
  readonly by?: readonly string[];
  /** Only of these types. */
  readonly types?: readonly string[];
  /** Only taken in at this time or later, and only before this one (RFC 3339). */
  readonly since?: string;
  readonly until?: string;
  /** Default 20, at most 100. */
  readonly limit?: number;
  /** `next` of the part before. */
  readonly after?: string;
}
export interface SearchRequest extends Numbered, SearchWish {
  readonly do: 'search';
}
export interface LevelRequest extends Numbered {
  readonly do: 'level';
  readonly channel: ChannelName;
  /** Your notification level for the channel; `null` removes it. */
  readonly level: Level | null;
  /** For how long, in milliseconds; absent: it stays. */
  readonly forMs?: number;
}
export interface LevelsRequest extends Numbered {
  readonly do: 'levels';
}
/** Asks for your messages that wait for a moderator, and those that were refused. */
export interface PendingRequest extends Numbered {
  readonly do: 'pending';
  readonly channel?: ChannelName;
}
/** Takes back your message that waits. */
export interface TakeBackRequest extends Numbered {
  readonly do: 'take-back';
  readonly pending: string;
}
export interface BlockRequest extends Numbered {
  readonly do: 'block';
  /** The user to block or mute. */
  readonly user: string;
  /** Default `blocked`. */
  readonly as?: BlockKind;
}
export interface UnblockRequest extends Numbered {
  readonly do: 'unblock';
  readonly user: string;
}
export interface BlocksRequest extends Numbered {
  readonly do: 'blocks';
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
export interface SilenceRequest extends Numbered {
  readonly do: 'silence';
  readonly channel: ChannelName;
  readonly user: string;
  /** Minimum interval between the user's messages, in milliseconds; absent = no messages. */
  readonly everyMs?: number;
  readonly reason?: string;
  /** Absent: until it is ended. */
  readonly forMs?: number;
}
export interface ReportRequest extends Numbered {
  readonly do: 'report';
  readonly channel: ChannelName;
  /** Cursor of the message. */
  readonly cursor: Cursor;
  readonly reason?: string;
}
export interface InviteRequest extends Numbered {
  readonly do: 'invite';
  readonly channel: ChannelName;
  /** The only user who may accept the invitation; the service notifies them. */
  readonly user?: string;
  /** Role of those who accept: one of your own roles. */
  readonly role?: string;
  /** Maximum number of users who may accept. Default 1. */
  readonly uses?: number;
  /** Lifetime, in milliseconds. Default 7 days. */
  readonly forMs?: number;
}
export interface AcceptRequest extends Numbered {
  readonly do: 'accept';
  readonly code: string;
}
export interface InvitationsRequest extends Numbered {
  readonly do: 'invitations';
  readonly channel: ChannelName;
  /** `next` of an earlier reply. */
  readonly after?: string;
  readonly limit?: number;
}
export interface UninviteRequest extends Numbered {
  readonly do: 'uninvite';
  readonly channel: ChannelName;
  /** The id of the invitation. */
  readonly invitation: string;
  /** Also ends the admissions of those who have accepted. */
  readonly admitted?: boolean;
}
export interface RefreshRequest extends Numbered {
  readonly do: 'refresh';
  readonly token: string;
}
export interface PulseRequest extends Numbered {
  readonly do: 'pulse';
  /** Received cursors by channel; others are unchanged. */
  readonly got?: Readonly<Record<string, Cursor>>;
}

/** Everything a client may say. */
export type Request =
  | HelloRequest
  | EnterRequest
  | LeaveRequest
  | PublishRequest
  | ReviseRequest
  | WithdrawRequest
  | RevisionsRequest
  | ReactRequest
  | ReactorsRequest
  | HailRequest
  | SetRequest
  | CallRequest
  | ReadRequest
  | StatusRequest
  | MarkRequest
  | UnreadRequest
  | ThreadsRequest
  | SearchRequest
  | LevelRequest
  | LevelsRequest
  | PendingRequest
  | TakeBackRequest
  | BlockRequest
  | UnblockRequest
  | BlocksRequest
  | WatchRequest
  | InboxRequest
  | RemoveRequest
  | SilenceRequest
  | ReportRequest
  | InviteRequest
  | AcceptRequest
  | InvitationsRequest
  | UninviteRequest
  | RefreshRequest
  | PulseRequest;

export type Verb = Request['do'];

/** The request of a verb. */
export type RequestOf<V extends Verb, R extends Request = Request> = R extends Request
  ? V extends R['do']
    ? R
    : never
  : never;
