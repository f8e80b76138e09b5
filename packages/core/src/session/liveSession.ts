import {
  type Block,
  type ChannelName,
  defined,
  type Ending,
  type EnterWish,
  type HelloRequest,
  type InboxReply,
  type Json,
  type Place,
  ProblemError,
  type RemovedPush,
  type Request,
  refusal,
  type SetResult,
} from '@nine-bells/wire';
import { type ActOf, type Ruling, type Visitor, withEntry } from '../access/access.js';
import { bannedProblem, silencedProblem } from '../access/moderationProblems.js';
import { boardRuleOf, type EntryPlaces, type EntryWish } from '../boards/boards.js';
import type { CaughtUp, Channel } from '../channel/channel.js';
import { type Filter, filterOf } from '../channel/filters.js';
import type { Recipient } from '../channel/recipient.js';
import { LatestFrame } from '../delivery/latestFrame.js';
import type { SendQueue } from '../delivery/sendQueue.js';
import type { ChannelAct, Identity } from '../model/access.js';
import { BlockList } from '../model/block.js';
import type { Frame } from '../model/frame.js';
import type { EndSilence, Silence } from '../model/moderation.js';
import { checkStatus } from '../model/status.js';
import type { RuleMatch } from '../rules/channelRule.js';
import type { ConnectedSession } from './connected.js';
import { EnteredChannels, removedFrame, silencedFrame } from './enteredChannels.js';
import type { SessionHost } from './host.js';
import { SessionRates } from './rates.js';
import { enteredText, inboxReply, placeOf, wishOf } from './replies.js';
import type { Session } from './sessions.js';
import { Stays } from './stays.js';
import { WatchedUsers } from './watchedUsers.js';

/** A request, as far as it takes to answer it. */
export type Asked = {
  readonly do: Request['do'];
  readonly id?: number | undefined;
  readonly channel?: ChannelName | undefined;
};

/** What a session needs of its connection. */
export interface SessionLine {
  readonly ended: boolean;
  readonly address: string | undefined;
  readonly queue: SendQueue;
  /** Answers a request; nothing is sent if it had no id. */
  reply(id: number | undefined, members: object): void;
  /** As `reply`, with the members as JSON text without braces. */
  replyText(id: number | undefined, members: string): void;
  /** Answers a request with a problem. */
  failed(error: unknown, request: Asked): void;
  /** @throws {ProblemError} `token-invalid`, `token-ended`, `banned`, `unavailable` */
  readToken(token: string): Promise<Identity>;
  /** Looks in this turn whether a user may be connected at all. @throws {ProblemError} `token-ended`, `banned` */
  checkAdmission(who: Identity): void;
  watchTokenEnd(who: Identity): void;
}

/** An act that is allowed, and what that rests on. */
export interface Allowed {
  readonly match: RuleMatch;
  readonly ruling: Ruling;
}

/** Notices in one reply, if the client does not say how many. */
export const noticesAtOnce = 100;

/**
 * A session on its present connection: who it is, what it has entered and watches, and what it may do.
 *
 * Verbs act on it (`verbs/`); what outlives the connection is in `Session`.
 */
export class LiveSession implements Recipient, ConnectedSession {
  readonly host: SessionHost;
  readonly line: SessionLine;
  readonly state: Session;
  readonly rates: SessionRates;
  readonly entered: EnteredChannels;
  /** Raised by each hello: what an older connection still sends is refused. */
  readonly #generation: number;
  /** Channels that show the session as there; made with the first. */
  #stays: Stays | undefined;
  #watched: WatchedUsers | undefined;
  #who: Identity;
  #blocks: BlockList | undefined;
  /** The client is told what its user has not read. */
  #countsUnread = false;
  #followsThreads = false;
  /** Publishes and marks under way, and what lets later acts go on when there is room. */
  #underWay = 0;
  #room: (() => void) | undefined;

  constructor(host: SessionHost, line: SessionLine, state: Session, who: Identity) {
    this.host = host;
    this.line = line;
    this.state = state;
    this.rates = new SessionRates(state, host.options, host.clock);
    this.entered = new EnteredChannels(host, this);
    this.#generation = state.generation;
    this.#who = who;
  }

  get who(): Identity {
    return this.#who;
  }

  get session(): string {
    return this.state.id;
  }

  get user(): string {
    return this.#who.user;
  }

  get gone(): boolean {
    return this.line.ended;
  }

  get queue(): SendQueue {
    return this.line.queue;
  }

  get status(): Json | undefined {
    return this.state.status;
  }

  /** Whom the user keeps away; `undefined`: not read yet. */
  get blocks(): BlockList | undefined {
    return this.#blocks;
  }

  get looking(): ChannelName | undefined {
    return this.state.looking;
  }

  get channels(): readonly ChannelName[] {
    return this.entered.names;
  }

  get visitor(): Visitor {
    return { who: this.#who, address: this.line.address };
  }

  /** Users whose status the session watches. */
  get watched(): WatchedUsers {
    this.#watched ??= new WatchedUsers(this.host, this);
    return this.#watched;
  }

  /** Whether it gets the channel, is about to, or is shown there. */
  isIn(channel: ChannelName): boolean {
    return this.entered.has(channel) || this.#stays?.has(channel) === true;
  }

  /** Whether the session is shown as a member of a channel. */
  isMemberOf(channel: ChannelName): boolean {
    return this.#stays?.has(channel) === true;
  }

  gotOf(channel: ChannelName): Place | undefined {
    return this.entered.gotOf(channel);
  }

  push(frame: Frame): void {
    this.queue.push(frame);
  }

  // ---------------------------------------------------------------------------------------- in and out

  /**
   * Enters a channel. Gives the members of the reply, as JSON text without braces.
   *
   * From the turn in which the channel is entered, pushes are held back: the caller queues the reply, then releases
   * them (`queue.release`).
   *
   * @param bytes - room for messages; with none, the reply only says where to go on (`more`)
   * @throws {ProblemError} the refusal; `too-many-channels`, `rate-limited`, `busy`, `unavailable`
   */
  async enter(asked: EnterWish, bytes: number, { match, ruling }: Allowed): Promise<string> {
    const { access, bans, channels, channelMarks } = this.host;
    // A client that may not write comes in without its words.
    const { status: _, ...silent } = asked;
    const wish: EnterWish = bans.silenceOf(this.user, asked.channel) === undefined ? asked : silent;
    if (wish.status !== undefined) {
      checkStatus(wish.status, this.host.options.statusBytes, '/status');
      if (match.hasContracts) this.#checkStatus(match, wish.status);
    }
    if (wish.last !== undefined && wish.last > 0) await this.allowed('read', wish.channel);
    const channel = this.#open(wish.channel, match);
    try {
      await this.knownBlocks();
      this.entered.begin(channel);
      const filterNow = (): Filter | undefined =>
        filterOf(wish.filter, ruling.filters, this.#blocks?.filterFor(match.rule));
      const caughtUp = await channel.enter(this, wishOf(wish), bytes, filterNow);
      const reactions = match.rule.reactions ? await this.#reactionsOrLeave(channel, wish, caughtUp) : '';
      if (this.gone) return '';
      // A ban may have overtaken the earlier decision.
      const ban = access.ban(this.visitor, wish.channel);
      if (ban !== undefined) {
        this.#takeOut(channel);
        throw new ProblemError(bannedProblem(ban));
      }
      const list = this.#shownIn(channel, wish, ruling.member);
      this.entered.entered(channel, wish, caughtUp, ruling);
      // In a reply that is full, members and marks come with the messages: when the client enters again.
      const marks = channelMarks.get(channel.name)?.text ?? '';
      const about = bytes <= 0 && caughtUp.more ? '' : list + marks + this.#boardIn(channel, wish, caughtUp.more);
      const text = enteredText(wish.channel, caughtUp, about + reactions);
      this.tellSilences(wish.channel);
      const { user, session } = this;
      this.host.seen?.('request', { act: 'enter', channel: wish.channel, user, session });
      this.rates.given(filterNow() === undefined ? text.length : Math.max(text.length, caughtUp.looked ?? 0));
      return text;
    } finally {
      this.entered.over(channel);
      if (!this.entered.has(wish.channel) || this.gone) channels.left(wish.channel);
    }
  }

  /** The session is refused after all: it gets nothing of the channel, not even what was pushed since it became live. */
  #takeOut(channel: Channel): void {
    channel.leave(this);
    this.queue.drop(channel.name);
  }

  /** As `#reactionsIn`. If they cannot be read, a client that was not in the channel before is not in it afterwards. */
  async #reactionsOrLeave(channel: Channel, wish: EnterWish, caughtUp: CaughtUp): Promise<string> {
    try {
      return await this.#reactionsIn(channel.match, wish, caughtUp);
    } catch (error) {
      if (!this.entered.has(channel.name)) this.#takeOut(channel);
      throw error;
    }
  }

  /**
   * Reactions to the messages in a reply, as JSON text that begins with a comma; empty where the rule has none.
   *
   * @throws {ProblemError} `unavailable`
   */
  async #reactionsIn(match: RuleMatch, wish: EnterWish, { messages, more }: CaughtUp): Promise<string> {
    const known = wish.reactions === undefined ? undefined : placeOf(wish.reactions);
    const given = await this.host.reactions.entering(match, messages, this.user, { known, more });
    return `,"reactions":${JSON.stringify(given)}`;
  }

  /** Gives the channel; one that is not open here yet is charged to the session and its address. */
  #open(name: ChannelName, match: RuleMatch): Channel {
    const { options, channels, limiter } = this.host;
    const present = this.entered.get(name);
    if (present !== undefined) return present;
    if (this.entered.size >= options.channelsPerSession)
      throw refusal('too-many-channels', `a session may enter at most ${options.channelsPerSession} channels`);
    const open = channels.get(name);
    if (open !== undefined) return open;
    const waitMs = this.rates.charge('newChannels') || limiter.opens(this.line.address);
    if (waitMs > 0)
      throw refusal('rate-limited', 'too many channels are opened that no client was in', { retryAfterMs: waitMs });
    return channels.open(name, match);
  }

  /** Gives the session the board. The member of its reply, as JSON text that begins with a comma. */
  #boardIn(channel: Channel, wish: EnterWish, more: boolean): string {
    const board = this.host.boards.get(channel.name);
    if (board === undefined) return '';
    if (!more) return board.enter(this, wish, this.#generation);
    // It is not live, and gets the board when it is.
    board.pause(this);
    return '';
  }

  /** Shows the session as a member. Gives the list of members, as JSON text that begins with a comma. */
  #shownIn(channel: Channel, wish: EnterWish, member: Json | undefined): string {
    const presence = this.host.presences.get(channel.name);
    if (presence === undefined) return '';
    this.#stays ??= new Stays(this.state, this.host);
    return this.#stays.enter(presence, this.#who, wish, member);
  }

  /** @throws {ProblemError} `bad-data` */
  #checkStatus(match: RuleMatch, status: Json): void {
    const checked = { data: status, chars: 0, where: '/status' };
    this.host.contracts.checkStatus(match, checked, { from: 'clients', user: this.user, session: this.session });
  }

  /** Sets an entry of a board. */
  setEntry(match: RuleMatch, wish: EntryWish, whileHere = false, where?: EntryPlaces): Promise<SetResult> {
    const setter = { user: this.user, session: this.session };
    const { boards } = this.host;
    return boards.set(match, wish, whileHere ? { ...setter, generation: this.#generation } : setter, where);
  }

  /** Leaves a channel. */
  leave(channel: ChannelName, why: Ending | 'removed' | 'not-allowed' = 'left', detail?: string): void {
    this.#stays?.leave(channel);
    this.entered.leave(channel, why, detail);
  }

  /** Ends the stay in a channel: pushes of it that wait are dropped, and the client is told. */
  expel(channel: ChannelName, told: Omit<RemovedPush, 'on' | 'channel'>): void {
    if (this.gone || !this.isIn(channel)) return;
    this.leave(channel, 'removed', told.reason ?? told.problem?.title);
    this.queue.drop(channel);
    this.push(removedFrame(channel, told));
  }

  /** Tells the client that its user may not write, or may again. */
  silenced(action: Silence | EndSilence): void {
    if (this.gone) return;
    this.enforceSilences();
    this.push(silencedFrame(action));
  }

  /**
   * Hides the status and removes board entries where the user is silenced. A silence in the whole service clears the status;
   * the user has to set a new one.
   */
  enforceSilences(): void {
    this.entered.checkEntries();
    this.#stays?.hideStatuses();
    if (this.state.status === undefined || this.host.bans.silenceOf(this.user) === undefined) return;
    this.state.status = undefined;
    this.host.watching.changed(this.user);
  }

  /** Tells the client of silences that are in force: in the whole service, or only in a channel that it has entered. */
  tellSilences(channel?: ChannelName): void {
    for (const each of this.host.bans.silencesOf(this.user, channel)) if (each.channel === channel) this.silenced(each);
  }

  /** Hello has named the channels to go on in: the session is no longer shown in the others. */
  resumed(): void {
    if (this.state.lingers === undefined) return;
    this.#stays ??= new Stays(this.state, this.host);
    this.#stays.lingerNoMore();
  }

  /**
   * Sets the status in one channel, or in all.
   *
   * @throws {ProblemError} `bad-data` by the contract of a channel that shows it
   */
  setStatus(status: Json, channel: ChannelName | undefined): void {
    for (const name of channel === undefined ? [undefined, ...this.channels] : [channel]) {
      const silence = this.host.bans.silenceOf(this.user, name);
      if (silence !== undefined) throw new ProblemError(silencedProblem(silence));
    }
    for (const match of this.#stays?.matches(channel) ?? []) if (match.hasContracts) this.#checkStatus(match, status);
    if (channel === undefined) this.state.status = status;
    this.#stays?.setStatus(status, channel);
    this.host.watching.changed(this.user);
    this.host.inboxes.changed(this.user);
  }

  /** Replaces the identity by that of a new token. */
  refresh(who: Identity): void {
    this.#who = who;
    this.state.tokenDigest = undefined;
    this.line.watchTokenEnd(who);
  }

  /**
   * Whom the user keeps away. From then on the session hears of changes.
   *
   * @throws {ProblemError} `unavailable`
   */
  async knownBlocks(): Promise<BlockList> {
    if (this.#blocks !== undefined) return this.#blocks;
    const { guest, observer } = this.#who;
    if (guest || observer) this.#blocks = BlockList.empty;
    else {
      const list = await this.host.blocks.listFor(this.user);
      // A change may have come before the answer.
      this.#blocks ??= list;
    }
    return this.#blocks;
  }

  /** What the user may do has changed. */
  decideAgain(): void {
    if (!this.gone) this.entered.decideAgain();
  }

  blocksChanged(list: BlockList): void {
    this.#blocks = list;
    if (this.gone) return;
    this.entered.blocksChanged();
    const push = { on: 'blocks', blocks: list.blocks };
    this.push(new LatestFrame('blocks', push, (_, later) => later, false));
  }

  /** Begins to tell the client what its user has not read; resolves with the counts. */
  countUnread(): Promise<Readonly<Record<string, number>>> {
    this.#countsUnread = true;
    return this.host.unread.follow(this.user, this);
  }

  /** Begins to push changes of the user's threads. */
  followThreads(): void {
    this.#followsThreads = true;
    this.host.threadNews.follow(this.user, this);
  }

  /** The connection has ended. */
  end(ending: Ending): void {
    this.#room?.();
    if (ending !== 'signed-out') this.#stays?.linger(ending === 'left');
    for (const name of this.channels) this.leave(name, ending);
    this.#stays?.leaveAll();
    this.#watched?.end();
    if (this.#countsUnread) this.host.unread.unfollow(this.user, this);
    if (this.#followsThreads) this.host.threadNews.unfollow(this.user, this);
    this.host.blocks.ended(this);
    if (this.state.generation === this.#generation) this.host.sessions.ended(this.state, ending);
  }

  // --------------------------------------------------------------------------------------------- access

  decide(act: ChannelAct, channel: ChannelName, entry?: string): Ruling | Promise<Ruling> {
    const match = this.host.rules.require(channel);
    return this.host.access.decide(act, entry === undefined ? match : withEntry(match, entry), this.visitor);
  }

  /**
   * Decides an act, in this turn unless the application must be asked; then what may have changed meanwhile is looked
   * at again in the turn in which the act takes effect.
   *
   * @throws {ProblemError} the refusal; as a rejection, if it has to be waited for
   */
  allowed(act: ChannelAct, channel: ChannelName, { entry, message }: ActOf = {}): Allowed | Promise<Allowed> {
    this.checkGeneration();
    const { access, rules } = this.host;
    const match = rules.require(channel);
    const asked = entry === undefined ? match : withEntry(match, entry);
    const ruled = access.decide(act, asked, this.visitor, message);
    const ruling = match.rule.direct && act !== 'read' ? this.#andMayBegin(match, ruled) : ruled;
    if (!(ruling instanceof Promise)) return granted(match, ruling);
    return ruling.then((later) => {
      this.checkGeneration();
      const ban = access.ban(this.visitor, channel);
      if (ban !== undefined) throw new ProblemError(bannedProblem(ban));
      const silence = access.silence(act, this.visitor, channel);
      if (silence !== undefined) throw new ProblemError(silencedProblem(silence));
      return granted(match, later);
    });
  }

  /**
   * As `allowed`, for setting an entry of the board; only of a channel that the session has entered.
   *
   * @throws {ProblemError} the refusal
   */
  allowedToSet(channel: ChannelName, entry: string): Allowed | Promise<Allowed> {
    boardRuleOf(this.host.rules.require(channel));
    if (!this.entered.has(channel))
      throw refusal('not-allowed', `entries are set by who has entered ${channel}`, { where: '/channel' });
    return this.allowed('set', channel, { entry });
  }

  /** Once in how long the user may publish in a channel, in milliseconds; 0: as it likes. Hot: once per publish. */
  slowedTo({ channel, rule }: RuleMatch): number {
    const own = this.host.bans.slowedTo(this.user, channel);
    if (rule.slowMs === undefined || rule.slowMs <= own) return own;
    const moderates = rule.allow.moderate === undefined ? undefined : this.decide('moderate', channel);
    // What would have to be asked is taken for no.
    const mayModerate = moderates !== undefined && !(moderates instanceof Promise) && moderates.problem === undefined;
    return mayModerate ? own : rule.slowMs;
  }

  /** As `allowed`, for entering: a refusal is traced. */
  async allowedToEnter(channel: ChannelName): Promise<Allowed> {
    try {
      return await this.allowed('enter', channel);
    } catch (error) {
      if (error instanceof ProblemError) this.entered.refused(channel, error.problem);
      throw error;
    }
  }

  /** Whether the user may know that a channel has messages. */
  mayKnow(channel: ChannelName): boolean | Promise<boolean> {
    let ruling: Ruling | Promise<Ruling>;
    try {
      ruling = this.decide('enter', channel);
    } catch {
      // No rule matches the channel any more.
      return false;
    }
    if (ruling instanceof Promise) return ruling.then(({ problem: refused }) => refused === undefined);
    return ruling.problem === undefined;
  }

  /** In a direct channel, an allowed act must also be allowed to begin the channel. */
  #andMayBegin(match: RuleMatch, ruled: Ruling | Promise<Ruling>): Ruling | Promise<Ruling> {
    if (ruled instanceof Promise) return ruled.then((later) => this.#andMayBegin(match, later));
    return ruled.problem === undefined ? this.host.direct.mayBegin(match, this.visitor) : ruled;
  }

  /** Performs an act that holds data against a contract: the time that it takes is charged to the session. */
  timed<T>(act: () => T): T {
    const { clock } = this.host;
    const beganMs = clock.monotonic();
    try {
      return act();
    } finally {
      this.rates.checked(clock.monotonic() - beganMs);
    }
  }

  checkGeneration(): void {
    if (this.gone || this.state.generation !== this.#generation)
      throw refusal('not-allowed', 'the session was continued on another connection');
  }

  // --------------------------------------------------------------------------------------------- replies

  /** Answers when the store is done, and lets later acts go on meanwhile, unless too many are under way. */
  answerWhenDone<T>(request: Asked, done: Promise<T>, textOf: (done: T) => string): void | Promise<void> {
    this.#underWay += 1;
    done.then(
      (result) => {
        this.line.replyText(request.id, textOf(result));
        this.#answered();
      },
      (error: unknown) => {
        this.line.failed(error, request);
        this.#answered();
      },
    );
    if (this.#underWay < this.host.options.publishesUnderWay) return;
    return new Promise((resolve) => {
      this.#room = resolve;
    });
  }

  #answered(): void {
    this.#underWay -= 1;
    this.#room?.();
    this.#room = undefined;
  }

  /** Whom the user keeps away, for the reply to hello; `undefined`: no user, or it cannot be read. */
  async blocksAtHello(): Promise<readonly Block[] | undefined> {
    try {
      const { blocks } = await this.knownBlocks();
      return blocks.length === 0 ? undefined : blocks;
    } catch (error) {
      // Channels are not entered until it is known.
      this.host.report(error, { event: 'blocks-unread', user: this.user });
      return undefined;
    }
  }

  /** The user's inbox, for the reply to hello: with a cursor, the notices after it. Guests have none. */
  async inboxAtHello({ inbox: after }: HelloRequest): Promise<InboxReply | undefined> {
    const { user, guest, name, roles, observer } = this.#who;
    if (guest || observer) return undefined;
    const { inboxes, report } = this.host;
    try {
      const limit = after === undefined ? 0 : noticesAtOnce;
      const slice = await inboxes.read(user, after === undefined ? undefined : placeOf(after), limit);
      inboxes.cameIn(user, { roles, ...defined({ name }) });
      return inboxReply(slice, after === undefined);
    } catch (error) {
      // The line is worth more than the inbox; the client may ask for it again.
      report(error, { event: 'inbox-unread', user });
      return undefined;
    }
  }
}

function granted(match: RuleMatch, ruling: Ruling): Allowed {
  if (ruling.problem !== undefined) throw new ProblemError(ruling.problem);
  return { match, ruling };
}
