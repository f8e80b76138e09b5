import { type ChannelName, problem } from '@nine-bells/wire';
import type { Access, Explanation, Visitor } from '../access/access.js';
import type { Cluster } from '../cluster/cluster.js';
import type { DirectChannels } from '../direct/directChannels.js';
import type { Act, ChannelAct } from '../model/access.js';
import type { ExampleUser } from '../rules/exampleUser.js';

/** Says why a user may or may not do something. */
export class AccessInquiry {
  readonly #access: Access;
  readonly #direct: DirectChannels;
  readonly #cluster: Cluster;
  readonly #letsGuestsIn: boolean;

  constructor(access: Access, direct: DirectChannels, cluster: Cluster, letsGuestsIn: boolean) {
    this.#access = access;
    this.#direct = direct;
    this.#cluster = cluster;
    this.#letsGuestsIn = letsGuestsIn;
  }

  /**
   * Says which rule decides whether a user may do something, on which facts.
   *
   * @param where - a channel's name; for acts that concern a user, that user's id
   * @param entry - for `set`: the entry of the board
   * @param visitor - a guest is refused as `no-guests` where none are let in
   */
  async explain(act: Exclude<Act, 'call'>, where: string, visitor: Visitor, entry?: string): Promise<Explanation> {
    const found = await this.#access.explain(act, where, visitor, entry);
    const explanation = await this.#direct.explained(act, found, visitor);
    if (!visitor.who.guest || this.#letsGuestsIn) return explanation;
    return { ...explanation, allowed: false, problem: problem('no-guests', 'guests are not let in at all') };
  }

  /** A user to be made up who may do something in a channel, or why none can be. */
  exampleUser(act: ChannelAct, channel: ChannelName): ExampleUser | { readonly why: string } {
    return this.#access.exampleUser(act, channel);
  }

  /** Who a connected session is, and where from; `undefined` if no instance has it. */
  async visitorOf(session: string): Promise<Visitor | undefined> {
    const found = await this.#cluster.visitor(session);
    return found === undefined ? undefined : { who: found.who, address: found.address ?? undefined };
  }
}
