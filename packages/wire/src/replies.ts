import type { ChannelName } from './channelName.js';
import type { Cursor } from './cursor.js';
import type { Json } from './json.js';
import type { Problem } from './problems.js';
import type {
  Block,
  ChannelLevel,
  EarlierRevision,
  Gap,
  Invitation,
  Level,
  Member,
  Mentions,
  Message,
  Notice,
  PendingMessage,
  ReactionCounts,
  ReactionsOf,
  Reactor,
  SearchHit,
  ThreadInfo,
} from './records.js';

/** The reply to `inbox`, and what hello gives of it. */
export interface InboxReply {
  /** Oldest first. */
  readonly notices: readonly Notice[];
  /** There are more after these. */
  readonly more: boolean;
  /** Number of notices in the inbox. */
  readonly unread: number;
  /** Cursor of the last notice returned, or of the inbox. */
  readonly cursor: Cursor;
}

/** The reply to `enter`, and one element of `entered` in the reply to `hello`. */
export interface Entered {
  readonly channel: ChannelName;
  /** Cursor of the last message returned, or of the channel. */
  readonly cursor: Cursor;
  /** Oldest first, each as it stands now. */
  readonly messages: readonly Message[];
  /** Messages up to `after` that were changed since, in the order of their changes; absent: none was. */
  readonly changes?: readonly Message[];
  /** More is to come: enter again with `after` = `cursor`; until then nothing of the channel is pushed. */
  readonly more: boolean;
  readonly gap?: Gap;
  readonly members?: readonly Member[];
  readonly count?: number;
  readonly partial?: true;
  /** Read marks by user id, if the channel shows them and they are not too many. */
  readonly marks?: Readonly<Record<string, Cursor>>;
  /** The whole board, where the channel has one; with `more: false`. */
  readonly board?: BoardState;
  /** Reactions to these messages, in channels with reactions; with `more: false`, also the changes since the requested version. */
  readonly reactions?: EnteredReactions;
}

export interface EnteredReactions extends ReactionsOf {
  /** Send it with the next `enter`. Absent if more messages follow and you sent a version of this volume: send that again. */
  readonly version?: Cursor;
  /** More has changed: enter again with this `version`, and take none from pushes until then. */
  readonly more?: true;
}

/** A board as a client gets it on entering. */
export interface BoardState {
  readonly version: Cursor;
  readonly entries: Readonly<Record<string, Json>>;
}

/** The reply to `set`. */
export interface SetResult {
  readonly entry: string;
  /** Board version with this value, or with a later value of the entry. */
  readonly version: Cursor;
}

export interface EnterRefused {
  readonly channel: ChannelName;
  readonly problem: Problem;
}

/** End of a session's last connection. */
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
  /** Members of hello that the protocol does not know, most often mistyped. */
  readonly ignored?: readonly string[];
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
  /** Prefix of direct channels' names, if there are any: `direct/`. */
  readonly direct?: string;
  /** Users' inboxes; guests have none. With `inbox` in hello, the notices after that cursor. */
  readonly inbox?: InboxReply;
  /** Users that the user has blocked or muted; absent = none. */
  readonly blocks?: readonly Block[];
  readonly entered: readonly (Entered | EnterRefused)[];
}

/** Limits per connection. */
export interface LineLimits {
  /** Largest frame to the service, in bytes; a larger one ends the connection with 1009. */
  readonly frameBytes: number;
  /** Largest `data` of one message, in bytes of JSON text. */
  readonly dataBytes: number;
  /** Maximum number of entered channels. */
  readonly channels: number;
}

export interface Published {
  readonly id: string;
  readonly cursor: Cursor;
  /** The key was known: this is the message published first, and nothing was published now. */
  readonly repeated?: true;
  /** The application has changed what it holds, to this. */
  readonly data?: Json;
  /** Users, and roles, that it mentions and that were left out of its `mentions`: they may not enter, or are not known. */
  readonly notMentioned?: Mentions;
  /** Set if the type is an entry of the board: `cursor` is then the board's version, and there is no message. */
  readonly entry?: string;
}

/** The reply to `revise` and `withdraw`. */
export interface Changed {
  /** The id of the change. */
  readonly id: string;
  /** The place of the change: the message's `revision` from now on. */
  readonly cursor: Cursor;
  /** The application has changed what the message holds, to this. */
  readonly data?: Json;
  /** The key was known: this change was made before, and nothing was changed now. */
  readonly repeated?: true;
}

/** The reply to `react`. */
export interface ReactResult {
  /** Current reactions to the message. */
  readonly counts: ReactionCounts;
}

/** The reply to `reactors`. */
export interface ReactorsReply {
  readonly channel: ChannelName;
  /** Cursor of the message. */
  readonly cursor: Cursor;
  /** By word, then by user. */
  readonly reactors: readonly Reactor[];
  /** Place of the next page: pass it as `after`. Absent from the last page. */
  readonly next?: string;
}

/** The reply to `revisions`. */
export interface RevisionsReply {
  readonly channel: ChannelName;
  /** Cursor of the message. */
  readonly cursor: Cursor;
  /** Earlier contents, oldest first, without the current one. */
  readonly revisions: readonly EarlierRevision[];
  /** Place of the next page: pass it as `after`. Absent from the last page. */
  readonly next?: string;
}

export interface ReadResult {
  readonly channel: ChannelName;
  /** Oldest first, each as it stands now. */
  readonly messages: readonly Message[];
  /** With `after`: messages up to there that were changed since, in the order of their changes; absent: none was. */
  readonly changes?: readonly Message[];
  /** There are more in the direction that was asked for. */
  readonly more: boolean;
  readonly gap?: Gap;
  /** Reactions to the returned messages, in channels with reactions. */
  readonly reactions?: ReactionsOf;
  /** Place to continue from, with a filter or if the last entry read is a change. */
  readonly cursor?: Cursor;
}

/** The reply to `call`. */
export interface CallReply {
  /** The application's answer; absent if empty. */
  readonly data?: Json;
}

/** The reply to `refresh`. */
export interface Refreshed {
  /** End time of the new token (RFC 3339); absent = unlimited. */
  readonly expiresAt?: string;
  /** Channels that the new token does not let one into any more; they have been left. */
  readonly lost: readonly ChannelName[];
}

/** The reply to `remove`. */
export interface Removed {
  /** End time of the ban (RFC 3339); absent = no ban. */
  readonly until?: string;
}

/** The reply to `silence`. */
export interface Silenced {
  /** Until when the user may not write (RFC 3339); absent: until that is ended. */
  readonly until?: string;
}

/** The reply to `report`. */
export interface Reported {
  /** The report's id: the same if you had reported the message before. */
  readonly report: string;
}

/** The reply to `invite`. */
export interface Invited {
  readonly invitation: Invitation;
  /** Code of the invitation; no later answer contains it. */
  readonly code: string;
}

/** The reply to `accept`. */
export interface Accepted {
  readonly channel: ChannelName;
  readonly role?: string;
  /** Until when you are let in (RFC 3339); absent: until that is ended. */
  readonly until?: string;
}

/** The reply to `invitations`. */
export interface InvitationsReply {
  /** The latest first. */
  readonly invitations: readonly Invitation[];
  /** Place of the next page: pass it as `after`. Absent from the last page. */
  readonly next?: string;
}

/** The reply to `uninvite`. */
export interface Uninvited {
  readonly invitation: Invitation;
  /** Number of users who lose their admission. */
  readonly ended: number;
}

/** The reply to `mark`. */
export interface Marked {
  readonly channel: ChannelName;
  /** Position of the mark; absent if it was removed. */
  readonly cursor?: Cursor;
  /** Messages after it that count. */
  readonly unread: number;
}

/** The reply to `threads`. */
export interface ThreadsReply {
  /** Threads of the user, the one with the latest reply first. */
  readonly threads: readonly ThreadInfo[];
}

/** The reply to `unread`. */
export interface UnreadReply {
  /** One for each channel with a mark of the user. */
  readonly counts: Readonly<Record<string, number>>;
}

/** The reply to `search`. */
export interface SearchReply {
  /** The best first, of the last 300 messages that fit. */
  readonly hits: readonly SearchHit[];
  /** There are earlier ones: give it as `after`. */
  readonly next?: string;
}

/** The reply to `levels`. */
export interface LevelsReply {
  /** Levels that the user has set, by channel name. */
  readonly levels: readonly ChannelLevel[];
}

/** The reply to `pending`. */
export interface PendingReply {
  /** The oldest first, at most 100. */
  readonly pending: readonly PendingMessage[];
}

/** The reply to `block`, `unblock` and `blocks`. */
export interface BlocksReply {
  /** Users that the user has blocked or muted, by id. */
  readonly blocks: readonly Block[];
}

/** The reply of each verb that this version of the service answers. */
export interface ReplyOf {
  readonly hello: Welcome;
  readonly enter: Entered;
  readonly leave: { readonly channel: ChannelName };
  readonly publish: Published;
  readonly revise: Changed;
  readonly withdraw: Changed;
  readonly revisions: RevisionsReply;
  readonly react: ReactResult;
  readonly reactors: ReactorsReply;
  readonly set: SetResult;
  readonly call: CallReply;
  readonly read: ReadResult;
  readonly refresh: Refreshed;
  readonly remove: Removed;
  readonly silence: Silenced;
  readonly report: Reported;
  readonly invite: Invited;
  readonly accept: Accepted;
  readonly invitations: InvitationsReply;
  readonly uninvite: Uninvited;
  readonly hail: Record<never, never>;
  readonly status: Record<never, never>;
  readonly inbox: InboxReply;
  readonly watch: { readonly user: string; readonly status: Json };
  readonly unwatch: { readonly user: string };
  readonly mark: Marked;
  readonly unread: UnreadReply;
  readonly threads: ThreadsReply;
  readonly search: SearchReply;
  readonly level: { readonly channel: ChannelName; readonly level: Level | null; readonly until?: string };
  readonly levels: LevelsReply;
  readonly pending: PendingReply;
  readonly 'take-back': PendingMessage;
  readonly block: BlocksReply;
  readonly unblock: BlocksReply;
  readonly blocks: BlocksReply;
}

export interface ReplyFrame {
  readonly re: number;
  readonly problem?: Problem;
  readonly [member: string]: unknown;
}
