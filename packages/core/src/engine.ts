import {
  type Author,
  type ChannelName,
  type Cursor,
  closeCodes,
  formatCursor,
  type Json,
  type Member,
  type Published,
  problem,
  refusal,
} from '@nine-bells/wire';
import { Access, type Explanation, type Ruling, type Visitor } from './access/access.js';
import { accessRuleFault, asksTheApplication } from './access/accessRule.js';
import { type Act, type UserAct, userActs } from './access/acts.js';
import type { Asker } from './access/question.js';
import { Questions } from './access/questions.js';
import { Channel, type ChannelPorts } from './channel/channel.js';
import { type ChannelRule, ChannelRules, type RuleMatch, usersOf } from './channel/channelRule.js';
import { Counts } from './counts.js';
import { Frame } from './fanout/batch.js';
import { Fanout } from './fanout/fanout.js';
import { Inboxes, type Notified } from './inbox/inboxes.js';
import type { InboxEntry, InboxSlice, KnownUser, NoticeWish } from './inbox/notice.js';
import { Everywhere, type Gathered } from './instances/everywhere.js';
import type { InstanceCard, InstanceInfo } from './instances/instance.js';
import { answerOf, type OwnSide } from './instances/ownSide.js';
import { Rates } from './instances/rates.js';
import { Door } from './limits/door.js';
import { Intake } from './logbook/intake.js';
import type { LogSlice, Place, ReadLimit } from './logbook/logbook.js';
import type { MarkStanding, UserMark } from './marks/mark.js';
import { Unread } from './marks/unread.js';
import type {
  Actor,
  AuditEntry,
  Ban,
  KeepingOut,
  Lift,
  Measure,
  Removal,
  Revocation,
  SignOut,
} from './measures/measure.js';
import { keepsOut } from './measures/measure.js';
import { Standing } from './measures/standing.js';
import { bannedProblem, removedBy } from './measures/told.js';
import { defaultEngineOptions, type EngineOptions } from './options.js';
import type {
  Clock,
  ControlEntry,
  Ids,
  KeptChannel,
  Link,
  LogReader,
  Relay,
  Report,
  Seal,
  Store,
  TokenReader,
} from './ports.js';
import type { Hail } from './presence/hail.js';
import { availability } from './presence/status.js';
import type { TableEntry } from './presence/tables.js';
import { Watching } from './presence/watching.js';
import type { Client } from './session/client.js';
import { Connection } from './session/connection.js';
import type { ConnectionHost, RemovalWish } from './session/host.js';
import { type Session, Sessions } from './session/sessions.js';
import { Pacer } from './time/pacer.js';
import { Wheel } from './time/wheel.js';
import type { StaysHere } from './trace/trace.js';
import { Traces } from './trace/traces.js';

/** What the engine needs from outside. */
export interface EnginePorts {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly seal: Seal;
  readonly tokens: TokenReader;
  readonly relay: Relay;
  readonly store: Store;
  readonly report: Report;
  /** Needed where an access rule asks the application. */
  readonly asker?: Asker;
  /** Told of notices that reached nobody's session in the time wished for. */
  readonly unreached?: (entry: InboxEntry) => void;
  /** API keys were made or revoked on another instance. */
  readonly keysChanged?: () => void;
  /** How long something took, in milliseconds: until the relay, or the database, had taken messages. */
  readonly took?: (what: 'relay' | 'commit', ms: number) => void;
  /** What only the outside knows of this instance, for its card. */
  readonly facts?: () => Partial<InstanceCard>;
}

/** Whom to keep out, and from what. */
export interface BanWish {
  /** A user id, or else an address. */
  readonly user?: string;
  readonly address?: string;
  /** Absent: from the whole service. */
  readonly channel?: ChannelName;
  /** For how long, in milliseconds; absent: until it is lifted. */
  readonly forMs?: number;
  readonly reason?: string;
}

/** A measure, and how many sessions it has reached at once. */
export interface Effect<M extends Measure = Measure> {
  readonly measure: M;
  readonly sessions: number;
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

/** A session with a connection, for people to look at. */
export interface SessionInfo {
  readonly session: string;
  /** The instance that it is connected to. */
  readonly instance: string;
  readonly user: string;
  readonly name?: string;
  readonly guest: boolean;
  readonly oversight: boolean;
  readonly transport: string;
  readonly remote?: string;
  readonly sinceMs: number;
  readonly channels: readonly ChannelName[];
  readonly waitingBytes: number;
  /** How long the client took to answer the last ping; absent before the first answer. */
  readonly roundTripMs?: number;
}

/** A channel where a user is a member. */
export interface Membership {
  readonly channel: ChannelName;
  readonly member: Member;
}

/** A channel that exists: published to and kept, or entered now. */
export interface ChannelInfo {
  readonly channel: ChannelName;
  /** The pattern of its rule; absent if no rule matches its name any more. */
  readonly pattern?: string;
  readonly about?: string;
  readonly logbook?: 'kept' | 'recent';
  /** Sessions that get its messages. */
  readonly entered: number;
  readonly cursor?: Cursor;
  /** When its last message was taken in, in milliseconds since the epoch, where that is known. */
  readonly lastAtMs?: number;
}

const nobody: ReadonlySet<Connection> = new Set();
/** How often what is over is forgotten, in milliseconds: sessions, bans, answers. */
const sweepMs = 30_000;
/** How long to wait before measures that could not be read are tried again, in milliseconds. */
const readAgainMs = 1_000;
/** How often some of the channels are looked at in the record, and how long until it was all of them, in milliseconds. */
const lookMs = 500;
const lookRoundMs = 5_000;
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
/** How often a draining engine looks whether everybody has gone, in milliseconds. */
const drainLookMs = 50;

/**
 * The engine of one instance: connections come in, messages go out, and everything in between is decided here.
 *
 * An object without ties to anything global; a process can hold several.
 */
export class Engine {
  readonly options: EngineOptions;
  readonly rules: ChannelRules;
  readonly counts = new Counts();
  readonly #ports: EnginePorts;
  readonly #host: ConnectionHost;
  readonly #connections = new Set<Connection>();
  readonly #channels = new Map<ChannelName, Channel>();
  readonly #intake: Intake;
  readonly #wheel: Wheel;
  readonly #sessions: Sessions;
  readonly #standing: Standing;
  readonly #questions: Questions;
  readonly #access: Access;
  readonly #door: Door;
  readonly #inboxes: Inboxes;
  readonly #watching: Watching;
  readonly #unread: Unread;
  /** What all instances know together. */
  readonly everywhere: Everywhere;
  readonly #claimed = new Set<string>();
  readonly #rates: Rates;
  readonly #traces: Traces;
  readonly #startedAtMs: number;
  /** Where the round of looks at the record stands. */
  #look: ChannelName[] = [];
  #lookRounds = 0;
  /** Tables opened so far: one that is opened again is numbered higher than all before. */
  #tableBase = 0;
  /** Connections of users, to find them and to count them; guests are few to a user, and not here. */
  readonly #byUser = new Map<string, Set<Connection>>();
  #ready: Promise<void> | undefined;
  #draining = false;
  #stopping = false;

  /** @throws {RangeError} for channel rules that do not go together, or that ask where nobody can be asked */
  constructor(ports: EnginePorts, rules: readonly ChannelRule[], options: Partial<EngineOptions> = {}) {
    this.#ports = ports;
    this.options = { ...defaultEngineOptions, ...options };
    this.rules = new ChannelRules(rules);
    this.#wheel = new Wheel(ports.clock);
    const { others } = ports.relay;
    this.#startedAtMs = ports.clock.now();
    this.#traces = new Traces(() => ports.clock.now(), this.options.traces);
    this.#rates = new Rates(ports.clock, this.counts);
    this.#sessions = new Sessions(
      ports.clock,
      ports.ids,
      ports.seal,
      this.options.sessionMemoryMs,
      others && ((session) => this.#cameFromElsewhere(session)),
    );
    const own = this.#ownSide();
    this.everywhere = new Everywhere(this.options.instance, own, others);
    this.#standing = new Standing(ports.clock);
    const { clock, ids, relay, store, report, asker, took } = ports;
    const direct = (match: RuleMatch, by: Author | undefined) => this.#tellParties(match, by);
    this.#intake = new Intake(
      { clock, ids, relay, store, counts: this.counts, traces: this.#traces, took, direct },
      this.options,
    );
    this.#questions = new Questions({ clock, report, asker, withinMs: this.options.askWithinMs });
    this.#access = new Access(this.rules, this.options.users, this.#standing, this.#questions);
    this.#door = new Door(clock, this.options);
    this.#watching = new Watching(this.#wheel, (user) => this.#clientsOf(user), others);
    this.#unread = new Unread({ clock, wheel: this.#wheel, store: ports.store, relay: ports.relay, report });
    this.#inboxes = new Inboxes({
      clock,
      ids: ports.ids,
      wheel: this.#wheel,
      store: ports.store,
      relay: ports.relay,
      report,
      unreached: ports.unreached,
      push: (user, frame) => this.#pushTo(user, frame),
      membersOf: async (channel) =>
        (await this.membersEverywhere(channel, Number.MAX_SAFE_INTEGER)).members.map(({ user }) => user),
      everywhere: this.everywhere,
      availabilityOf: (user) => {
        const status = this.#watching.statusOf(user);
        return status === null ? undefined : availability(status);
      },
    });
    this.#checkRules();
    ports.relay.followUsers((word) => {
      if (word.say === 'marked') this.#unread.marked(word.user, word.standing);
      else if (word.say === 'begun') this.#unread.begun(word.users, word.channel);
      else this.#inboxes.hear(word);
    });
    ports.relay.followGrowth((growth) => this.#unread.grew(growth));
    ports.relay.control.follow(
      (entry) => this.#heed(entry),
      () => void this.#readAgain(),
    );
    others?.follow({
      answer: (question) => answerOf(own, question),
      hear: (from, word) => {
        if (word.say === 'reached') this.#inboxes.reachedElsewhere(word.user, word.id);
        else this.#watching.hear(from, word);
      },
      gone: (holder) => {
        this.#watching.gone(holder);
        for (const channel of this.#channels.values()) channel.gone(holder);
      },
      resumed: () => this.#resumed(),
      card: () => this.card,
    });
    void this.ready();
    if (others !== undefined) this.#lookLater();
    this.#host = {
      options: this.options,
      clock: ports.clock,
      wheel: this.#wheel,
      pacer: new Pacer(clock, this.#wheel, this.options.pulseMs / 2),
      fanout: new Fanout(ports.clock),
      sessions: this.#sessions,
      seal: ports.seal,
      tokens: ports.tokens,
      report: ports.report,
      counts: this.counts,
      access: this.#access,
      standing: this.#standing,
      door: this.#door,
      directPrefix: directPrefixOf(this.rules),
      mayBegin: (match, visitor) => this.#mayBegin(match, visitor),
      inboxes: this.#inboxes,
      watching: this.#watching,
      unread: this.#unread,
      mark: (user, match, place) => this.#mark(user, match, place),
      inbox: (user, after, limit) => this.inbox(user, after, limit),
      mayAdmit: () => ports.relay.control.isFresh,
      ready: () => this.ready(),
      connectionsOf: (user) => this.#connectionsOf(user).size,
      welcomed: (connection) => this.#welcomed(connection),
      remove: async (wish, by) => (await this.remove(wish, by)).measure,
      match: (channel) => this.#match(channel),
      channel: (name, match) => this.#channel(name, match),
      left: (channel) => this.#left(channel),
      log: (match) => this.#log(match),
      hail: (match, hail) => this.#hail(match, hail),
      append: (match, draft) => this.#intake.append(match, draft),
      ended: (connection) => this.#ended(connection),
      traces: this.#traces,
    };
    this.#sweepLater();
  }

  /** Takes a new connection. The transport tells it what comes in. */
  connect(link: Link): Connection {
    const connection = new Connection(this.#host, link);
    this.#connections.add(connection);
    const refused = this.#door.came(link.remote);
    const ban = this.#standing.keepingOutFrom(link.remote);
    if (this.#draining || this.#stopping)
      connection.close(closeCodes.drain, 'this instance is about to stop', 'drained');
    else if (!this.#ports.relay.control.isFresh)
      connection.close(closeCodes.tryLater, 'this instance is cut off from the others', 'refused');
    else if (ban !== undefined) connection.signOut(bannedProblem(ban));
    else if (refused !== undefined) connection.close(closeCodes.tryLater, refused, 'refused');
    else if (this.#connections.size > this.options.connections)
      connection.close(closeCodes.tryLater, 'too-many-connections', 'refused');
    return connection;
  }

  /**
   * Publishes for an application. Resolves when the channel's promise holds: with a kept logbook after the commit.
   *
   * @throws {ProblemError} `no-such-channel`, `too-large`, `draining`, `busy`, `unavailable`
   */
  async publish(draft: ApplicationDraft): Promise<Published> {
    const { logged, repeated } = await this.#intake.append(this.#match(draft.channel), draft);
    const { id, cursor } = logged;
    return { id, cursor, ...(repeated ? { repeated } : {}) };
  }

  /**
   * Says what stands in the way of publishing a draft, without publishing it.
   *
   * @throws {ProblemError} `no-such-channel`, `too-large`
   */
  check(draft: ApplicationDraft): void {
    this.#intake.checkData(this.#match(draft.channel), draft.data);
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
   * The channels there are, by name: kept ones that were published to, and those that somebody has entered now.
   *
   * @param after - only names that come after this one
   */
  async channels(after: string, limit: number): Promise<readonly ChannelInfo[]> {
    const all = new Map<ChannelName, ChannelInfo>();
    const { channels: entered } = await this.everywhere.entered(after, limit);
    for (const kept of await this.#ports.store.channels(after, limit))
      all.set(kept.channel, { ...this.#describe(kept), entered: entered.get(kept.channel)?.entered ?? 0 });
    for (const [channel, info] of entered) if (!all.has(channel)) all.set(channel, info);
    return [...all.values()].sort((a, b) => (a.channel < b.channel ? -1 : 1)).slice(0, limit);
  }

  /**
   * One channel, whether or not there is anything in it yet.
   *
   * @throws {ProblemError} `no-such-channel`
   */
  async channel(channel: ChannelName): Promise<ChannelInfo> {
    const head = await this.#log(this.#match(channel)).head(channel);
    const entered = await this.everywhere.entrants(channel);
    return { ...this.#describe({ channel, ...(head.number === 0 ? {} : { head }) }), entered };
  }

  /**
   * Says which rule decides whether somebody may do something, on which facts.
   *
   * @param where - a channel's name; for acts that concern a user, that user's id
   * @param visitor - a guest where there is nobody: refused as `no-guests` where none are let in
   */
  async explain(act: Act, where: string, visitor: Visitor): Promise<Explanation> {
    const explanation = await this.#explainBegun(act, await this.#access.explain(act, where, visitor), visitor);
    if (!visitor.who.guest || this.options.guests) return explanation;
    return { ...explanation, allowed: false, problem: problem('no-guests', 'guests are not let in at all') };
  }

  /** Who a session is that is connected to this instance, and where from. */
  async visitorOf(session: string): Promise<Visitor | undefined> {
    const found = await this.everywhere.visitor(session);
    return found === undefined ? undefined : { who: found.who, address: found.address ?? undefined };
  }

  // -------------------------------------------------------------------------------------------- instances

  /** What this instance says of itself. */
  get card(): InstanceCard {
    return {
      instance: this.options.instance,
      sinceMs: this.#startedAtMs,
      connections: this.connections,
      channels: this.enteredChannels,
      messagesIn: this.counts.messagesIn,
      deliveries: this.counts.deliveries,
      refusals: this.counts.refusals,
      ...this.#rates.perS,
      draining: this.draining,
      ...this.#ports.facts?.(),
    };
  }

  /** Where the other instance is that a session is connected to; `undefined` if none has it. */
  async homeOf(session: string): Promise<string | undefined> {
    const holder = await this.everywhere.homeOf(session);
    return this.instances.find((each) => each.holder === holder)?.address;
  }

  /** Whether this call is the first within `ttlMs` to claim a name, on any instance. */
  async claim(name: string, ttlMs: number): Promise<boolean> {
    const { others } = this.#ports.relay;
    if (others !== undefined) return others.claim(name, ttlMs);
    if (this.#claimed.has(name)) return false;
    this.#claimed.add(name);
    this.#wheel.after(ttlMs, () => this.#claimed.delete(name));
    return true;
  }

  /** The instances of the service, this one included, by name. */
  get instances(): readonly InstanceInfo[] {
    const { others } = this.#ports.relay;
    const here = { ...this.card, holder: others?.self ?? this.options.instance, isThis: true, leaseMs: 0 };
    const all = others?.list() ?? [];
    return all.some(({ isThis }) => isThis) ? all : [here, ...all];
  }

  /** Texts of other instances, and of this one's own that come back, that the relay has handed to this one. */
  get relayedTexts(): number {
    return this.#ports.relay.others?.heard ?? 0;
  }

  /** Whether new connections are let in: it is not about to stop, and knows what is in force. */
  get isOpen(): boolean {
    return !this.draining && this.#ports.relay.control.isFresh;
  }

  /**
   * Who is in a channel, on all instances: the first `limit` of them, and how many there are.
   *
   * @throws {ProblemError} `no-such-channel`; `bad-value` if the channel does not show who is there
   */
  membersEverywhere(
    channel: ChannelName,
    limit: number,
  ): Promise<Gathered<{ members: readonly Member[]; count: number }>> {
    this.members(channel, 0);
    return this.everywhere.members(channel, limit);
  }

  // ---------------------------------------------------------------------------------------------- measures

  /** Resolves when the measures of before are known. Until then nobody is let in. */
  ready(): Promise<void> {
    this.#ready ??= this.#readMeasures();
    return this.#ready;
  }

  /**
   * Keeps somebody out, of a channel or of the whole service; whoever is there goes at once.
   *
   * @throws {ProblemError} `no-such-channel`, `bad-value`, `unavailable`
   */
  ban(wish: BanWish, by: Actor): Promise<Effect<Ban>> {
    if ((wish.user === undefined) === (wish.address === undefined))
      throw refusal('bad-value', 'a ban is of a user or of an address', { where: '/user' });
    if (wish.channel !== undefined) this.#match(wish.channel);
    const { forMs, ...whom } = wish;
    return this.#take({ did: 'ban', ...whom, ...this.#taken(by, wish.reason), ...this.#until(forMs) });
  }

  /**
   * Ends a ban before its time.
   *
   * @throws {ProblemError} `bad-value` if there is no such ban in force; `unavailable`
   */
  lift(id: string, by: Actor, reason?: string): Promise<Effect<Lift>> {
    const ban = this.#standing.byId(id);
    if (ban === undefined) throw refusal('bad-value', 'no ban of this id is in force');
    const { user, channel } = ban;
    const address = ban.did === 'ban' ? ban.address : undefined;
    return this.#take({
      did: 'lift',
      ban: id,
      ...(user === undefined ? {} : { user }),
      ...(address === undefined ? {} : { address }),
      ...(channel === undefined ? {} : { channel }),
      ...this.#taken(by, reason),
    });
  }

  /** The bans in force, the latest first. */
  get bans(): readonly KeepingOut[] {
    return this.#standing.all;
  }

  /**
   * Ends a user's stay in a channel; with `banMs` it may not come back for so long.
   *
   * @throws {ProblemError} `no-such-channel`, `unavailable`
   */
  remove({ channel, user, reason, banMs }: RemovalWish, by: Actor): Promise<Effect<Removal>> {
    this.#match(channel);
    return this.#take({ did: 'remove', channel, user, ...this.#taken(by, reason), ...this.#until(banMs || undefined) });
  }

  /**
   * Ends all sessions of a user; tokens issued until now are not taken any more.
   *
   * @throws {ProblemError} `unavailable`
   */
  signOut(user: string, by: Actor, reason?: string): Promise<Effect<SignOut>> {
    return this.#take({ did: 'sign-out', user, ...this.#taken(by, reason) });
  }

  /**
   * Takes no token of a user any more that was issued until now; connections that were opened with one end.
   *
   * @throws {ProblemError} `unavailable`
   */
  revokeTokens(user: string, by: Actor, reason?: string): Promise<Effect<Revocation>> {
    return this.#take({ did: 'revoke-tokens', user, ...this.#taken(by, reason) });
  }

  // ----------------------------------------------------------------------------------------------- notices

  /**
   * Notifies users: into their inboxes, and to those of their sessions that are connected.
   *
   * @throws {ProblemError} `bad-value`, `too-large`, `no-such-channel`, `unavailable`
   */
  notify(wish: NoticeWish): Promise<Notified> {
    return this.#inboxes.notify(wish);
  }

  /** What is in a user's inbox after a place, oldest first. */
  inbox(user: string, after: Place | undefined, limit: number): Promise<InboxSlice> {
    return this.#ports.store.inbox(user, after, limit, this.#ports.clock.now());
  }

  /** Takes notices out of a user's inbox: these, or all. Gives how many are left. */
  done(user: string, ids: readonly string[] | true): Promise<number> {
    return this.#inboxes.done(user, ids);
  }

  /** A user as last seen; `undefined` if the service has never met it. */
  user(id: string): Promise<KnownUser | undefined> {
    return this.#ports.store.user(id);
  }

  // ------------------------------------------------------------------------------------------- read marks

  /**
   * Moves a user's mark in a kept channel forward, or takes it away. One that lies behind the mark there is changes
   * nothing; what comes back says how it stands.
   *
   * @throws {ProblemError} `no-such-channel`, `bad-value` if the channel is not kept, `bad-cursor` if it has no such
   *   message, `too-many-channels`, `busy`
   */
  async mark(user: string, channel: ChannelName, place: Place | null): Promise<MarkStanding> {
    return this.#mark(user, this.#match(channel), place);
  }

  /** What a user has not read, in each channel where it has a mark; by the channels' names. */
  unread(user: string): Promise<readonly MarkStanding[]> {
    return this.#ports.store.unread(user);
  }

  /**
   * The marks of users in a channel, by user id: the first `limit`.
   *
   * @throws {ProblemError} `no-such-channel`, `bad-value` if the channel is not kept
   */
  async marks(channel: ChannelName, limit: number): Promise<readonly UserMark[]> {
    checkKept(this.#match(channel));
    return this.#ports.store.marks(channel, limit);
  }

  /** The audit log: the last entries before a number, the latest first. */
  audit(before: number | undefined, limit: number): Promise<readonly AuditEntry[]> {
    return this.#ports.store.audit(before, limit);
  }

  /** The sessions that have a connection to this instance. */
  sessions(): readonly SessionInfo[] {
    const all: SessionInfo[] = [];
    for (const connection of this.#connections) {
      const { client, link } = connection;
      if (client === undefined) continue;
      const { who } = client;
      all.push({
        session: client.session,
        instance: this.options.instance,
        user: who.user,
        ...(who.name === undefined ? {} : { name: who.name }),
        guest: who.guest,
        oversight: who.oversight === true,
        transport: link.transport,
        ...(link.remote === undefined ? {} : { remote: link.remote }),
        sinceMs: connection.sinceMs,
        channels: client.channels,
        waitingBytes: connection.waitingBytes,
        ...(connection.roundTripMs === undefined ? {} : { roundTripMs: Math.round(connection.roundTripMs) }),
      });
    }
    return all;
  }

  /**
   * Who is in a channel, as far as this instance knows; the first `limit` of them, and how many there are.
   *
   * @throws {ProblemError} `no-such-channel`; `bad-value` if the channel does not show who is there
   */
  members(channel: ChannelName, limit: number): { members: readonly Member[]; count: number } {
    const { rule } = this.#match(channel);
    if (rule.presence === undefined)
      throw refusal('bad-value', `channels of the rule ${rule.pattern} do not show who is there`);
    const presence = this.#channels.get(channel)?.presence;
    return { members: presence?.all(limit) ?? [], count: presence?.count ?? 0 };
  }

  /** The channels where a user is a member, as far as this instance knows. */
  memberships(user: string): readonly Membership[] {
    const all: Membership[] = [];
    for (const [channel, { presence }] of this.#channels) {
      const member = presence?.member(user);
      if (member !== undefined) all.push({ channel, member });
    }
    return all;
  }

  /** Acts that were decided, by act: how many were allowed and how many refused. */
  get decisions(): Access['decisions'] {
    return this.#access.decisions;
  }

  /** Bytes handed to transports, and hails that found no room. */
  get written(): { readonly bytes: number; readonly hailsDropped: number } {
    const { bytesOut, hailsDropped } = this.#host.fanout;
    return { bytes: bytesOut, hailsDropped };
  }

  /** Connections, by what carries them. */
  get transports(): ReadonlyMap<string, number> {
    const all = new Map<string, number>();
    for (const { link } of this.#connections) all.set(link.transport, (all.get(link.transport) ?? 0) + 1);
    return all;
  }

  /** Messages that wait to be given their place. */
  get backlog(): number {
    return this.#intake.waiting;
  }

  /** Bytes that wait for all connections together, here and in their transports. */
  get waitingBytes(): number {
    let bytes = 0;
    for (const connection of this.#connections) bytes += connection.waitingBytes;
    return bytes;
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

  /** Whether it lets nobody new in any more. */
  get draining(): boolean {
    return this.#draining || this.#stopping;
  }

  /**
   * Lets nobody new in, and asks everyone to come back elsewhere, each at a random moment within a time. Resolves when all
   * have gone, or the time is over. What is published meanwhile is taken.
   *
   * @param withinMs - milliseconds
   */
  async drain(withinMs: number): Promise<void> {
    this.#draining = true;
    const frame = new Frame(JSON.stringify({ on: 'drain', withinMs }), true);
    for (const connection of this.#connections) connection.push(frame);
    const { clock } = this.#ports;
    for (const endMs = clock.monotonic() + withinMs; this.#connections.size > 0 && clock.monotonic() < endMs; )
      await new Promise<void>((resolve) => void this.#wheel.after(drainLookMs, resolve));
  }

  /** Lets nobody new in, says goodbye to everyone, and resolves when everything under way has been decided. */
  async stop(): Promise<void> {
    this.#stopping = true;
    const decided = this.#intake.stop();
    for (const connection of [...this.#connections])
      connection.close(closeCodes.drain, 'this instance is about to stop', 'drained');
    await decided;
    await this.#inboxes.settled();
    for (const channel of this.#channels.values()) channel.close();
    this.#wheel.stop();
  }

  // ------------------------------------------------------------------------------------------------ inside

  /** Rules that could not be asked, or would be weighed without what they name, are no rules. */
  #checkRules(): void {
    const allows = [
      ...this.rules.all.map(({ pattern, allow }) => ({ name: pattern, allow })),
      { name: 'users', allow: this.options.users },
    ];
    if (this.#ports.asker === undefined)
      for (const { name, allow } of allows)
        if (Object.values(allow).some(asksTheApplication))
          throw new RangeError(`${name}: an access rule asks the application, but there is no way to ask it`);
    for (const act of userActs as readonly UserAct[]) {
      const rule = this.options.users[act];
      const fault = rule === undefined ? undefined : accessRuleFault(rule, ['user'], act);
      if (fault !== undefined) throw new RangeError(`users, ${act}: ${fault}`);
    }
  }

  async #readMeasures(): Promise<void> {
    await this.#ports.relay.control.ready();
    for (;;) {
      try {
        this.#standing.load(await this.#ports.store.inForce(this.#ports.clock.now()));
        return;
      } catch (error) {
        this.#ports.report(error, { what: 'the measures in force could not be read' });
        await new Promise<void>((resolve) => void this.#wheel.after(readAgainMs, resolve));
      }
    }
  }

  #taken(by: Actor, reason: string | undefined): { id: string; by: Actor; atMs: number; reason?: string } {
    const { clock, ids } = this.#ports;
    return { id: ids.measure(), by, atMs: clock.now(), ...(reason === undefined ? {} : { reason }) };
  }

  #until(forMs: number | undefined): { untilMs?: number } {
    return forMs === undefined ? {} : { untilMs: this.#ports.clock.now() + forMs };
  }

  /** Commits a measure, then has all instances obey it. */
  async #take<M extends Measure>(measure: M): Promise<Effect<M>> {
    const { store, relay } = this.#ports;
    // Counted before it takes effect, which no instance that is slow to answer may hold up.
    const counting = this.everywhere.concerned(measure);
    await store.take(measure);
    await relay.control.append(measure);
    return { measure, sessions: await counting };
  }

  /** The connections here that a measure is about. */
  #concerned(measure: Measure): readonly Connection[] {
    if (measure.did === 'lift') return [];
    const address = measure.did === 'ban' ? measure.address : undefined;
    const channel = measure.did === 'ban' || measure.did === 'remove' ? measure.channel : undefined;
    const all = this.#byUser.get(measure.user ?? '') ?? this.#connections;
    return [...all].filter(
      (each) =>
        (address === undefined ? each.client?.user === measure.user : each.address === address) &&
        (channel === undefined || each.client?.isIn(channel) === true) &&
        (each.client?.who.oversight !== true || measure.did === 'sign-out'),
    );
  }

  #heed(entry: ControlEntry): void {
    if (entry.did === 'keys-changed') this.#ports.keysChanged?.();
    else if (entry.did === 'continue') {
      if (entry.by !== this.#ports.relay.others?.self) this.#sessions.continued(entry);
    } else this.#obey(entry);
  }

  /** Has all instances look again which API keys there are. */
  async keysChanged(): Promise<void> {
    await this.#ports.relay.control.append({ did: 'keys-changed' });
  }

  #cameFromElsewhere(session: Session): void {
    const { control, others } = this.#ports.relay;
    const { id, generation } = session;
    session.isBeingSaid = true;
    control
      .append({ did: 'continue', session: id, generation, by: others?.self as string })
      .catch((error: unknown) => this.#ports.report(error, { what: 'that a session continues could not be said' }))
      .finally(() => {
        session.isBeingSaid = false;
      });
  }

  /** Measures may have been missed: what is in force is read anew, and holds for everyone who is here. */
  async #readAgain(): Promise<void> {
    this.#ports.keysChanged?.();
    await this.#readMeasures();
    for (const connection of [...this.#connections]) connection.lookAgain();
  }

  /** What was carried meanwhile may be lost, and the others may have taken this instance for dead. */
  #resumed(): void {
    void this.#readAgain();
    for (const { tables } of this.#channels.values()) {
      tables?.remind();
      void tables?.pull();
    }
    this.#unread.lookAgain();
    this.#watching.lookAgain();
    this.#look = [...this.#channels.keys()];
    void this.#lookAt(this.#look.splice(0));
  }

  #lookLater(): void {
    this.#wheel.after(lookMs, () => {
      if (this.#stopping) return;
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
    const { relay, store, report } = this.#ports;
    if (relay.isCut) return;
    const channels = names.flatMap((name) => this.#channels.get(name) ?? []);
    for (const log of [store, relay.recent]) {
      const here = channels.filter(({ match }) => this.#log(match) === log);
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

  /** What the other instances are told of this one. */
  #ownSide(): OwnSide {
    return {
      table: (channel) => this.#channels.get(channel)?.tables?.own ?? this.#tableHere(channel),
      memberships: (user) =>
        [...this.#channels].flatMap(([channel, { presence }]) => {
          const entries = presence?.entriesOf(user) ?? [];
          return entries.length === 0 ? [] : { channel, entries };
        }),
      sessions: (user, limit) =>
        this.sessions()
          .filter((each) => user === undefined || each.user === user)
          .slice(-limit),
      visitor: (session) => {
        for (const { client, address } of this.#connections)
          if (client?.session === session) return { who: client.who, address: address ?? null };
        return null;
      },
      entrants: (channel) => this.#channels.get(channel)?.entrants ?? 0,
      entered: (after, limit) =>
        [...this.#channels]
          .filter(([channel, { entrants }]) => entrants > 0 && channel > after)
          .sort(([a], [b]) => (a < b ? -1 : 1))
          .slice(0, limit)
          .map(([channel]) => this.#describe({ channel })),
      standings: (users, channel) =>
        Object.fromEntries(
          users.flatMap((user) => {
            const status = this.#watching.statusHere(user);
            if (status === null) return [];
            const clients = this.#clientsOf(user);
            const isLooking = channel !== undefined && clients.some(({ looking }) => looking === channel);
            const isIn = channel !== undefined && clients.some((each) => each.isIn(channel));
            return [[user, { status, isLooking, isIn }]];
          }),
        ),
      concerned: (measure) => this.#concerned(measure).length,
      trace: (id) =>
        this.#traces.find(id, (channel, place) => {
          let confirmed = 0;
          for (const { client } of this.#connections) if (hasGot(client?.gotOf(channel), place)) confirmed += 1;
          return confirmed;
        }),
      stays: async (user, channel) => ({
        events: this.#traces.staysOf(user, channel),
        sessions: await Promise.all(this.#allOf(user).map((client) => this.#stayOf(client, channel))),
      }),
    };
  }

  /** The clients of a user, guests too. */
  #allOf(user: string): readonly Client[] {
    return [...this.#connections].flatMap(({ client }) => (client?.user === user ? client : []));
  }

  async #stayOf(client: Client, channel: ChannelName): Promise<StaysHere['sessions'][number]> {
    const { who, session } = client;
    const got = client.gotOf(channel);
    const isIn = client.isIn(channel);
    const refused = isIn ? undefined : (await this.#mayEnter(client, channel)).problem;
    return {
      session,
      ...(who.name === undefined ? {} : { name: who.name }),
      isIn,
      ...(got === undefined ? {} : { got: formatCursor(got) }),
      ...(refused === undefined ? {} : { refused }),
    };
  }

  async #mayEnter(client: Client, channel: ChannelName): Promise<Ruling> {
    const match = this.rules.match(channel);
    if (match === undefined) return { problem: problem('no-such-channel') };
    return this.#access.decide('enter', match, { who: client.who, address: undefined });
  }

  #tableHere(channel: ChannelName): { number: number; entries: readonly TableEntry[] } | null {
    const presence = this.#channels.get(channel)?.presence;
    return presence === undefined ? null : { number: 0, entries: presence.table };
  }

  /** Makes a measure take effect on this instance, in this turn. */
  #obey(measure: Measure): void {
    this.#standing.take(measure);
    for (const connection of this.#concerned(measure)) {
      if (keepsOut(measure) && measure.channel === undefined) connection.signOut(bannedProblem(measure));
      else if (measure.did === 'sign-out') connection.signOut();
      else if (measure.did === 'revoke-tokens')
        connection.close(closeCodes.tokenEnded, 'the token was revoked', 'token-ended');
      else if (measure.did === 'ban' || measure.did === 'remove') {
        connection.client?.expel(measure.channel as ChannelName, removedBy(measure));
      }
    }
  }

  #welcomed(connection: Connection): void {
    const { user, guest } = (connection.client as Client).who;
    if (guest) return;
    const all = this.#byUser.get(user) ?? new Set();
    this.#byUser.set(user, all.add(connection));
    this.#watching.changed(user);
  }

  #connectionsOf(user: string): ReadonlySet<Connection> {
    return this.#byUser.get(user) ?? nobody;
  }

  #clientsOf(user: string): readonly Client[] {
    return [...this.#connectionsOf(user)].flatMap(({ client }) => client ?? []);
  }

  /** Pushes a frame to all sessions of a user; how many there are. */
  #pushTo(user: string, frame: Frame): number {
    const all = this.#connectionsOf(user);
    for (const connection of all) connection.push(frame);
    return all.size;
  }

  #ended(connection: Connection): void {
    if (!this.#connections.delete(connection)) return;
    this.#door.went(connection.address);
    const user = connection.client?.user ?? '';
    const all = this.#byUser.get(user);
    all?.delete(connection);
    if (all?.size === 0) this.#byUser.delete(user);
    if (all !== undefined) this.#watching.changed(user);
  }

  #match(channel: ChannelName): RuleMatch {
    const match = this.rules.match(channel);
    if (match === undefined) throw refusal('no-such-channel', `no channel rule matches ${channel}`);
    if (match.rule.direct && usersOf(match) === undefined)
      throw refusal(
        'bad-name',
        'the last segment of a direct channel is its users, each once, sorted, joined by commas',
      );
    return match;
  }

  /** A direct channel that has a message has begun; for others the act `direct` is decided for each of the other users. */
  #mayBegin(match: RuleMatch, visitor: Visitor): Ruling | Promise<Ruling> {
    const begun = this.#channels.get(match.channel)?.head;
    return begun !== undefined && begun.number > 0 ? {} : this.#decideToBegin(match, visitor);
  }

  /** To enter, publish or hail in a direct channel that has not begun, it must be allowed to begin. */
  async #explainBegun(act: Act, explanation: Explanation, visitor: Visitor): Promise<Explanation> {
    const { channel, allowed } = explanation;
    if (!allowed || channel === undefined || act === 'read' || visitor.who.oversight) return explanation;
    const match = this.rules.match(channel);
    if (!match?.rule.direct || usersOf(match) === undefined) return explanation;
    const { problem: refused } = await this.#mayBegin(match, visitor);
    return refused === undefined ? explanation : { ...explanation, allowed: false, problem: refused };
  }

  async #decideToBegin(match: RuleMatch, visitor: Visitor): Promise<Ruling> {
    if ((await this.#log(match).head(match.channel)).number > 0) return {};
    for (const other of usersOf(match) ?? []) {
      if (other === visitor.who.user) continue;
      const ruling = await this.#access.decideAbout('direct', other, visitor);
      if (ruling.problem !== undefined) return ruling;
      if ((await this.#ports.store.user(other)) === undefined)
        return { problem: problem('bad-value', `the service has never met ${other}`, { where: '/channel' }) };
    }
    return {};
  }

  /** In a direct channel: those who are not there learn of the message by a notice, one for each channel. */
  #tellParties(match: RuleMatch, by: Author | undefined): void {
    const { channel } = match;
    const others = (usersOf(match) ?? []).filter((user) => user !== by?.user);
    const title = by === undefined ? 'There is a message for you' : `${by.name ?? by.user} wrote to you`;
    const tell = async (): Promise<void> => {
      const { users } = await this.everywhere.standings(others, channel);
      const absent = others.filter((user) => users.get(user)?.isIn !== true);
      if (absent.length === 0) return;
      await this.#inboxes.notify({
        users: absent,
        title,
        key: `direct ${channel}`,
        data: { channel, ...(by && { from: by.user }) },
      });
    };
    tell().catch((error: unknown) => this.#ports.report(error, { what: 'a direct message was not noticed', channel }));
  }

  async #mark(user: string, match: RuleMatch, place: Place | null): Promise<MarkStanding> {
    checkKept(match);
    const { relay, store } = this.#ports;
    const standing = await store.mark(user, match.channel, place, this.options.marksPerUser);
    relay.tellUser({ say: 'marked', user, standing });
    if (match.rule.showsMarks) {
      const mark = standing.place === undefined ? null : formatCursor(standing.place);
      relay.cast({ channel: match.channel, user, mark });
    }
    return standing;
  }

  #log(match: RuleMatch): LogReader {
    return match.rule.logbook.keep === 'kept' ? this.#ports.store : this.#ports.relay.recent;
  }

  #hail(match: RuleMatch, hail: Hail): void {
    this.#intake.checkData(match, hail.data ?? null);
    this.#intake.checkLinked();
    this.#ports.relay.cast(hail);
  }

  /** Notes in the logbook that somebody has come or gone, where the rule wants it. */
  #note({ match, name }: Channel, type: 'joined' | 'left', by: Author): void {
    if (!match.rule.presence?.noted || this.#stopping) return;
    const note = async () => this.#intake.append(match, { channel: name, type, by, data: null });
    note().catch((error: unknown) => this.#ports.report(error, { what: 'noting who comes and goes', channel: name }));
  }

  #channel(name: ChannelName, match: RuleMatch): Channel {
    let channel = this.#channels.get(name);
    if (channel === undefined) {
      channel = new Channel(name, match, {
        log: this.#log(match),
        tailMessages: this.options.tailMessages,
        marksShown: this.options.marksShown,
        readMarks: (limit) => this.#ports.store.marks(name, limit),
        counts: this.counts,
        gather: (act) => this.#host.fanout.gather(act),
        root: () => this.#host.fanout.root,
        handed: (logged, connections) => this.#traces.handed(logged, connections),
        report: this.#ports.report,
        now: () => this.#ports.clock.now(),
        after: (delayMs, act) => this.#wheel.after(delayMs, act),
        noted: (noting, change, author) => this.#note(noting, change, author),
        empty: (emptied) => this.#left(emptied),
        abandoned: (emptied, home, author) => void this.#abandoned(emptied, home, author),
        want: (wanting) =>
          this.#ports.relay.want(
            name,
            (messages) => wanting.receive(messages),
            (signal) => wanting.hear(signal),
          ),
        ...this.#tablePorts(name),
      });
      this.#channels.set(name, channel);
    }
    return channel;
  }

  #tablePorts(channel: ChannelName): Pick<ChannelPorts, 'tables'> {
    const { relay, clock } = this.#ports;
    const { others } = relay;
    if (others === undefined) return {};
    return {
      tables: {
        self: () => others.self,
        cast: (word) => relay.cast(word),
        ask: () => others.ask({ ask: 'table', channel }, tableWithinMs),
        soon: (act) => clock.endOfTurn(act),
        base: () => this.#tableBase++ * tableStride,
        after: (delayMs, act) => this.#wheel.after(delayMs, act),
      },
    };
  }

  /** Somebody was on an instance that is not there any more, and has not come back: one of those left notes it. */
  async #abandoned(channel: Channel, home: string, author: Author): Promise<void> {
    if (!channel.match.rule.presence?.noted) return;
    const { others } = this.#ports.relay;
    const isFirst = await others?.claim(`left ${home} ${channel.name} ${author.user}`, claimMs).catch(() => false);
    if (isFirst) this.#note(channel, 'left', author);
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
      this.#standing.sweep();
      this.#questions.sweep();
      this.#door.sweep();
      this.#sweepLater();
    });
  }
}

/** Whether somebody who is at a place has got the message there. */
function hasGot(got: Place | undefined, { volume, number }: Place): boolean {
  return got?.volume === volume && got.number >= number;
}

/** @throws {ProblemError} `bad-value` */
function checkKept({ rule }: RuleMatch): void {
  if (rule.logbook.keep !== 'kept')
    throw refusal('bad-value', `channels of the rule ${rule.pattern} are not kept, so there are no read marks`, {
      where: '/channel',
    });
}

/** What the names of direct channels begin with, if there are any. */
function directPrefixOf(rules: ChannelRules): string | undefined {
  const pattern = rules.all.find(({ direct }) => direct)?.pattern;
  return pattern?.slice(0, pattern.lastIndexOf('/') + 1);
}
