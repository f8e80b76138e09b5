import type { Author, ChannelName, Json } from '@nine-bells/wire';
import type { ErasureInfo } from '@nine-bells/wire/http';
import type { Actor } from './moderation.js';

/** The author of messages whose author was erased: one for all, so that nothing leads from one to the others. */
export const erasedAuthor: Author = { user: 'erased:user' };

/** What an erased user is called in the audit log. */
export function pseudonymOf(erasure: string): string {
  return `erased:${erasure}`;
}

/**
 * What becomes of a user's messages: they are withdrawn, or stay with their author blanked. In both cases nothing says whose
 * they were.
 */
export type MessagesErased = 'withdraw' | 'blank';

/** What an erasure has removed or blanked, by what it is. */
export type ErasedCounts = ErasureInfo['counts'];

export const nothingErased: ErasedCounts = {
  messages: 0,
  changes: 0,
  marks: 0,
  reactions: 0,
  blocks: 0,
  levels: 0,
  mentions: 0,
  invitations: 0,
  notices: 0,
  reports: 0,
  pending: 0,
  bans: 0,
  deliveries: 0,
  users: 0,
  audit: 0,
};

/** The erasure of a user. */
export interface Erasure {
  readonly id: string;
  /** Absent a minute after it has ended, when it was looked for messages again: nothing is left that says who it was. */
  readonly user?: string;
  readonly messages: MessagesErased;
  readonly by: Actor;
  readonly atMs: number;
  readonly counts: ErasedCounts;
  /** Channels that are exempted from pruning, where messages of the user are left: the first of them. */
  readonly held: readonly ChannelName[];
  /** Absent: it is under way. */
  readonly endedAtMs?: number;
}

/** What is kept about a user beside messages, by what it is. */
export type PersonRecords = Readonly<Record<string, readonly { readonly [member: string]: Json }[]>>;

/** Records beside messages and marks that are erased, each in portions. */
export const erasedRecords = [
  'changes',
  'reactions',
  'blocks',
  'levels',
  'mentions',
  'invitations',
  'reports',
  'pending',
  'bans',
  'deliveries',
  'users',
  'audit',
] as const;
export type ErasedRecord = (typeof erasedRecords)[number];
