import type { ChannelName } from '@nine-bells/wire';
import type { LoggedMessage } from './message.js';

/** Words that stand together. */
export interface SearchTerm {
  readonly words: readonly string[];
  /** The last one may go on. */
  readonly isPrefix: boolean;
}

/** What is looked for, as words. */
export interface SearchQuery {
  readonly all: readonly SearchTerm[];
  readonly none: readonly SearchTerm[];
}

/** A message of a channel that can be found, or no longer. */
export interface SearchEntry {
  readonly number: number;
  /** Its words, in their order; none: it is not found. */
  readonly words: readonly string[];
  readonly type: string;
  readonly by?: string;
  readonly atMs: number;
}

/** What the store looks for. */
export interface SearchLookup {
  readonly query: SearchQuery;
  /** Absent: in all. */
  readonly channels?: readonly ChannelName[];
  readonly by?: readonly string[];
  readonly types?: readonly string[];
  readonly sinceMs?: number;
  readonly untilMs?: number;
  /** Behind this one: the `next` of an earlier lookup. */
  readonly after?: number;
  /** Most messages, and most that are looked at for their time. */
  readonly limit: number;
  readonly lookedAt: number;
}

export interface SearchFound {
  /** As they stand, those that were made searchable last first. */
  readonly messages: readonly LoggedMessage[];
  /** There may be more behind it. */
  readonly next?: number;
}
