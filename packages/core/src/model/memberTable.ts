import type { Author, ChannelName, Json } from '@nine-bells/wire';

/** A session that an instance shows as in a channel. */
export interface TableEntry {
  readonly session: string;
  /** Of the session's connection: where two instances show one session, the higher is right. */
  readonly generation: number;
  readonly author: Author;
  readonly sinceMs: number;
  readonly status?: Json | undefined;
  readonly data?: Json | undefined;
}

/** What has changed in an instance's table of a channel. */
export type TableChange = { readonly entry: TableEntry } | { readonly gone: string; readonly user: string };

/** The changes of an instance's table of a channel, numbered; without changes, a reminder of where it stands. */
export interface TableWord {
  readonly channel: ChannelName;
  /** The instance and its incarnation. */
  readonly table: string;
  /** Of the last change. */
  readonly number: number;
  /** Where the numbers began, with an empty table. */
  readonly base: number;
  readonly changes: readonly TableChange[];
}

/** A table of members, as its owner gives it. */
export interface Table {
  readonly number: number;
  readonly entries: readonly TableEntry[];
}
