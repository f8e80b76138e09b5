import type { ChannelName } from './channelName.js';
import type { Cursor } from './cursor.js';
import type { Json } from './json.js';
import type { Problem } from './problems.js';
import type {
  Author,
  Block,
  Gap,
  Level,
  Member,
  Message,
  Notice,
  PendingMessage,
  ReactionCounts,
  ThreadInfo,
} from './records.js';
import type { ReplyFrame } from './replies.js';

export interface MessagePush extends Message {
  readonly on: 'message';
}
export interface ChangePush {
  readonly on: 'change';
  readonly channel: ChannelName;
  /** The place of the change in the channel's order: the cursor to come back with. */
  readonly cursor: Cursor;
  /** The message as it stands now, under its own cursor. */
  readonly message: Message;
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
  /** The version that the client has, to which this is added; absent with `whole`. */
  readonly after?: Cursor;
  /** The version that it has then. */
  readonly version: Cursor;
  /** `set` is the whole board: it replaces the earlier one. */
  readonly whole?: true;
  readonly set?: Readonly<Record<string, Json>>;
  readonly gone?: readonly string[];
}
export interface ReactionsPush {
  readonly on: 'reactions';
  readonly channel: ChannelName;
  /** Up to here the client has what has changed. */
  readonly version: Cursor;
  /** What has changed: by the cursors of messages, how many have reacted now. Empty: there are none any longer. */
  readonly counts: Readonly<Record<string, ReactionCounts>>;
}
export interface PassedPush {
  readonly on: 'passed';
  readonly channel: ChannelName;
  /** Up to here, what the client's filter lets through has been pushed. */
  readonly cursor: Cursor;
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
export interface ThreadsPush {
  readonly on: 'threads';
  /** The threads that have changed, with their current counts. */
  readonly threads: readonly ThreadInfo[];
  /** Threads that you have left. */
  readonly left: readonly { readonly channel: ChannelName; readonly thread: Cursor }[];
}
export interface MarksPush {
  readonly on: 'marks';
  readonly channel: ChannelName;
  /** Only what has changed; `null`: the user's mark is gone. */
  readonly marks: Readonly<Record<string, Cursor | null>>;
}
export interface BlocksPush {
  readonly on: 'blocks';
  /** Whom you keep away now: it replaces the earlier list. */
  readonly blocks: readonly Block[];
}
export interface LevelPush {
  readonly on: 'level';
  readonly channel: ChannelName;
  /** `null`: as if nothing were said. */
  readonly level: Level | null;
  readonly until?: string;
}
export interface PendingPush extends PendingMessage {
  readonly on: 'pending';
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
export interface SilencedPush {
  readonly on: 'silenced';
  /** Where you may read and not write; absent: everywhere. */
  readonly channel?: ChannelName;
  /** You may publish once in this time, in milliseconds; absent: not at all. */
  readonly everyMs?: number;
  readonly reason?: string;
  readonly by?: Author;
  /** Until when (RFC 3339); absent: until that is ended. */
  readonly until?: string;
  /** It is over: you may write again. */
  readonly over?: true;
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
  | ChangePush
  | HailPush
  | MembersPush
  | BoardPush
  | ReactionsPush
  | PassedPush
  | NoticePush
  | InboxPush
  | UnreadPush
  | MarksPush
  | BlocksPush
  | ThreadsPush
  | LevelPush
  | PendingPush
  | UserPush
  | GapPush
  | RemovedPush
  | SilencedPush
  | ExpiringPush
  | DrainPush
  | ProblemPush
  | PulsePush;

export type PushKind = Push['on'];

/** Everything the service may say. */
export type ServerFrame = ReplyFrame | Push;
