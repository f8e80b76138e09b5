import { type ChannelName, type Cursor, formatCursor, type MarksPush } from '@nine-bells/wire';
import type { ChannelFeature } from '../channel/feature.js';
import { LatestFrame } from '../delivery/latestFrame.js';
import type { Frame } from '../model/frame.js';
import type { MarkWord, UserMark } from '../model/mark.js';
import type { Signal } from '../model/signal.js';

/** Changes are told together, this long after the first, in milliseconds. */
const tellMs = 500;

export interface ShownMarksHost {
  /** The channel has closed. */
  closed(): void;
  /** Reads the marks of the channel from the store, at most so many. */
  read(limit: number): Promise<readonly UserMark[]>;
  after(delayMs: number, act: () => void): () => void;
  /** To everyone who has entered the channel. */
  tell(frame: Frame): void;
}

/**
 * How far the users of a channel have read, for those who have entered it.
 *
 * Where more than `most` users have a mark, none are shown: what each move would cost grows with all who see it.
 */
export class ShownMarks implements ChannelFeature {
  readonly #channel: ChannelName;
  readonly #most: number;
  readonly #host: ShownMarksHost;
  #marks: Map<string, Cursor> | undefined;
  #isCrowd = false;
  /** What came while the store was being read. */
  #early: MarkWord[] = [];
  #reading: Promise<void> | undefined;
  #changed = new Set<string>();
  #cancelTelling: (() => void) | undefined;

  constructor(channel: ChannelName, most: number, host: ShownMarksHost) {
    this.#channel = channel;
    this.#most = most;
    this.#host = host;
  }

  get keepsOpen(): boolean {
    return false;
  }

  /** Resolves when the marks are known. Rejects if they cannot be read; then it may be tried again. */
  ready(): Promise<void> | undefined {
    if (this.#marks !== undefined) return undefined;
    this.#reading ??= this.#read().finally(() => {
      this.#reading = undefined;
    });
    return this.#reading;
  }

  /** The member of the reply to `enter`, as JSON text that begins with a comma. */
  get text(): string {
    if (this.#marks === undefined || this.#isCrowd) return '';
    return `,"marks":${JSON.stringify(Object.fromEntries(this.#marks))}`;
  }

  receive(signal: Signal): void {
    if ('mark' in signal) this.#moved(signal);
  }

  signalsMissed(): void {}

  instanceGone(): void {}

  #moved(word: MarkWord): void {
    if (this.#marks === undefined) {
      this.#early.push(word);
      return;
    }
    this.#take(word);
    if (this.#isCrowd || this.#changed.size === 0) return;
    this.#cancelTelling ??= this.#host.after(tellMs, () => this.#tell());
  }

  close(): void {
    this.#cancelTelling?.();
    this.#cancelTelling = undefined;
    this.#host.closed();
  }

  async #read(): Promise<void> {
    const all = await this.#host.read(this.#most + 1);
    this.#isCrowd = all.length > this.#most;
    this.#marks = new Map(all.map(({ user, place }) => [user, formatCursor(place)]));
    for (const word of this.#early.splice(0)) this.#take(word);
    this.#changed.clear();
  }

  #take({ user, mark }: MarkWord): void {
    const marks = this.#marks as Map<string, Cursor>;
    if (this.#isCrowd || marks.get(user) === (mark ?? undefined)) return;
    if (mark === null) marks.delete(user);
    else marks.set(user, mark);
    this.#isCrowd = marks.size > this.#most;
    this.#changed.add(user);
  }

  #tell(): void {
    this.#cancelTelling = undefined;
    if (this.#isCrowd) return;
    const marks = Object.fromEntries([...this.#changed].map((user) => [user, this.#marks?.get(user) ?? null]));
    this.#changed.clear();
    const push = { on: 'marks', channel: this.#channel, marks } as const;
    this.#host.tell(new LatestFrame(`marks ${this.#channel}`, push, mergedMarks, true, this.#channel));
  }
}

function mergedMarks(earlier: MarksPush, later: MarksPush): MarksPush {
  return { ...later, marks: { ...earlier.marks, ...later.marks } };
}
