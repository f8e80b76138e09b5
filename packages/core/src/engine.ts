import {
  type Author,
  type ChannelName,
  type Cursor,
  closeCodes,
  formatCursor,
  type Json,
  type Published,
  problem,
  refusal,
} from '@nine-bells/wire';
import type { Act } from './access/access.js';
import { type Explanation, explain } from './access/explain.js';
import { Channel } from './channel/channel.js';
import { type ChannelRule, ChannelRules, type RuleMatch } from './channel/channelRule.js';
import { Fanout } from './fanout/fanout.js';
import type { Identity } from './identity.js';
import type { Appended, LogSlice, Place, ReadLimit } from './logbook/logbook.js';
import { defaultEngineOptions, type EngineOptions } from './options.js';
import type { Clock, Ids, KeptChannel, Link, LogReader, Relay, Report, Seal, Store, TokenReader } from './ports.js';
import { Connection, type ConnectionHost, type OwnDraft } from './session/connection.js';
import { Sessions } from './session/sessions.js';
import { Wheel } from './time/wheel.js';

/** What the engine needs from outside. */
export interface EnginePorts {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly seal: Seal;
  readonly tokens: TokenReader;
  readonly relay: Relay;
  readonly store: Store;
  readonly report: Report;
}

/** What an application publishes. */
export interface ApplicationDraft {
  readonly channel: ChannelName;
  readonly data: Json;
  /** Default `message`. */
  readonly type?: string;
  readonly key?: string;
  /** The user to name as author; nobody if absent. */
  readonly by?: Author;
  /** Sessions that are not to get it. */
  readonly except?: readonly string[];
}

/** Totals since the engine began. */
export interface Counts {
  /** Messages published, over the line and by applications; repeats by key do not count. */
  messagesIn: number;
  /** Messages handed to connections. */
  deliveries: number;
  /** Requests refused on the line. */
  refusals: number;
}

/** A session with a connection, for people to look at. */
export interface SessionInfo {
  readonly session: string;
  readonly user: string;
  readonly name?: string;
  readonly guest: boolean;
  readonly oversight: boolean;
  readonly transport: string;
  readonly remote?: string;
  readonly sinceMs: number;
  readonly channels: readonly ChannelName[];
  readonly waitingBytes: number;
}

/** A channel that exists: published to and kept, or entered now. */
export interface ChannelInfo {
  readonly channel: ChannelName;
  /** The pattern of its rule; absent if no rule matches its name any more. */
  readonly pattern?: string;
  readonly about?: string;
  readonly logbook?: 'kept' | 'recent';
  /** Sessions that get its messages, on this instance. */
  readonly entered: number;
  readonly cursor?: Cursor;
  /** When its last message was taken in, in milliseconds since the epoch, where that is known. */
  readonly lastAtMs?: number;
}

/** How often sessions that are long gone are forgotten, in milliseconds. */
const sweepMs = 30_000;

/**
 * The engine of one instance: connections come in, messages go out, and everything in between is decided here.
 *
 * An object without ties to anything global; a process can hold several.
 */
export class Engine {
  readonly options: EngineOptions;
  readonly rules: ChannelRules;
  readonly counts: Counts = { messagesIn: 0, deliveries: 0, refusals: 0 };
  readonly #ports: EnginePorts;
  readonly #host: ConnectionHost;
  readonly #connections = new Set<Connection>();
  readonly #channels = new Map<ChannelName, Channel>();
  readonly #appending = new Set<Promise<unknown>>();
  readonly #wheel: Wheel;
  readonly #sessions: Sessions;
  #stopping = false;

  /** @throws {RangeError} for channel rules that do not go together */
  constructor(ports: EnginePorts, rules: readonly ChannelRule[], options: Partial<EngineOptions> = {}) {
    this.#ports = ports;
    this.options = { ...defaultEngineOptions, ...options };
    this.rules = new ChannelRules(rules);
    this.#wheel = new Wheel(ports.clock);
    this.#sessions = new Sessions(ports.clock, ports.ids, ports.seal, this.options.sessionMemoryMs);
    this.#host = {
      options: this.options,
      clock: ports.clock,
      wheel: this.#wheel,
      fanout: new Fanout(ports.clock),
      sessions: this.#sessions,
      seal: ports.seal,
      tokens: ports.tokens,
      report: ports.report,
      counts: this.counts,
      match: (channel) => this.#match(channel),
      channel: (name, match) => this.#channel(name, match),
      left: (channel) => this.#left(channel),
      log: (match) => this.#log(match),
      append: (match, draft) => this.#append(match, draft),
      ended: (connection) => this.#connections.delete(connection),
    };
    this.#sweepLater();
  }

  /** Takes a new connection. The transport tells it what comes in. */
  connect(link: Link): Connection {
    const connection = new Connection(this.#host, link);
    this.#connections.add(connection);
    if (this.#stopping) connection.close(closeCodes.drain, 'this instance is about to stop', 'drained');
    else if (this.#connections.size > this.options.connections)
      connection.close(closeCodes.tryLater, 'too-many-connections', 'refused');
    return connection;
  }

  /**
   * Publishes for an application. Resolves when the channel's promise holds: with a kept logbook after the commit.
   *
   * @throws {ProblemError} `no-such-channel`, `too-large`, `draining`, `busy`
   */
  async publish(draft: ApplicationDraft): Promise<Published> {
    const { logged, repeated } = await this.#append(this.#match(draft.channel), draft);
    const { id, cursor } = logged.message;
    return { id, cursor, ...(repeated ? { repeated } : {}) };
  }

  /**
   * Says what stands in the way of publishing a draft, without publishing it.
   *
   * @throws {ProblemError} `no-such-channel`, `too-large`
   */
  check(draft: ApplicationDraft): void {
    this.#checkSize(this.#match(draft.channel), draft);
  }

  /**
   * Reads in a channel's record, for an application: all messages, whomever they are for.
   *
   * @throws {ProblemError} `no-such-channel`
   */
  async read(channel: ChannelName, from: { after?: Place; before?: Place }, limit: ReadLimit): Promise<LogSlice> {
    const log = this.#log(this.#match(channel));
    return from.after === undefined ? log.before(channel, from.before, limit) : log.since(channel, from.after, limit);
  }

  /**
   * The channels there are, by name: kept ones that were published to, and those entered here now.
   *
   * @param after - only names that come after this one
   */
  async channels(after: string, limit: number): Promise<readonly ChannelInfo[]> {
    const all = new Map<ChannelName, ChannelInfo>();
    for (const kept of await this.#ports.store.channels(after, limit)) all.set(kept.channel, this.#describe(kept));
    for (const [channel, { entrants }] of this.#channels)
      if (entrants > 0 && channel > after && !all.has(channel)) all.set(channel, this.#describe({ channel }));
    return [...all.values()].sort((a, b) => (a.channel < b.channel ? -1 : 1)).slice(0, limit);
  }

  /**
   * One channel, whether or not there is anything in it yet.
   *
   * @throws {ProblemError} `no-such-channel`
   */
  async channel(channel: ChannelName): Promise<ChannelInfo> {
    const head = await this.#log(this.#match(channel)).head(channel);
    return this.#describe({ channel, ...(head.number === 0 ? {} : { head }) });
  }

  /**
   * Says which rule decides whether somebody may do something, on which facts.
   *
   * @param who - a guest where there is nobody: refused as `no-guests` where none are let in
   */
  explain(act: Act, channel: ChannelName, who: Identity): Explanation {
    const explanation = explain(this.rules, act, channel, who);
    if (!who.guest || this.options.guests) return explanation;
    return { ...explanation, allowed: false, problem: problem('no-guests', 'guests are not let in at all') };
  }

  /** Who a session is that is connected to this instance. */
  identityOf(session: string): Identity | undefined {
    for (const connection of this.#connections) if (connection.session === session) return connection.who;
    return undefined;
  }

  /** The sessions that have a connection to this instance. */
  sessions(): readonly SessionInfo[] {
    const all: SessionInfo[] = [];
    for (const connection of this.#connections) {
      const { who, link } = connection;
      if (who === undefined) continue;
      all.push({
        session: connection.session,
        user: who.user,
        ...(who.name === undefined ? {} : { name: who.name }),
        guest: who.guest,
        oversight: who.oversight === true,
        transport: link.transport,
        ...(link.remote === undefined ? {} : { remote: link.remote }),
        sinceMs: connection.sinceMs,
        channels: connection.channels,
        waitingBytes: connection.waitingBytes,
      });
    }
    return all;
  }

  get connections(): number {
    return this.#connections.size;
  }

  /** Channels that somebody here has entered. */
  get enteredChannels(): number {
    let count = 0;
    for (const channel of this.#channels.values()) if (channel.entrants > 0) count += 1;
    return count;
  }

  /** Resolves when everything pushed so far has been handed to the transports that could take it. */
  flushed(): Promise<void> {
    return this.#host.fanout.whenIdle();
  }

  /** Lets nobody new in, says goodbye to everyone, and resolves when everything under way has been decided. */
  async stop(): Promise<void> {
    this.#stopping = true;
    for (const connection of [...this.#connections])
      connection.close(closeCodes.drain, 'this instance is about to stop', 'drained');
    await Promise.allSettled([...this.#appending]);
    for (const channel of this.#channels.values()) channel.close();
    this.#wheel.stop();
  }

  // ------------------------------------------------------------------------------------------------ inside

  #match(channel: ChannelName): RuleMatch {
    const match = this.rules.match(channel);
    if (match === undefined) throw refusal('no-such-channel', `no channel rule matches ${channel}`);
    return match;
  }

  #log(match: RuleMatch): LogReader {
    return match.rule.logbook.keep === 'kept' ? this.#ports.store : this.#ports.relay.recent;
  }

  #checkSize(match: RuleMatch, draft: OwnDraft): void {
    const limit = match.rule.dataBytes ?? this.options.dataBytes;
    const bytes = utf8Bytes(JSON.stringify(draft.data));
    if (bytes > limit)
      throw refusal('too-large', `data has ${bytes} bytes, at most ${limit} are allowed here`, { where: '/data' });
  }

  async #append(match: RuleMatch, draft: OwnDraft): Promise<Appended> {
    this.#checkSize(match, draft);
    if (this.#stopping)
      throw refusal('draining', 'publish again on another instance, or later', { retryAfterMs: 1000 });
    const appended = this.#record(match, draft);
    this.#appending.add(appended);
    try {
      const result = await appended;
      if (!result.repeated) this.counts.messagesIn += 1;
      return result;
    } finally {
      this.#appending.delete(appended);
    }
  }

  /** Gives the draft its place in the channel's order, by whoever keeps the channel. */
  async #record(match: RuleMatch, own: OwnDraft): Promise<Appended> {
    const { clock, ids, relay, store } = this.#ports;
    const atMs = clock.now();
    const draft = {
      id: ids.message(atMs),
      type: own.type ?? 'message',
      atMs,
      data: own.data,
      ...(own.key === undefined ? {} : { key: own.key }),
      ...(own.by === undefined ? {} : { by: own.by }),
      ...(own.except === undefined ? {} : { except: own.except }),
    };
    const { logbook } = match.rule;
    if (logbook.keep === 'recent') return relay.append(own.channel, draft, logbook.bounds);
    const appended = await store.append(own.channel, draft);
    if (!appended.repeated) relay.announce(own.channel, [appended.logged]);
    return appended;
  }

  #channel(name: ChannelName, match: RuleMatch): Channel {
    let channel = this.#channels.get(name);
    if (channel === undefined) {
      channel = new Channel(name, match, {
        log: this.#log(match),
        tailMessages: this.options.tailMessages,
        counts: this.counts,
        report: this.#ports.report,
        now: () => this.#ports.clock.now(),
        after: (delayMs, act) => void this.#wheel.after(delayMs, act),
      });
      this.#channels.set(name, channel);
      const opened = channel;
      this.#ports.relay.want(name, (messages) => opened.receive(messages));
    }
    return channel;
  }

  /** A channel without entrants stays at hand for a while: clients that lost their connection come back together. */
  #left(channel: Channel): void {
    if (!channel.isUnused || channel.lingers) return;
    channel.lingers = true;
    this.#wheel.after(this.options.channelLingerMs, () => {
      channel.lingers = false;
      if (!channel.isUnused || this.#channels.get(channel.name) !== channel) return;
      channel.close();
      this.#channels.delete(channel.name);
      this.#ports.relay.unwant(channel.name);
    });
  }

  #describe({
    channel,
    head: recorded,
    lastAt,
  }: Pick<KeptChannel, 'channel' | 'lastAt'> & Partial<KeptChannel>): ChannelInfo {
    const rule = this.rules.match(channel)?.rule;
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

  #sweepLater(): void {
    this.#wheel.after(sweepMs, () => {
      this.#sessions.sweep();
      this.#sweepLater();
    });
  }
}

const utf8 = new TextEncoder();

function utf8Bytes(text: string): number {
  return utf8.encode(text).length;
}
