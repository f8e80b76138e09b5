import { TypedTarget } from './typedTarget.js';

type Counts = Readonly<Record<string, number>>;

export interface UnreadEvents {
  /** Counts have changed; `counts` are those that did. */
  change: { readonly counts: Counts; readonly total: number };
}

/**
 * How many messages the user has not read, in each kept channel where it has a mark: the same on all its devices, also for
 * channels that are not entered. Your own messages do not count.
 *
 * @example
 * const unread = line.unread();
 * unread.addEventListener('change', ({ detail }) => showBadge(detail.total));
 */
export class Unread extends TypedTarget<UnreadEvents> {
  #counts = new Map<string, number>();

  /** By channel. */
  get counts(): ReadonlyMap<string, number> {
    return this.#counts;
  }

  /** Over all channels. */
  get total(): number {
    return [...this.#counts.values()].reduce((sum, count) => sum + count, 0);
  }

  /** In one channel; 0 if the user has no mark there. */
  of(channel: string): number {
    return this.#counts.get(channel) ?? 0;
  }

  // ------------------------------------------------------------------------------------ called by the line

  /** @internal All counts, after a connection. */
  loaded(counts: Counts): void {
    this.#counts = new Map(Object.entries(counts));
    this.emit('change', { counts, total: this.total });
  }

  /** @internal Some counts have changed. */
  changed(counts: Counts): void {
    for (const [channel, count] of Object.entries(counts)) this.#counts.set(channel, count);
    this.emit('change', { counts, total: this.total });
  }

  /** @internal The user has no mark in the channel any more. */
  forgotten(channel: string): void {
    if (this.#counts.delete(channel)) this.emit('change', { counts: { [channel]: 0 }, total: this.total });
  }
}
