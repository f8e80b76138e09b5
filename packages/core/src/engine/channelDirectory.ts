import type { ChannelName } from '@nine-bells/wire';
import type { Channels } from '../channel/channels.js';
import type { Cluster } from '../cluster/cluster.js';
import type { ChannelInfo } from '../model/info.js';
import type { MessageStore } from '../ports/stores.js';
import type { ChannelRules } from '../rules/channelRule.js';

/** Which channels there are, on all instances. */
export class ChannelDirectory {
  readonly rules: ChannelRules;
  readonly #channels: Channels;
  readonly #cluster: Cluster;
  readonly #store: MessageStore;

  constructor(rules: ChannelRules, channels: Channels, cluster: Cluster, store: MessageStore) {
    this.rules = rules;
    this.#channels = channels;
    this.#cluster = cluster;
    this.#store = store;
  }

  /**
   * Lists channels by name: kept ones that were published to, and those that a client has entered now.
   *
   * @param after - only names that come after this one
   * @param find - only names that have this text in them; case does not count
   */
  async list(after: string, limit: number, find?: string): Promise<readonly ChannelInfo[]> {
    const all = new Map<ChannelName, ChannelInfo>();
    const { channels: entered } = await this.#cluster.entered(after, limit, find);
    for (const kept of await this.#store.channels(after, limit, find))
      all.set(kept.channel, { ...this.#channels.describe(kept), entered: entered.get(kept.channel)?.entered ?? 0 });
    for (const [channel, info] of entered) if (!all.has(channel)) all.set(channel, info);
    return [...all.values()].sort((a, b) => (a.channel < b.channel ? -1 : 1)).slice(0, limit);
  }

  /**
   * Describes one channel, whether or not there is anything in it yet.
   *
   * @throws {ProblemError} `no-such-channel`
   */
  async describe(channel: ChannelName): Promise<ChannelInfo> {
    const head = await this.#channels.logOf(this.rules.require(channel)).head(channel);
    const entered = await this.#cluster.entrants(channel);
    return { ...this.#channels.describe({ channel, ...(head.number === 0 ? {} : { head }) }), entered };
  }
}
