import { type ChannelName, formatCursor, type Place, type ReactionsPush } from '@nine-bells/wire';
import type { ChannelFeature } from '../channel/feature.js';
import { LatestFrame } from '../delivery/latestFrame.js';
import type { Frame } from '../model/frame.js';
import type { Reacted, ReactionSlice, ReactionWord } from '../model/reaction.js';
import type { Signal } from '../model/signal.js';
import type { Report } from '../ports/report.js';

/** Changes are told together, this long after the first, in milliseconds. */
const tellMs = 300;
/** Messages whose changes are read at once where some were missed; beyond, clients are told when they come back. */
const mostMissed = 500;

export interface ChannelReactionsHost {
  /** Reads what has changed since a version. */
  since(version: number, limit: number): Promise<ReactionSlice>;
  after(delayMs: number, act: () => void): () => void;
  /** To everyone who has entered the channel. */
  tell(frame: Frame): void;
  readonly report: Report;
  closed(): void;
}

/** Tells those who are in a channel how many have reacted to its messages: merged, and nothing is missed. */
export class ChannelReactions implements ChannelFeature {
  readonly keepsOpen = false;
  readonly #channel: ChannelName;
  readonly #host: ChannelReactionsHost;
  /** Up to which version this instance has heard everything. */
  #version: Place | undefined;
  /** What was heard ahead of that, by its version. */
  #early = new Map<number, ReactionWord>();
  #changed = new Map<number, Reacted>();
  #cancelTelling: (() => void) | undefined;
  #reading: Promise<void> | undefined;
  #closed = false;
  /** It could not be read once. */
  #hasFailed = false;

  constructor(channel: ChannelName, host: ChannelReactionsHost) {
    this.#channel = channel;
    this.#host = host;
  }

  /** Resolves when it is known where the reactions stand. */
  ready(): Promise<void> | undefined {
    return this.#version === undefined ? this.#read() : undefined;
  }

  receive(signal: Signal): void {
    if (!('reacted' in signal)) return;
    const { version, volume } = signal;
    const known = this.#version;
    if (known === undefined || known.volume !== volume) {
      // Before the first message the channel has no volume.
      this.#early.set(version, signal);
      void this.#read();
    } else if (version > known.number) {
      this.#early.set(version, signal);
      this.#goOn(known);
    }
  }

  /** Where the store says that the reactions are: the last change may not have been heard, and an erasure is not told. */
  lookAt(place: Place): void {
    const known = this.#version;
    if (known === undefined || known.volume !== place.volume || known.number < place.number) void this.#read();
  }

  signalsMissed(): void {
    void this.#read();
  }

  instanceGone(): void {}

  close(): void {
    this.#closed = true;
    this.#host.closed();
    this.#cancelTelling?.();
  }

  /** Takes what follows on what is known; what is missing is read. */
  #goOn(known: Place): void {
    let { number } = known;
    for (let next = this.#early.get(1 + number); next?.volume === known.volume; next = this.#early.get(1 + number)) {
      number += 1;
      this.#early.delete(number);
      this.#take(next);
    }
    this.#version = { ...known, number };
    if (this.#early.size > 0) this.#host.after(tellMs, () => this.#early.size > 0 && void this.#read());
  }

  #take(reacted: Reacted): void {
    this.#changed.set(reacted.number, reacted);
    this.#cancelTelling ??= this.#host.after(tellMs, () => this.#tell());
  }

  #read(): Promise<void> {
    this.#reading ??= this.#readSince()
      .catch((error: unknown) => {
        this.#hasFailed = true;
        this.#host.report(error, { what: 'reading reactions', channel: this.#channel });
      })
      .finally(() => {
        this.#reading = undefined;
      });
    return this.#reading;
  }

  async #readSince(): Promise<void> {
    const before = this.#version;
    // Where it could not be read at first, clients may have entered before a change: all is told.
    const from = before?.number ?? (this.#hasFailed ? 0 : Number.MAX_SAFE_INTEGER);
    const told = await this.#host.since(from, mostMissed);
    const isOther = before !== undefined && before.number > 0 && before.volume !== told.version.volume;
    const { version, reacted } = isOther ? await this.#host.since(0, mostMissed) : told;
    if (this.#closed) return;
    if (before !== undefined || this.#hasFailed) for (const each of reacted) this.#take(each);
    this.#version = version;
    for (const number of [...this.#early.keys()]) if (number <= version.number) this.#early.delete(number);
    this.#goOn(version);
  }

  #tell(): void {
    this.#cancelTelling = undefined;
    const { volume } = this.#version as Place;
    const counts = Object.fromEntries(
      [...this.#changed.values()].map((each) => [formatCursor({ volume, number: each.number }), each.counts]),
    );
    this.#changed.clear();
    const version = formatCursor(this.#version as Place);
    const push = { on: 'reactions', channel: this.#channel, version, counts } as const;
    this.#host.tell(new LatestFrame(`reactions ${this.#channel}`, push, merged, true, this.#channel));
  }
}

function merged(earlier: ReactionsPush, later: ReactionsPush): ReactionsPush {
  return { ...later, counts: { ...earlier.counts, ...later.counts } };
}
