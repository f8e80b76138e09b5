import { type Author, type ChannelName, formatCursor } from '@nine-bells/wire';
import type { Fanout } from '../delivery/fanout.js';
import type { Wheel } from '../lib/timerWheel.js';
import type { Counts } from '../model/counters.js';
import type { ChannelInfo } from '../model/info.js';
import type { KeptChannel, Place } from '../model/message.js';
import type { EngineOptions } from '../model/options.js';
import type { Clock } from '../ports/clock.js';
import type { Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { LogReader, Store } from '../ports/stores.js';
import { Noting } from '../presence/noting.js';
import type { Traces } from '../record/traces.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';
import { Channel, type ChannelPorts } from './channel.js';

export interface ChannelsHost {
  readonly options: Pick<EngineOptions, 'tailMessages' | 'tailChars' | 'tailsChars' | 'marksShown' | 'channelLingerMs'>;
  readonly rules: ChannelRules;
  readonly clock: Clock;
  readonly wheel: Wheel;
  readonly relay: Relay;
  readonly store: Store;
  readonly report: Report;
  readonly fanout: Fanout;
  readonly counts: Counts;
  readonly traces: Traces;
  /** Notes in the logbook that somebody has come or gone, where the rule wants it. */
  readonly note: (match: RuleMatch, type: 'joined' | 'left', by: Author) => void;
}

/** How often some of the channels are looked at in the record, and how long until it was all of them, in milliseconds. */
const lookMs = 500;
const lookRoundMs = 5_000;
/** The part of the bound for messages held ready that is left after some were let go. */
const tailsPart = 3 / 4;
/** Channels looked at in one call. */
const lookChannels = 500;
/** After how many rounds the others are reminded where a table of members stands. */
const remindRounds = 3;
/** Numbers that a table of members has for itself. */
const tableStride = 1_000_000;
/** A claim to clean up after an instance holds for so long, in milliseconds. */
const claimMs = 600_000;
/** How long others have to give their tables of members, in milliseconds. */
const tableWithinMs = 500;

/** The channels that somebody on this instance has entered, and for a while those that everybody has left. */
export class Channels implements Iterable<Channel> {
  readonly #host: ChannelsHost;
  readonly #channels = new Map<ChannelName, Channel>();
  readonly #noting: Noting;
  /** Where the round of looks at the record stands. */
  #look: ChannelName[] = [];
  #lookRounds = 0;
  /** Tables opened so far: one that is opened again is numbered higher than all before. */
  #tableBase = 0;
  #closed = false;
  /** The characters of the messages that all channels hold ready. */
  #tailsChars = 0;
  #isCutting = false;

  constructor(host: ChannelsHost) {
    this.#host = host;
    this.#noting = new Noting({
      clock: host.clock,
      wheel: host.wheel,
      note: host.note,
      logOf: (match) => this.logOf(match),
    });
    if (host.relay.others !== undefined) this.#lookLater();
  }

  [Symbol.iterator](): Iterator<Channel> {
    return this.#channels.values();
  }

  /** Channels that somebody here has entered. */
  get entered(): number {
    let count = 0;
    for (const channel of this.#channels.values()) if (channel.entrants > 0) count += 1;
    return count;
  }

  get size(): number {
    return this.#channels.size;
  }

  /** The characters of the messages that all channels hold ready. */
  get heldChars(): number {
    return this.#tailsChars;
  }

  get(name: ChannelName): Channel | undefined {
    return this.#channels.get(name);
  }

  /** The record of the channels of a rule. */
  logOf({ rule }: RuleMatch): LogReader {
    return rule.logbook.keep === 'kept' ? this.#host.store : this.#host.relay.recent;
  }

  /** The channel as somebody here has entered or enters it. */
  open(name: ChannelName, match: RuleMatch): Channel {
    let channel = this.#channels.get(name);
    if (channel === undefined) {
      channel = new Channel(name, match, this.#portsOf(name, match));
      this.#channels.set(name, channel);
    }
    return channel;
  }

  /** A channel without entrants stays at hand for a while: clients that lost their connection come back together. */
  left(channel: Channel): void {
    if (!channel.isUnused || channel.lingers) return;
    channel.lingers = true;
    const { wheel, relay, options } = this.#host;
    wheel.after(options.channelLingerMs, () => {
      channel.lingers = false;
      if (!channel.isUnused || this.#channels.get(channel.name) !== channel) return;
      channel.close();
      this.#channels.delete(channel.name);
      relay.unwant(channel.name);
    });
  }

  /** An instance is not there any more. */
  gone(holder: string): void {
    for (const channel of this.#channels.values()) channel.gone(holder);
  }

  /** What was carried meanwhile may be lost, and the others may have taken this instance for dead. */
  resumed(): void {
    for (const { tables } of this.#channels.values()) {
      tables?.remind();
      void tables?.pull();
    }
    this.#look = [...this.#channels.keys()];
    void this.#lookAt(this.#look.splice(0));
  }

  /** Nothing is read or passed on any more. */
  close(): void {
    this.#closed = true;
    for (const channel of this.#channels.values()) channel.close();
  }

  /** What can be said of a channel here; `head` and `lastAt` as they were read in the record. */
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
      ...(rule === undefined ? {} : { pattern: rule.pattern, logbook: rule.logbook.keep }),
      ...(rule?.about === undefined ? {} : { about: rule.about }),
      entered: present?.entrants ?? 0,
      ...(head === undefined ? {} : { cursor: formatCursor(head) }),
      ...(lastAtMs === undefined ? {} : { lastAtMs }),
    };
  }

  #portsOf(name: ChannelName, match: RuleMatch): ChannelPorts {
    const { options, clock, wheel, relay, store, report, fanout, counts, traces } = this.#host;
    return {
      log: this.logOf(match),
      tailMessages: options.tailMessages,
      tailChars: options.tailChars,
      tailGrew: this.#tailGrew,
      marksShown: options.marksShown,
      readMarks: (limit) => store.marks(name, limit),
      counts,
      gather: (act) => fanout.gather(act),
      root: () => fanout.root,
      handed: (logged, connections) => traces.handed(logged, connections),
      report,
      now: () => clock.now(),
      after: (delayMs, act) => wheel.after(delayMs, act),
      noted: (noting, change, author, isBack) => this.#noting.noted(noting.match, change, author, isBack),
      empty: (emptied) => this.left(emptied),
      abandoned: (emptied, home, author) => void this.#abandoned(emptied, home, author),
      want: (wanting) =>
        relay.want(
          name,
          (messages) => wanting.receive(messages),
          (signal) => wanting.hear(signal),
        ),
      ...this.#tablePorts(name),
    };
  }

  readonly #tailGrew = (chars: number): void => {
    this.#tailsChars += chars;
    const most = this.#host.options.tailsChars;
    if (this.#tailsChars <= most || this.#isCutting) return;
    // The largest first, so that one busy channel does not cost the others what they hold ready.
    this.#isCutting = true;
    const largestFirst = [...this.#channels.values()].sort((a, b) => b.tailChars - a.tailChars);
    for (const channel of largestFirst) {
      if (this.#tailsChars <= most * tailsPart) break;
      channel.cutTail(this.#host.options.tailMessages, channel.tailChars / 2);
    }
    this.#isCutting = false;
  };

  #tablePorts(channel: ChannelName): Pick<ChannelPorts, 'tables'> {
    const { relay, clock, wheel } = this.#host;
    const { others } = relay;
    if (others === undefined) return {};
    return {
      tables: {
        self: () => others.self,
        cast: (word) => relay.cast(word),
        ask: () => others.ask({ ask: 'table', channel }, tableWithinMs),
        soon: (act) => clock.endOfTurn(act),
        base: () => this.#tableBase++ * tableStride,
        after: (delayMs, act) => wheel.after(delayMs, act),
      },
    };
  }

  /** Somebody was on an instance that is not there any more, and has not come back: one of those left notes it. */
  async #abandoned(channel: Channel, home: string, author: Author): Promise<void> {
    if (!channel.match.rule.presence?.noted) return;
    const { others } = this.#host.relay;
    const isFirst = await others?.claim(`left ${home} ${channel.name} ${author.user}`, claimMs).catch(() => false);
    if (isFirst) this.#noting.noted(channel.match, 'left', author, false);
  }

  #lookLater(): void {
    this.#host.wheel.after(lookMs, () => {
      if (this.#closed) return;
      if (this.#look.length === 0) {
        this.#look = [...this.#channels.keys()];
        this.#lookRounds += 1;
      }
      const some = this.#look.splice(0, Math.ceil(this.#channels.size / (lookRoundMs / lookMs)));
      void this.#lookAt(some);
      for (const name of some) this.#channels.get(name)?.tables?.look(this.#lookRounds % remindRounds === 0);
      this.#lookLater();
    });
  }

  /** Whether the record of channels has what nobody has announced: the last message before a break, or before an end. */
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
          if (!relay.isCut) report(error, { what: 'looking whether channels have grown' });
        }
      }
    }
  }
}
