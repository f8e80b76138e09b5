import { type ChannelName, defined } from '@nine-bells/wire';
import type { Appended, Draft, LogBounds, LogSlice, MessageLine, Place, ReadLimit } from '../model/message.js';
import { keyMemory } from '../model/options.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';
import { RecentLog, type SavedEntry, type SavedLog } from './recentLog.js';

/** How often expired messages and unused records are let go, in milliseconds. */
const sweepMs = 10_000;
/** The part of the bound for all records that is left after some were cut. */
const afterPart = 3 / 4;

/** How many characters all records of recent channels may have together, with what it takes to hold them. */
export const defaultRecentChars = 268_435_456;

/** The record of a recent channel at a clean stop begins with this; its entries follow, up to the next one. */
export interface SavedOpening extends SavedLog {
  readonly channel: ChannelName;
  readonly bounds?: LogBounds;
}

/** A piece of the records at a clean stop: to be written and read one by one. */
export type SavedPiece = SavedOpening | SavedEntry;

interface Held {
  readonly log: RecentLog;
  bounds: LogBounds | undefined;
  /** When something was last added, by a clock that never jumps: so long its keys must still be known. */
  usedAtMs: number;
}

/**
 * The records of all recent channels, in memory. One that no client is in, and in which nothing is left, is let go; one that
 * is only read is not made.
 */
export class RecentLogs {
  readonly #clock: Clock;
  readonly #ids: Ids;
  readonly #isWanted: (channel: ChannelName) => boolean;
  readonly #maxChars: number;
  readonly #logs = new Map<ChannelName, Held>();
  #chars = 0;
  #cancelSweep: (() => void) | undefined;

  /**
   * @param isWanted - whether clients are in a channel
   * @param saved - the records as they were at the last clean stop
   */
  constructor(
    clock: Clock,
    ids: Ids,
    isWanted: (channel: ChannelName) => boolean,
    saved: Iterable<SavedPiece> = [],
    maxChars = defaultRecentChars,
  ) {
    this.#clock = clock;
    this.#ids = ids;
    this.#isWanted = isWanted;
    this.#maxChars = maxChars;
    this.#restore(saved);
    if (this.#logs.size > 0) this.#cancelSweep = clock.setTimer(sweepMs, this.#sweep);
  }

  /** About how much memory all records take, in characters. */
  get chars(): number {
    return this.#chars;
  }

  /** Records that are held. */
  get size(): number {
    return this.#logs.size;
  }

  append(channel: ChannelName, draft: Draft | MessageLine, bounds: LogBounds): Appended {
    const held = this.#hold(channel);
    held.bounds = bounds;
    held.usedAtMs = this.#clock.monotonic();
    const before = held.log.chars;
    const appended = held.log.append(draft, bounds, this.#clock.settled());
    this.#chars += held.log.chars - before;
    if (this.#chars > this.#maxChars) this.#makeRoom();
    return appended;
  }

  head(channel: ChannelName): Place {
    return this.#read(channel).head;
  }

  since(channel: ChannelName, after: Place, limit: ReadLimit): LogSlice {
    return this.#read(channel).since(after, limit);
  }

  before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): LogSlice {
    return this.#read(channel).before(before, limit);
  }

  /** To be taken up after a restart. */
  *saved(): Iterable<SavedPiece> {
    for (const [channel, { log, bounds }] of this.#logs) {
      if (log.head.number === 0) continue;
      yield { channel, ...log.opening, ...defined({ bounds }) };
      yield* log.entries();
    }
  }

  /** Ends its timer. */
  stop(): void {
    this.#cancelSweep?.();
    this.#cancelSweep = undefined;
  }

  #restore(saved: Iterable<SavedPiece>): void {
    const now = this.#clock.now();
    let opening: SavedOpening | undefined;
    let entries: SavedEntry[] = [];
    const add = (): void => {
      if (opening === undefined) return;
      const { channel, bounds } = opening;
      const log = RecentLog.restored(channel, opening, entries);
      if (bounds !== undefined) log.forget(bounds, now);
      this.#logs.set(channel, { log, bounds, usedAtMs: this.#clock.monotonic() });
      this.#chars += log.chars;
    };
    for (const piece of saved)
      if ('channel' in piece) {
        add();
        opening = piece;
        entries = [];
      } else entries.push(piece);
    add();
  }

  #hold(channel: ChannelName): Held {
    let held = this.#logs.get(channel);
    if (held === undefined) {
      const log = new RecentLog(channel, this.#ids.volume());
      held = { log, bounds: undefined, usedAtMs: this.#clock.monotonic() };
      this.#logs.set(channel, held);
      this.#cancelSweep ??= this.#clock.setTimer(sweepMs, this.#sweep);
    }
    return held;
  }

  /** The record as it may be read now: what is older than its bounds is not shown, swept or not. */
  #read(channel: ChannelName): RecentLog {
    const held = this.#isWanted(channel) ? this.#hold(channel) : this.#logs.get(channel);
    // Nothing is kept of a channel that is only asked for.
    if (held === undefined) return new RecentLog(channel, this.#ids.volume());
    if (held.bounds !== undefined) this.#forget(held, held.bounds);
    return held.log;
  }

  #forget({ log }: Held, bounds: LogBounds): void {
    const before = log.chars;
    log.forget(bounds, this.#clock.settled());
    this.#chars += log.chars - before;
  }

  /** Cuts the largest records. Clients get a gap for the messages that are lost. */
  #makeRoom(): void {
    while (this.#chars > this.#maxChars * afterPart) {
      const largestFirst = [...this.#logs.values()].sort((a, b) => b.log.chars - a.log.chars);
      const [largest] = largestFirst;
      if (largest === undefined || largest.log.chars === 0) return;
      for (const { log } of largestFirst) {
        if (this.#chars <= this.#maxChars * afterPart || log.chars * 2 < largest.log.chars) break;
        const before = log.chars;
        log.shed();
        this.#chars += log.chars - before;
      }
    }
  }

  readonly #sweep = (): void => {
    this.#cancelSweep = undefined;
    const oldest = this.#clock.monotonic() - keyMemory.ms;
    for (const [channel, held] of this.#logs) {
      if (held.bounds !== undefined) this.#forget(held, held.bounds);
      if (this.#isWanted(channel) || !held.log.isEmpty || held.usedAtMs >= oldest) continue;
      this.#chars -= held.log.chars;
      this.#logs.delete(channel);
    }
    if (this.#logs.size > 0) this.#cancelSweep = this.#clock.setTimer(sweepMs, this.#sweep);
  };
}
