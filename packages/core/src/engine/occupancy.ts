import type { ChannelName } from '@nine-bells/wire';
import type { Hooks } from '../hooks/hooks.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Report } from '../ports/report.js';
import type { HookStore } from '../ports/stores.js';

export interface OccupancyHost {
  readonly hooks: Hooks;
  readonly wheel: TimerWheel;
  readonly store: Pick<HookStore, 'occupied'>;
  readonly report: Report;
  /** How many members a channel has on all instances. */
  readonly countOf: (channel: ChannelName) => Promise<number>;
}

/** How long after a member has left it is counted who is there, in milliseconds: what other instances say takes a moment. */
const settleMs = 2_000;
/** How often channels are looked at that an ended service may have left occupied, in milliseconds, and how many. */
const lookMs = 30_000;
const lookCount = 100;

/** Tells hooks of the first member in a channel, and of the last one out. */
export class Occupancy {
  readonly #host: OccupancyHost;
  readonly #leaving = new Set<ChannelName>();
  /** The channel that was looked at last. */
  #after = '';

  constructor(host: OccupancyHost) {
    this.#host = host;
    this.#lookLater();
  }

  joined(channel: ChannelName): void {
    if (this.#isHeardOf(channel)) this.#tell(channel, true);
  }

  left(channel: ChannelName): void {
    if (!this.#isHeardOf(channel) || this.#leaving.has(channel)) return;
    this.#leaving.add(channel);
    this.#host.wheel.after(settleMs, () => {
      this.#leaving.delete(channel);
      void this.#tellIfEmpty(channel);
    });
  }

  #isHeardOf(channel: ChannelName): boolean {
    const { book } = this.#host.hooks;
    return !book.isEmpty && book.inChannel('first-in', channel).length + book.inChannel('last-out', channel).length > 0;
  }

  #tell(channel: ChannelName, is: boolean): void {
    const { hooks, report } = this.#host;
    hooks.occupied(channel, is).catch((error: unknown) => report(error, { event: 'occupancy-event-failed', channel }));
  }

  async #tellIfEmpty(channel: ChannelName): Promise<void> {
    try {
      if ((await this.#host.countOf(channel)) === 0) this.#tell(channel, false);
    } catch (error) {
      this.#host.report(error, { event: 'occupancy-event-failed', channel });
    }
  }

  #lookLater(): void {
    this.#host.wheel.after(lookMs, () => {
      void this.#look().finally(() => this.#lookLater());
    });
  }

  async #look(): Promise<void> {
    const { hooks, store } = this.#host;
    if (hooks.book.isEmpty) return;
    const channels = await store.occupied(this.#after, lookCount).catch(() => []);
    this.#after = channels.length < lookCount ? '' : (channels.at(-1) ?? '');
    for (const channel of channels) if (this.#isHeardOf(channel)) await this.#tellIfEmpty(channel);
  }
}
