import type { ChannelName, Place } from '@nine-bells/wire';
import type { Actor } from './moderation.js';

/** How much of a kept logbook stays: what exceeds any of these bounds is pruned. Without a bound all of it stays. */
export interface Retention {
  /** Messages older than this go, in milliseconds. */
  readonly forMs?: number;
  /** The latest messages that stay. */
  readonly messages?: number;
  /** Bytes of the latest messages that stay: of each its data, and 200 beside. */
  readonly bytes?: number;
}

/**
 * Records beside messages that are forgotten some time after they were of use.
 *
 * - `audit`: entries of the audit log; the last one stays
 * - `notices`: notices that no client has taken out of an inbox
 * - `users`: names and roles of users who have not been seen, and their read marks
 * - `bans`: bans and silences that have ended
 * - `keys`: API keys that were revoked or have expired, unless a hook is registered with them
 * - `reports`: reports of messages that have ended
 * - `pending`: messages that wait for a moderator, or were refused
 * - `invitations`: invitations that can no longer be accepted, and whom they let in until a time that is over
 */
export const recordKinds = ['audit', 'notices', 'users', 'bans', 'keys', 'reports', 'pending', 'invitations'] as const;
export type RecordKind = (typeof recordKinds)[number];

/** How long records are kept once they are of no use any more, in milliseconds. */
export type RecordRetention = Readonly<Record<RecordKind, number>>;

const dayMs = 86_400_000;

export const defaultRecordRetention: RecordRetention = {
  audit: 730 * dayMs,
  notices: 365 * dayMs,
  users: 730 * dayMs,
  bans: 730 * dayMs,
  keys: 730 * dayMs,
  reports: 365 * dayMs,
  pending: 30 * dayMs,
  invitations: 90 * dayMs,
};

/** What there is of a kept channel. */
export interface KeptRange {
  readonly channel: ChannelName;
  readonly head: Place;
  /** The number of the first message that was not pruned: one beyond the head if all were. */
  readonly oldest: number;
  /** When the first message that is there was taken in, in milliseconds since the epoch. */
  readonly oldestAtMs?: number;
  /** It is exempted from pruning. */
  readonly held: boolean;
}

/** A channel that is exempted from pruning, for example while a lawyer may ask for it. */
export interface Hold {
  readonly channel: ChannelName;
  readonly by: Actor;
  readonly atMs: number;
  readonly reason?: string;
}

/** What would go of a channel. */
export interface StaleRange {
  readonly channel: ChannelName;
  /** The pattern of its rule. */
  readonly pattern: string;
  /** Places that would go; where messages were missing already, fewer messages. */
  readonly messages: number;
  /** The place of the last one that would go. */
  readonly upTo: Place;
  /** When the first one was taken in, in milliseconds since the epoch. */
  readonly oldestAtMs?: number;
}

/** What would go if it were pruned now. */
export interface RetentionSurvey {
  /** The channels of which something would go, by name: the first of them. */
  readonly channels: readonly StaleRange[];
  /** All such channels, and the messages that would go there. */
  readonly total: { readonly channels: number; readonly messages: number };
  /** Channels of which something would go if they were not exempted. */
  readonly held: readonly ChannelName[];
  readonly records: Readonly<Record<RecordKind, number>>;
}
