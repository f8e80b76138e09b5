import { type ChannelName, defined, formatCursor } from '@nine-bells/wire';
import type { Fanout } from '../delivery/fanout.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Counters } from '../model/counters.js';
import type { ChannelInfo } from '../model/info.js';
import type { KeptChannel, Place } from '../model/message.js';
import type { EngineOptions } from '../model/options.js';
import type { Clock } from '../ports/clock.js';
import { channelTopic, type Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { LogReader } from '../ports/stores.js';
import type { Traces } from '../record/traces.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';
import { Channel, type ChannelHost } from './channel.js';
import type { FeatureSource } from './feature.js';

/** What the channels of an instance need from its engine. */
export interface ChannelsHost {
  readonly options: Pick<EngineOptions, 'tailMessages' | 'tailChars' | 'tailsChars' | 'channelLingerMs'>;
  readonly rules: ChannelRules;
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly store: LogReader;
  readonly report: Report;
  readonly fanout: Fanout;
  readonly counters: Counters;
  readonly traces: Traces;
  readonly features: readonly FeatureSource[];
}

/** How often some of the channels are looked at in the record, and how long until it was all of them, in milliseconds. */
const lookMs = 500;
const lookRoundMs = 5_000;
/** The part of the bound for messages held ready that is left after some were dropped. */
const windowsPart = 3 / 4;
/** Channels looked at in one call. */
const lookChannels = 500;

/** The channels that a client on this instance has entered, and for a while those that all have left. */
export class Channels implements Iterable<Channel> {
  readonly #host: ChannelsHost;
  readonly #channels = new Map<ChannelName, Channel>();
  /** The channels still to be looked at in this round. */
  #look: ChannelName[] = [];
  #closed = false;
  /** The characters of the messages that all channels hold ready. */
  #heldChars = 0;
  #isCutting = false;

  constructor(host: ChannelsHost) {
    this.#host = host;
    if (host.relay.others !== undefined) this.#lookLater();
  }

  [Symbol.iterator](): Iterator<Channel> {
    return this.#channels.values();
  }

  /** How many channels a client here has entered. */
  get entered(): number {
    let count = 0;
    for (const { recipients } of this.#channels.values()) if (recipients > 0) count += 1;
    return count;
  }

  get size(): number {
    return this.#channels.size;
  }

  /** The characters of the messages that all channels hold ready. */
  get heldChars(): number {
    return this.#heldChars;
  }

  get(name: ChannelName): Channel | undefined {
    return this.#channels.get(name);
  }

  /** The record of the channels of a rule. */
  logOf({ rule }: RuleMatch): LogReader {
    return rule.logbook.type === 'kept' ? this.#host.store : this.#host.relay.recent;
  }

  /** Opens a channel, or gives the one that is open. */
  open(name: ChannelName, match: RuleMatch): Channel {
    let channel = this.#channels.get(name);
    if (channel === undefined) {
      channel = new Channel(name, match, this.#hostOf(match));
      this.#channels.set(name, channel);
    }
    return channel;
  }

  /** Closes an unused channel after a while: clients that lost their connection come back together. */
  left(name: ChannelName): void {
    const channel = this.#channels.get(name);
    if (channel === undefined || !channel.isUnused || channel.lingers) return;
    channel.lingers = true;
    const { wheel, relay, options } = this.#host;
    wheel.after(options.channelLingerMs, () => {
      channel.lingers = false;
      if (!channel.isUnused || this.#channels.get(name) !== channel) return;
      channel.close();
      this.#channels.delete(name);
      relay.unsubscribe(channelTopic(name));
    });
  }

  /** Another instance has ended. */
  instanceGone(instanceId: string): void {
    for (const channel of this.#channels.values()) channel.instanceGone(instanceId);
  }

  /** What was carried meanwhile may be lost. */
  resumed(): void {
    for (const channel of this.#channels.values()) channel.signalsMissed();
    this.#look = [...this.#channels.keys()];
    void this.#lookAt(this.#look.splice(0));
  }

  /** Nothing is read or passed on any more. */
  close(): void {
    this.#closed = true;
    for (const channel of this.#channels.values()) channel.close();
  }

  /** Describes a channel; `head` and `lastAt` as they were read in the record. */
  describe({
    channel,
    head: recorded,
    lastAt,
  }: Pick<KeptChannel, 'channel' | 'lastAt'> & Partial<KeptChannel>): ChannelInfo {
    const rule = this.#host.rules.match(channel)?.rule;
    const present = this.#channels.get(channel);
    const head = present?.head ?? recorded;
    const lastAtMs = present?.lastAtMs ?? lastAt;
    return {
      channel,
      ...(rule === undefined ? {} : { pattern: rule.pattern, logbook: rule.logbook.type }),
      ...defined({ about: rule?.about }),
      ...(rule?.presence === undefined ? {} : { presence: true }),
      ...(rule?.board === undefined ? {} : { board: true }),
      entered: present?.recipients ?? 0,
      ...(head === undefined ? {} : { cursor: formatCursor(head) }),
      ...defined({ lastAtMs }),
    };
  }

  #hostOf(match: RuleMatch): ChannelHost {
    const { options, wheel, clock, relay, report, fanout, counters, traces, features } = this.#host;
    return {
      clock,
      relay,
      report,
      fanout,
      counters,
      traces,
      features,
      log: this.logOf(match),
      windowMessages: options.tailMessages,
      windowChars: options.tailChars,
      windowResized: this.#windowResized,
      after: (delayMs, act) => wheel.after(delayMs, act),
    };
  }

  readonly #windowResized = (chars: number): void => {
    this.#heldChars += chars;
    const max = this.#host.options.tailsChars;
    if (this.#heldChars <= max || this.#isCutting) return;
    // The largest first, so that one busy channel does not cost the others what they hold ready.
    this.#isCutting = true;
    const largestFirst = [...this.#channels.values()].sort((a, b) => b.windowChars - a.windowChars);
    for (const channel of largestFirst) {
      if (this.#heldChars <= max * windowsPart) break;
      channel.halveWindow();
    }
    this.#isCutting = false;
  };

  #lookLater(): void {
    this.#host.wheel.after(lookMs, () => {
      if (this.#closed) return;
      if (this.#look.length === 0) this.#look = [...this.#channels.keys()];
      void this.#lookAt(this.#look.splice(0, Math.ceil(this.#channels.size / (lookRoundMs / lookMs))));
      this.#lookLater();
    });
  }

  /** Looks whether the record has messages that no instance announced: the last before a break, or before an end. */
  async #lookAt(names: readonly ChannelName[]): Promise<void> {
    const { relay, store, report } = this.#host;
    if (relay.isCut) return;
    const channels = names.flatMap((name) => this.#channels.get(name) ?? []);
    for (const log of [store, relay.recent]) {
      const here = channels.filter(({ match }) => this.logOf(match) === log);
      for (let from = 0; from < here.length; from += lookChannels) {
        const some = here.slice(from, from + lookChannels);
        try {
          const heads = await log.heads(some.map(({ name }) => name));
          for (const [index, channel] of some.entries()) channel.lookAt(heads[index] as Place);
        } catch (error) {
          if (!relay.isCut) report(error, { event: 'channel-check-failed' });
        }
      }
    }
  }
}
