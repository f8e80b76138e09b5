import { type ChannelName, type Cursor, formatCursor, type Place, type ThreadInfo } from '@nine-bells/wire';

/** How far a user has read in a kept channel, and what is left. */
export interface MarkState {
  readonly channel: ChannelName;
  /** The last message read; absent: the user has no mark there. */
  readonly place?: Place;
  /** Messages after it that count: not the user's own, and not the notes of who comes and goes. */
  readonly unread: number;
  /** How many of these are by users whom the user has blocked, and muted; absent: none. `Marks` takes them off. */
  readonly hidden?: { readonly blocked: number; readonly muted: number };
  /** Messages of the channel that count as unread for at least one user, when this was read. */
  readonly counted: number;
}

/** A thread in which a user takes part. */
export interface ThreadMark {
  readonly channel: ChannelName;
  readonly volume: string;
  /** The number of the message with which it begins. */
  readonly thread: number;
  /** How far the user has read. */
  readonly number: number;
  /** Replies behind the mark: not the user's own, not withdrawn. */
  readonly unread: number;
  /** As in `MarkState`, of these. */
  readonly hidden?: { readonly blocked: number; readonly muted: number };
  readonly count: number;
  /** When the last reply was taken in, in milliseconds since the epoch. */
  readonly atMs: number;
}

/** A thread as its user sees it. */
export function threadShown({ channel, volume, thread, number, unread, count, atMs }: ThreadMark): ThreadInfo {
  return {
    channel,
    thread: formatCursor({ volume, number: thread }),
    unread,
    count,
    at: new Date(atMs).toISOString(),
    cursor: formatCursor({ volume, number }),
  };
}

/** A thread of a channel, by the number of its first message. */
export interface ThreadOf {
  readonly channel: ChannelName;
  readonly thread: number;
}

/** A user's mark, as others may see it. */
export interface UserMark {
  readonly user: string;
  readonly place: Place;
}

/** A user's mark in a channel has moved, for those who see it there; `null`: it was taken away. */
export interface MarkWord {
  readonly channel: ChannelName;
  readonly user: string;
  readonly mark: Cursor | null;
}

/** A kept channel has grown. */
export interface Growth {
  readonly channel: ChannelName;
  /** Messages of the channel that count as unread for at least one user. */
  readonly counted: number;
  /** A message counts no more: what users have not read must be counted anew. */
  readonly recount?: true;
  /** Whose message it was: for that user it does not count. */
  readonly by?: string;
}

/** Notes in the record of who comes and goes. They are no news that anybody has to read. */
export const noteTypes = ['joined', 'left'] as const;

/** Whether a message of a type countsAsUnread as unread for those who have not read it. */
export function countsAsUnread(type: string): boolean {
  return type !== 'joined' && type !== 'left';
}
