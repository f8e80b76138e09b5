import { type ChannelName, defined, type Place, problem } from '@nine-bells/wire';
import type { Access, Explanation, Visitor } from '../access/access.js';
import type { Cluster } from '../cluster/cluster.js';
import type { DirectChannels } from '../direct/directChannels.js';
import { type Act, type ChannelAct, isMessageAct, type MessageFacts } from '../model/access.js';
import { factsOf, ownMessage } from '../model/messageFacts.js';
import { readable } from '../record/readable.js';
import type { PendingMessages } from '../review/pendingMessages.js';
import type { ChannelRules } from '../rules/channelRule.js';
import type { ExampleUser } from '../rules/exampleUser.js';
import type { Messages } from './messages.js';

/** What an act is about, beside the channel or the user. */
export interface InquiryOf {
  /** For `set`: the entry of the board. */
  readonly entry?: string;
  /** For acts about a message. */
  readonly cursor?: Place;
}

/** Says why a user may or may not do something. */
export class AccessInquiry {
  readonly #access: Access;
  readonly #direct: DirectChannels;
  readonly #cluster: Cluster;
  readonly #letsGuestsIn: boolean;
  readonly #messages: Messages;
  readonly #now: () => number;
  readonly #reviewed: { readonly rules: ChannelRules; readonly pending: Pick<PendingMessages, 'isHeldUp'> };

  constructor(
    access: Access,
    direct: DirectChannels,
    cluster: Cluster,
    letsGuestsIn: boolean,
    messages: Messages,
    now: () => number,
    reviewed: { readonly rules: ChannelRules; readonly pending: Pick<PendingMessages, 'isHeldUp'> },
  ) {
    this.#reviewed = reviewed;
    this.#messages = messages;
    this.#now = now;
    this.#access = access;
    this.#direct = direct;
    this.#cluster = cluster;
    this.#letsGuestsIn = letsGuestsIn;
  }

  /**
   * Says which rule decides whether a user may do something, on which facts.
   *
   * @param where - a channel's name; for acts that concern a user, that user's id
   * @param of - what else the act is about; a message that is not said is one that the user publishes now
   * @param visitor - a guest is refused as `no-guests` where none are let in
   */
  async explain(
    act: Exclude<Act, 'call'>,
    where: string,
    visitor: Visitor,
    { entry, cursor }: InquiryOf = {},
  ): Promise<Explanation> {
    const message = isMessageAct(act) ? await this.#messageOf(where as ChannelName, visitor, cursor) : undefined;
    const found = await this.#access.explain(act, where, visitor, defined({ entry, message }));
    const explanation = await this.#direct.explained(act, found, visitor);
    if (!visitor.who.guest || this.#letsGuestsIn)
      return { ...explanation, ...(explanation.allowed ? await this.#reviewOf(act, where, visitor) : {}) };
    return { ...explanation, allowed: false, problem: problem('no-guests', 'guests are not let in at all') };
  }

  /** What comes after the rules. */
  async #reviewOf(act: Act, where: string, { who }: Visitor): Promise<Pick<Explanation, 'review'>> {
    if (act !== 'publish' && act !== 'revise') return {};
    const { rules, pending } = this.#reviewed;
    const match = rules.match(where as ChannelName);
    const review = match?.rule.review;
    if (match === undefined || review === undefined) return {};
    const { withinMs, otherwise } = review;
    const isKept = match.rule.logbook.type === 'kept';
    const waits = isKept && (await readable(pending.isHeldUp(match.channel, who.user), 'what waits'));
    return { review: { withinMs, otherwise, waits } };
  }

  async #messageOf(
    channel: ChannelName,
    { who }: Visitor,
    cursor: Place | undefined,
  ): Promise<MessageFacts | undefined> {
    const nowMs = this.#now();
    if (cursor === undefined) return ownMessage(who, nowMs);
    return factsOf(await this.#messages.find(channel, cursor), nowMs);
  }

  /** A user to be made up who may do something in a channel, or why none can be. */
  exampleUser(act: ChannelAct, channel: ChannelName): ExampleUser | { readonly why: string } {
    return this.#access.exampleUser(act, channel);
  }

  /** Finds the id of a user's latest session; `undefined` if the user is not connected. */
  async latestSessionOf(user: string): Promise<string | undefined> {
    const { sessions } = await this.#cluster.sessions({ user, limit: 1 });
    return sessions.at(-1)?.session;
  }

  /** Who a connected session is, and where from; `undefined` if no instance has it. */
  async visitorOf(session: string): Promise<Visitor | undefined> {
    const found = await this.#cluster.visitor(session);
    return found === undefined ? undefined : { who: found.who, address: found.address ?? undefined };
  }
}
