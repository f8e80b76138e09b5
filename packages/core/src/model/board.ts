import type { Json, Place } from '@nine-bells/wire';
import type { Contract } from './contract.js';

/** How the boards of a channel rule behave. */
export interface BoardRule {
  /** The pace at which changes are pushed, in milliseconds; 0: at once. */
  readonly everyMs: number;
  /** Most entries of a board. */
  readonly entries: number;
  /** Largest value, in bytes of JSON text. */
  readonly valueBytes: number;
  /** Bound on all entries of a board together, in bytes of JSON text. */
  readonly boardBytes: number;
  /** How long an entry lives that does not say so itself, in milliseconds; absent: until it is removed. */
  readonly forMs?: number;
  /** Whether boards outlive a restart. */
  readonly kept?: boolean;
  /** Message types that are entries: where in `data` the entry's name is, as a JSON Pointer (RFC 6901). */
  readonly types?: Readonly<Record<string, { readonly entry: string }>>;
  /** What the value of an entry looks like; absent: any does. */
  readonly contract?: Contract;
}

export const defaultBoard = {
  everyMs: 100,
  entries: 1_000,
  valueBytes: 1_024,
  boardBytes: 262_144,
} as const satisfies BoardRule;

/** Slowest pace that a client may ask for, in milliseconds. */
export const slowestPaceMs = 60_000;
/** A board that is not changed, and that no client is in, is forgotten after so long, in milliseconds. */
export const boardForgottenMs = 86_400_000;

/** Until when an entry lives: as long as this session is in the channel. */
export interface Holder {
  readonly session: string;
  /** Of the session's connection. */
  readonly generation: number;
  /** The instance that the session is connected to. */
  readonly home: string;
}

/** An entry of a board as it is carried and kept. Without a value: it is removed. */
export interface BoardRecord {
  readonly entry: string;
  readonly value?: Json;
  /** The user who set it. */
  readonly by?: string;
  /** The session that set it, which may not want to hear of it. */
  readonly session?: string;
  readonly holder?: Holder;
  /** How much longer it lives, in milliseconds. */
  readonly forMs?: number;
}

/** What an entry must be for a change to take effect: the number at which it was changed last (0: there is none). */
export type BoardCondition = { readonly is: number } | { readonly unchangedSince: Place };

/** A change of an entry on its way to the keeper of the board. */
export interface BoardChange {
  readonly record: BoardRecord;
  /** What it counts for, in bytes. */
  readonly bytes: number;
  readonly condition?: BoardCondition | undefined;
}

/** An entry with the number of its last change. */
export interface PlacedRecord extends BoardRecord {
  readonly number: number;
}

/** What became of a change. */
export type BoardOutcome =
  /** It has this number; of an entry that was not there to be removed: the board's. */
  | { readonly number: number }
  | { readonly refused: 'conflict'; readonly stands?: PlacedRecord }
  /** There is no room for it in this board, or in all together. */
  | { readonly refused: 'full' | 'busy' };

/** A board in its keeper. */
export interface BoardSnapshot {
  readonly volume: string;
  readonly number: number;
  /** In the order of their numbers. */
  readonly records: readonly PlacedRecord[];
}

/** Changes of a board that took effect together, numbered from `after` + 1 without holes. */
export interface BoardWord {
  readonly board: string;
  readonly after: number;
  readonly changes: readonly BoardRecord[];
}

/** The bounds that the keeper enforces. */
export type BoardBounds = Pick<BoardRule, 'entries' | 'boardBytes'> & {
  /** Changes take effect only where the board is there: a kept one must be restored before. */
  readonly mustExist: boolean;
};

export interface BoardApplied {
  readonly volume: string;
  readonly outcomes: readonly BoardOutcome[];
}

/** What an entry counts for beside its name and value, in bytes. */
const recordBytes = 64;
const utf8 = new TextEncoder();

/** What an entry counts for in `boardBytes`: its name, its value as JSON text, and 64 bytes. */
export function bytesOf({ entry, value }: Pick<BoardRecord, 'entry' | 'value'>): number {
  if (value === undefined) return 0;
  return utf8.encode(JSON.stringify(value)).length + entry.length + recordBytes;
}
