import { type ChannelName, formatCursor, type Place, type ReactionsPush } from '@nine-bells/wire';
import type { ChannelFeature } from '../channel/feature.js';
import { LatestFrame } from '../delivery/latestFrame.js';
import type { Frame } from '../model/frame.js';
import type { Reacted, ReactionSlice, ReactionWord } from '../model/reaction.js';
import type { Signal } from '../model/signal.js';
import type { Report } from '../ports/report.js';
import { withinChars } from './withinChars.js';

/** How long the first change waits for others before clients get it, in milliseconds. */
const tellMs = 300;
/** Characters of counts in one push; what has no room goes with the next one. */
const pushChars = 32_768;
/** Changes that wait for one that has not come; beyond, all of them are read from the store. */
const mostEarly = 1_000;

export interface ChannelReactionsHost {
  /** Messages that are read from the store at once. */
  readonly atOnce: number;
  /** Reads what has changed since a version. */
  since(version: number, limit: number): Promise<ReactionSlice>;
  after(delayMs: number, act: () => void): () => void;
  /** To all clients in the channel. */
  tell(frame: Frame): void;
  readonly report: Report;
  closed(): void;
}

/** Tells the clients in a channel how many users have reacted to its messages. Changes are merged; none is missed. */
export class ChannelReactions implements ChannelFeature {
  readonly keepsOpen = false;
  readonly #channel: ChannelName;
  readonly #host: ChannelReactionsHost;
  /** Up to here this instance has all changes. */
  #version: Place | undefined;
  /** Changes ahead of that, by their versions. */
  readonly #early = new Map<number, ReactionWord>();
  /** What clients have not got yet, by the numbers of messages. */
  readonly #changed = new Map<number, Reacted>();
  #cancelTelling: (() => void) | undefined;
  #cancelRetry: (() => void) | undefined;
  #reading: Promise<void> | undefined;
  #closed = false;

  constructor(channel: ChannelName, host: ChannelReactionsHost) {
    this.#channel = channel;
    this.#host = host;
  }

  /** Resolves when the version is known. Rejects if it cannot be read; then it may be tried again. */
  ready(): Promise<void> | undefined {
    return this.#version === undefined ? this.#read() : undefined;
  }

  receive(signal: Signal): void {
    if (!('reacted' in signal)) return;
    const known = this.#version;
    // Before the first message the channel has no volume.
    const isNext = known?.volume === signal.volume;
    if (isNext && signal.version <= known.number) return;
    if (this.#early.size >= mostEarly) this.#early.clear();
    this.#early.set(signal.version, signal);
    if (this.#reading !== undefined) return;
    if (isNext) this.#goOn(known);
    else this.#readLater();
  }

  /** Compares with the version in the store: the last signal may be lost, and an erasure sends none. */
  lookAt({ volume, number }: Place): void {
    const known = this.#version;
    if (known !== undefined && (known.volume !== volume || known.number < number)) this.#readLater();
  }

  signalsMissed(): void {
    this.#readLater();
  }

  instanceGone(): void {}

  close(): void {
    this.#closed = true;
    this.#cancelTelling?.();
    this.#cancelRetry?.();
    this.#host.closed();
  }

  /** Takes the changes that follow on a version. Reads from the store if one is still missing a little later. */
  #goOn({ volume, number: known }: Place): void {
    let number = known;
    for (let next = this.#early.get(number + 1); next?.volume === volume; next = this.#early.get(number + 1)) {
      number += 1;
      this.#early.delete(number);
      this.#take(next);
    }
    this.#version = { volume, number };
    if (this.#early.size > 0)
      this.#cancelRetry ??= this.#host.after(tellMs, () => {
        this.#cancelRetry = undefined;
        if (this.#early.size > 0) this.#readLater();
      });
  }

  #take(reacted: Reacted): void {
    this.#changed.set(reacted.number, reacted);
    this.#cancelTelling ??= this.#host.after(tellMs, () => this.#tell());
  }

  #readLater(): void {
    if (this.#closed) return;
    this.#read().catch((error: unknown) =>
      this.#host.report(error, { event: 'reactions-unread', channel: this.#channel }),
    );
  }

  #read(): Promise<void> {
    this.#reading ??= this.#readOn().finally(() => {
      this.#reading = undefined;
    });
    return this.#reading;
  }

  async #readOn(): Promise<void> {
    const { atOnce } = this.#host;
    for (;;) {
      const before = this.#version;
      const { version, reacted } = await this.#host.since(before?.number ?? Number.MAX_SAFE_INTEGER, atOnce);
      if (this.#closed) return;
      const { volume } = version;
      if (before !== undefined && before.volume !== volume) {
        this.#changed.clear();
        this.#version = { volume, number: 0 };
        if (before.number > 0) continue;
      }
      if (before !== undefined) for (const each of reacted) this.#take(each);
      const last = reacted.length < atOnce ? undefined : reacted.at(-1);
      this.#version = last === undefined ? version : { volume, number: last.version };
      if (last === undefined) break;
    }
    const { number } = this.#version;
    for (const early of [...this.#early.keys()]) if (early <= number) this.#early.delete(early);
    this.#goOn(this.#version);
  }

  /** Pushes the earliest changes; what has no room follows. */
  #tell(): void {
    const known = this.#version as Place;
    const waiting = [...this.#changed.values()].sort((a, b) => a.version - b.version);
    const told = withinChars(waiting, pushChars);
    for (const { number } of told) this.#changed.delete(number);
    const isAll = told.length === waiting.length;
    this.#cancelTelling = isAll ? undefined : this.#host.after(tellMs, () => this.#tell());
    const upTo = isAll ? known.number : (told.at(-1) as Reacted).version;
    const counts = Object.fromEntries(
      told.map((each) => [formatCursor({ ...known, number: each.number }), each.counts]),
    );
    const version = formatCursor({ ...known, number: upTo });
    const push = { on: 'reactions', channel: this.#channel, version, counts } as const;
    this.#host.tell(new LatestFrame(`reactions ${this.#channel}`, push, merged, true, this.#channel));
  }
}

function merged(earlier: ReactionsPush, later: ReactionsPush): ReactionsPush {
  return { ...later, counts: { ...earlier.counts, ...later.counts } };
}
