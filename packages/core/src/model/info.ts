import type { ChannelName, Cursor, Json, Member } from '@nine-bells/wire';
import type { Identity } from './access.js';
import type { Table, TableEntry } from './memberTable.js';
import type { ModerationAction } from './moderation.js';
import type { RefusalKind } from './refusal.js';
import type { StaysHere, TraceHere } from './trace.js';
import type { Traffic } from './traffic.js';

/** A session with a connection, for people to look at. */
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
  readonly sinceMs: number;
  readonly channels: readonly ChannelName[];
  readonly waitingBytes: number;
  /** Round trip of the last ping, in milliseconds; absent before the first answer. */
  readonly roundTripMs?: number;
}

/** A channel that exists: published to and kept, or entered now. */
export interface ChannelInfo {
  readonly channel: ChannelName;
  /** The pattern of its rule; absent if no rule matches its name any more. */
  readonly pattern?: string;
  readonly about?: string;
  readonly logbook?: 'kept' | 'recent';
  /** It shows who is there. */
  readonly presence?: true;
  /** It has a board. */
  readonly board?: true;
  /** Sessions that get its messages. */
  readonly entered: number;
  readonly cursor?: Cursor;
  /** Time of the last message, in milliseconds since the epoch, if known. */
  readonly lastAtMs?: number;
}

/** A channel where a user is a member. */
export interface Membership {
  readonly channel: ChannelName;
  readonly member: Member;
}

/** Activity of a user on an instance. */
export interface UserActivity {
  /** The status of the most available of its sessions there. */
  readonly status: Json;
  /** One of them has the channel in view that was asked for. */
  readonly isLooking: boolean;
  /** One of them has entered it. */
  readonly isIn: boolean;
}

/** Query for sessions: the latest `limit` that match. */
export interface SessionsWish {
  readonly limit: number;
  readonly user?: string;
  /** Text in the user's id or name, the session's id, the address or the name of an entered channel; case does not count. */
  readonly find?: string;
  /** Sessions that connected before this place. */
  readonly before?: SessionPlace;
}

/** A place among sessions, which are ordered by the time of their connection. */
export type SessionPlace = Pick<SessionInfo, 'sinceMs' | 'session'>;

/** A place among the members of a channel, who are ordered by when they came, then by user. */
export interface MemberPlace {
  readonly sinceMs: number;
  readonly user: string;
}

/** A page of a channel's members. */
export interface MembersQuery {
  /** Maximum number of members. */
  readonly limit: number;
  /** Members behind this place. */
  readonly after?: MemberPlace;
}

/** The user and the address of a session. */
export interface SessionVisitor {
  readonly who: Identity;
  readonly address: string | null;
}

/** What an instance knows of a message, and for whom it was not. */
export type TraceFound = TraceHere & { readonly except?: readonly string[] };

/** Facts that an instance knows and other instances ask for. */
export interface LocalAnswers {
  table(channel: ChannelName): Table | null;
  memberships(user: string): readonly { readonly channel: ChannelName; readonly entries: readonly TableEntry[] }[];
  sessions(wish: SessionsWish): readonly SessionInfo[];
  visitor(session: string): SessionVisitor | null;
  /** Returns the number of clients that have entered a channel. */
  entrants(channel: ChannelName): number;
  /** Channels that a client here has entered. */
  entered(after: string, limit: number, find?: string): readonly ChannelInfo[];
  activityOf(users: readonly string[], channel: ChannelName | undefined): Readonly<Record<string, UserActivity>>;
  /** Returns the number of connections that an action concerns. */
  concerned(action: ModerationAction): number;
  refusals(): readonly RefusalKind[];
  traffic(): Traffic;
  trace(id: string): TraceFound;
  stays(user: string, channel: ChannelName): Promise<StaysHere>;
}
