import type { ChannelName } from '@nine-bells/wire';
import type {
  BoardApplied,
  BoardBounds,
  BoardChange,
  BoardCondition,
  BoardOutcome,
  BoardRecord,
  BoardSnapshot,
  BoardWord,
  PlacedRecord,
} from '../model/board.js';
import { boardForgottenMs } from '../model/board.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';

/** How often unused boards are let go, in milliseconds. */
const sweepMs = 60_000;
/** Bound on all boards together, in bytes as `BoardChange` counts them. */
const defaultBoardsBytes = 67_108_864;

interface Held {
  readonly record: BoardRecord;
  readonly number: number;
  readonly bytes: number;
  /** By the clock that never jumps, in milliseconds. */
  readonly endsAtMs: number | undefined;
}

interface Table {
  readonly volume: string;
  readonly entries: Map<string, Held>;
  number: number;
  bytes: number;
  usedAtMs: number;
}

/** The outcome of each change, and the word for the relay. */
export interface Changed extends BoardApplied {
  readonly word: BoardWord | undefined;
}

/**
 * The boards of all channels, in memory: numbers changes in one order, and holds every entry's latest value.
 *
 * Expired entries stay until an instance removes them, so that every instance that shows the board learns of the removal.
 */
export class BoardTables {
  readonly #clock: Clock;
  readonly #ids: Ids;
  readonly #isWanted: (channel: ChannelName) => boolean;
  readonly #maxBytes: number;
  readonly #tables = new Map<ChannelName, Table>();
  #bytes = 0;
  #cancelSweep: (() => void) | undefined;

  /** @param isWanted - whether clients are in a channel */
  constructor(clock: Clock, ids: Ids, isWanted: (channel: ChannelName) => boolean, maxBytes = defaultBoardsBytes) {
    this.#clock = clock;
    this.#ids = ids;
    this.#isWanted = isWanted;
    this.#maxBytes = maxBytes;
  }

  /** Bytes of all entries, as they were counted. */
  get bytes(): number {
    return this.#bytes;
  }

  /** Applies each change independently. Returns `undefined` if the board must exist and does not (`BoardBounds`). */
  apply(channel: ChannelName, changes: readonly BoardChange[], bounds: BoardBounds): Changed | undefined {
    if (bounds.mustExist && !this.#tables.has(channel)) return undefined;
    const table = this.#hold(channel);
    const after = table.number;
    const done: BoardRecord[] = [];
    const outcomes = changes.map((change): BoardOutcome => {
      const outcome = this.#change(table, change, bounds);
      if (outcome === 'nothing') return { number: table.number };
      if (outcome === 'done') done.push(change.record);
      return outcome === 'done' ? { number: table.number } : outcome;
    });
    const { volume } = table;
    return { volume, outcomes, word: done.length === 0 ? undefined : { board: volume, after, changes: done } };
  }

  read(channel: ChannelName): BoardSnapshot | undefined {
    const table = this.#tables.get(channel);
    if (table === undefined) return undefined;
    table.usedAtMs = this.#clock.monotonic();
    const { volume, number } = table;
    return { volume, number, records: [...table.entries.values()].map((held) => this.#placed(held)) };
  }

  /** The volume and number of each board; of one that is not there, `undefined`. */
  places(channels: readonly ChannelName[]): readonly (Pick<BoardSnapshot, 'volume' | 'number'> | undefined)[] {
    return channels.map((channel) => this.#tables.get(channel));
  }

  /** Makes a board with these entries, unless it is there. */
  restore(channel: ChannelName, changes: readonly BoardChange[]): void {
    if (this.#tables.has(channel)) return;
    const table = this.#hold(channel);
    for (const { record, bytes } of changes) this.#set(table, record, bytes);
  }

  stop(): void {
    this.#cancelSweep?.();
    this.#cancelSweep = undefined;
  }

  #hold(channel: ChannelName): Table {
    let table = this.#tables.get(channel);
    if (table === undefined) {
      table = { volume: this.#ids.volume(), entries: new Map(), number: 0, bytes: 0, usedAtMs: 0 };
      this.#tables.set(channel, table);
      this.#cancelSweep ??= this.#clock.setTimer(sweepMs, this.#sweep);
    }
    table.usedAtMs = this.#clock.monotonic();
    return table;
  }

  #change(table: Table, change: BoardChange, bounds: BoardBounds): BoardOutcome | 'done' | 'nothing' {
    const { record, bytes, condition } = change;
    const held = table.entries.get(record.entry);
    if (condition !== undefined && !holds(condition, table.volume, held?.number ?? 0))
      return { refused: 'conflict', ...(held === undefined ? {} : { stands: this.#placed(held) }) };
    if (record.value === undefined) {
      if (held === undefined) return 'nothing';
      table.entries.delete(record.entry);
      this.#count(table, -held.bytes);
      table.number += 1;
      return 'done';
    }
    const grows = bytes - (held?.bytes ?? 0);
    if ((held === undefined && table.entries.size >= bounds.entries) || table.bytes + grows > bounds.boardBytes)
      return { refused: 'full' };
    if (grows > 0 && this.#bytes + grows > this.#maxBytes && !this.#makeRoom(table, grows)) return { refused: 'busy' };
    this.#set(table, record, bytes);
    return 'done';
  }

  #set(table: Table, record: BoardRecord, bytes: number): void {
    const before = table.entries.get(record.entry);
    table.number += 1;
    // Deleted first, so that the map is in the order of the numbers.
    table.entries.delete(record.entry);
    const endsAtMs = record.forMs === undefined ? undefined : this.#clock.monotonic() + record.forMs;
    table.entries.set(record.entry, { record, number: table.number, bytes, endsAtMs });
    this.#count(table, bytes - (before?.bytes ?? 0));
  }

  #count(table: Table, bytes: number): void {
    table.bytes += bytes;
    this.#bytes += bytes;
  }

  #placed({ record, number, endsAtMs }: Held): PlacedRecord {
    if (endsAtMs === undefined) return { ...record, number };
    return { ...record, number, forMs: Math.max(0, endsAtMs - this.#clock.monotonic()) };
  }

  /** Drops boards that no client is in, the least recently used first. */
  #makeRoom(but: Table, bytes: number): boolean {
    const unused = [...this.#tables]
      .filter(([channel, table]) => table !== but && !this.#isWanted(channel))
      .sort(([, a], [, b]) => a.usedAtMs - b.usedAtMs);
    for (const [channel, table] of unused) {
      if (this.#bytes + bytes <= this.#maxBytes) break;
      this.#forget(channel, table);
    }
    return this.#bytes + bytes <= this.#maxBytes;
  }

  #forget(channel: ChannelName, table: Table): void {
    this.#bytes -= table.bytes;
    this.#tables.delete(channel);
  }

  readonly #sweep = (): void => {
    this.#cancelSweep = undefined;
    const now = this.#clock.monotonic();
    for (const [channel, table] of this.#tables) {
      if (this.#isWanted(channel)) table.usedAtMs = now;
      else if (now - table.usedAtMs > boardForgottenMs) this.#forget(channel, table);
    }
    if (this.#tables.size > 0) this.#cancelSweep = this.#clock.setTimer(sweepMs, this.#sweep);
  };
}

function holds(condition: BoardCondition, volume: string, number: number): boolean {
  if ('is' in condition) return number === condition.is;
  const { unchangedSince } = condition;
  return number === 0 || (unchangedSince.volume === volume && number <= unchangedSince.number);
}
