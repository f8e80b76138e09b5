import { type ChannelName, ProblemError, refusal } from '@nine-bells/wire';
import type { BoardApplied, BoardBounds, BoardChange, BoardOutcome } from '../model/board.js';
import type { Clock } from '../ports/clock.js';

/** Most changes that wait for the keeper, of all boards together. */
const maxWaiting = 50_000;
/** Changes in one call. */
const maxChanges = 1_000;

/** What became of a change: its number, and the board's volume. */
export interface Written {
  readonly volume: string;
  readonly outcome: BoardOutcome;
}

interface Waiting {
  change: BoardChange;
  /** The callers that wait for this change, including those whose values it replaced. */
  readonly callers: { readonly resolve: (written: Written) => void; readonly reject: (error: Error) => void }[];
}

interface Line {
  waiting: Waiting[];
  /** The last change of each entry that one without a condition may replace. */
  readonly replaceable: Map<string, Waiting>;
  sentAtMs: number;
  isDue: boolean;
  isUnderWay: boolean;
  cancel: (() => void) | undefined;
}

export interface WriterHost {
  readonly clock: Clock;
  /** Makes changes where the board is kept. */
  change(channel: ChannelName, changes: readonly BoardChange[], bounds: BoardBounds): Promise<BoardApplied>;
  /** The least time between two calls for a board, in milliseconds, where the keeper is another process. */
  readonly isFar: boolean;
  /** A change was replaced before it went anywhere. */
  merged(channel: ChannelName): void;
}

/**
 * Sends changes to the keeper. Of each entry only the latest waits, so relay traffic grows with entries and pace, not with the
 * rate of sets. One call for a board is under way at a time.
 */
export class BoardWriter {
  readonly #host: WriterHost;
  readonly #lines = new Map<ChannelName, Line>();
  #waiting = 0;
  readonly #settled: (() => void)[] = [];

  constructor(host: WriterHost) {
    this.#host = host;
  }

  /**
   * @param everyMs - how far apart calls for this board are at least
   * @throws {ProblemError} `busy`
   */
  write(channel: ChannelName, change: BoardChange, bounds: BoardBounds, everyMs: number): Promise<Written> {
    if (this.#waiting >= maxWaiting)
      throw refusal('busy', 'too many changes of boards are waiting', { retryAfterMs: 1000 });
    this.#waiting += 1;
    let line = this.#lines.get(channel);
    if (line === undefined) {
      line = {
        waiting: [],
        replaceable: new Map(),
        sentAtMs: Number.NEGATIVE_INFINITY,
        isDue: false,
        isUnderWay: false,
        cancel: undefined,
      };
      this.#lines.set(channel, line);
    }
    return new Promise((resolve, reject) => {
      this.#add(channel, line, change).callers.push({ resolve, reject });
      this.#sendLater(channel, line, bounds, change.condition === undefined ? everyMs : 0);
    });
  }

  /** Resolves when nothing waits. */
  settled(): Promise<void> {
    if (this.#waiting === 0) return Promise.resolve();
    return new Promise((resolve) => this.#settled.push(resolve));
  }

  #add(channel: ChannelName, line: Line, change: BoardChange): Waiting {
    const { entry } = change.record;
    if (change.condition === undefined) {
      const earlier = line.replaceable.get(entry);
      if (earlier !== undefined) {
        earlier.change = change;
        this.#host.merged(channel);
        return earlier;
      }
    }
    const waiting: Waiting = { change, callers: [] };
    line.waiting.push(waiting);
    if (change.condition === undefined) line.replaceable.set(entry, waiting);
    else line.replaceable.delete(entry);
    return waiting;
  }

  #sendLater(channel: ChannelName, line: Line, bounds: BoardBounds, everyMs: number): void {
    if (line.isUnderWay) return;
    const { clock, isFar } = this.#host;
    const waitMs = isFar ? line.sentAtMs + everyMs - clock.monotonic() : 0;
    if (line.isDue && waitMs > 0) return;
    if (line.isDue && line.cancel === undefined) return;
    line.cancel?.();
    line.cancel = undefined;
    line.isDue = true;
    const send = (): void => void this.#send(channel, line, bounds, everyMs);
    if (waitMs > 0) line.cancel = clock.setTimer(waitMs, send);
    else clock.endOfTurn(send);
  }

  async #send(channel: ChannelName, line: Line, bounds: BoardBounds, everyMs: number): Promise<void> {
    line.isDue = false;
    line.cancel = undefined;
    const group = line.waiting.splice(0, maxChanges);
    line.replaceable.clear();
    line.isUnderWay = true;
    line.sentAtMs = this.#host.clock.monotonic();
    try {
      const changes = group.map(({ change }) => change);
      const { volume, outcomes } = await this.#host.change(channel, changes, bounds);
      for (const [index, { callers }] of group.entries())
        for (const { resolve } of callers) resolve({ volume, outcome: outcomes[index] as BoardOutcome });
    } catch (error) {
      const refused =
        error instanceof ProblemError
          ? error
          : new ProblemError(refusal('unavailable', 'the board cannot be changed', { retryAfterMs: 500 }).problem, {
              cause: error,
            });
      for (const { callers } of group) for (const { reject } of callers) reject(refused);
    }
    for (const { callers } of group) this.#waiting -= callers.length;
    if (this.#waiting === 0) for (const resolve of this.#settled.splice(0)) resolve();
    line.isUnderWay = false;
    if (line.waiting.length > 0) this.#sendLater(channel, line, bounds, everyMs);
    else this.#forgetLater(channel, line, everyMs);
  }

  /** What is remembered of a board ends when its pace does. */
  #forgetLater(channel: ChannelName, line: Line, everyMs: number): void {
    const forget = (): void => {
      if (line.waiting.length === 0 && !line.isUnderWay && !line.isDue && this.#lines.get(channel) === line)
        this.#lines.delete(channel);
    };
    if (!this.#host.isFar || everyMs === 0) forget();
    else this.#host.clock.setTimer(everyMs, forget);
  }
}
