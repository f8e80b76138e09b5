import {
  type Author,
  type ChannelName,
  closeCodes,
  formatCursor,
  type Json,
  type Member,
  type Published,
  problem,
  refusal,
} from '@nine-bells/wire';
import { Access, type Explanation, type Visitor } from '../access/access.js';
import { Standing } from '../access/activeBans.js';
import { bannedProblem } from '../access/moderationProblems.js';
import { Questions } from '../access/questions.js';
import { Channels } from '../channel/channels.js';
import { Everywhere, type Gathered } from '../cluster/cluster.js';
import { Fanout } from '../delivery/fanout.js';
import { WaitingBudget } from '../delivery/waitingBudget.js';
import { DirectChannels } from '../direct/directChannels.js';
import { Inboxes, type Notified } from '../inbox/inboxes.js';
import { Pacer } from '../lib/pacer.js';
import { Wheel } from '../lib/timerWheel.js';
import { Unread } from '../marks/unread.js';
import { type Act, type UserAct, userActs } from '../model/access.js';
import type { ControlEntry } from '../model/control.js';
import { Counts } from '../model/counters.js';
import { Frame } from '../model/frame.js';
import type { Hail } from '../model/hail.js';
import type { ChannelInfo, Membership, OwnSide, SessionInfo } from '../model/info.js';
import type { InstanceCard, InstanceInfo } from '../model/instance.js';
import type { MarkStanding, UserMark } from '../model/mark.js';
import type { LogSlice, Place, ReadLimit } from '../model/message.js';
import type { InboxEntry, InboxSlice, KnownUser, NoticeWish } from '../model/notice.js';
import { defaultEngineOptions, type EngineOptions } from '../model/options.js';
import type { Refused } from '../model/refusal.js';
import { availability } from '../model/status.js';
import { Measures } from '../moderation/moderation.js';
import type { Asker } from '../ports/asker.js';
import type { Clock } from '../ports/clock.js';
import type { Seal } from '../ports/hmac.js';
import type { Ids } from '../ports/ids.js';
import type { Link } from '../ports/link.js';
import type { Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { Store } from '../ports/stores.js';
import type { TokenReader } from '../ports/tokens.js';
import { Watching } from '../presence/watching.js';
import { Intake } from '../record/publisher.js';
import { Refusals } from '../record/refusals.js';
import { Traces } from '../record/traces.js';
import { accessRuleFault, asksTheApplication } from '../rules/accessRule.js';
import { type ChannelRule, ChannelRules, type RuleMatch, usersOf } from '../rules/channelRule.js';
import { Connected } from '../session/connected.js';
import { Connection } from '../session/connection.js';
import { Door } from '../session/connectionLimiter.js';
import type { ConnectionHost } from '../session/host.js';
import { type Session, Sessions } from '../session/sessions.js';
import { answerOf, ownSideOf } from './localAnswers.js';
import { Rates } from './rates.js';

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
  /** Something was refused: the first of its kind, and then now and then, with how many were not told of since. */
  readonly refused?: (refused: Refused, untold: number) => void;
  /** API keys were made or revoked on another instance. */
  readonly keysChanged?: () => void;
  /** How long something took, in milliseconds: until the relay, or the database, had taken messages. */
  readonly took?: (what: 'relay' | 'commit', ms: number) => void;
  /** What only the outside knows of this instance, for its card. */
  readonly facts?: () => Partial<InstanceCard>;
}

/** What an application publishes. */
export interface ApplicationDraft {
  readonly channel: ChannelName;
  readonly data: Json;
  /** Default `message`. */
  readonly type?: string;
  readonly key?: string;
  /** The application that publishes: its keys are its own. */
  readonly owner?: string;
  /** The user to name as author; nobody if absent. */
  readonly by?: Author;
  /** Sessions that are not to get it. */
  readonly except?: readonly string[];
}

/** How often what is over is forgotten, in milliseconds: sessions, bans, answers. */
const sweepMs = 30_000;
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
  /** What this instance has refused. */
  readonly refusals: Refusals;
  /** What is done against users and addresses. */
  readonly measures: Measures;
  /** What all instances know together. */
  readonly everywhere: Everywhere;
  readonly #ports: EnginePorts;
  readonly #host: ConnectionHost;
  readonly #connected: Connected;
  readonly #channels: Channels;
  readonly #direct: DirectChannels;
  readonly #intake: Intake;
  readonly #wheel: Wheel;
  readonly #fanout: Fanout;
  readonly #sessions: Sessions;
  readonly #standing: Standing;
  readonly #questions: Questions;
  readonly #access: Access;
  readonly #door: Door;
  readonly #inboxes: Inboxes;
  readonly #watching: Watching;
  readonly #unread: Unread;
  readonly #claimed = new Set<string>();
  readonly #rates: Rates;
  readonly #startedAtMs: number;
  /** Stays the same when the others take this instance for dead, and it becomes another holder of a lease. */
  readonly #id: string;
  #draining = false;
  #stopping = false;

  /** @throws {RangeError} for channel rules that do not go together, or that ask where nobody can be asked */
  constructor(ports: EnginePorts, rules: readonly ChannelRule[], options: Partial<EngineOptions> = {}) {
    this.#ports = ports;
    this.options = { ...defaultEngineOptions, ...options };
    this.rules = new ChannelRules(rules);
    this.#checkRules();
    const { clock, ids, seal, relay, store, report, asker, took, unreached } = ports;
    const { others } = relay;
    const { counts } = this;
    this.#startedAtMs = clock.now();
    this.#id = ids.session();
    const wheel = new Wheel(clock);
    this.#wheel = wheel;
    this.#fanout = new Fanout(clock);
    const traces = new Traces(() => clock.now(), this.options.traces);
    this.#rates = new Rates(clock, counts);
    this.refusals = new Refusals(clock, counts, ports.refused);

    this.#standing = new Standing(clock);
    this.#questions = new Questions({ clock, report, asker, withinMs: this.options.askWithinMs });
    this.#access = new Access(this.rules, this.options.users, this.#standing, this.#questions);
    this.#door = new Door(clock, this.options);

    this.#sessions = new Sessions(
      clock,
      ids,
      seal,
      this.options.sessionMemoryMs,
      others && ((session) => this.#cameFromElsewhere(session)),
    );
    const connected = new Connected((user) => this.#watching.changed(user));
    this.#connected = connected;
    this.#watching = new Watching(wheel, (user) => connected.clientsOf(user), others);
    this.#unread = new Unread({ clock, wheel, store, relay, report });

    this.#intake = new Intake(
      {
        clock,
        ids,
        relay,
        store,
        report,
        counts,
        traces,
        took,
        direct: (match, by) => this.#direct.tellParties(match, by),
      },
      this.options,
    );
    this.#channels = new Channels({
      options: this.options,
      rules: this.rules,
      clock,
      wheel,
      relay,
      store,
      report,
      fanout: this.#fanout,
      counts,
      traces,
      note: (match, type, by) => this.#intake.note(match, type, by),
    });

    const own = ownSideOf({
      instance: this.options.instance,
      rules: this.rules,
      access: this.#access,
      channels: this.#channels,
      connected,
      watching: this.#watching,
      traces,
      refusals: this.refusals,
      concernedHere: (measure) => this.measures.concernedHere(measure).length,
    });
    this.everywhere = new Everywhere(this.options.instance, own, others);
    this.measures = new Measures({
      clock,
      ids,
      wheel,
      relay,
      store,
      report,
      standing: this.#standing,
      connected,
      concerned: (measure) => this.everywhere.concerned(measure),
      checkChannel: (channel) => void this.#match(channel),
    });
    this.#inboxes = new Inboxes({
      clock,
      ids,
      wheel,
      store,
      relay,
      report,
      unreached,
      push: (user, frame) => connected.push(user, frame),
      membersOf: async (channel) =>
        (await this.membersEverywhere(channel, Number.MAX_SAFE_INTEGER)).members.map(({ user }) => user),
      everywhere: this.everywhere,
      availabilityOf: (user) => {
        const status = this.#watching.statusOf(user);
        return status === null ? undefined : availability(status);
      },
    });
    this.#direct = new DirectChannels({
      rules: this.rules,
      channels: this.#channels,
      access: this.#access,
      store,
      inboxes: this.#inboxes,
      everywhere: this.everywhere,
      report,
    });
    this.#followOthers(own);
    void this.ready();
    if (others !== undefined) this.measures.watchChanges(() => this.#ports.keysChanged?.());
    this.#host = {
      options: this.options,
      clock,
      wheel,
      pacer: new Pacer(clock, wheel, this.options.pulseMs / 2),
      fanout: this.#fanout,
      waiting: new WaitingBudget(clock, wheel, this.options.waiting),
      sessions: this.#sessions,
      seal,
      tokens: ports.tokens,
      report,
      counts,
      refusals: this.refusals,
      access: this.#access,
      standing: this.#standing,
      door: this.#door,
      directPrefix: this.#direct.prefix,
      mayBegin: (match, visitor) => this.#direct.mayBegin(match, visitor),
      inboxes: this.#inboxes,
      watching: this.#watching,
      unread: this.#unread,
      mark: (user, match, place) => this.#mark(user, match, place),
      inbox: (user, after, limit) => this.inbox(user, after, limit),
      mayAdmit: () => relay.control.isFresh,
      ready: () => this.ready(),
      connectionsOf: (user) => connected.of(user).size,
      welcomed: (connection) => connected.welcomed(connection),
      remove: async (wish, by) => (await this.measures.remove(wish, by)).measure,
      match: (channel) => this.#match(channel),
      openChannel: (name) => this.#channels.get(name),
      channel: (name, match) => this.#channels.open(name, match),
      left: (channel) => this.#channels.left(channel),
      log: (match) => this.#channels.logOf(match),
      hail: (match, hail) => this.#hail(match, hail),
      append: (match, draft) => this.#intake.append(match, draft),
      ended: (connection) => this.#ended(connection),
      traces,
    };
    this.#sweepLater();
  }

  /** Takes a new connection. The transport tells it what comes in. */
  connect(link: Link): Connection {
    const connection = new Connection(this.#host, link);
    this.#connected.add(connection);
    const refused = this.#door.came(link.remote);
    const ban = this.#standing.keepingOutFrom(link.remote);
    const tooMany = this.#connected.size > this.options.connections ? 'too-many-connections' : undefined;
    const shut = refused ?? tooMany;
    if (this.#draining || this.#stopping)
      connection.close(closeCodes.drain, 'this instance is about to stop', 'drained');
    else if (!this.#ports.relay.control.isFresh)
      connection.close(closeCodes.tryLater, 'this instance is cut off from the others', 'refused');
    else if (ban !== undefined) connection.signOut(bannedProblem(ban));
    else if (shut !== undefined) {
      this.refusals.add({ code: shut, act: 'connect', address: link.remote, origin: link.origin });
      connection.close(closeCodes.tryLater, shut, 'refused');
    }
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
    const log = this.#channels.logOf(this.#match(channel));
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
      all.set(kept.channel, { ...this.#channels.describe(kept), entered: entered.get(kept.channel)?.entered ?? 0 });
    for (const [channel, info] of entered) if (!all.has(channel)) all.set(channel, info);
    return [...all.values()].sort((a, b) => (a.channel < b.channel ? -1 : 1)).slice(0, limit);
  }

  /**
   * One channel, whether or not there is anything in it yet.
   *
   * @throws {ProblemError} `no-such-channel`
   */
  async channel(channel: ChannelName): Promise<ChannelInfo> {
    const head = await this.#channels.logOf(this.#match(channel)).head(channel);
    const entered = await this.everywhere.entrants(channel);
    return { ...this.#channels.describe({ channel, ...(head.number === 0 ? {} : { head }) }), entered };
  }

  /**
   * Says which rule decides whether somebody may do something, on which facts.
   *
   * @param where - a channel's name; for acts that concern a user, that user's id
   * @param visitor - a guest where there is nobody: refused as `no-guests` where none are let in
   */
  async explain(act: Act, where: string, visitor: Visitor): Promise<Explanation> {
    const explanation = await this.#direct.explained(act, await this.#access.explain(act, where, visitor), visitor);
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

  /** Has all instances look again which API keys there are. */
  async keysChanged(): Promise<void> {
    await this.#ports.relay.control.append({ did: 'keys-changed' });
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

  /** Resolves when the measures of before are known. Until then nobody is let in. */
  ready(): Promise<void> {
    return this.measures.ready();
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

  /** The sessions that have a connection to this instance. */
  sessions(): readonly SessionInfo[] {
    return this.#connected.sessions(this.options.instance);
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
    for (const { name: channel, presence } of this.#channels) {
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
    const { bytesOut, hailsDropped } = this.#fanout;
    return { bytes: bytesOut, hailsDropped };
  }

  /** Connections, by what carries them. */
  get transports(): ReadonlyMap<string, number> {
    return this.#connected.transports;
  }

  /** Messages that wait to be given their place. */
  get backlog(): number {
    return this.#intake.waiting;
  }

  /** Bytes that wait for all connections together, here and in their transports. */
  get waitingBytes(): number {
    return this.#connected.waitingBytes;
  }

  /** Channels at hand: entered, or left a moment ago. */
  get openChannels(): number {
    return this.#channels.size;
  }

  /** Characters of the latest messages of channels, which are held ready for clients that come back. */
  get heldChars(): number {
    return this.#channels.heldChars;
  }

  get connections(): number {
    return this.#connected.size;
  }

  /** Channels that somebody here has entered. */
  get enteredChannels(): number {
    return this.#channels.entered;
  }

  /** Resolves when everything pushed so far has been handed to the transports that could take it. */
  flushed(): Promise<void> {
    return this.#fanout.whenIdle();
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
    for (const connection of this.#connected) connection.push(frame);
    const { clock } = this.#ports;
    for (const endMs = clock.monotonic() + withinMs; this.#connected.size > 0 && clock.monotonic() < endMs; )
      await new Promise<void>((resolve) => void this.#wheel.after(drainLookMs, resolve));
  }

  /** Lets nobody new in, says goodbye to everyone, and resolves when everything under way has been decided. */
  async stop(): Promise<void> {
    this.#stopping = true;
    const decided = this.#intake.stop();
    for (const connection of [...this.#connected])
      connection.close(closeCodes.drain, 'this instance is about to stop', 'drained');
    await decided;
    await this.#inboxes.settled();
    await this.measures.stop();
    this.#channels.close();
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

  /** Hears what the relay carries, from this instance and from the others. */
  #followOthers(own: OwnSide): void {
    const { relay } = this.#ports;
    relay.followUsers((word) => {
      if (word.say === 'marked') this.#unread.marked(word.user, word.standing);
      else if (word.say === 'begun') this.#unread.begun(word.users, word.channel);
      else this.#inboxes.hear(word);
    });
    relay.followGrowth((growth) => this.#unread.grew(growth));
    relay.control.follow(
      (entry) => this.#heed(entry),
      () => void this.#readAgain(),
    );
    relay.others?.follow({
      answer: (question) => answerOf(own, question),
      hear: (from, word) => {
        if (word.say === 'reached') this.#inboxes.reachedElsewhere(word.user, word.id);
        else this.#watching.hear(from, word);
      },
      gone: (holder) => {
        // It may have decided what it could not say any more.
        void this.#readAgain();
        this.#watching.gone(holder);
        this.#channels.gone(holder);
      },
      resumed: () => this.#resumed(),
      card: () => this.card,
    });
  }

  #heed(entry: ControlEntry): void {
    if (entry.did === 'keys-changed') this.#ports.keysChanged?.();
    else if (entry.did === 'continue') {
      if (entry.by !== this.#id) this.#sessions.continued(entry);
    } else this.measures.obey(entry);
  }

  #cameFromElsewhere(session: Session): void {
    const { control } = this.#ports.relay;
    const { id, generation } = session;
    session.isBeingSaid = true;
    control
      .append({ did: 'continue', session: id, generation, by: this.#id })
      .catch((error: unknown) => this.#ports.report(error, { what: 'that a session continues could not be said' }))
      .finally(() => {
        session.isBeingSaid = false;
      });
  }

  /** Measures may have been missed: what is in force is read anew, and holds for everyone who is here. */
  async #readAgain(): Promise<void> {
    // What it reads from may be closed.
    if (this.#stopping) return;
    this.#ports.keysChanged?.();
    await this.measures.readAgain();
  }

  /** What was carried meanwhile may be lost, and the others may have taken this instance for dead. */
  #resumed(): void {
    void this.#readAgain();
    this.#channels.resumed();
    this.#unread.lookAgain();
    this.#watching.lookAgain();
  }

  #ended(connection: Connection): void {
    if (this.#connected.remove(connection)) this.#door.went(connection.address);
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

  #hail(match: RuleMatch, hail: Hail): void {
    this.#intake.checkData(match, hail.data ?? null);
    this.#intake.checkLinked();
    this.#ports.relay.cast(hail);
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

/** @throws {ProblemError} `bad-value` */
function checkKept({ rule }: RuleMatch): void {
  if (rule.logbook.keep !== 'kept')
    throw refusal('bad-value', `channels of the rule ${rule.pattern} are not kept, so there are no read marks`, {
      where: '/channel',
    });
}
