import type { Author, ChannelName, Member } from '@nine-bells/wire';
import { refusal } from '@nine-bells/wire';
import type { FeatureChannel, FeatureSource } from '../channel/feature.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Membership, MembersQuery } from '../model/info.js';
import type { Table } from '../model/memberTable.js';
import type { Clock } from '../ports/clock.js';
import { channelTopic, type Relay } from '../ports/relay.js';
import type { LogReader } from '../ports/stores.js';
import type { RuleMatch } from '../rules/channelRule.js';
import { ChannelPresence, type ChannelPresenceHost } from './channelPresence.js';
import { Noting } from './noting.js';

export interface PresencesHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly logOf: (match: RuleMatch) => LogReader;
  /** Returns whether joining and leaving a channel is noted. */
  readonly isNoted: (match: RuleMatch) => boolean;
  /** Appends a note to the channel's record, and tells hooks. */
  readonly note: (match: RuleMatch, type: 'joined' | 'left', by: Author) => void;
  /** A channel shows no member here any more. */
  readonly emptied: (channel: ChannelName) => void;
}

/** Interval for checking some of the tables, and duration of a round over all of them, in milliseconds. */
const lookMs = 500;
const lookRoundMs = 5_000;
/** After how many rounds the others are reminded of a table of members. */
const remindRounds = 3;
/** Numbers that a table of members has for itself. */
const tableStride = 1_000_000;
/** Lifetime of a claim to clean up after an instance, in milliseconds. */
const claimMs = 600_000;
/** Timeout for tables of members from other instances, in milliseconds. */
const tableWithinMs = 500;

/** Presence of all channels that show it. */
export class Presences implements FeatureSource {
  readonly #host: PresencesHost;
  readonly #noting: Noting;
  readonly #all = new Map<ChannelName, ChannelPresence>();
  /** The channels still to be looked at in this round. */
  #look: ChannelName[] = [];
  #rounds = 0;
  /** Tables opened so far: one that is opened again is numbered higher than all before. */
  #tables = 0;

  constructor(host: PresencesHost) {
    this.#host = host;
    this.#noting = new Noting(host);
    if (host.relay.others !== undefined) this.#lookLater();
  }

  attach(channel: FeatureChannel): ChannelPresence | undefined {
    const { presence } = channel.match.rule;
    if (presence === undefined) return undefined;
    const feature = new ChannelPresence(channel, presence, this.#hostOf(channel.name));
    this.#all.set(channel.name, feature);
    return feature;
  }

  /** The presence of an open channel; `undefined` where the channel's rule does not show it. */
  get(channel: ChannelName): ChannelPresence | undefined {
    return this.#all.get(channel);
  }

  /** All sessions of a user that this instance shows leave at once, those whose connection broke too. */
  hide(user: string): void {
    for (const { members } of [...this.#all.values()])
      for (const { session } of members.entriesOf(user)) members.leave(session, user);
  }

  /** The sessions that this instance shows in a channel; `null` if it shows none there. */
  tableOf(channel: ChannelName): Table | null {
    return this.#all.get(channel)?.table ?? null;
  }

  /**
   * Returns a page of a channel's members as far as this instance knows, and how many members there are.
   *
   * @throws {ProblemError} `bad-value` if the channel does not show who is there
   */
  members(match: RuleMatch, query: MembersQuery): { members: readonly Member[]; count: number } {
    this.requirePresence(match);
    const members = this.#all.get(match.channel)?.members;
    return { members: members?.page(query) ?? [], count: members?.count ?? 0 };
  }

  /** @throws {ProblemError} `bad-value` if the channel does not show who is there */
  requirePresence({ rule }: RuleMatch): void {
    if (rule.presence === undefined)
      throw refusal('bad-value', `channels of the rule ${rule.pattern} do not show who is there`);
  }

  /** The channels where a user is a member, as far as this instance knows. */
  membershipsOf(user: string): readonly Membership[] {
    return [...this.#all.values()].flatMap((each) => each.membershipOf(user) ?? []);
  }

  /** The sessions of a user that this instance shows, by channel. */
  entriesOf(user: string): readonly { channel: ChannelName; entries: Table['entries'] }[] {
    return [...this.#all].flatMap(([channel, { members }]) => {
      const entries = members.entriesOf(user);
      return entries.length === 0 ? [] : { channel, entries };
    });
  }

  #hostOf(channel: ChannelName): ChannelPresenceHost {
    const { clock, wheel, relay, emptied } = this.#host;
    const { others } = relay;
    const topic = channelTopic(channel);
    return {
      now: () => clock.now(),
      after: (delayMs, act) => wheel.after(delayMs, act),
      noted: ({ match }, change, author, isBack) => this.#noting.noted(match, change, author, isBack),
      emptied,
      abandoned: (abandoned, instanceId, author) => void this.#abandoned(abandoned, instanceId, author),
      closed: (closed) => this.#all.delete(closed),
      tables: others && {
        self: () => others.self,
        publish: (word) => relay.publish(topic, word),
        ask: () => others.ask({ type: 'table', channel }, tableWithinMs),
        soon: (act) => clock.endOfTurn(act),
        base: () => this.#tables++ * tableStride,
        after: (delayMs, act) => wheel.after(delayMs, act),
      },
    };
  }

  /** A member of an ended instance has not come back: one of the instances that are left notes it. */
  async #abandoned({ name, match }: FeatureChannel, instanceId: string, author: Author): Promise<void> {
    if (!this.#host.isNoted(match)) return;
    const { others } = this.#host.relay;
    const isFirst = await others?.claim(`left ${instanceId} ${name} ${author.user}`, claimMs).catch(() => false);
    if (isFirst) this.#noting.noted(match, 'left', author, false);
  }

  #lookLater(): void {
    this.#host.wheel.after(lookMs, () => {
      if (this.#look.length === 0) {
        this.#look = [...this.#all.keys()];
        this.#rounds += 1;
      }
      const some = this.#look.splice(0, Math.ceil(this.#all.size / (lookRoundMs / lookMs)));
      for (const name of some) this.#all.get(name)?.look(this.#rounds % remindRounds === 0);
      this.#lookLater();
    });
  }
}
