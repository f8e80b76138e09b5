import type { ChannelName } from './channelName.js';
import type { Cursor } from './cursor.js';
import type { Json } from './json.js';

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
