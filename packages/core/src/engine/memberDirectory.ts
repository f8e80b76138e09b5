import type { ChannelName, Member } from '@nine-bells/wire';
import type { Cluster, Gathered } from '../cluster/cluster.js';
import type { Membership, MembersQuery } from '../model/info.js';
import type { Presences } from '../presence/presences.js';
import type { ChannelRules } from '../rules/channelRule.js';

/** Members of channels. */
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
   * Returns a page of a channel's members on all instances, and how many there are.
   *
   * @throws {ProblemError} `no-such-channel`; `bad-value` if the channel does not show who is there
   */
  async members(
    channel: ChannelName,
    query: MembersQuery,
  ): Promise<Gathered<{ members: readonly Member[]; count: number }>> {
    this.#presences.requirePresence(this.#rules.require(channel));
    return this.#cluster.members(channel, query);
  }

  /** Returns the channels where a user is a member, on all instances, by name. */
  memberships(user: string): Promise<Gathered<{ channels: readonly Membership[] }>> {
    return this.#cluster.memberships(user);
  }

  /** As `members`, as far as this instance knows. */
  membersHere(channel: ChannelName, limit: number): { members: readonly Member[]; count: number } {
    return this.#presences.members(this.#rules.require(channel), { limit });
  }

  /** As `memberships`, as far as this instance knows. */
  membershipsHere(user: string): readonly Membership[] {
    return this.#presences.membershipsOf(user);
  }
}
