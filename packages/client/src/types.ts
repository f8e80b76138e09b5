import type {
  Author,
  Block,
  BlockKind,
  ChannelLevel,
  Json,
  Level,
  Member,
  Mentions,
  Message,
  MessageFilter,
  PendingMessage,
  Problem,
  SearchWish,
  ThreadsPush,
} from '@nine-bells/wire';
import type { BackOff } from './backOff.js';
import type { AnyChannel, ChannelContract, HailType, MessageOf } from './contracts.js';
import type { SocketClass } from './socket.js';

/** A token, or how to get one. A function is asked before each connection, so that it can give a fresh one. */
export type TokenSource = string | (() => string | Promise<string>);

export interface LineOptions {
  /** Without it you are a guest, where guests are let in. */
  readonly token?: TokenSource;
  readonly backOff?: Partial<BackOff>;
  /**
   * How to reach the service. `auto`, the default: by WebSocket, and where that is blocked over HTTP, by a stream or by
   * polls, until a WebSocket gets through. With a `WebSocket` class given the default is `websocket`.
   */
  readonly transport?: Transport | 'auto';
  /** Over HTTP: when a WebSocket is tried again, in milliseconds; later each time. Default 30,000. */
  readonly webSocketAgainMs?: number;
  /** Limits of messages waiting to be published while the connection is broken or the service fails. */
  readonly outbox?: Partial<OutboxBounds>;
  /** The WebSocket class to use; by default the surroundings' own, or that of `ws`. */
  readonly WebSocket?: SocketClass;
}

/** Transport of a line. */
export type Transport = 'websocket' | 'stream' | 'poll';

/** State of the line, for a page to show. */
export type LineState =
  | { readonly name: 'connecting' }
  | {
      readonly name: 'open';
      readonly user: string;
      readonly userName?: string;
      readonly guest: boolean;
      readonly session: string;
      readonly transport: Transport;
      /** The session went on; `false`: a new one. */
      readonly continued: boolean;
    }
  | {
      readonly name: 'waiting';
      /** Reason of the connection's end, for people. */
      readonly reason: string;
      /** Time of the next attempt (milliseconds since the epoch, by this machine's clock). */
      readonly retryAt: number;
    }
  | {
      readonly name: 'closed';
      readonly reason: string;
      /** The side that closed the line. */
      readonly closedBy: 'client' | 'service';
      readonly problem?: Problem;
    };

export interface LineEvents {
  state: LineState;
  /** A problem that belongs to no call. */
  problem: Problem;
  /** A silence has begun or ended, in a channel or in the whole service. The channels' entries emit it too. */
  silenced: SilenceChange;
  /** Your blocks have changed, on any of your devices; `line.blocks` has the same list. */
  blocks: { readonly blocks: ReadonlyMap<string, Block> };
  /** Your notification level for a channel has changed, on any of your devices; `null` = removed. */
  level: Omit<ChannelLevel, 'level'> & { readonly level: Level | null };
  /**
   * Your threads have changed; emitted after `line.threads({ follow: true })`. `left`: threads that you have left. After a
   * reconnection, the latest threads are emitted again.
   */
  threads: Pick<ThreadsPush, 'threads' | 'left'>;
  /** A message of yours waits for a moderator, or was decided or taken back (`state`), on any of your devices. */
  pending: PendingMessage;
  /**
   * A watched user says something else of itself; `null`: it is not connected. With a `problem`, the user may not be watched
   * any more.
   */
  user: { readonly user: string; readonly status: Json; readonly problem?: Problem };
}

/** Selects threads. */
export interface ThreadsOptions {
  /** Only of this channel. */
  readonly channel?: string;
  readonly limit?: number;
  /** Emits the event `threads` for each later change, in any channel. */
  readonly follow?: boolean;
}

export interface PublishOptions<Type extends string = string> {
  /** Default `message`. */
  readonly type?: Type;
  /** Your own idempotency key; by default a random one. */
  readonly key?: string;
  /** `false`: not to this session. */
  readonly echo?: boolean;
  /** The message that it answers, or its cursor. */
  readonly replyTo?: MessageRef;
  /** Mentioned users and roles; the service notifies them. */
  readonly mentions?: Mentions;
  /** Takes the message back when it is aborted before it was sent. */
  readonly signal?: AbortSignal;
}

/** Conditions of a search, beside the words. */
export type SearchOptions = Omit<SearchWish, 'words'>;

export interface InviteOptions {
  /** The only user who may accept the invitation; the service notifies them. */
  readonly user?: string;
  /** Role of those who accept: one of your own roles. */
  readonly role?: string;
  /** Maximum number of users who may accept. Default 1. */
  readonly uses?: number;
  /** Lifetime, in milliseconds. Default 7 days. */
  readonly forMs?: number;
}

export interface ReadOptions {
  readonly after?: string;
  readonly before?: string;
  /** Default 100, at most 1,000. */
  readonly limit?: number;
  /** Only these of the messages that are looked at; the result's `cursor` says where to go on. */
  readonly filter?: MessageFilter;
}

/** A message: as it came, or by its cursor. With the message itself, its id is checked, too. */
export type MessageRef = string | Pick<Message, 'cursor' | 'id'>;

export interface ReviseOptions {
  /** Only if this was its last change (`message.revision`); `null`: only if it is as it was published. */
  readonly ifRevision?: string | null;
  /** Your own idempotency key; by default a random one. */
  readonly key?: string;
}

export interface WithdrawOptions extends ReviseOptions {
  /** Shown with the message to all who may read it. */
  readonly reason?: string;
}

export interface RevisionsOptions {
  /** Only those behind this `revision`. */
  readonly after?: string;
  /** Default 100, at most 1,000. */
  readonly limit?: number;
}

export interface ReactorsOptions {
  /** Only those who have reacted with this. */
  readonly word?: string;
  /** `next` of the previous page. */
  readonly after?: string;
  /** Default 100, at most 1,000. */
  readonly limit?: number;
}

export interface RemoveOptions {
  /** Told to the user who is removed. */
  readonly reason?: string;
  /** Duration of a ban from the channel, in milliseconds. Default: none. */
  readonly banMs?: number;
}

export interface SilenceOptions {
  /** Minimum interval between the user's messages, in milliseconds. Default: no messages. */
  readonly everyMs?: number;
  /** Told to the user. */
  readonly reason?: string;
  /** For how long, in milliseconds. Default: until it is ended. */
  readonly forMs?: number;
}

/** You may read and not write, or with `over` write again. */
export interface SilenceChange {
  /** The channel; absent = the whole service. */
  readonly channel?: string;
  /** Minimum interval between your messages, in milliseconds; absent = no messages. */
  readonly everyMs?: number;
  readonly reason?: string;
  readonly by?: Author;
  /** Until when (RFC 3339), without another event; absent: until it is ended. */
  readonly until?: string;
  /** It was ended before its time: you may write again. */
  readonly over?: true;
}

export interface CallOptions {
  /** The channel that the call is about. */
  readonly channel?: string;
  /** Your own idempotency key; by default a random one. */
  readonly key?: string;
}

export interface HailOptions {
  /** Only to these users, of those who are there. */
  readonly to?: readonly string[];
}

/** Start in a channel; without both, only new messages. */
export interface EnterOptions<Status = Json> {
  /** The last so many messages, then everything new. */
  readonly last?: number;
  /** Everything after this cursor. */
  readonly after?: string;
  /** Only these messages: of some types, by some authors, with some values in their data. What it passes over is not missing. */
  readonly filter?: MessageFilter;
  /** Receive without being a member. */
  readonly quiet?: boolean;
  /** Your status there: `available`, `busy`, `away`, or an object of your own. */
  readonly status?: Status;
  /** Minimum interval between frames of the board, in milliseconds; the channel rule's interval if longer. */
  readonly pace?: number;
  /** `false`: the service does not tell you what you set on the board yourself. It shows there all the same. */
  readonly echo?: boolean;
}

/** Options for setting an entry of a board. */
export interface SetOptions {
  /** Only if the entry has not changed since this version of the board (`board.version`); `null`: only if there is none. */
  readonly ifVersion?: string | null;
  /** Lifetime, in milliseconds. */
  readonly forMs?: number;
  /** It goes when you leave the channel; when the connection breaks, after a grace. */
  readonly whileHere?: boolean;
}

/** Facts about a message beside its content. */
export interface Receipt {
  /** It was published on this very line: your own echo, recognised by its key. */
  readonly own: boolean;
  /** `true` for a message pushed as it was published; `false` for an earlier or a missed one. */
  readonly live: boolean;
  /** Set if you have blocked or muted the author and the channel's rule delivers such messages (`blocked: marked`). */
  readonly blocked?: BlockKind;
}

/** A message as it arrives. */
export type ReceivedMessage<K extends ChannelContract = AnyChannel> = MessageOf<K> & Receipt;

/**
 * A message as it stands after a change: with `withdrawn` it was taken back, and its data is `null`; with `unfit` it does not fit
 * the entry's filter (any more), and its data is not told.
 */
export type ReceivedChange<K extends ChannelContract = AnyChannel> = (
  | MessageOf<K>
  | (Omit<Message, 'data'> & { readonly data: null })
) & {
  /** As in `Receipt`. */
  readonly live: boolean;
};

/** Members who joined, left or changed since the last event. Empty in a crowd. */
export interface MembersChange {
  readonly joined: readonly Member[];
  readonly left: readonly Member[];
  readonly changed: readonly Member[];
  readonly count: number;
}

export type ReceivedHail<K extends ChannelContract = AnyChannel> = {
  [Type in HailType<K>]: { readonly type: Type; readonly by?: Author; readonly data?: K['hails'][Type] };
}[HailType<K>];

/** Reason, actor and end (RFC 3339) of your removal. */
export interface Removal {
  readonly reason?: string;
  readonly by?: Author;
  readonly until?: string;
}

/** Limits of unacknowledged messages. */
export interface OutboxBounds {
  /** Most messages. Default 1,000. */
  readonly messages: number;
  /** Most characters of all of them as JSON text. Default 1,048,576. */
  readonly chars: number;
}

export const defaultOutboxBounds: OutboxBounds = { messages: 1_000, chars: 1_048_576 };
