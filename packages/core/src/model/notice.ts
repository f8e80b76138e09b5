import {
  type ChannelName,
  defined,
  formatCursor,
  type Json,
  type Level,
  type Notice,
  type PendingMessage as PendingShown,
  type Place,
} from '@nine-bells/wire';
import type { MarkState } from './mark.js';

/** A notification on its way into one user's inbox. */
export interface NoticeDraft {
  readonly id: string;
  readonly user: string;
  readonly title: string;
  readonly data?: Json;
  /** Takes the place of the notice that has the same key in this inbox. */
  readonly key?: string;
  readonly atMs: number;
  /** When it goes by itself, in milliseconds since the epoch. */
  readonly untilMs?: number;
}

/** A notice in its inbox, and how many are there with it. */
export interface InboxEntry {
  readonly user: string;
  readonly place: Place;
  readonly notice: Notice;
  readonly unread: number;
}

/** A stretch of a user's inbox, oldest first. */
export interface InboxSlice {
  readonly notices: readonly Notice[];
  readonly more: boolean;
  /** How many are in the inbox. */
  readonly unread: number;
  /** Where the inbox stands. */
  readonly head: Place;
}

/** A user the service has met, as last seen. */
export interface KnownUser {
  readonly id: string;
  readonly name?: string;
  readonly roles: readonly string[];
  readonly seenAtMs: number;
}

/** Whom to notify, of what, and when not. */
export interface NoticeWish {
  /** These users, met or not. */
  readonly users?: readonly string[];
  /** The present members of this channel. */
  readonly channel?: ChannelName;
  /** Users who had this role when last seen. */
  readonly role?: string;
  readonly title: string;
  readonly data?: Json;
  readonly key?: string;
  /** How long it stays, in milliseconds; absent: until it is done. */
  readonly forMs?: number;
  /** Only those who are connected and available now. */
  readonly ifAvailable?: boolean;
  /** Not those who have this channel in view. */
  readonly unlessLooking?: ChannelName;
  /** Not those who have blocked this user, in whose name it is. */
  readonly from?: string;
  /** Only those who want to hear of this channel: of what mentions them, or of everything. */
  readonly heardOf?: { readonly channel: ChannelName; readonly isMention: boolean };
  /** Users who are busy get it into the inbox now, and are told when they are no longer busy. */
  readonly holdWhileBusy?: boolean;
  /** It is the service's own, and has data of its own. */
  readonly isOwn?: boolean;
  /** If no session was told within so many milliseconds, the application is. */
  readonly reachWithinMs?: number;
}

/** A word for a user's sessions, wherever they are connected. */
export type UserWord =
  | {
      readonly type: 'notice';
      readonly entry: InboxEntry;
      readonly hold: boolean;
      /** The instance that wants to hear whether it has reached a session. */
      readonly by?: string;
    }
  /** A direct channel has its first message. */
  | { readonly type: 'begun'; readonly users: readonly string[]; readonly channel: ChannelName }
  /** Where users are let in by invitations has changed. */
  | { readonly type: 'admissions'; readonly users: readonly string[] }
  /** Whom a user keeps away has changed. */
  | { readonly type: 'blocks'; readonly user: string }
  | { readonly type: 'marked'; readonly user: string; readonly state: MarkState }
  | { readonly type: 'done'; readonly user: string; readonly ids: readonly string[] | true; readonly unread: number };

/** Words for a user's sessions that instances of earlier versions do not know. */
export type UserNews =
  /** A user has set how much it wants to hear of a channel. */
  | {
      readonly type: 'level';
      readonly user: string;
      readonly channel: ChannelName;
      readonly level: Level | null;
      readonly untilMs?: number;
    }
  /** A message of a user has entered or left the moderators' queue. */
  | { readonly type: 'pending'; readonly user: string; readonly message: PendingShown }
  /** A thread has changed for these users. */
  | {
      readonly type: 'threads';
      readonly users: readonly string[];
      readonly channel: ChannelName;
      readonly thread: Place;
    };

/** A notice as clients see it. */
export function noticeOf({ id, title, data, key, atMs, untilMs }: NoticeDraft, place: Place): Notice {
  return {
    cursor: formatCursor(place),
    id,
    title,
    ...defined({ data }),
    at: new Date(atMs).toISOString(),
    ...defined({ key }),
    ...(untilMs === undefined ? {} : { until: new Date(untilMs).toISOString() }),
  };
}
