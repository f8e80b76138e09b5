import {
  type Author,
  type ChannelName,
  type Cursor,
  type EnteredReactions,
  formatCursor,
  type Place,
  type ReactionCounts,
  type ReactionsOf,
  type ReactorsReply,
  refusal,
} from '@nine-bells/wire';
import type { FeatureChannel, FeatureSource } from '../channel/feature.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { LoggedMessage } from '../model/message.js';
import type { Reacted, ReactionSlice } from '../model/reaction.js';
import type { Clock } from '../ports/clock.js';
import { channelTopic, type Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { ReactionStore } from '../ports/stores.js';
import type { RuleMatch } from '../rules/channelRule.js';
import { ChannelReactions } from './channelReactions.js';

/** Messages of which a client that comes back is told what has changed. */
const mostChanged = 500;
/** How often it is looked whether reactions have changed that were not heard of, in milliseconds. */
const lookMs = 5_000;

export interface ReactionsHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly store: ReactionStore;
  readonly report: Report;
  /** A message of a channel. @throws {ProblemError} `no-such-message`, `unavailable` */
  find(match: RuleMatch, place: Place): Promise<LoggedMessage>;
}

/** Reactions to messages: short words, of which each user has some at each message, and all see how many there are. */
export class Reactions implements FeatureSource {
  readonly #host: ReactionsHost;
  readonly #all = new Map<ChannelName, ChannelReactions>();
  #cancelLook: () => void;

  constructor(host: ReactionsHost) {
    this.#host = host;
    this.#cancelLook = this.#lookLater();
  }

  stop(): void {
    this.#cancelLook();
  }

  attach(channel: FeatureChannel): ChannelReactions | undefined {
    if (channel.match.rule.reactions === undefined) return undefined;
    const { wheel, store, report } = this.#host;
    const made = new ChannelReactions(channel.name, {
      since: (version, limit) => store.reactionsSince(channel.name, version, limit),
      after: (delayMs, act) => wheel.after(delayMs, act),
      tell: (frame) => channel.tell(frame),
      report,
      closed: () => {
        if (this.#all.get(channel.name) === made) this.#all.delete(channel.name);
      },
    });
    this.#all.set(channel.name, made);
    return made;
  }

  /**
   * Reacts to a message, or takes a reaction back. Idempotent. Gives how many have reacted to the message then.
   *
   * @throws {ProblemError} `bad-value` where the rule has no reactions, or not this one; `no-such-message`, `withdrawn`,
   *   `too-many-reactions`, `unavailable`
   */
  async react(match: RuleMatch, place: Place, by: Author, word: string, on: boolean): Promise<ReactionCounts> {
    const { clock, relay, store } = this.#host;
    const { channel, rule } = match;
    const { reactions } = rule;
    if (reactions === undefined) throw noReactions(rule.pattern);
    if (on && reactions.words?.includes(word) === false)
      throw refusal('bad-value', `the reactions here are ${reactions.words.join(' ')}`, { where: '/word' });
    const { reacted, volume, changed } = await store.react({
      ...{ channel, place, by, word, on, atMs: clock.now() },
      most: reactions,
    });
    if (changed) relay.publish(channelTopic(channel), { channel, reacted: true, volume, ...reacted });
    return reacted.counts;
  }

  /** Reactions to messages that are given to a user; `undefined` where the rule has none. */
  async to(
    match: RuleMatch,
    messages: readonly LoggedMessage[],
    user: string | undefined,
  ): Promise<ReactionsOf | undefined> {
    if (match.rule.reactions === undefined) return undefined;
    return shown(await this.#around(match.channel, messages, user));
  }

  /**
   * The same for a client that enters: with the version, and what has changed since the one that it knows.
   *
   * @param known - a version; absent: the client knows of none
   */
  async entering(
    match: RuleMatch,
    messages: readonly LoggedMessage[],
    user: string,
    known: Place | undefined,
  ): Promise<EnteredReactions | undefined> {
    if (match.rule.reactions === undefined) return undefined;
    const { store } = this.#host;
    // In this order: what changes in between comes twice, and not never.
    const around = await this.#around(match.channel, messages, user);
    const { version } = around;
    if (known === undefined || known.volume !== version.volume || known.number >= version.number)
      return { version: formatCursor(version), ...shown(around) };
    const changed = await store.reactionsSince(match.channel, known.number, mostChanged + 1);
    const isPartial = changed.reacted.length > mostChanged;
    const all = { ...around, reacted: [...changed.reacted.slice(0, mostChanged), ...around.reacted] };
    return { version: formatCursor(version), ...shown(all), ...(isPartial ? { partial: true } : {}) };
  }

  /**
   * Who has reacted to a message, in parts.
   *
   * @throws {ProblemError} `bad-value`, `no-such-message`, `unavailable`
   */
  async reactors(
    match: RuleMatch,
    place: Place,
    {
      word,
      after,
      limit,
    }: { readonly word?: string | undefined; readonly after?: string | undefined; readonly limit: number },
  ): Promise<ReactorsReply> {
    const { channel, rule } = match;
    if (rule.reactions === undefined) throw noReactions(rule.pattern);
    const { number } = place;
    const found = await this.#host.store.reactors({ channel, number, word, after: reactorOf(after), limit: limit + 1 });
    // There may be no reactions, or no message.
    if (found.length === 0) await this.#host.find(match, place);
    const reactors = found.slice(0, limit);
    const last = found.length > limit ? reactors.at(-1) : undefined;
    const cursor: Cursor = formatCursor(place);
    return { channel, cursor, reactors, ...(last && { next: JSON.stringify([last.word, last.user]) }) };
  }

  #lookLater(): () => void {
    return this.#host.wheel.after(lookMs, () => {
      void this.#look();
      this.#cancelLook = this.#lookLater();
    });
  }

  async #look(): Promise<void> {
    const { relay, store, report } = this.#host;
    if (relay.isCut || this.#all.size === 0) return;
    const names = [...this.#all.keys()];
    try {
      const places = await store.reactionHeads(names);
      for (const [index, name] of names.entries()) this.#all.get(name)?.lookAt(places[index] as Place);
    } catch (error) {
      report(error, { what: 'looking whether reactions have changed' });
    }
  }

  #around(channel: ChannelName, messages: readonly LoggedMessage[], user: string | undefined): Promise<ReactionSlice> {
    const numbers = messages.map(({ place }) => place.number);
    const [from, to] = numbers.length === 0 ? [1, 0] : [Math.min(...numbers), Math.max(...numbers)];
    return this.#host.store.reactions(channel, from, to, user);
  }
}

function noReactions(pattern: string): Error {
  return refusal('bad-value', `channels of the rule ${pattern} have no reactions`, { where: '/channel' });
}

function shown({ version: { volume }, reacted, own }: ReactionSlice): ReactionsOf {
  const cursor = (number: number): Cursor => formatCursor({ volume, number });
  const counts = Object.fromEntries(reacted.map((each: Reacted) => [cursor(each.number), each.counts]));
  return own.length === 0
    ? { counts }
    : { counts, own: Object.fromEntries(own.map(([number, words]) => [cursor(number), words])) };
}

/** @throws {ProblemError} `bad-value` */
function reactorOf(after: string | undefined): { readonly word: string; readonly user: string } | undefined {
  if (after === undefined) return undefined;
  try {
    const [word, user] = JSON.parse(after) as unknown[];
    if (typeof word === 'string' && typeof user === 'string') return { word, user };
  } catch {
    // Told below.
  }
  throw refusal('bad-value', '`after` is what the part before has given as `next`', { where: '/after' });
}
