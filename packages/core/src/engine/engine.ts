import { type ChannelName, closeCodes, type Json } from '@nine-bells/wire';
import { Access } from '../access/access.js';
import { ActiveBans } from '../access/activeBans.js';
import { bannedProblem } from '../access/moderationProblems.js';
import { Questions } from '../access/questions.js';
import { Blocks } from '../blocks/blocks.js';
import { Boards } from '../boards/boards.js';
import type { CallCopy } from '../calls/callCopies.js';
import { Calls } from '../calls/calls.js';
import { Channels } from '../channel/channels.js';
import { TrafficLog } from '../channel/traffic.js';
import { Cluster, type Gathered } from '../cluster/cluster.js';
import { instanceFormat } from '../cluster/format.js';
import { Standstill } from '../cluster/standstill.js';
import { Contracts } from '../contracts/contracts.js';
import { Fanout } from '../delivery/fanout.js';
import { WaitingBudget } from '../delivery/waitingBudget.js';
import { DirectChannels } from '../direct/directChannels.js';
import { Eraser } from '../erasure/eraser.js';
import { Hooks } from '../hooks/hooks.js';
import { Inboxes } from '../inbox/inboxes.js';
import { Intakes, type IntakesHost } from '../intakes/intakes.js';
import { Invitations } from '../invitations/invitations.js';
import { Levels } from '../levels/levels.js';
import { Pacer } from '../lib/pacer.js';
import { TimerWheel } from '../lib/timerWheel.js';
import { ChannelMarks } from '../marks/channelMarks.js';
import { Marks } from '../marks/marks.js';
import { ThreadNews } from '../marks/threadNews.js';
import { Unread } from '../marks/unread.js';
import { Digests } from '../mentions/digests.js';
import { Entrants } from '../mentions/mayEnter.js';
import { Mentions } from '../mentions/mentions.js';
import { type UserAct, userActs } from '../model/access.js';
import type { ControlEntry } from '../model/control.js';
import { Counters } from '../model/counters.js';
import { Frame } from '../model/frame.js';
import type { Hook, HookState } from '../model/hook.js';
import type { InstanceStatus } from '../model/instance.js';
import type { InboxEntry } from '../model/notice.js';
import { defaultEngineOptions, type EngineOptions } from '../model/options.js';
import type { Refused } from '../model/refusal.js';
import { availability } from '../model/status.js';
import { Moderation } from '../moderation/moderation.js';
import { Reports } from '../moderation/reports.js';
import type { Asker } from '../ports/asker.js';
import type { CallAsker } from '../ports/callAsker.js';
import type { Clock } from '../ports/clock.js';
import type { Hmac } from '../ports/hmac.js';
import type { HookCaller } from '../ports/hookCaller.js';
import type { Ids } from '../ports/ids.js';
import type { Link } from '../ports/link.js';
import { type Relay, userNewsTopic, usersTopic } from '../ports/relay.js';
import type { Report, Seen } from '../ports/report.js';
import type { Reviewer } from '../ports/reviewer.js';
import type { Store } from '../ports/stores.js';
import type { TokenReader } from '../ports/tokens.js';
import { Presences } from '../presence/presences.js';
import { Watching } from '../presence/watching.js';
import { Reactions } from '../reactions/reactions.js';
import { findMessage } from '../record/changes.js';
import { Publisher } from '../record/publisher.js';
import { Refusals } from '../record/refusals.js';
import { Traces } from '../record/traces.js';
import { Pruner } from '../retention/pruner.js';
import { PendingMessages } from '../review/pendingMessages.js';
import { Reviews } from '../review/reviews.js';
import { accessRuleFault, asksTheApplication } from '../rules/accessRule.js';
import { type ChannelRule, ChannelRules } from '../rules/channelRule.js';
import { Indexer } from '../search/indexer.js';
import { Search } from '../search/search.js';
import { Connected } from '../session/connected.js';
import { Connection } from '../session/connection.js';
import { ConnectionLimiter } from '../session/connectionLimiter.js';
import type { SessionHost } from '../session/host.js';
import { type Session, Sessions } from '../session/sessions.js';
import { SlowMode } from '../session/slowMode.js';
import { AccessInquiry } from './accessInquiry.js';
import { BoardDirectory } from './boardDirectory.js';
import { BoardEvents } from './boardEvents.js';
import { publishedWithCall } from './callPublications.js';
import { ChannelDirectory } from './channelDirectory.js';
import { localAnswersOf } from './localAnswers.js';
import { MemberDirectory } from './memberDirectory.js';
import { Messages } from './messages.js';
import { Occupancy } from './occupancy.js';
import { Rates } from './rates.js';
import { Stats } from './stats.js';
import { joinedCounts, type WebhookCounts, webhookCountsOf } from './webhookCounts.js';

/** What the engine needs from outside. */
export interface EnginePorts {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly hmac: Hmac;
  readonly tokens: TokenReader;
  readonly relay: Relay;
  readonly store: Store;
  readonly report: Report;
  /** Needed where an access rule asks the application. */
  readonly asker?: Asker;
  readonly reviewer?: Reviewer;
  /** Hands calls to the application; needed where a call has a URL. */
  readonly callAsker?: CallAsker;
  /** Sends events to hooks; absent: they wait for a process that does. */
  readonly hookCaller?: HookCaller;
  /** Reads a hook that was registered over HTTP; `undefined` if it may not be sent to any more. */
  readonly readHook?: (state: HookState) => Hook | undefined;
  /** Called when a hook is paused because it fails. */
  readonly hookPaused?: (hook: Hook, why: string) => void;
  /** Reads the body of what came in through an intake; needed where there are intakes. */
  readonly bodyOf?: IntakesHost['bodyOf'];
  /** Called with notices that no session was told of in the time wished for. */
  readonly unreached?: (entry: InboxEntry) => void;
  /** Called with the first refusal of a kind, then now and then, with how many it was not called for since. */
  readonly refused?: (refused: Refused, untold: number) => void;
  /** Called when API keys were made or revoked on another instance. */
  readonly keysChanged?: () => void | Promise<void>;
  /** Absent unless the log shows what clients do. */
  readonly seen?: Seen;
  /** Called with how long the relay, or the database, took to take messages, in milliseconds. */
  readonly took?: (what: 'relay' | 'commit', ms: number) => void;
  /** What only the outside knows of this instance, for its status. */
  readonly facts?: () => Partial<InstanceStatus>;
}

/** How often what has ended is forgotten, in milliseconds: sessions, bans, answers. */
const sweepMs = 30_000;
/** A step back of the clock that is more than drift, in milliseconds. */
const stepMs = 2_000;
/** How long the others have for an answer, in milliseconds. */
const askWithinMs = 1_000;
const noAnswers = { answers: [], missing: [] } as const;
/** How often a draining engine looks whether all clients have gone, in milliseconds. */
const drainLookMs = 50;

/**
 * The engine of one instance: connections come in, messages go out, and everything in between is decided here.
 *
 * It composes its parts and exposes them. Nothing is global: a process can hold several engines.
 */
export class Engine {
  readonly options: EngineOptions;
  readonly counters = new Counters();
  readonly messages: Messages;
  readonly channels: ChannelDirectory;
  readonly boards: BoardDirectory;
  readonly presence: MemberDirectory;
  readonly inboxes: Inboxes;
  readonly marks: Marks;
  readonly blocks: Blocks;
  readonly levels: Levels;
  readonly indexer: Indexer;
  readonly search: Search;
  readonly digests: Digests;
  readonly invitations: Invitations;
  readonly moderation: Moderation;
  readonly access: AccessInquiry;
  readonly pruner: Pruner;
  readonly eraser: Eraser;
  readonly reactions: Reactions;
  readonly reports: Reports;
  readonly pending: PendingMessages;
  readonly hooks: Hooks;
  readonly intakes: Intakes;
  readonly calls: Calls;
  readonly cluster: Cluster;
  readonly refusals: Refusals;
  readonly stats: Stats;
  /** What is kept of hooks and intakes, for those who look. */
  readonly store: Pick<Store, 'hooks' | 'intakes' | 'retention'>;
  readonly #ports: EnginePorts;
  /** The parts as connections and sessions use them. */
  readonly #host: SessionHost;
  readonly #questions: Questions;
  readonly #rates: Rates;
  readonly #startedAtMs: number;
  /** This engine in the control log. It outlives the instance's lease, which it may lose and take again. */
  readonly #id: string;
  #draining = false;
  #standstill: Standstill | undefined;
  /** The last reading of API keys. */
  #keysRead: Promise<void> = Promise.resolve();
  #stopping = false;

  /** @throws {RangeError} for channel rules that contradict each other, or that ask without an `asker` */
  constructor(ports: EnginePorts, rules: readonly ChannelRule[], options: Partial<EngineOptions> = {}) {
    this.#ports = ports;
    this.options = { ...defaultEngineOptions, ...options };
    const { clock, ids, hmac, tokens, relay, store, report, asker, took, unreached } = ports;
    this.store = store;
    this.#startedAtMs = clock.now();
    this.#id = ids.session();
    const { counters } = this;
    const { instance } = this.options;
    const channelRules = new ChannelRules(rules);
    checkRules(channelRules, this.options, asker);
    const reviewed = rules.find(({ review }) => review !== undefined);
    if (reviewed !== undefined && ports.reviewer === undefined)
      throw new RangeError(`${reviewed.pattern}: messages are reviewed, but there is no way to ask`);
    this.#rates = new Rates(clock, counters);
    this.refusals = new Refusals(clock, counters, ports.refused);
    const wheel = new TimerWheel(clock);
    const contracts = new Contracts({ counters, wouldRefuse: (refused) => this.refusals.add(refused) });
    const fanout = new Fanout(clock);
    const traces = new Traces(() => clock.now(), this.options.traces);
    const base = {
      options: this.options,
      clock,
      ids,
      wheel,
      relay,
      report,
      counters,
      traces,
      fanout,
      contracts,
    };

    const bans = new ActiveBans(clock);
    this.#questions = new Questions({
      clock,
      report,
      asker,
      withinMs: this.options.askWithinMs,
      admission: (user, channel) => this.invitations.admission(user, channel),
    });
    const access = new Access(channelRules, this.options.users, bans, this.#questions);
    const connected = new Connected((user, left) => watching.changed(user, left));
    const watching: Watching = new Watching(wheel, (user) => connected.clientsOf(user), relay.others);
    this.hooks = new Hooks(
      {
        ...base,
        store: store.hooks,
        self: `${instance} ${this.#id}`,
        caller: ports.hookCaller,
        readHook: ports.readHook,
        paused: ports.hookPaused,
      },
      this.options.hooks,
    );
    const { hooks } = this;
    const publisher = new Publisher(
      {
        ...base,
        store: store.messages,
        hooks,
        took,
        direct: (match, by) => direct.tellParties(match, by),
        mentioned: (match, logged, draft) => mentions.tell(match, logged, draft),
        answered: (thread) => threadNews.changed(thread),
        takenBack: (found) => mentions.takeBack(found),
        mayBeTakenBack: (match, found) => mentions.takeBackIfGone(match, found),
        grown: (channel) => this.indexer.grown(channel),
      },
      this.options,
    );
    const isHeardOf = (channel: ChannelName): boolean =>
      memberEvents.some((event) => hooks.book.inChannel(event, channel).length > 0);
    const presences: Presences = new Presences({
      ...base,
      logOf: (match) => channels.logOf(match),
      isNoted: ({ channel, rule }) => rule.presence?.noted === true || isHeardOf(channel),
      note: (match, type, by) => {
        const { channel } = match;
        publisher.note(match, type, by);
        hooks.happened(type, { channel, by: { ...by } }, channel);
        if (type === 'joined') occupancy.joined(channel);
        else occupancy.left(channel);
      },
      emptied: (channel) => channels.left(channel),
    });
    const channelMarks = new ChannelMarks({ wheel, store: store.marks, max: this.options.marksShown });
    const boards: Boards = new Boards({
      ...base,
      store: store.boards,
      rules: channelRules,
      boardSaveMs: this.options.boardSaveMs,
      self: this.#id,
      emptied: (channel) => channels.left(channel),
      changed: (channel) => boardEvents.changed(channel),
    });
    this.reactions = new Reactions({
      ...base,
      store: store.reactions,
      atOnce: this.options.reactionsAtOnce,
      find: (match, place) => findMessage(channels.logOf(match), match.channel, place),
    });
    const channels: Channels = new Channels({
      ...base,
      store: store.messages,
      rules: channelRules,
      features: [presences, channelMarks, boards, this.reactions],
    });
    const traffic = new TrafficLog({ clock, wheel, fanout, channels });
    const own = localAnswersOf({
      instance,
      rules: channelRules,
      access,
      channels,
      presences,
      connected,
      watching,
      traces,
      refusals: this.refusals,
      traffic,
      moderation: () => this.moderation,
    });
    this.cluster = new Cluster({ name: instance, own, relay, wheel, status: () => this.#status });
    this.presence = new MemberDirectory(channelRules, presences, this.cluster);
    const occupancy = new Occupancy({
      ...base,
      store: store.hooks,
      hooks,
      countOf: async (channel) => (await this.presence.members(channel, { limit: 1 })).count,
    });
    if (relay.others !== undefined)
      this.#standstill = new Standstill({
        clock,
        report,
        isCut: () => relay.isCut,
        catchUp: async () => {
          await relay.control.catchUp();
          await this.moderation.catchUp();
          await this.#keysRead;
        },
      });
    this.moderation = new Moderation({
      ...base,
      store: store.moderation,
      hooks,
      bans,
      connected,
      concerned: (action) => this.cluster.concerned(action),
      hide: (user) => presences.hide(user),
      checkChannel: (channel) => void channelRules.require(channel),
    });
    this.blocks = new Blocks({
      ...base,
      store: store.blocks,
      most: this.options.blocksPerUser,
      sessions: (user) => (user === undefined ? connected.clients : connected.clientsOf(user)),
      changed: (user) => {
        unread.recount(user);
        threadNews.recount(user);
      },
    });
    const blocking: Blocks['blocking'] = (other, users) => this.blocks.blocking(other, users);
    this.levels = new Levels({
      ...base,
      store: store.levels,
      rules: channelRules,
      most: this.options.levelsPerUser,
      push: (user, frame) => connected.push(user, frame),
    });
    this.inboxes = new Inboxes({
      ...base,
      store: store,
      blocking,
      hearing: (users, channel, isMention) => this.levels.hearing(users, channel, isMention),
      contract: this.options.notices,
      unreached: (entry) => {
        unreached?.(entry);
        const { user, notice } = entry;
        hooks.happened('unreached', { user, notice: { ...notice } } as Json);
      },
      push: (user, frame) => connected.push(user, frame),
      membersOf: async (channel) =>
        (await this.presence.members(channel, { limit: Number.MAX_SAFE_INTEGER })).members.map(({ user }) => user),
      activity: this.cluster,
      availabilityOf: (user) => {
        const status = watching.statusOf(user);
        return status === null ? undefined : availability(status);
      },
    });
    this.invitations = new Invitations({
      ...base,
      store: store.invitations,
      hmac,
      rules: channelRules,
      inboxes: this.inboxes,
      changed: (users) => connected.decideAgain(users),
    });
    const direct: DirectChannels = new DirectChannels({
      rules: channelRules,
      channels,
      access,
      inboxes: this.inboxes,
      activity: this.cluster,
      report,
      blocking,
    });
    this.marks = new Marks({
      clock,
      rules: channelRules,
      relay,
      store: store.marks,
      maxPerUser: this.options.marksPerUser,
    });
    const unread: Unread = new Unread({
      ...base,
      store: this.marks,
      hidersOf: (other, channel) => this.blocks.hidersOf(other, channelRules.match(channel)),
    });
    const threadNews: ThreadNews = new ThreadNews({ ...base, store: store.marks, marks: this.marks });
    const entrants = new Entrants({
      access,
      store,
      identitiesOf: (user) => [...connected.clientsOf(user)].map(({ who }) => who),
      justMet: (user) => this.inboxes.justMet(user),
      connected: (users) => this.inboxes.connected(users),
    });
    const mentions: Mentions = new Mentions({
      wheel,
      entrants,
      inboxes: this.inboxes,
      logOf: (match) => channels.logOf(match),
      report,
    });
    this.digests = new Digests({
      clock,
      rules: channelRules,
      marks: this.marks,
      levels: this.levels,
      blocks: this.blocks,
      entrants,
      store,
    });
    this.indexer = new Indexer({ ...base, store: store, rules: channelRules });
    this.search = new Search({ clock, rules: channelRules, store: store.search });
    this.reports = new Reports({
      ...base,
      store: store.reports,
      rules: channelRules,
      hooks,
      logOf: (match) => channels.logOf(match),
    });
    this.pending = new PendingMessages({
      ...base,
      store: store.pending,
      rules: channelRules,
      hooks,
      logOf: (match) => channels.logOf(match),
      publisher,
      mentions,
      bans,
      listChars: this.options.backlogBytes,
      push: (user, frame) => connected.push(user, frame),
    });
    this.pruner = new Pruner({ ...base, store: store.retention, rules: channelRules }, this.options.records);
    this.eraser = new Eraser({
      ...base,
      store: store,
      publisher,
      marks: this.marks,
      inboxes: this.inboxes,
      moderation: this.moderation,
    });
    this.messages = new Messages(channelRules, publisher, channels, boards, store.messages, this.reactions, mentions);
    this.boards = new BoardDirectory(channelRules, boards);
    const boardEvents = new BoardEvents({ ...base, hooks, read: (channel) => this.boards.read(channel) });
    this.intakes = new Intakes(
      {
        ...base,
        store: store.intakes,
        bodyOf: ports.bodyOf ?? noBody,
        failed: ({ id, intake }, problem) => hooks.happened('intake-failed', { intake, arrival: id, problem }),
        acts: {
          publish: ({ by, ...message }, origin) =>
            this.messages.publish({ ...message, ...origin, ...(by === undefined ? {} : { by: { user: by } }) }),
          notify: async (notice, { key }) => this.inboxes.notify({ key, ...notice }),
          set: (entry) => this.boards.set(entry.channel, entry),
        },
      },
      this.options.intakes,
    );
    this.calls = new Calls(
      {
        ...base,
        access,
        hmac: ports.hmac,
        asker: ports.callAsker,
        publish: publishedWithCall(this, channelRules, publisher),
        answeredElsewhere: relay.others && ((key, withinMs) => this.#answeredElsewhere(key, withinMs)),
      },
      this.options.calls,
    );
    this.channels = new ChannelDirectory(channelRules, channels, this.cluster, store.messages);
    this.access = new AccessInquiry(
      access,
      direct,
      this.cluster,
      this.options.guests,
      this.messages,
      () => clock.now(),
      { rules: channelRules, pending: this.pending },
    );
    this.stats = new Stats({ instance, access, channels, connected, fanout, publisher });
    this.#host = {
      ...base,
      seen: ports.seen,
      hmac,
      tokens,
      rules: channelRules,
      access,
      bans,
      slowMode: new SlowMode(clock, relay),
      connected,
      channels,
      store: store.messages,
      boards,
      publisher,
      standstill: this.#standstill,
      presences,
      watching,
      channelMarks,
      direct,
      marks: this.marks,
      inboxes: this.inboxes,
      moderation: this.moderation,
      reports: this.reports,
      reactions: this.reactions,
      calls: this.calls,
      refusals: this.refusals,
      unread,
      threadNews,
      blocks: this.blocks,
      levels: this.levels,
      search: this.search,
      reviews: new Reviews({
        ...base,
        reviewer: ports.reviewer,
        pending: this.pending,
        rules: channelRules,
        claim: (name, ttlMs) => this.cluster.claim(name, ttlMs),
      }),
      pending: this.pending,
      mentions,
      invitations: this.invitations,
      pacer: new Pacer(clock, wheel, this.options.pulseMs / 2),
      waiting: new WaitingBudget(clock, wheel, this.options.waiting),
      limiter: new ConnectionLimiter(clock, this.options),
      sessions: new Sessions(
        clock,
        ids,
        hmac,
        this.options.sessionMemoryMs,
        relay.others && ((session) => this.#cameFromElsewhere(session)),
      ),
    };
    this.#followRelay();
    void this.ready();
    if (relay.others !== undefined) this.moderation.watchChanges(() => this.#readKeys());
    this.#host.reviews.start();
    this.pruner.start();
    this.indexer.start();
    if (reviewed !== undefined) this.pending.start();
    this.eraser.start();
    this.#sweepLater();
  }

  /** Takes a new connection. The transport hands it what comes in. */
  connect(link: Link): Connection {
    const { connected, limiter, bans, relay } = this.#host;
    const connection = new Connection(this.#host, link);
    connected.add(connection);
    const refused = limiter.came(link.remote);
    const ban = bans.banOfAddress(link.remote);
    const tooMany = connected.size > this.options.connections ? 'too-many-connections' : undefined;
    const shut = refused ?? tooMany;
    if (this.draining) connection.close(closeCodes.drain, 'this instance is about to stop', 'drained');
    else if (!relay.control.isFresh)
      connection.close(closeCodes.tryLater, 'this instance is cut off from the others', 'refused');
    else if (ban !== undefined) connection.signOut(bannedProblem(ban));
    else if (shut !== undefined) {
      this.refusals.add({ code: shut, act: 'connect', address: link.remote, origin: link.origin });
      connection.close(closeCodes.tryLater, shut, 'refused');
    }
    return connection;
  }

  /** Whether new connections are let in: it is not about to stop, and knows the bans in force. */
  get isOpen(): boolean {
    return !this.draining && this.#ports.relay.control.isFresh;
  }

  /** Whether it lets no new client in any more. */
  get draining(): boolean {
    return this.#draining || this.#stopping;
  }

  /** Resolves when the bans in force are known. Until then no client is let in. */
  ready(): Promise<void> {
    return this.moderation.ready();
  }

  /**
   * Resolves when this instance knows what the others had decided before the call; `undefined`: it does. Never rejects. Nothing that
   * a ban, an erasure or a revoked key forbids may be decided before.
   */
  upToDate(): Promise<void> | undefined {
    return this.#standstill?.over();
  }

  /** Resolves when all frames pushed so far have been handed to the transports that could take them. */
  flushed(): Promise<void> {
    return this.#host.fanout.whenIdle();
  }

  /**
   * Lets no new client in, and asks all clients to come back elsewhere, each at a random moment within a time. Resolves
   * when all have gone, or the time is over. What is published meanwhile is taken.
   *
   * @param withinMs - milliseconds
   */
  async drain(withinMs: number): Promise<void> {
    this.#draining = true;
    const { connected, clock, wheel } = this.#host;
    const frame = new Frame(JSON.stringify({ on: 'drain', withinMs }), true);
    for (const connection of connected) connection.push(frame);
    for (const endMs = clock.monotonic() + withinMs; connected.size > 0 && clock.monotonic() < endMs; )
      await new Promise<void>((resolve) => void wheel.after(drainLookMs, resolve));
  }

  /** Lets no new client in, closes all connections, and resolves when all publishes under way have been decided. */
  async stop(): Promise<void> {
    this.#stopping = true;
    this.#standstill?.stop();
    const { publisher, connected, channels, wheel } = this.#host;
    const decided = publisher.stop();
    for (const connection of [...connected])
      connection.close(closeCodes.drain, 'this instance is about to stop', 'drained');
    await this.pruner.stop();
    await this.eraser.stop();
    await this.intakes.stop();
    await decided;
    await this.indexer.stop();
    await this.hooks.stop();
    this.reactions.stop();
    await this.#host.boards.stop();
    await this.inboxes.settled();
    await this.moderation.stop();
    channels.close();
    wheel.stop();
  }

  // ------------------------------------------------------------------------------------------------ inside

  get #status(): InstanceStatus {
    return {
      instance: this.options.instance,
      format: instanceFormat,
      sinceMs: this.#startedAtMs,
      connections: this.stats.connections,
      channels: this.stats.enteredChannels,
      messagesIn: this.counters.messagesIn,
      deliveries: this.counters.deliveries,
      refusals: this.counters.refusals,
      ...this.#rates.perS,
      draining: this.draining,
      ...this.#ports.facts?.(),
    };
  }

  /** Receives what the relay carries, from this instance and from the others. */
  #followRelay(): void {
    const { relay, unread, threadNews, watching, channels } = this.#host;
    relay.subscribe(usersTopic, {
      hear: (word) => {
        if (word.type === 'marked') unread.marked(word.user, word.state);
        else if (word.type === 'begun') unread.begun(word.users, word.channel);
        else if (word.type === 'admissions') this.invitations.hear(word.users);
        else if (word.type === 'blocks') this.blocks.hear(word.user);
        // Unknown words come from later versions.
        else if (word.type === 'notice' || word.type === 'done') this.inboxes.hear(word);
      },
    });
    relay.subscribe(userNewsTopic, {
      hear: (word) => {
        if (word.type === 'level') this.levels.hear(word.user, word);
        else if (word.type === 'threads') threadNews.hear(word.users, word.channel, word.thread);
        else if (word.type === 'pending') this.pending.hear(word.user, word.message);
      },
    });
    relay.control.follow(
      (entry) => this.#obey(entry),
      () => void this.#readAgain(),
    );
    // What an instance committed, and could not tell, is read from the store.
    const lookAgain = (): void => {
      void this.#readAgain();
      for (const each of [unread, threadNews, this.blocks, this.levels, this.invitations]) each.lookAgain();
    };
    relay.others?.follow({
      answer: (question) => {
        if (question.type === 'call') return this.calls.answerTo(question.key);
        if (question.type === 'call-copies') return this.calls.copies(question.name, question.after) as unknown as Json;
        if (question.type === 'webhooks')
          return webhookCountsOf(this.intakes, this.hooks, this.calls) as unknown as Json;
        return this.cluster.answer(question);
      },
      hear: (from, word) => {
        if (word.type === 'reached') this.inboxes.reachedElsewhere(word.user, word.id);
        else if (word.type === 'hooks-changed' || word.type === 'queued') this.hooks.hear(word);
        else watching.hear(from, word);
      },
      gone: (instanceId) => {
        lookAgain();
        watching.gone(instanceId);
        channels.instanceGone(instanceId);
      },
      resumed: () => {
        this.#standstill?.doubt();
        lookAgain();
        channels.resumed();
        watching.lookAgain();
      },
      status: () => this.#status,
    });
  }

  #obey(entry: ControlEntry): void {
    if (entry.type === 'keys-changed') this.#readKeys();
    else if (entry.type === 'continue') {
      if (entry.by !== this.#id) this.#host.sessions.continued(entry);
    } else this.moderation.obey(entry);
  }

  /** Totals of intakes, hooks and calls on all instances, and the names of those that did not answer. */
  async webhookCounts(): Promise<Gathered<WebhookCounts>> {
    const own = webhookCountsOf(this.intakes, this.hooks, this.calls);
    const { others } = this.#ports.relay;
    const { answers, missing } = (await others?.ask<WebhookCounts>({ type: 'webhooks' }, askWithinMs)) ?? noAnswers;
    return { ...joinedCounts([own, ...answers.map(({ answer }) => answer)]), missing };
  }

  /**
   * Calls of a name that passed any instance behind a number, the earliest first. With several instances those of the last
   * second are left for the next time: one of another instance may still come before them.
   */
  async callCopies(name: string, after: number): Promise<readonly CallCopy[]> {
    const question = { type: 'call-copies', name, after } as const;
    const own = this.calls.copies(name, after);
    const { others } = this.#ports.relay;
    if (others === undefined) return own;
    const { answers } = await others.ask<readonly CallCopy[]>(question, askWithinMs);
    const settled = (this.#ports.clock.now() - askWithinMs) * 1000;
    return [own, ...answers.map(({ answer }) => answer)]
      .flat()
      .filter(({ number }) => number <= settled)
      .sort((a, b) => a.number - b.number);
  }

  get #aheadMs(): number {
    const { clock } = this.#ports;
    return clock.now() - clock.monotonic();
  }

  async #answeredElsewhere(key: string, withinMs: number): Promise<string | undefined> {
    const { answers } = (await this.#ports.relay.others?.ask<string | null>({ type: 'call', key }, withinMs)) ?? {
      answers: [],
    };
    return answers.find(({ answer }) => answer !== null)?.answer ?? undefined;
  }

  #cameFromElsewhere(session: Session): void {
    const { control } = this.#ports.relay;
    const { id, generation } = session;
    session.isBeingSaid = true;
    control
      .append({ type: 'continue', session: id, generation, by: this.#id })
      .catch((error: unknown) => this.#ports.report(error, { event: 'session-announcement-failed' }))
      .finally(() => {
        session.isBeingSaid = false;
      });
  }

  /** Bans may have been missed: reads those in force anew, and applies them to all who are connected. */
  async #readAgain(): Promise<void> {
    // While it stops, the database may be closed.
    if (this.#stopping) return;
    this.#readKeys();
    await this.moderation.readAgain();
  }

  #readKeys(): void {
    this.#keysRead = Promise.resolve(this.#ports.keysChanged?.());
  }

  /** @param aheadMs - by how much the clock was ahead of one that never jumps */
  #sweepLater(aheadMs = this.#aheadMs): void {
    const { wheel, sessions, bans, limiter } = this.#host;
    wheel.after(sweepMs, () => {
      const nowAheadMs = this.#aheadMs;
      // Bans and silences that had ended by the wrong time are in force again.
      if (nowAheadMs < aheadMs - stepMs) void this.#readAgain();
      sessions.sweep();
      bans.sweep();
      this.#questions.sweep();
      limiter.sweep();
      this.#sweepLater(nowAheadMs);
    });
  }
}

/** What happens to members, of which hooks hear. */
const memberEvents = ['joined', 'left', 'first-in', 'last-out'] as const;

function noBody(): never {
  throw new RangeError('there are intakes, but no way to read what comes in');
}

/** @throws {RangeError} for rules that ask without an `asker`, or that name an unknown parameter */
function checkRules(rules: ChannelRules, { users }: EngineOptions, asker: Asker | undefined): void {
  const allows = [
    ...rules.all.map(({ pattern, allow }) => ({ name: pattern, allow })),
    { name: 'users', allow: users },
  ];
  if (asker === undefined)
    for (const { name, allow } of allows)
      if (Object.values(allow).some(asksTheApplication))
        throw new RangeError(`${name}: an access rule asks the application, but there is no way to ask it`);
  for (const act of userActs as readonly UserAct[]) {
    const rule = users[act];
    const fault = rule === undefined ? undefined : accessRuleFault(rule, ['user'], act);
    if (fault !== undefined) throw new RangeError(`users, ${act}: ${fault}`);
  }
}
