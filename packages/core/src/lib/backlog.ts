import { type ChannelName, refusal } from '@nine-bells/wire';
import type { BacklogBounds } from '../model/options.js';

/** When to try again, in milliseconds. */
const retryAfterMs = 500;

/** Counts messages waiting to be appended, so that publishers are told to wait before memory grows (promise `nobody slows anybody`). */
export class Backlog {
  readonly #bounds: BacklogBounds;
  readonly #perChannel = new Map<ChannelName, number>();
  readonly #empty: (() => void)[] = [];
  #messages = 0;
  #bytes = 0;

  constructor(bounds: BacklogBounds) {
    this.#bounds = bounds;
  }

  get messages(): number {
    return this.#messages;
  }

  /**
   * Takes a message in.
   *
   * @throws {ProblemError} `busy`
   */
  take(channel: ChannelName, bytes: number): void {
    const inChannel = this.#perChannel.get(channel) ?? 0;
    if (inChannel >= this.#bounds.perChannel)
      throw refusal('busy', `${inChannel} messages of this channel wait to be recorded`, { retryAfterMs });
    // One that is alone is taken, however large.
    const full = this.#messages > 0 && this.#bytes + bytes > this.#bounds.bytes;
    if (full || this.#messages >= this.#bounds.messages)
      throw refusal('busy', `${this.#messages} messages wait to be recorded`, { retryAfterMs });
    this.#messages += 1;
    this.#bytes += bytes;
    this.#perChannel.set(channel, inChannel + 1);
  }

  /** A message that was taken in has its place, or was refused one. */
  giveBack(channel: ChannelName, bytes: number): void {
    this.#messages -= 1;
    this.#bytes -= bytes;
    const left = (this.#perChannel.get(channel) ?? 1) - 1;
    if (left === 0) this.#perChannel.delete(channel);
    else this.#perChannel.set(channel, left);
    if (this.#messages === 0) for (const resolve of this.#empty.splice(0)) resolve();
  }

  /** Resolves when nothing waits. */
  whenEmpty(): Promise<void> {
    if (this.#messages === 0) return Promise.resolve();
    return new Promise((resolve) => this.#empty.push(resolve));
  }
}
