import { Batch } from '../model/frame.js';
import type { Clock } from '../ports/clock.js';
import type { BulkWriter, Link } from '../ports/link.js';

/** Something with frames to write at the end of the turn. */
export interface Flushable {
  readonly link: Link;
  /** Removes and returns the frames to write now; `undefined` if there are none or the transport is busy. */
  take(): Batch | undefined;
  /** Called after the transport got these frames; `isTaken`: the operating system has accepted all of them. */
  wrote(isTaken: boolean): void;
}

/** How long one slice of a flush may take before other work gets its turn, in milliseconds. */
const sliceMs = 2;
/** How many connections are flushed between two looks at the clock, and at most written to in one call. */
const lookEvery = 64;

/**
 * Flushes connections once per turn of the event loop: what came in for a connection within a turn goes out in one
 * write. A flush to very many is sliced, so that what comes in meanwhile is not kept waiting.
 */
export class Fanout {
  readonly #clock: Clock;
  #waiting: Flushable[] = [];
  #next = 0;
  #scheduled = false;
  readonly #idle: (() => void)[] = [];
  #gathered: (() => void)[] = [];
  /** The queues, and their links, that the next call writes to. */
  readonly #group: Flushable[] = [];
  readonly #links: Link[] = [];
  /** Bytes and frames handed to transports, in how many writes, and hails that found no room, since the beginning. */
  bytesOut = 0;
  framesOut = 0;
  writes = 0;
  hailsDropped = 0;
  /** Where the batches of this turn begin. Replaced after each flush, so that old batches can go. */
  root = new Batch();

  constructor(clock: Clock) {
    this.#clock = clock;
  }

  schedule(queue: Flushable): void {
    this.#waiting.push(queue);
    this.#flushLater();
  }

  /** Calls back at the end of the turn, before anything is flushed: to hand over together what came within it. */
  gather(act: () => void): void {
    this.#gathered.push(act);
    this.#flushLater();
  }

  /** Resolves when all that was scheduled has been flushed. */
  whenIdle(): Promise<void> {
    if (!this.#scheduled) return Promise.resolve();
    return new Promise((resolve) => this.#idle.push(resolve));
  }

  #flushLater(): void {
    if (this.#scheduled) return;
    this.#scheduled = true;
    this.#clock.endOfTurn(this.#flush);
  }

  readonly #flush = (): void => {
    while (this.#gathered.length > 0) {
      const gathered = this.#gathered;
      this.#gathered = [];
      for (const act of gathered) act();
    }
    const startedMs = this.#clock.monotonic();
    const waiting = this.#waiting;
    while (this.#next < waiting.length) {
      const end = Math.min(this.#next + lookEvery, waiting.length);
      this.#flushSome(waiting, this.#next, end);
      this.#next = end;
      if (end < waiting.length && this.#clock.monotonic() - startedMs >= sliceMs) {
        this.#clock.endOfTurn(this.#flush);
        return;
      }
    }
    this.#waiting = [];
    this.#next = 0;
    this.#scheduled = false;
    this.root = new Batch();
    for (const resolve of this.#idle.splice(0)) resolve();
  };

  /** Writes to some of those that wait. Links beside each other that get the same batch are written to in one call. */
  #flushSome(waiting: readonly Flushable[], from: number, to: number): void {
    let batch: Batch | undefined;
    let bulk: BulkWriter | undefined;
    for (let at = from; at < to; at++) {
      const queue = waiting[at] as Flushable;
      const next = queue.take();
      if (next === undefined) continue;
      const { link } = queue;
      if (link.bulk === undefined) {
        link.write(next);
        queue.wrote(false);
        continue;
      }
      if (next !== batch || link.bulk !== bulk) {
        this.#writeGroup(bulk, batch);
        batch = next;
        bulk = link.bulk;
      }
      this.#group.push(queue);
      this.#links.push(link);
    }
    this.#writeGroup(bulk, batch);
  }

  #writeGroup(bulk: BulkWriter | undefined, batch: Batch | undefined): void {
    if (bulk === undefined || batch === undefined) return;
    const isTaken = bulk.write(batch, this.#links);
    for (const queue of this.#group) queue.wrote(isTaken);
    this.#links.length = 0;
    this.#group.length = 0;
  }
}
