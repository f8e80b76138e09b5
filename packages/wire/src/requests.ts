import type { ChannelName } from './channelName.js';
import type { Cursor } from './cursor.js';
import type { MessageFilter } from './filter.js';
import type { Json } from './json.js';
import type { BlockKind, Level, Mentions } from './records.js';

/** What `enter` asks for. Neither `after` nor `last`: from now on. */
export interface EnterWish {
  readonly channel: ChannelName;
  readonly after?: Cursor;
  readonly last?: number;
  readonly quiet?: boolean;
  /** How far apart frames of the board are to be at least, in milliseconds. */
  readonly pace?: number;
  /** `false`: of the board, not what this session has set itself. Default `true`. */
  readonly echo?: boolean;
  readonly status?: Json;
  /** Only these messages; what it passes over is not missing. */
  readonly filter?: MessageFilter;
  /** The version of the channel's reactions that is known: what has changed since is told. */
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
  /** Whom it mentions, where the channel has mentions. */
  readonly mentions?: Mentions;
  /** `false`: not to this session. Default `true`. */
  readonly echo?: boolean;
}
export interface ReviseRequest extends Numbered {
  readonly do: 'revise';
  readonly channel: ChannelName;
  /** Of the message. */
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
  /** Of the message. */
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
  /** Of the message. */
  readonly cursor: Cursor;
  /** Only those behind this `revision`. */
  readonly after?: Cursor;
  readonly limit?: number;
}
export interface ReactRequest extends Numbered {
  readonly do: 'react';
  readonly channel: ChannelName;
  /** Of the message. */
  readonly cursor: Cursor;
  /** A short word, or an emoji. */
  readonly word: string;
  /** `false` takes it back. Default `true`. */
  readonly on?: boolean;
}
export interface ReactorsRequest extends Numbered {
  readonly do: 'reactors';
  readonly channel: ChannelName;
  /** Of the message. */
  readonly cursor: Cursor;
  /** Only those who have reacted with this. */
  readonly word?: string;
  /** What the part before has given as `next`. */
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
  /** How long it lives, in milliseconds. */
  readonly forMs?: number;
  /** It goes when this session leaves the channel; when the connection breaks, after the grace of presence. */
  readonly whileHere?: boolean;
}
export interface CallRequest extends Numbered {
  readonly do: 'call';
  readonly name: string;
  /** Where the call is about a channel. */
  readonly channel?: ChannelName;
  readonly data?: Json;
  /** A call that comes again with the same key gets the first answer. */
  readonly key?: string;
  /** It may have come before, over a connection that broke. */
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
/** What is looked for. */
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
  /** How much you want to hear of the channel; `null`: as if nothing were said. */
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
  /** Whom you do not want to hear. */
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
  /** The user may publish once in this time; absent: not at all. */
  readonly everyMs?: number;
  readonly reason?: string;
  /** Absent: until it is ended. */
  readonly forMs?: number;
}
export interface ReportRequest extends Numbered {
  readonly do: 'report';
  readonly channel: ChannelName;
  /** Of the message. */
  readonly cursor: Cursor;
  readonly reason?: string;
}
export interface InviteRequest extends Numbered {
  readonly do: 'invite';
  readonly channel: ChannelName;
  /** Only this user may accept it; it is notified. */
  readonly user?: string;
  /** Who accepts is invited as this: one of your own roles. */
  readonly role?: string;
  /** How many users may accept it. Default 1. */
  readonly uses?: number;
  /** How long it can be accepted, in milliseconds. Default 7 days. */
  readonly forMs?: number;
}
export interface AcceptRequest extends Numbered {
  readonly do: 'accept';
  readonly code: string;
}
export interface InvitationsRequest extends Numbered {
  readonly do: 'invitations';
  readonly channel: ChannelName;
  /** Only those made before this one, by its id. */
  readonly before?: string;
  readonly limit?: number;
}
export interface UninviteRequest extends Numbered {
  readonly do: 'uninvite';
  readonly channel: ChannelName;
  /** The id of the invitation. */
  readonly invitation: string;
  /** Those who have accepted it are no longer let in, either. */
  readonly admitted?: boolean;
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
