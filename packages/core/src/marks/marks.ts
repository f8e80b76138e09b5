import { type ChannelName, formatCursor, refusal } from '@nine-bells/wire';
import type { MarkState, ThreadMark, UserMark } from '../model/mark.js';
import type { Place } from '../model/message.js';
import type { Clock } from '../ports/clock.js';
import { channelTopic, type Relay, userNewsTopic, usersTopic } from '../ports/relay.js';
import type { MarkStore } from '../ports/stores.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';

export interface MarksHost {
  readonly clock: Clock;
  readonly rules: ChannelRules;
  readonly relay: Relay;
  readonly store: MarkStore;
  /** Channels in which a user may have a mark. */
  readonly maxPerUser: number;
}

/** How far users have read in kept channels. */
export class Marks {
  readonly #host: MarksHost;

  constructor(host: MarksHost) {
    this.#host = host;
  }

  /**
   * Moves a user's mark in a kept channel forward; `null` removes it. A place behind the mark changes nothing; the
   * result says how the mark stands.
   *
   * @throws {ProblemError} `no-such-channel`, `bad-value` if the channel is not kept, `bad-cursor` if it has no such
   *   message, `too-many-channels`, `unavailable`
   */
  async move(user: string, channel: ChannelName, place: Place | null): Promise<MarkState> {
    const { rules, relay, store, maxPerUser } = this.#host;
    const { rule } = keptOf(rules.require(channel));
    const state = this.#seen(await store.mark(user, channel, place, maxPerUser));
    relay.publish(usersTopic, { type: 'marked', user, state });
    if (rule.showsMarks) {
      const mark = state.place === undefined ? null : formatCursor(state.place);
      relay.publish(channelTopic(channel), { channel, user, mark });
    }
    return state;
  }

  /** Takes a user's mark away, also in a channel that no rule matches any longer. */
  async forget(user: string, channel: ChannelName): Promise<void> {
    const { rules, relay, store, maxPerUser } = this.#host;
    const state = await store.mark(user, channel, null, maxPerUser);
    relay.publish(usersTopic, { type: 'marked', user, state });
    if (rules.match(channel)?.rule.showsMarks) relay.publish(channelTopic(channel), { channel, user, mark: null });
  }

  /** The channels in which a user has a mark. @throws {ProblemError} `unavailable` */
  channelsOf(user: string): Promise<readonly ChannelName[]> {
    return this.#host.store.markedChannels(user);
  }

  /**
   * Moves a user's mark in a thread forward; with `null` the user no longer takes part.
   *
   * @throws {ProblemError} `no-such-channel`, `bad-value` if the channel has no replies, `bad-cursor`, `unavailable`
   */
  async moveInThread(
    user: string,
    channel: ChannelName,
    thread: Place,
    place: Place | null,
  ): Promise<ThreadMark | undefined> {
    const { rule } = this.#host.rules.require(channel);
    if (!rule.hasReplies)
      throw refusal('bad-value', `channels of the rule ${rule.pattern} have no replies`, { where: '/thread' });
    const { store, relay, clock } = this.#host;
    const state = await store.markThread(user, channel, thread, place, clock.now());
    relay.publish(userNewsTopic, { type: 'threads', users: [user], channel, thread });
    return state && this.#seenInThread(state);
  }

  /** The threads in which a user takes part: the one that was answered last comes first. */
  async threads(user: string, limit: number, channel?: ChannelName): Promise<readonly ThreadMark[]> {
    return (await this.#host.store.threads(user, limit, channel)).map((each) => this.#seenInThread(each));
  }

  /** How one stands; `undefined` if the user does not take part. @throws {ProblemError} `unavailable` */
  async thread(user: string, channel: ChannelName, { number, volume }: Place): Promise<ThreadMark | undefined> {
    const [found] = await this.#host.store.threads(user, 1, channel, number);
    return found?.volume === volume ? this.#seenInThread(found) : undefined;
  }

  #seenInThread(state: ThreadMark): ThreadMark {
    const { unread } = this.#seen({ ...state, counted: 0 });
    return { ...state, unread };
  }

  /** What a user has not read, in each channel where it has a mark, or in these of them; by the channels' names. */
  async unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkState[]> {
    return (await this.#host.store.unread(user, channels)).map((each) => this.#seen(each));
  }

  /**
   * The marks in a channel, by user id: the first `limit` behind the user `after`.
   *
   * @throws {ProblemError} `no-such-channel`, `bad-value` if the channel is not kept
   */
  async inChannel(channel: ChannelName, limit: number, after?: string): Promise<readonly UserMark[]> {
    keptOf(this.#host.rules.require(channel));
    return this.#host.store.marks(channel, limit, after);
  }

  /** What is by users whom the user keeps away does not count where the rule hides it. */
  #seen(state: MarkState): MarkState {
    const { channel, hidden } = state;
    if (hidden === undefined) return state;
    const rule = this.#host.rules.match(channel)?.rule;
    if (rule?.marksBlocked) return without(state, 0);
    return without(state, hidden.blocked + (rule?.direct ? 0 : hidden.muted));
  }
}

function without({ hidden: _, ...state }: MarkState, hidden: number): MarkState {
  return { ...state, unread: Math.max(0, state.unread - hidden) };
}

/** @throws {ProblemError} `bad-value` */
function keptOf(match: RuleMatch): RuleMatch {
  if (match.rule.logbook.type === 'kept') return match;
  throw refusal('bad-value', `channels of the rule ${match.rule.pattern} are not kept, so there are no read marks`, {
    where: '/channel',
  });
}
