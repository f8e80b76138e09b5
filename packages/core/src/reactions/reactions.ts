import {
  type Author,
  type ChannelName,
  type Cursor,
  defined,
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
import { noVolume, type Reacted, type ReactionSlice } from '../model/reaction.js';
import type { Clock } from '../ports/clock.js';
import { channelTopic, type Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { ReactionStore } from '../ports/stores.js';
import { readable } from '../record/readable.js';
import type { RuleMatch } from '../rules/channelRule.js';
import { ChannelReactions } from './channelReactions.js';
import { withinChars } from './withinChars.js';

const what = 'reactions';
/** Characters of counts in one reply, of the messages given and of what has changed. */
const replyChars = 262_144;
/** How often the versions of open channels are compared with those in the store, in milliseconds. */
const lookMs = 5_000;

export interface ReactionsHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly store: ReactionStore;
  readonly report: Report;
  /** Messages that are read from the store at once, where reactions have changed. */
  readonly atOnce: number;
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
    const { wheel, store, report, atOnce } = this.#host;
    const made = new ChannelReactions(channel.name, {
      atOnce,
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

  /**
   * Reactions to the messages in a reply; `undefined` where the rule has none.
   *
   * @param user - whose own reactions come, too
   * @throws {ProblemError} `unavailable`
   */
  async to(
    match: RuleMatch,
    messages: readonly LoggedMessage[],
    user: string | undefined,
  ): Promise<ReactionsOf | undefined> {
    if (match.rule.reactions === undefined) return undefined;
    return shown(await this.#of(match.channel, messages, user));
  }

  /**
   * As `to`, for a client that enters; with the version, and what has changed since the one that it knows.
   *
   * @param known - a version; absent: the client knows none
   * @param more - more messages follow in later replies. A client that knows a version of this volume keeps it; others get one now.
   *   The last reply has all changes since that version
   */
  async entering(
    match: RuleMatch,
    messages: readonly LoggedMessage[],
    user: string,
    { known, more }: { readonly known: Place | undefined; readonly more: boolean },
  ): Promise<EnteredReactions | undefined> {
    if (match.rule.reactions === undefined) return undefined;
    const { store, atOnce } = this.#host;
    // Read first: a change in between comes twice, which is better than never.
    const given = await this.#of(match.channel, messages, user);
    const { version } = given;
    if (more && (known?.volume === version.volume || known?.volume === noVolume)) return shown(given);
    const since = more ? undefined : isForeign(known, version) ? { ...version, number: 0 } : known;
    if (since === undefined || since.volume !== version.volume || since.number === version.number)
      return { version: formatCursor(version), ...shown(given) };
    const { reacted } = await readable(store.reactionsSince(match.channel, since.number, atOnce), what);
    const changed = withinChars(reacted, replyChars);
    const last = changed.length === reacted.length && reacted.length < atOnce ? undefined : changed.at(-1);
    return {
      version: formatCursor(last === undefined ? version : { ...version, number: last.version }),
      ...shown({ ...given, reacted: [...given.reacted, ...changed] }),
      ...(last === undefined ? {} : { more: true }),
    };
  }

  /**
   * A page of those who have reacted to a message.
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
      report(error, { event: 'reaction-check-failed' });
    }
  }

  /** Reactions to these messages; where not all have room, to the last of them. */
  async #of(channel: ChannelName, messages: readonly LoggedMessage[], user: string | undefined): Promise<Given> {
    const numbers = messages.flatMap((each) => (each.isMessage ? [each.place.number] : []));
    const slice = await readable(this.#host.store.reactions(channel, numbers, user), what);
    const latest = [...slice.reacted].sort((a, b) => b.number - a.number);
    const reacted = withinChars(latest, replyChars);
    if (reacted.length === latest.length) return slice;
    const first = (reacted.at(-1) as Reacted).number;
    return { ...slice, reacted, own: slice.own.filter(([number]) => number >= first), partial: true };
  }
}

/** Reactions to messages that a client is given. */
interface Given extends ReactionSlice {
  /** Some are left out, since they have no room. */
  readonly partial?: true;
}

/** Whether a version is not one of this record: it is of an empty channel, or the record has lost what it counted. */
function isForeign(known: Place | undefined, { volume, number }: Place): boolean {
  return known?.volume === noVolume || (known?.volume === volume && known.number > number);
}

function noReactions(pattern: string): Error {
  return refusal('bad-value', `channels of the rule ${pattern} have no reactions`, { where: '/channel' });
}

function shown({ version: { volume }, reacted, own, partial }: Given): ReactionsOf {
  const cursor = (number: number): Cursor => formatCursor({ volume, number });
  return {
    counts: Object.fromEntries(reacted.map(({ number, counts }) => [cursor(number), counts])),
    ...(own.length === 0 ? {} : { own: Object.fromEntries(own.map(([number, words]) => [cursor(number), words])) }),
    ...defined({ partial }),
  };
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
