import type { ChannelName } from '@nine-bells/wire';
import type { Appended, Draft, LogBounds, LogSlice, MessageLine, Place, ReadLimit } from '../logbook/logbook.js';
import { RecentLog, type SavedLog } from '../logbook/recentLog.js';
import { keyMemory } from '../options.js';
import type { Clock, Ids } from '../ports.js';

/** How often expired messages and unused records are let go, in milliseconds. */
const sweepMs = 10_000;

/** The record of a recent channel at a clean stop, with what it takes to go on. */
export interface SavedChannel {
  readonly channel: ChannelName;
  readonly log: SavedLog;
  readonly bounds?: LogBounds;
}

interface Held {
  readonly log: RecentLog;
  bounds: LogBounds | undefined;
  /** When something was last added, by a clock that never jumps: so long its keys must still be known. */
  usedAtMs: number;
}

/** The records of all recent channels, in memory. One that nobody wants, and in which nothing is left, is let go. */
export class RecentLogs {
  readonly #clock: Clock;
  readonly #ids: Ids;
  readonly #isWanted: (channel: ChannelName) => boolean;
  readonly #logs = new Map<ChannelName, Held>();
  #cancelSweep: (() => void) | undefined;

  /** @param saved - the records as they were at the last clean stop */
  constructor(clock: Clock, ids: Ids, isWanted: (channel: ChannelName) => boolean, saved: Iterable<SavedChannel> = []) {
    this.#clock = clock;
    this.#ids = ids;
    this.#isWanted = isWanted;
    const now = clock.now();
    for (const { channel, log, bounds } of saved) {
      const restored = RecentLog.restored(channel, log);
      if (bounds !== undefined) restored.forget(bounds, now);
      this.#logs.set(channel, { log: restored, bounds, usedAtMs: clock.monotonic() });
    }
    if (this.#logs.size > 0) this.#cancelSweep = clock.setTimer(sweepMs, this.#sweep);
  }

  append(channel: ChannelName, draft: Draft | MessageLine, bounds: LogBounds): Appended {
    const held = this.#held(channel, bounds);
    held.usedAtMs = this.#clock.monotonic();
    return held.log.append(draft, bounds);
  }

  head(channel: ChannelName): Place {
    return this.#held(channel).log.head;
  }

  since(channel: ChannelName, after: Place, limit: ReadLimit): LogSlice {
    return this.#read(channel).since(after, limit);
  }

  before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): LogSlice {
    return this.#read(channel).before(before, limit);
  }

  /** To be taken up after a restart. */
  *saved(): Iterable<SavedChannel> {
    for (const [channel, { log, bounds }] of this.#logs)
      if (log.head.number > 0) yield { channel, log: log.saved, ...(bounds === undefined ? {} : { bounds }) };
  }

  /** Ends its timer. */
  stop(): void {
    this.#cancelSweep?.();
    this.#cancelSweep = undefined;
  }

  #held(channel: ChannelName, bounds?: LogBounds): Held {
    let held = this.#logs.get(channel);
    if (held === undefined) {
      const log = new RecentLog(channel, this.#ids.volume());
      held = { log, bounds, usedAtMs: this.#clock.monotonic() };
      this.#logs.set(channel, held);
      this.#cancelSweep ??= this.#clock.setTimer(sweepMs, this.#sweep);
    }
    held.bounds = bounds ?? held.bounds;
    return held;
  }

  /** The record as it may be read now: what is older than its bounds is not shown, swept or not. */
  #read(channel: ChannelName): RecentLog {
    const { log, bounds } = this.#held(channel);
    if (bounds !== undefined) log.forget(bounds, this.#clock.now());
    return log;
  }

  readonly #sweep = (): void => {
    this.#cancelSweep = undefined;
    const now = this.#clock.now();
    const oldest = this.#clock.monotonic() - keyMemory.ms;
    for (const [channel, { log, bounds, usedAtMs }] of this.#logs) {
      if (bounds !== undefined) log.forget(bounds, now);
      if (!this.#isWanted(channel) && log.isEmpty && usedAtMs < oldest) this.#logs.delete(channel);
    }
    if (this.#logs.size > 0) this.#cancelSweep = this.#clock.setTimer(sweepMs, this.#sweep);
  };
}
