import {
  type ChannelName,
  type Cursor,
  type Ending,
  type EnterWish,
  type HailRequest,
  type HelloRequest,
  type InboxReply,
  type InboxRequest,
  type Json,
  type MarkRequest,
  type Place,
  type Problem,
  ProblemError,
  type PublishRequest,
  parseCursor,
  type ReadRequest,
  type RefreshRequest,
  type RemovedPush,
  type RemoveRequest,
  type Request,
  refusal,
  type StatusRequest,
  type UnreadRequest,
  type WatchRequest,
} from '@nine-bells/wire';
import type { Ruling, Visitor } from '../access/access.js';
import { bannedProblem, removedBy } from '../access/moderationProblems.js';
import type { CaughtUp, Channel, Entrant } from '../channel/channel.js';
import { TokenBucket } from '../lib/tokenBucket.js';
import type { ChannelAct, Identity } from '../model/access.js';
import { authorOf } from '../model/author.js';
import { type Batch, Frame } from '../model/frame.js';
import type { Rate } from '../model/options.js';
import { checkStatus } from '../model/status.js';
import type { RuleMatch } from '../rules/channelRule.js';
import type { ConnectionHost } from './host.js';
import type { SessionRate } from './rates.js';
import { enteredText, inboxReply, markedText, placeOf, publishedText, readText, wishOf } from './replies.js';
import type { Session } from './sessions.js';
import { Stays } from './stays.js';

/** What was asked for, and under which number. */
export type Asked = {
  readonly do: Request['do'];
  readonly id?: number | undefined;
  readonly channel?: ChannelName | undefined;
};

/** What a client needs of the connection that it is on. */
export interface ClientLine {
  readonly ended: boolean;
  readonly address: string | undefined;
  push(frame: Frame): void;
  pushAll(batch: Batch): void;
  /** Forgets the pushes of a channel that wait. */
  drop(channel: ChannelName): void;
  /** Answers a request; nothing is sent if it had no id. */
  reply(id: number | undefined, members: object): void;
  /** As `reply`, of JSON text without braces. */
  replyText(id: number | undefined, members: string): void;
  failed(error: unknown, request: Asked): void;
  /** @throws {ProblemError} `token-invalid`, `token-ended`, `banned`, `unavailable` */
  readToken(token: string): Promise<Identity>;
  /** Looks again, in this turn, whether somebody may be here at all. */
  checkStanding(who: Identity): void;
  watchTokenEnd(who: Identity): void;
}

/** Replies of so many characters are not counted by their size. */
const smallReply = 2_048;
/** Notices in one reply, if the client does not say how many. */
const noticesAtOnce = 100;

/**
 * Somebody who has said hello: a session on its present connection, with the channels that it has entered.
 *
 * Every act is decided here before it does anything.
 */
export class Client implements Entrant {
  readonly #host: ConnectionHost;
  readonly #line: ClientLine;
  readonly #session: Session;
  /** Of the session when this connection began: what an older one still says is refused. */
  readonly #generation: number;
  /** Made with the first channel that shows who is there. */
  #stays: Stays | undefined;
  #who: Identity;
  /** Made with the first channel: most of many thousand connections may have none. */
  #channels: Map<ChannelName, Channel> | undefined;
  /** Channels entered on the strength of an answer that runs out: what calls off that it is asked for again. */
  #askedAgain: Map<ChannelName, () => void> | undefined;
  /** How far it has said that it has got channels. */
  #got: Readonly<Record<string, Cursor>> | undefined;
  /** Users that this client watches, each with what cancels the next decision about it. */
  #watched: Map<string, (() => void) | undefined> | undefined;
  /** It is told what its user has not read. */
  #countsUnread = false;
  #underWay = 0;
  #room: (() => void) | undefined;

  constructor(host: ConnectionHost, line: ClientLine, session: Session, who: Identity) {
    this.#host = host;
    this.#line = line;
    this.#session = session;
    this.#generation = session.generation;
    this.#who = who;
  }

  get who(): Identity {
    return this.#who;
  }

  get session(): string {
    return this.#session.id;
  }

  get user(): string {
    return this.#who.user;
  }

  get gone(): boolean {
    return this.#line.ended;
  }

  /** What the session says of itself, whatever the channel. */
  get status(): Json | undefined {
    return this.#session.status;
  }

  /** The channel that the client has in view. */
  get looking(): ChannelName | undefined {
    return this.#session.looking;
  }

  get channels(): readonly ChannelName[] {
    return [...(this.#channels?.keys() ?? [])];
  }

  /** Whether it gets the channel, is about to, or is shown there. */
  isIn(channel: ChannelName): boolean {
    return this.#channels?.has(channel) === true || this.#stays?.has(channel) === true;
  }

  /** Adds a frame. Hot: once per delivery. */
  push(frame: Frame): void {
    this.#line.push(frame);
  }

  /** Adds all frames of a turn. Hot: once per channel and turn. */
  pushAll(batch: Batch): void {
    this.#line.pushAll(batch);
  }

  /** Ends the stay in a channel: what waits of it is not sent any more, and the client is told. */
  expel(channel: ChannelName, told: Omit<RemovedPush, 'on' | 'channel'>): void {
    if (this.gone || !this.isIn(channel)) return;
    this.#letGo(channel, 'removed', told.reason ?? told.problem?.title);
    this.#line.drop(channel);
    this.push(new Frame(JSON.stringify({ on: 'removed', channel, ...told })));
  }

  /** Bans from channels may have been missed: it is in none where it may not be. */
  lookAgain(): void {
    for (const channel of this.channels) {
      const ban = this.#host.access.ban(this.#visitor, channel);
      if (ban !== undefined) this.expel(channel, removedBy(ban));
    }
  }

  /** Its connection has ended. */
  end(ending: Ending): void {
    this.#room?.();
    if (ending !== 'left' && ending !== 'signed-out') this.#stays?.linger();
    for (const name of this.channels) this.#letGo(name, ending);
    this.#stays?.leaveAll();
    for (const [user, cancel] of this.#watched ?? []) {
      cancel?.();
      this.#host.watching.unwatch(user, this);
    }
    if (this.#countsUnread) this.#host.unread.unfollow(this.user, this);
    if (this.#session.generation === this.#generation) this.#host.sessions.ended(this.#session, ending);
  }

  // -------------------------------------------------------------------------------------------------- acts

  /** Performs any act but hello. A promise if it takes time; then later acts wait for it. */
  perform(request: Exclude<Request, HelloRequest>): void | Promise<void> {
    switch (request.do) {
      case 'enter':
        return this.enter(request, this.#host.options.backlogBytes, (text) =>
          this.#line.replyText(request.id, text),
        ).then(() => {});
      case 'leave':
        this.#letGo(request.channel, 'left');
        return this.#line.reply(request.id, { channel: request.channel });
      case 'publish':
        return this.#publish(request);
      case 'read':
        return this.#read(request);
      case 'refresh':
        return this.#refresh(request);
      case 'remove':
        return this.#remove(request);
      case 'hail':
        return this.#hail(request);
      case 'status':
        return this.#status(request);
      case 'inbox':
        return this.#inbox(request);
      case 'watch':
        return this.#watch(request);
      case 'unwatch':
        return this.#unwatch(request);
      case 'mark':
        return this.#mark(request);
      case 'unread':
        return this.#unread(request);
      case 'pulse':
        return;
      default:
        throw refusal('unknown-verb', `this version of the service does not answer \`${request.do}\``, {
          where: '/do',
        });
    }
  }

  /**
   * Enters a channel and calls `reply` with the members of the reply, as JSON text without braces, in the turn in which
   * the connection becomes live there. Returns the size of what was given, in characters.
   *
   * @param bytes - room for messages; with none, the client is only told where to go on (`more`)
   */
  async enter(wish: EnterWish, bytes: number, reply: (text: string) => void): Promise<number> {
    const { options } = this.#host;
    const isFull = bytes <= 0;
    if (wish.status !== undefined) checkStatus(wish.status, options.statusBytes, '/status');
    const { match, ruling } = await this.#allowedToEnter(wish.channel);
    if (wish.last !== undefined && wish.last > 0) await this.#allowed('read', wish.channel);
    let channel = this.#channels?.get(wish.channel);
    if (channel === undefined) {
      if (this.#channels !== undefined && this.#channels.size >= options.channelsPerSession)
        throw refusal('too-many-channels', `a session may enter at most ${options.channelsPerSession} channels`);
      channel = this.#open(wish.channel, match);
    }
    let size = 0;
    const into = channel;
    try {
      await into.enter(this, wishOf(wish), bytes, (caughtUp) => {
        if (this.gone) return;
        // What was decided before may have been overtaken by a ban.
        const ban = this.#host.access.ban(this.#visitor, wish.channel);
        if (ban !== undefined) {
          into.leave(this);
          throw new ProblemError(bannedProblem(ban));
        }
        this.#stays ??= new Stays(this.#session, this.#host.left);
        const list = this.#stays.enter(into, this.#who, wish, ruling.member);
        this.#channels ??= new Map();
        this.#entered(wish, caughtUp);
        if (!caughtUp.more) this.#restOn(wish.channel, ruling);
        if (caughtUp.more) this.#channels.delete(wish.channel);
        else this.#channels.set(wish.channel, into);
        // In a reply that is full, who is there comes with the messages: when the client enters again.
        const about = isFull && caughtUp.more ? '' : list + (into.marks?.text ?? '');
        const text = enteredText(wish.channel, caughtUp, about);
        size = text.length;
        this.#owes(size);
        reply(text);
      });
    } finally {
      if (!this.#channels?.has(wish.channel) || this.gone) this.#host.left(into);
    }
    return size;
  }

  /** The channel; one that is not open here yet is charged to the session and its address. */
  #open(name: ChannelName, match: RuleMatch): Channel {
    const open = this.#host.openChannel(name);
    if (open !== undefined) return open;
    const waitMs = this.overRate('newChannels') || this.#host.door.opens(this.#line.address);
    if (waitMs > 0)
      throw refusal('rate-limited', 'too many channels are opened that no client was in', { retryAfterMs: waitMs });
    return this.#host.channel(name, match);
  }

  async #allowedToEnter(channel: ChannelName): Promise<Allowed> {
    try {
      return await this.#allowed('enter', channel);
    } catch (error) {
      if (error instanceof ProblemError) this.refusedAt(channel, error.problem);
      throw error;
    }
  }

  /** Hello has named the channels to go on in: those where the session is still shown from before are left. */
  entered(): void {
    if (this.#session.lingers === undefined) return;
    this.#stays ??= new Stays(this.#session, this.#host.left);
    this.#stays.lingerNoMore();
  }

  /** What is in the user's inbox; if hello says how far the client has it, what came after. Guests have none. */
  async inboxAtHello({ inbox: after }: HelloRequest): Promise<InboxReply | undefined> {
    const { user, guest, name, roles, oversight } = this.#who;
    if (guest || oversight) return undefined;
    try {
      const limit = after === undefined ? 0 : noticesAtOnce;
      const slice = await this.#host.inbox(user, after === undefined ? undefined : placeOf(after), limit);
      this.#host.inboxes.cameIn(user, { roles, ...(name === undefined ? {} : { name }) });
      return inboxReply(slice, after === undefined);
    } catch (error) {
      // The line is worth more than the inbox; the client may ask for it again.
      this.#host.report(error, { what: 'an inbox could not be read', user });
      return undefined;
    }
  }

  async #inbox({ id, after, limit = noticesAtOnce, done }: InboxRequest): Promise<void> {
    const { user, guest } = this.#who;
    if (guest) throw refusal('not-allowed', 'guests have no inbox');
    this.#checkGeneration();
    if (done !== undefined) await this.#host.inboxes.done(user, done);
    const slice = await this.#host.inbox(user, after === undefined ? undefined : placeOf(after), limit);
    this.#line.reply(id, inboxReply(slice, false));
  }

  #watch({ id, user }: WatchRequest): void | Promise<void> {
    const { access, options, watching } = this.#host;
    const tell = (ruling: Ruling): void | Promise<void> => {
      if (ruling.problem !== undefined) throw new ProblemError(ruling.problem);
      if (this.gone) return;
      this.#watched ??= new Map();
      if (this.#watched.size >= options.channelsPerSession && !this.#watched.has(user))
        throw refusal('too-many-channels', `a session may watch at most ${options.channelsPerSession} users`);
      this.#watchRestsOn(user, ruling);
      const status = watching.watch(user, this);
      if (!(status instanceof Promise)) return this.#line.reply(id, { user, status });
      return status.then((found) => this.#line.reply(id, { user, status: found }));
    };
    const ruling = access.decideAbout('watch', user, this.#visitor);
    return ruling instanceof Promise ? ruling.then(tell) : tell(ruling);
  }

  #unwatch({ id, user }: WatchRequest): void {
    this.#endWatch(user);
    this.#line.reply(id, { user });
  }

  #endWatch(user: string): void {
    this.#watched?.get(user)?.();
    this.#watched?.delete(user);
    this.#host.watching.unwatch(user, this);
  }

  /** May watch a user on an answer that may run out: then it is decided again. */
  #watchRestsOn(user: string, { untilMs }: Ruling): void {
    const { wheel, clock } = this.#host;
    this.#watched?.get(user)?.();
    const again = (): void => void this.#decideWatchAgain(user);
    this.#watched?.set(user, untilMs === undefined ? undefined : wheel.after(untilMs - clock.now(), again));
  }

  /** Decides a watch again. If it is no longer allowed, ends it and tells the client why. */
  async #decideWatchAgain(user: string): Promise<void> {
    const who = this.#who;
    const ruling = await this.#host.access.decideAbout('watch', user, this.#visitor);
    if (this.gone || this.#who !== who || this.#watched?.has(user) !== true) return;
    if (ruling.problem === undefined) {
      this.#watchRestsOn(user, ruling);
      return;
    }
    this.#endWatch(user);
    this.push(new Frame(JSON.stringify({ on: 'user', user, status: null, problem: ruling.problem })));
  }

  #hail(request: HailRequest): void | Promise<void> {
    const waitMs = this.overRate('hails');
    if (waitMs > 0) throw refusal('rate-limited', 'this session hails more than it may', { retryAfterMs: waitMs });
    const allowed = this.#allowed('hail', request.channel);
    if (allowed instanceof Promise) return allowed.then(({ match }) => this.#hailNow(request, match));
    this.#hailNow(request, allowed.match);
  }

  #hailNow({ id, channel, type, data, to }: HailRequest, match: RuleMatch): void {
    this.#host.hail(match, {
      channel,
      type,
      by: authorOf(this.#who),
      from: this.session,
      ...(data === undefined ? {} : { data }),
      ...(to === undefined ? {} : { to }),
    });
    this.#line.reply(id, {});
  }

  /** Says something else of the session: in one channel, or in all that it is in and will enter. */
  #status({ id, channel, status, looking }: StatusRequest): void {
    const session = this.#session;
    if (status !== undefined) {
      checkStatus(status, this.#host.options.statusBytes, '/status');
      if (channel === undefined) session.status = status;
      else if (this.#stays?.has(channel) !== true)
        throw refusal('bad-value', `this session is not a member of ${channel}`, { where: '/channel' });
      this.#stays?.setStatus(status, channel);
      this.#host.watching.changed(session.user);
      this.#host.inboxes.changed(session.user);
    }
    if (looking !== undefined) session.looking = looking ?? undefined;
    this.#line.reply(id, {});
  }

  #publish(request: PublishRequest): void | Promise<void> {
    const waitMs = this.overRate('publishes');
    if (waitMs > 0) throw refusal('rate-limited', 'this session publishes more than it may', { retryAfterMs: waitMs });
    const allowed = this.#allowed('publish', request.channel);
    if (allowed instanceof Promise) return allowed.then(({ match }) => this.#append(request, match));
    return this.#append(request, allowed.match);
  }

  #append(request: PublishRequest, match: RuleMatch): void | Promise<void> {
    const appended = this.#host.append(match, {
      channel: request.channel,
      data: request.data,
      type: request.type,
      key: request.key,
      by: authorOf(this.#who),
      except: request.echo === false ? [this.session] : undefined,
    });
    return this.#answerWhenDone(requestOf(request), appended, publishedText);
  }

  /** Answers when the store is done, and lets later acts go on meanwhile, unless too much is under way. */
  #answerWhenDone<T>(request: Asked, done: Promise<T>, textOf: (done: T) => string): void | Promise<void> {
    this.#underWay += 1;
    done.then(
      (result) => {
        this.#line.replyText(request.id, textOf(result));
        this.#answered();
      },
      (error: unknown) => {
        this.#line.failed(error, request);
        this.#answered();
      },
    );
    if (this.#underWay < this.#host.options.publishesUnderWay) return;
    return new Promise((resolve) => {
      this.#room = resolve;
    });
  }

  #answered(): void {
    this.#underWay -= 1;
    this.#room?.();
    this.#room = undefined;
  }

  /** Moves the user's mark in a channel, on all its devices. */
  #mark(request: MarkRequest): void | Promise<void> {
    if (this.#who.guest) throw refusal('not-allowed', 'guests have no read marks');
    const allowed = this.#allowed('enter', request.channel);
    if (allowed instanceof Promise) return allowed.then(({ match }) => this.#markNow(request, match));
    return this.#markNow(request, allowed.match);
  }

  #markNow(request: MarkRequest, match: RuleMatch): void | Promise<void> {
    const place = request.cursor === null ? null : placeOf(request.cursor);
    return this.#answerWhenDone(request, this.#host.mark(this.user, match, place), markedText);
  }

  /** From now on the client is told what its user has not read. */
  async #unread({ id }: UnreadRequest): Promise<void> {
    if (this.#who.guest) throw refusal('not-allowed', 'guests have no read marks');
    if (this.#who.oversight) throw refusal('not-allowed', 'oversight has no read marks');
    this.#checkGeneration();
    this.#countsUnread = true;
    const counts = await this.#host.unread.follow(this.user, this);
    if (!this.gone) this.#line.reply(id, { counts });
  }

  /** Whether it may know that there is something in a channel. */
  mayKnow(channel: ChannelName): boolean | Promise<boolean> {
    let ruling: Ruling | Promise<Ruling>;
    try {
      ruling = this.#rule('enter', channel);
    } catch {
      // No rule holds for it any more.
      return false;
    }
    if (ruling instanceof Promise) return ruling.then(({ problem: refused }) => refused === undefined);
    return ruling.problem === undefined;
  }

  async #read(request: ReadRequest): Promise<void> {
    const { match } = await this.#allowed('read', request.channel);
    const log = this.#host.log(match);
    const limit = { messages: request.limit ?? 100, bytes: this.#host.options.backlogBytes };
    const slice =
      request.after === undefined
        ? await log.before(request.channel, request.before && placeOf(request.before), limit)
        : await log.since(request.channel, placeOf(request.after), limit);
    const text = readText(request, slice, this.session);
    this.#owes(text.length);
    this.#line.replyText(request.id, text);
  }

  /** Swaps the token in place. What the new one does not allow ends now. */
  async #refresh(request: RefreshRequest): Promise<void> {
    const who = await this.#line.readToken(request.token);
    if (this.gone) return;
    const { user, guest, oversight } = this.#who;
    this.#line.checkStanding(who);
    if (guest || who.user !== user || who.oversight !== oversight)
      throw refusal('user-mismatch', 'the token must be of the user that this line is open for', { where: '/token' });
    this.#who = who;
    this.#session.tokenMac = undefined;
    this.#line.watchTokenEnd(who);
    const lost: ChannelName[] = [];
    const settle = (name: ChannelName, ruling: Ruling): void => {
      if (!this.#channels?.has(name)) return;
      if (ruling.problem === undefined) this.#restOn(name, ruling);
      else {
        this.#letGo(name, 'not-allowed');
        lost.push(name);
      }
    };
    // What the rules alone decide ends in this turn; the application takes its time.
    const asked: Promise<void>[] = [];
    for (const name of this.channels) {
      const ruling = this.#rule('enter', name);
      if (ruling instanceof Promise) asked.push(ruling.then((later) => settle(name, later)));
      else settle(name, ruling);
    }
    for (const watched of this.#watched?.keys() ?? []) asked.push(this.#decideWatchAgain(watched));
    await Promise.all(asked);
    if (this.gone) return;
    this.#line.reply(request.id, {
      ...(who.endsAt === undefined ? {} : { expiresAt: new Date(who.endsAt).toISOString() }),
      lost,
    });
  }

  #remove(request: RemoveRequest): void | Promise<void> {
    const allowed = this.#allowed('moderate', request.channel);
    return allowed instanceof Promise ? allowed.then(() => this.#removeNow(request)) : this.#removeNow(request);
  }

  #removeNow(request: RemoveRequest): void {
    const { user, name } = this.#who;
    const { channel, reason, banMs } = request;
    this.#host
      .remove({ channel, user: request.user, reason, banMs }, { kind: 'user', id: user, ...(name && { name }) })
      .then(
        ({ untilMs }) =>
          this.#line.reply(request.id, untilMs === undefined ? {} : { until: new Date(untilMs).toISOString() }),
        (error: unknown) => this.#line.failed(error, request),
      );
  }

  // ------------------------------------------------------------------------------------------------ access

  get #visitor(): Visitor {
    return { who: this.#who, address: this.#line.address };
  }

  #rule(act: ChannelAct, channel: ChannelName): Ruling | Promise<Ruling> {
    return this.#host.access.decide(act, this.#host.match(channel), this.#visitor);
  }

  /**
   * Decides an act, in this turn unless somebody outside must be asked; then what may have changed meanwhile is looked at
   * again in the turn in which the act takes effect.
   *
   * @throws {ProblemError} the refusal; as a rejection, if it has to be waited for
   */
  #allowed(act: ChannelAct, channel: ChannelName): Allowed | Promise<Allowed> {
    this.#checkGeneration();
    const match = this.#host.match(channel);
    const ruled = this.#host.access.decide(act, match, this.#visitor);
    const ruling = match.rule.direct && act !== 'read' ? this.#andMayBegin(match, ruled) : ruled;
    if (!(ruling instanceof Promise)) return granted(match, ruling);
    return ruling.then((later) => {
      this.#checkGeneration();
      const ban = this.#host.access.ban(this.#visitor, channel);
      if (ban !== undefined) throw new ProblemError(bannedProblem(ban));
      return granted(match, later);
    });
  }

  /** In a direct channel, what is allowed must also be allowed to begin. */
  #andMayBegin(match: RuleMatch, ruled: Ruling | Promise<Ruling>): Ruling | Promise<Ruling> {
    if (ruled instanceof Promise) return ruled.then((later) => this.#andMayBegin(match, later));
    return ruled.problem === undefined ? this.#host.mayBegin(match, this.#visitor) : ruled;
  }

  #checkGeneration(): void {
    if (this.gone || this.#session.generation !== this.#generation)
      throw refusal('not-allowed', 'the session was continued on another connection');
  }

  /** Has been let in on an answer that runs out: then it is asked for again. */
  #restOn(channel: ChannelName, { untilMs }: Ruling): void {
    this.#askedAgain?.get(channel)?.();
    this.#askedAgain?.delete(channel);
    if (untilMs === undefined) return;
    this.#askedAgain ??= new Map();
    const { wheel, clock } = this.#host;
    this.#askedAgain.set(
      channel,
      wheel.after(untilMs - clock.now(), () => void this.#askAgain(channel)),
    );
  }

  async #askAgain(channel: ChannelName): Promise<void> {
    const who = this.#who;
    const ruling = await this.#rule('enter', channel);
    // Left meanwhile, or decided anew with another token.
    if (this.gone || !this.#channels?.has(channel) || this.#who !== who) return;
    if (ruling.problem === undefined) this.#restOn(channel, ruling);
    else this.expel(channel, { problem: ruling.problem });
  }

  /** How long the session must wait before it does more of something, in milliseconds; 0: not at all. */
  overRate(what: SessionRate, cost = 1): number {
    const session = this.#session;
    const rate: Rate = this.#host.options[what];
    const now = this.#host.clock.monotonic();
    session.rates ??= {};
    session.rates[what] ??= new TokenBucket(rate, now);
    return session.rates[what].take(rate, now, cost);
  }

  /** How long the session must wait for what was read for it, in milliseconds. */
  get owedMs(): number {
    const { options, clock } = this.#host;
    return this.#session.rates?.given?.owedMs(options.given, clock.monotonic()) ?? 0;
  }

  #owes(bytes: number): void {
    // Small replies are bounded by the rate of requests, and most sessions get no others.
    if (bytes <= smallReply) return;
    const { options, clock } = this.#host;
    const now = clock.monotonic();
    this.#session.rates ??= {};
    this.#session.rates.given ??= new TokenBucket(options.given, now);
    this.#session.rates.given.spend(options.given, now, bytes);
  }

  // ------------------------------------------------------------------------------------------------- trace

  /** The client says how far it has got channels. What it does not name stays; of channels that it is not in, nothing is kept. */
  hasGot(got: Readonly<Record<string, Cursor>>): void {
    const known: Record<string, Cursor> = {};
    const before = this.#got ?? {};
    for (const name of this.#channels?.keys() ?? []) {
      const cursor = Object.hasOwn(got, name) ? got[name] : undefined;
      if (typeof cursor === 'string' && parseCursor(cursor) !== undefined) known[name] = cursor;
      else if (before[name] !== undefined) known[name] = before[name];
    }
    this.#got = known;
  }

  /** How far the client has said that it has got a channel. */
  gotOf(channel: ChannelName): Place | undefined {
    const cursor = this.#got?.[channel];
    return cursor === undefined ? undefined : parseCursor(cursor);
  }

  #entered({ channel, after }: EnterWish, { cursor, messages, more, gap, source }: CaughtUp): void {
    const { counts, traces, clock } = this.#host;
    if (after !== undefined) {
      counts.recoveries[source] += 1;
      counts.recovered += messages.length;
    }
    if (gap !== undefined) counts.gaps[gap.why] += 1;
    const came = after === undefined ? undefined : parseCursor(after);
    const first = messages[0]?.place.number ?? cursor.number + 1;
    const isOfVolume = came?.volume === cursor.volume;
    traces.stay({
      session: this.session,
      user: this.user,
      name: this.#who.name,
      channel,
      atMs: clock.now(),
      what: more ? 'given' : 'entered',
      volume: cursor.volume,
      from: isOfVolume && gap === undefined ? came.number : first - 1,
      gapAfter: isOfVolume && gap !== undefined ? came.number : undefined,
      upTo: cursor.number,
      returned: came !== undefined,
    });
  }

  /** It may not enter. */
  refusedAt(channel: ChannelName, refused: Problem): void {
    const { session, user } = this;
    const atMs = this.#host.clock.now();
    this.#host.traces.stay({ session, user, name: this.#who.name, channel, atMs, what: 'refused', problem: refused });
  }

  #letGo(name: ChannelName, why: Ending | 'removed' | 'not-allowed', detail?: string): void {
    this.#stays?.leave(name);
    const channel = this.#channels?.get(name);
    if (channel === undefined) return;
    const { head } = channel;
    if (head !== undefined) {
      const got = this.gotOf(name);
      this.#host.traces.stay({
        session: this.session,
        user: this.user,
        name: this.#who.name,
        channel: name,
        atMs: this.#host.clock.now(),
        what: 'ended',
        why,
        volume: head.volume,
        upTo: head.number,
        got: got?.volume === head.volume ? got.number : undefined,
        detail,
      });
    }
    this.#channels?.delete(name);
    this.#restOn(name, {});
    channel.leave(this);
    this.#host.left(channel);
  }
}

/** As much of a request as it takes to answer it, without what it brought along. */
function requestOf({ do: verb, id, channel }: Asked): Asked {
  return { do: verb, id, channel };
}

/** An act that is allowed, and what that rests on. */
interface Allowed {
  readonly match: RuleMatch;
  readonly ruling: Ruling;
}

function granted(match: RuleMatch, ruling: Ruling): Allowed {
  if (ruling.problem !== undefined) throw new ProblemError(ruling.problem);
  return { match, ruling };
}
