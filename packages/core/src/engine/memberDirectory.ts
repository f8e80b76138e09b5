import type { ChannelName, Member } from '@nine-bells/wire';
import type { Cluster, Gathered } from '../cluster/cluster.js';
import type { Membership } from '../model/info.js';
import type { Presences } from '../presence/presences.js';
import type { ChannelRules } from '../rules/channelRule.js';

/** Who is in which channel. */
export class MemberDirectory {
  readonly #rules: ChannelRules;
  readonly #presences: Presences;
  readonly #cluster: Cluster;

  constructor(rules: ChannelRules, presences: Presences, cluster: Cluster) {
    this.#rules = rules;
    this.#presences = presences;
    this.#cluster = cluster;
  }

  /**
   * The members of a channel on all instances: the first `limit`, and how many there are.
   *
   * @throws {ProblemError} `no-such-channel`; `bad-value` if the channel does not show who is there
   */
  async members(channel: ChannelName, limit: number): Promise<Gathered<{ members: readonly Member[]; count: number }>> {
    this.membersHere(channel, 0);
    return this.#cluster.members(channel, limit);
  }

  /** The channels where a user is a member, on all instances. */
  memberships(user: string): Promise<Gathered<{ channels: readonly Membership[] }>> {
    return this.#cluster.memberships(user);
  }

  /** As `members`, as far as this instance knows. */
  membersHere(channel: ChannelName, limit: number): { members: readonly Member[]; count: number } {
    return this.#presences.members(this.#rules.require(channel), limit);
  }

  /** As `memberships`, as far as this instance knows. */
  membershipsHere(user: string): readonly Membership[] {
    return this.#presences.membershipsOf(user);
  }
}
