import {
  type Author,
  type ChannelName,
  type Cursor,
  defined,
  type Json,
  type Place,
  ProblemError,
  problem,
  refusal,
  type PendingMessage as Shown,
} from '@nine-bells/wire';
import type { Actor } from './moderation.js';
import type { ReviewedMessage } from './review.js';

/** A message for the moderators' queue. */
export interface PendingDraft extends ReviewedMessage {
  readonly id: string;
  readonly by: Author;
  readonly atMs: number;
  /** Why it waits, in words for the author. */
  readonly reason?: string | undefined;
  /** It may be published when the earlier ones of its author are decided. */
  readonly isCleared: boolean;
  /** It waits because the application did not answer, which is asked again; with the author's roles, to ask. */
  readonly unanswered?: { readonly roles: readonly string[] } | undefined;
}

/** Reason of messages that wait because the application did not answer. */
export const unansweredReason = 'the application did not answer';

/** The application's late answer to a message that waits. */
export interface PendingAnswer {
  readonly isCleared: boolean;
  readonly reason?: string | undefined;
  /** Replaces the message's data. */
  readonly data?: Json | undefined;
}

/** How it was refused. */
export interface PendingEnd {
  /** The service itself where it could not be published. */
  readonly by: Actor;
  readonly atMs: number;
  /** Why, in words for the author. */
  readonly reason?: string | undefined;
}

export interface PendingMessage extends PendingDraft {
  /** Rises with time. */
  readonly number: number;
  /** The moderator who has cleared it. */
  readonly clearedBy?: Actor;
  /** Absent: it waits. */
  readonly refused?: { readonly atMs: number; readonly reason?: string };
}

/** Selects waiting messages (oldest first) or refused ones (latest first). */
export interface PendingWish {
  readonly isWaiting: boolean;
  readonly channel?: ChannelName;
  readonly user?: string;
  /** Those behind the one of this number. */
  readonly from?: number;
  readonly limit: number;
  /** Most characters of what they hold; at least one message is given. */
  readonly chars: number;
}

export interface PendingList {
  readonly messages: readonly PendingMessage[];
  /** There are more behind these. */
  readonly more: boolean;
}

/** What an author's key stands for. Keys of changes are apart from those of messages. */
export interface PendingKey {
  readonly user: string;
  readonly key: string;
  readonly isChange: boolean;
}

/** The result of an earlier request with the same key. */
export type KnownUnderKey =
  | { readonly published: { readonly id: string; readonly place: Place } }
  | { readonly pending: PendingMessage };

export function pendingShown(
  { by, channel, atMs, isCleared, refused, id, type, key, data, replyTo, mentions, revises, reason }: PendingMessage,
  { state, cursor }: { readonly state?: Shown['state']; readonly cursor?: Cursor } = {},
): Shown {
  const now = state ?? (refused === undefined ? 'waiting' : 'refused');
  const why = now === 'refused' ? refused?.reason : now === 'waiting' ? reason : undefined;
  return {
    id,
    channel,
    state: now,
    by,
    at: new Date(atMs).toISOString(),
    type,
    ...defined({ key }),
    data,
    ...defined({ replyTo, mentions, revises, reason: why }),
    ...(now === 'waiting' && isCleared ? { cleared: true as const } : {}),
    ...defined({ cursor }),
  };
}

/** The problem for the author of a message that was not published. */
export function pendingProblem(message: PendingMessage): ProblemError {
  const { refused, reason, id } = message;
  if (refused !== undefined) return refusal('review-refused', refused.reason ?? 'no reason was given');
  return new ProblemError({ ...problem('pending', reason), pending: id });
}
