import {
  type ChannelName,
  closeCodes,
  type Ending,
  type EnterWish,
  formatCursor,
  type HailRequest,
  type HelloRequest,
  type InboxReply,
  type InboxRequest,
  type Json,
  type LineLimits,
  type Place,
  type Problem,
  ProblemError,
  type PublishRequest,
  parseCursor,
  problem,
  type ReadRequest,
  type RefreshRequest,
  type RemovedPush,
  type RemoveRequest,
  type Request,
  readRequest,
  refusal,
  type StatusRequest,
  type WatchRequest,
} from '@nine-bells/wire';
import type { Access, Ruling, Visitor } from '../access/access.js';
import type { ChannelAct } from '../access/acts.js';
import type { CaughtUp, Channel, Entrant, Wish } from '../channel/channel.js';
import type { RuleMatch } from '../channel/channelRule.js';
import { Frame } from '../fanout/batch.js';
import type { Fanout } from '../fanout/fanout.js';
import { SendQueue } from '../fanout/sendQueue.js';
import { guestIdentity, type Identity } from '../identity.js';
import type { Inboxes } from '../inbox/inboxes.js';
import type { InboxSlice } from '../inbox/notice.js';
import type { Door } from '../limits/door.js';
import { type Rate, TokenBucket } from '../limits/tokenBucket.js';
import type { Appended } from '../logbook/logbook.js';
import type { Actor, Removal } from '../measures/measure.js';
import type { Standing } from '../measures/standing.js';
import { bannedProblem } from '../measures/told.js';
import type { EngineOptions } from '../options.js';
import { authorOf, type Clock, type Link, type LogReader, type Report, type Seal, type TokenReader } from '../ports.js';
import type { Hail } from '../presence/hail.js';
import { checkStatus } from '../presence/status.js';
import type { Watching } from '../presence/watching.js';
import type { Wheel } from '../time/wheel.js';
import { ActQueue } from './actQueue.js';
import { guestIdOf } from './sessionSecret.js';
import type { Session, Sessions } from './sessions.js';

/** What a connection needs of its engine. */
export interface ConnectionHost {
  readonly options: EngineOptions;
  readonly clock: Clock;
  readonly wheel: Wheel;
  readonly fanout: Fanout;
  readonly sessions: Sessions;
  readonly seal: Seal;
  readonly tokens: TokenReader;
  readonly report: Report;
  readonly counts: { refusals: number };
  /** What the names of direct channels begin with. */
  readonly directPrefix: string | undefined;
  readonly access: Access;
  readonly standing: Standing;
  readonly door: Door;
  readonly inboxes: Inboxes;
  readonly watching: Watching;
  /** Reads in a user's inbox. */
  inbox(user: string, after: Place | undefined, limit: number): Promise<InboxSlice>;
  /** Resolves when the measures of before are known; nobody is let in before. */
  ready(): Promise<void>;
  /** Connections that a user has here. */
  connectionsOf(user: string): number;
  /** Somebody has said who it is. */
  welcomed(connection: Connection): void;
  /** Ends a user's stay in a channel. */
  remove(wish: RemovalWish, by: Actor): Promise<Removal>;
  /** @throws {ProblemError} `no-such-channel` */
  match(channel: ChannelName): RuleMatch;
  /** The channel as somebody here has entered or enters it. */
  channel(name: ChannelName, match: RuleMatch): Channel;
  /** Whether a direct channel may begin, or has begun. */
  mayBegin(match: RuleMatch, visitor: Visitor): Ruling | Promise<Ruling>;
  /** Somebody has left. */
  left(channel: Channel): void;
  log(match: RuleMatch): LogReader;
  /** @throws {ProblemError} `too-large` */
  hail(match: RuleMatch, hail: Hail): void;
  /** @throws {ProblemError} `too-large` */
  append(match: RuleMatch, draft: OwnDraft): Promise<Appended>;
  ended(connection: Connection): void;
}

/** Whose stay in a channel is to end, and for how long it may not come back. */
export interface RemovalWish {
  readonly channel: ChannelName;
  readonly user: string;
  readonly reason?: string | undefined;
  readonly banMs?: number | undefined;
}

/** What a client publishes, before the engine has given it an id and a time. */
export interface OwnDraft {
  readonly channel: ChannelName;
  readonly data: PublishRequest['data'];
  readonly type?: string | undefined;
  readonly key?: string | undefined;
  readonly by?: ReturnType<typeof authorOf>;
  readonly except?: readonly string[];
}

const pulse = new Frame('{"on":"pulse"}', true);
/** The stretch of time within which strikes are counted, in milliseconds. */
const strikesWithinMs = 10_000;
/** How long before its token ends a client is told, at the most, in milliseconds. */
const expiringMs = 60_000;
/** Notices in one reply, if the client does not say how many. */
const noticesAtOnce = 100;
/** Beyond this many times `actsWaiting` a client that cannot be paused is told to wait. */
const actsBound = 64;

/**
 * One client on one transport: from its first frame to its end.
 *
 * The transport calls `receive`, `alive`, `drained` and `closed`. The acts of the client take effect in the order sent.
 */
export class Connection implements Entrant {
  readonly link: Link;
  readonly sinceMs: number;
  readonly #host: ConnectionHost;
  readonly #queue: SendQueue;
  readonly #acts: ActQueue;
  /** Made with the first channel: most of many thousand connections may have none. */
  #channels: Map<ChannelName, Channel> | undefined;
  /** Channels entered on the strength of an answer that runs out: what calls off that it is asked for again. */
  #askedAgain: Map<ChannelName, () => void> | undefined;
  /** Channels where this session is shown as there. */
  #stays: Map<ChannelName, Channel> | undefined;
  /** Users whose status this client is told of. */
  #watched: Set<string> | undefined;
  #session: Session | undefined;
  #generation = 0;
  #who: Identity | undefined;
  #helloSeen = false;
  #ended = false;
  #paused = false;
  #publishing = 0;
  #roomToPublish: (() => void) | undefined;
  #strikes: number[] | undefined;
  #heard = true;
  #silentPulses = 0;
  #pingedAtMs: number | undefined;
  #roundTripMs: number | undefined;
  #writtenAtPulse = 0;
  #cancelHello: () => void;
  #cancelPulse: () => void;
  #cancelTokenEnd: (() => void) | undefined;

  constructor(host: ConnectionHost, link: Link) {
    this.#host = host;
    this.link = link;
    this.sinceMs = host.clock.now();
    this.#queue = new SendQueue(link, host.fanout, host.options.sendQueueBytes);
    this.#acts = new ActQueue(() => this.#resume());
    this.#cancelHello = host.wheel.after(host.options.helloWithinMs, () =>
      this.#refuse(problem('hello-first', `hello did not come within ${host.options.helloWithinMs} ms`)),
    );
    this.#cancelPulse = host.wheel.after(host.options.pulseMs, this.#pulse);
  }

  /** The session's id; empty before hello. */
  get session(): string {
    return this.#session?.id ?? '';
  }

  get who(): Identity | undefined {
    return this.#who;
  }

  /** The user's id; empty before hello. */
  get user(): string {
    return this.#who?.user ?? '';
  }

  /** What the session says of itself, whatever the channel. */
  get status(): Json | undefined {
    return this.#session?.status;
  }

  /** The channel that the client has in view. */
  get looking(): ChannelName | undefined {
    return this.#session?.looking;
  }

  /** How long the client took to answer the last ping, in milliseconds; absent before the first answer. */
  get roundTripMs(): number | undefined {
    return this.#roundTripMs;
  }

  get address(): string | undefined {
    return this.link.remote;
  }

  get gone(): boolean {
    return this.#ended;
  }

  get channels(): readonly ChannelName[] {
    return [...(this.#channels?.keys() ?? [])];
  }

  /** Whether it gets the channel, is about to, or is shown there. */
  isIn(channel: ChannelName): boolean {
    return this.#channels?.has(channel) === true || this.#stays?.has(channel) === true;
  }

  /** Bytes that wait for this connection, in its queue and in its transport. */
  get waitingBytes(): number {
    return this.#queue.bytes + this.link.waitingBytes;
  }

  // ------------------------------------------------------------------------------- called by the transport

  /** Takes one text frame. */
  receive(text: string): void {
    if (this.#ended) return;
    this.#heard = true;
    const reading = readRequest(text);
    if (!reading.ok) {
      this.#strike(reading.problem, reading.id);
      return;
    }
    const { request } = reading;
    if (request.do === 'pulse') return;
    if (!this.#helloSeen && request.do !== 'hello') {
      this.#strike(problem('hello-first', `\`${request.do}\` came before hello`), request.id);
      return;
    }
    if (this.#helloSeen && request.do === 'hello') {
      this.#strike(problem('hello-twice', 'a line says hello once; to change the user, open a new one'), request.id);
      return;
    }
    this.#helloSeen = true;
    if (this.#acts.length >= this.#host.options.actsWaiting * actsBound) {
      this.#sendProblem(problem('busy', 'too many requests wait on this line', { retryAfterMs: 1000 }), request.id);
      return;
    }
    this.#acts.add(() => this.#act(request));
    if (this.#acts.length > this.#host.options.actsWaiting) this.#pause();
  }

  /** The client gave a sign of life that is not a frame (a pong). */
  alive(): void {
    this.#heard = true;
    if (this.#pingedAtMs === undefined) return;
    this.#roundTripMs = this.#host.clock.monotonic() - this.#pingedAtMs;
    this.#pingedAtMs = undefined;
  }

  /** The transport has got rid of what it took. */
  drained(): void {
    this.#queue.flush();
  }

  /** The transport has ended, whoever ended it. */
  closed(code: number): void {
    this.#end(code === closeCodes.normal ? 'left' : 'lost');
  }

  // ---------------------------------------------------------------------------------- called by the engine

  /** Adds a frame for this client. Hot: once per delivery. */
  push(frame: Frame): void {
    if (!this.#queue.push(frame)) this.#cutOff();
  }

  /** Ends the connection from this side. */
  close(code: number, reason: string, ending: Ending): void {
    if (this.#ended) return;
    this.#queue.flush();
    this.#end(ending);
    this.link.close(code, reason);
  }

  /** Ends the connection because its user was signed out or banned, and says so. */
  signOut(each?: Problem): void {
    if (this.#ended) return;
    if (each !== undefined) this.#sendProblem(each, undefined);
    this.close(closeCodes.signedOut, each?.code ?? 'signed-out', 'signed-out');
  }

  /** Ends the stay in a channel: what waits of it is not sent any more, and the client is told. */
  expel(channel: ChannelName, told: Omit<RemovedPush, 'on' | 'channel'>): void {
    if (this.#ended || !this.isIn(channel)) return;
    this.#letGo(channel);
    this.#queue.drop(channel);
    this.push(new Frame(JSON.stringify({ on: 'removed', channel, ...told })));
  }

  // -------------------------------------------------------------------------------------------------- acts

  #act(request: Request): void | Promise<void> {
    // Whoever asks for more than it reads waits for its own replies.
    const room = this.#queue.whenBelow();
    if (room !== undefined) return room.then(() => this.#act(request));
    try {
      const done = this.#perform(request);
      return done?.catch((error: unknown) => this.#failed(error, request));
    } catch (error) {
      this.#failed(error, request);
    }
  }

  #perform(request: Request): void | Promise<void> {
    if (this.#ended) return;
    if (request.do !== 'hello' && request.do !== 'pulse') {
      const waitMs = this.#overRate('requests');
      if (waitMs > 0) {
        this.#sendProblem(
          problem('rate-limited', 'this session sends more requests than it may', { retryAfterMs: waitMs }),
          request.id,
        );
        // Whoever does not heed it is read from more slowly.
        return new Promise((resolve) => void this.#host.wheel.after(waitMs, resolve));
      }
    }
    switch (request.do) {
      case 'hello':
        return this.#hello(request);
      case 'enter':
        return this.#enter(request, this.#host.options.backlogBytes, (text) => this.#replyText(request.id, text)).then(
          () => {},
        );
      case 'leave':
        return this.#leave(request.channel, request.id);
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
      case 'pulse':
        return;
      default:
        throw refusal('unknown-verb', `this version of the service does not answer \`${request.do}\``, {
          where: '/do',
        });
    }
  }

  async #hello(request: HelloRequest): Promise<void> {
    this.#cancelHello();
    const { options, sessions } = this.#host;
    await this.#host.ready();
    const whoIs = await this.#whoIs(request);
    if (this.#ended) return;
    const { session, who, secret, continued, ended } = sessions.admit(whoIs, request.session, request.secret);
    this.#session = session;
    this.#generation = session.generation;
    this.#who = who;
    session.disconnect = () => {
      this.close(closeCodes.continuedElsewhere, 'session continued on another connection', 'continued-elsewhere');
    };
    this.#host.welcomed(this);
    this.#watchTokenEnd(who);

    this.#queue.hold();
    const entered: string[] = [];
    let spare = options.backlogBytes;
    for (const wish of request.enter ?? []) {
      try {
        spare -= await this.#enter(wish, Math.max(spare, 1), (text) => entered.push(`{${text}}`));
      } catch (error) {
        if (this.#ended) return;
        entered.push(JSON.stringify({ channel: wish.channel, problem: this.#problemOf(error, request.do) }));
      }
      if (this.#ended) return;
    }
    this.#lingerNoMore(session);
    const inbox = await this.#inboxAtHello(request);
    if (this.#ended) return;
    const limits: LineLimits = {
      frameBytes: options.frameBytes,
      dataBytes: options.dataBytes,
      channels: options.channelsPerSession,
    };
    const welcome = JSON.stringify({
      session: session.id,
      secret,
      user: who.user,
      name: who.name,
      guest: who.guest || undefined,
      continued,
      ended,
      instance: options.instance,
      pulseMs: options.pulseMs,
      limits,
      direct: this.#host.directPrefix,
      inbox,
    });
    this.#replyText(request.id, `${welcome.slice(1, -1)},"entered":[${entered.join()}]`);
    this.#queue.release();
    this.#ping();
  }

  /** Who the client is, given which session it is in. Whoever is kept out, or has too much open, is refused. */
  async #whoIs({ token, session }: HelloRequest): Promise<(session: string, name?: string) => Identity> {
    const { options, seal, standing, access } = this.#host;
    if (token !== undefined) {
      const who = await this.#readToken(token);
      if (!who.oversight && this.#host.connectionsOf(who.user) >= options.connectionsPerUser)
        throw refusal('too-many-connections', `a user may have at most ${options.connectionsPerUser} connections here`);
      return () => who;
    }
    if (!options.guests) throw refusal('no-guests', 'hello needs a token here');
    const guest = (id: string, name?: string): Identity => guestIdentity(guestIdOf(seal, id), name);
    // A guest that was banned or signed out comes back as the one it was, if it comes with its session.
    const before = session === undefined ? undefined : guest(session);
    const ban = access.ban({ who: before ?? guest(''), address: this.address });
    if (ban !== undefined) throw new ProblemError(bannedProblem(ban));
    if (before !== undefined && standing.cutoffOf(before.user) !== undefined)
      throw refusal('token-ended', 'this guest was signed out');
    return guest;
  }

  /** Reads a token, and looks whether it was revoked or its user banned. */
  async #readToken(token: string): Promise<Identity> {
    const who = await this.#host.tokens.read(token);
    const cutoffMs = this.#host.standing.cutoffOf(who.user);
    if (cutoffMs !== undefined && (who.issuedAt === undefined || who.issuedAt < cutoffMs))
      throw refusal('token-ended', 'the token was revoked; ask for a new one');
    const ban = this.#host.access.ban({ who, address: this.address });
    if (ban !== undefined) throw new ProblemError(bannedProblem(ban));
    return who;
  }

  /**
   * Enters a channel and calls `reply` with the members of the reply, as JSON text without braces, in the turn in which
   * the connection becomes live there. Returns the size of what was given, in characters.
   */
  async #enter(wish: EnterWish, bytes: number, reply: (text: string) => void): Promise<number> {
    const { options } = this.#host;
    if (wish.status !== undefined) checkStatus(wish.status, options.statusBytes, '/status');
    const { match, ruling } = await this.#allowed('enter', wish.channel);
    if (wish.last !== undefined && wish.last > 0) await this.#allowed('read', wish.channel);
    let channel = this.#channels?.get(wish.channel);
    if (channel === undefined) {
      if (this.#channels !== undefined && this.#channels.size >= options.channelsPerSession)
        throw refusal('too-many-channels', `a session may enter at most ${options.channelsPerSession} channels`);
      channel = this.#host.channel(wish.channel, match);
    }
    let size = 0;
    const into = channel;
    try {
      await into.enter(this, wishOf(wish), bytes, (caughtUp) => {
        if (this.#ended) return;
        // What was decided before may have been overtaken by a ban.
        const ban = this.#host.access.ban(this.#visitor, wish.channel);
        if (ban !== undefined) {
          into.leave(this);
          throw new ProblemError(bannedProblem(ban));
        }
        const list = this.#stay(into, wish, ruling);
        this.#channels ??= new Map();
        if (!caughtUp.more) this.#restOn(wish.channel, ruling);
        if (caughtUp.more) this.#channels.delete(wish.channel);
        else this.#channels.set(wish.channel, into);
        const text = enteredText(wish.channel, caughtUp, list);
        size = text.length;
        reply(text);
      });
    } finally {
      if (!this.#channels?.has(wish.channel) || this.#ended) this.#host.left(into);
    }
    return size;
  }

  #leave(name: ChannelName, id: number | undefined): void {
    this.#letGo(name);
    this.#reply(id, { channel: name });
  }

  /** Is shown as there, or with `quiet` not, and gives the list of who is. */
  #stay(channel: Channel, { quiet, status }: EnterWish, { member }: Ruling): string {
    const { presence, name } = channel;
    if (presence === undefined) return '';
    const session = this.#session as Session;
    session.lingers?.delete(name);
    if (quiet || this.#who?.oversight) this.#depart(name);
    else {
      const author = authorOf(this.#who as Identity);
      presence.enter({ session: session.id, author, status: status ?? session.status, data: member });
      this.#stays ??= new Map();
      this.#stays.set(name, channel);
    }
    return `,${presence.listText}`;
  }

  /** What is in the user's inbox; if the client says how far it has it, what came after. Guests have none. */
  async #inboxAtHello({ inbox: after }: HelloRequest): Promise<InboxReply | undefined> {
    const { user, guest, name, roles, oversight } = this.#who as Identity;
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
    const { user, guest } = this.#who as Identity;
    if (guest) throw refusal('not-allowed', 'guests have no inbox');
    this.#checkGeneration();
    if (done !== undefined) await this.#host.inboxes.done(user, done);
    const slice = await this.#host.inbox(user, after === undefined ? undefined : placeOf(after), limit);
    this.#reply(id, inboxReply(slice, false));
  }

  #watch({ id, user }: WatchRequest): void | Promise<void> {
    const { access, options, watching } = this.#host;
    const tell = (ruling: Ruling): void => {
      if (ruling.problem !== undefined) throw new ProblemError(ruling.problem);
      if (this.#ended) return;
      this.#watched ??= new Set();
      if (this.#watched.size >= options.channelsPerSession && !this.#watched.has(user))
        throw refusal('too-many-channels', `a session may watch at most ${options.channelsPerSession} users`);
      this.#watched.add(user);
      this.#reply(id, { user, status: watching.watch(user, this) });
    };
    const ruling = access.decideAbout('watch', user, this.#visitor);
    return ruling instanceof Promise ? ruling.then(tell) : tell(ruling);
  }

  #unwatch({ id, user }: WatchRequest): void {
    this.#watched?.delete(user);
    this.#host.watching.unwatch(user, this);
    this.#reply(id, { user });
  }

  /** Is not shown as there any more. */
  #depart(name: ChannelName): void {
    const channel = this.#stays?.get(name);
    if (channel === undefined) return;
    this.#stays?.delete(name);
    channel.presence?.leave(this.session, this.user);
    this.#host.left(channel);
  }

  /** Channels where the session was still shown, and which hello has not named, are left. */
  #lingerNoMore(session: Session): void {
    for (const channel of session.lingers?.values() ?? []) {
      channel.presence?.leave(session.id, session.user);
      this.#host.left(channel);
    }
    session.lingers = undefined;
  }

  #hail(request: HailRequest): void | Promise<void> {
    const waitMs = this.#overRate('hails');
    if (waitMs > 0) throw refusal('rate-limited', 'this session hails more than it may', { retryAfterMs: waitMs });
    const allowed = this.#allowed('hail', request.channel);
    if (allowed instanceof Promise) return allowed.then(({ match }) => this.#hailNow(request, match));
    this.#hailNow(request, allowed.match);
  }

  #hailNow({ id, channel, type, data, to }: HailRequest, match: RuleMatch): void {
    this.#host.hail(match, {
      channel,
      type,
      by: authorOf(this.#who as Identity),
      from: this.session,
      ...(data === undefined ? {} : { data }),
      ...(to === undefined ? {} : { to }),
    });
    this.#reply(id, {});
  }

  /** Says something else of the session: in one channel, or in all that it is in and will enter. */
  #status({ id, channel, status, looking }: StatusRequest): void {
    const session = this.#session as Session;
    if (status !== undefined) {
      checkStatus(status, this.#host.options.statusBytes, '/status');
      if (channel === undefined) session.status = status;
      else if (!this.#stays?.has(channel))
        throw refusal('bad-value', `this session is not a member of ${channel}`, { where: '/channel' });
      for (const [name, { presence }] of this.#stays ?? [])
        if (channel === undefined || name === channel) presence?.setStatus(this.session, this.user, status);
    }
    if (looking !== undefined) session.looking = looking ?? undefined;
    if (status !== undefined) {
      this.#host.watching.changed(session.user);
      this.#host.inboxes.changed(session.user);
    }
    this.#reply(id, {});
  }

  #publish(request: PublishRequest): void | Promise<void> {
    const waitMs = this.#overRate('publishes');
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
      by: authorOf(this.#who as Identity),
      ...(request.echo === false ? { except: [this.session] } : {}),
    });
    this.#publishing += 1;
    void appended
      .then(
        ({ logged, repeated }) =>
          this.#reply(request.id, {
            id: logged.message.id,
            cursor: logged.message.cursor,
            ...(repeated ? { repeated } : {}),
          }),
        (error: unknown) => this.#failed(error, request),
      )
      .finally(() => {
        this.#publishing -= 1;
        this.#roomToPublish?.();
        this.#roomToPublish = undefined;
      });
    if (this.#publishing < this.#host.options.publishesUnderWay) return;
    return new Promise((resolve) => {
      this.#roomToPublish = resolve;
    });
  }

  async #read(request: ReadRequest): Promise<void> {
    const { match } = await this.#allowed('read', request.channel);
    const log = this.#host.log(match);
    const limit = { messages: request.limit ?? 100, bytes: this.#host.options.backlogBytes };
    const slice =
      request.after === undefined
        ? await log.before(request.channel, request.before && placeOf(request.before), limit)
        : await log.since(request.channel, placeOf(request.after), limit);
    const from = request.after ?? request.before;
    const gap =
      slice.gap === undefined || from === undefined
        ? ''
        : `,"gap":${JSON.stringify({
            channel: request.channel,
            after: from,
            cursor: slice.messages[0]?.message.cursor ?? formatCursor(slice.head),
            why: slice.gap,
          })}`;
    const messages = slice.messages.filter((each) => each.isFor(this.session)).map((each) => each.text);
    this.#replyText(
      request.id,
      `"channel":${JSON.stringify(request.channel)},"messages":[${messages.join()}],"more":${slice.more}${gap}`,
    );
  }

  /** Swaps the token in place. What the new one does not allow ends now. */
  async #refresh(request: RefreshRequest): Promise<void> {
    const who = await this.#readToken(request.token);
    if (this.#ended) return;
    const { user, guest, oversight } = this.#who as Identity;
    if (guest || who.user !== user || who.oversight !== oversight)
      throw refusal('user-mismatch', 'the token must be of the user that this line is open for', { where: '/token' });
    this.#who = who;
    this.#watchTokenEnd(who);
    const lost: ChannelName[] = [];
    const settle = (name: ChannelName, ruling: Ruling): void => {
      if (!this.#channels?.has(name)) return;
      if (ruling.problem === undefined) this.#restOn(name, ruling);
      else {
        this.#letGo(name);
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
    await Promise.all(asked);
    if (this.#ended) return;
    this.#reply(request.id, {
      ...(who.endsAt === undefined ? {} : { expiresAt: new Date(who.endsAt).toISOString() }),
      lost,
    });
  }

  #remove(request: RemoveRequest): void | Promise<void> {
    const allowed = this.#allowed('moderate', request.channel);
    return allowed instanceof Promise ? allowed.then(() => this.#removeNow(request)) : this.#removeNow(request);
  }

  #removeNow(request: RemoveRequest): void {
    const { user, name } = this.#who as Identity;
    const { channel, reason, banMs } = request;
    this.#host
      .remove({ channel, user: request.user, reason, banMs }, { kind: 'user', id: user, ...(name && { name }) })
      .then(
        ({ untilMs }) =>
          this.#reply(request.id, untilMs === undefined ? {} : { until: new Date(untilMs).toISOString() }),
        (error: unknown) => this.#failed(error, request),
      );
  }

  // ------------------------------------------------------------------------------------------------ access

  get #visitor(): Visitor {
    return { who: this.#who as Identity, address: this.address };
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
    let ruling = this.#host.access.decide(act, match, this.#visitor);
    if (match.rule.direct && act !== 'read' && !(ruling instanceof Promise) && ruling.problem === undefined)
      ruling = this.#host.mayBegin(match, this.#visitor);
    if (!(ruling instanceof Promise)) return granted(match, ruling);
    return ruling.then((later) => {
      this.#checkGeneration();
      const ban = this.#host.access.ban(this.#visitor, channel);
      if (ban !== undefined) throw new ProblemError(bannedProblem(ban));
      return granted(match, later);
    });
  }

  #checkGeneration(): void {
    if (this.#ended || this.#session?.generation !== this.#generation)
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
    if (this.#ended || !this.#channels?.has(channel) || this.#who !== who) return;
    if (ruling.problem === undefined) this.#restOn(channel, ruling);
    else this.expel(channel, { problem: ruling.problem });
  }

  /** How long the session must wait before it does more of something, in milliseconds; 0: not at all. */
  #overRate(what: 'requests' | 'publishes' | 'hails'): number {
    const session = this.#session;
    if (session === undefined) return 0;
    const rate: Rate = this.#host.options[what];
    const now = this.#host.clock.monotonic();
    session[what] ??= new TokenBucket(rate, now);
    return session[what].take(rate, now);
  }

  // ----------------------------------------------------------------------------------------------- replies

  #reply(id: number | undefined, members: object): void {
    this.#replyText(id, JSON.stringify(members).slice(1, -1));
  }

  #replyText(id: number | undefined, members: string): void {
    if (id !== undefined) this.#queue.reply(new Frame(`{"re":${id}${members === '' ? '' : ','}${members}}`));
  }

  #sendProblem(each: Problem, id: number | undefined): void {
    this.#host.counts.refusals += 1;
    this.#queue.reply(
      new Frame(JSON.stringify(id === undefined ? { on: 'problem', ...each } : { re: id, problem: each })),
    );
  }

  #failed(error: unknown, request: Request): void {
    if (this.#ended) return;
    const each = this.#problemOf(error, request.do);
    if (request.do === 'hello') {
      if (countedFailures.has(each.code)) this.#host.door.failed(this.address);
      this.#refuse(each, request.id);
    } else this.#sendProblem(each, request.id);
  }

  #problemOf(error: unknown, verb: string): Problem {
    if (error instanceof ProblemError) return error.problem;
    this.#host.report(error, { what: 'an act failed', verb, session: this.session });
    return problem('internal', 'the service has logged what happened');
  }

  /** Refuses the whole connection: says why, and closes. */
  #refuse(each: Problem, id?: number): void {
    if (this.#ended) return;
    this.#sendProblem(each, id);
    if (each.code === 'token-ended') this.close(closeCodes.tokenEnded, each.code, 'token-ended');
    else if (each.code === 'banned') this.close(closeCodes.signedOut, each.code, 'signed-out');
    else this.close(closeCodes.policy, each.code, 'refused');
  }

  /** Counts what a sound client does not do; a stream of it ends the connection. */
  #strike(each: Problem, id: number | undefined): void {
    const now = this.#host.clock.now();
    this.#strikes = [...(this.#strikes ?? []).filter((atMs) => now - atMs < strikesWithinMs), now];
    if (this.#strikes.length >= this.#host.options.strikes) this.#refuse(each, id);
    else this.#sendProblem(each, id);
  }

  // ------------------------------------------------------------------------------------------ life and end

  readonly #pulse = (): void => {
    this.#silentPulses = this.#heard ? 0 : this.#silentPulses + 1;
    this.#heard = false;
    if (this.#silentPulses >= 2) {
      this.close(closeCodes.goingAway, 'no sign of life', 'lost');
      return;
    }
    if (this.#queue.written === this.#writtenAtPulse) this.push(pulse);
    this.#writtenAtPulse = this.#queue.written + (this.#queue.bytes > 0 ? 1 : 0);
    this.#ping();
    if (!this.#ended) this.#cancelPulse = this.#host.wheel.after(this.#host.options.pulseMs, this.#pulse);
  };

  #ping(): void {
    this.#pingedAtMs ??= this.#host.clock.monotonic();
    this.link.ping();
  }

  /** Says that the token is about to end, and ends with it. */
  #watchTokenEnd({ endsAt }: Identity): void {
    this.#cancelTokenEnd?.();
    this.#cancelTokenEnd = undefined;
    if (endsAt === undefined) return;
    const { wheel, clock } = this.#host;
    const leftMs = endsAt - clock.now();
    const withinMs = Math.min(expiringMs, leftMs / 2);
    const cancelWord = wheel.after(leftMs - withinMs, () =>
      this.#queue.reply(new Frame(`{"on":"expiring","withinMs":${Math.max(0, Math.floor(endsAt - clock.now()))}}`)),
    );
    const cancelEnd = wheel.after(leftMs, () => this.close(closeCodes.tokenEnded, 'token-ended', 'token-ended'));
    this.#cancelTokenEnd = () => {
      cancelWord();
      cancelEnd();
    };
  }

  #pause(): void {
    if (this.#paused) return;
    this.#paused = true;
    this.link.pause();
  }

  #resume(): void {
    if (!this.#paused) return;
    this.#paused = false;
    this.link.resume();
  }

  #cutOff(): void {
    if (this.#ended) return;
    this.#queue.close();
    this.#end('too-slow');
    this.link.close(closeCodes.tooSlow, 'more waits for this connection than it reads');
  }

  #end(ending: Ending): void {
    if (this.#ended) return;
    this.#ended = true;
    this.#cancelHello();
    this.#cancelPulse();
    this.#cancelTokenEnd?.();
    this.#queue.close();
    this.#acts.clear();
    this.#roomToPublish?.();
    const session = this.#session;
    if (ending !== 'left' && ending !== 'signed-out' && session !== undefined) this.#linger(session);
    for (const name of this.channels) this.#letGo(name);
    for (const name of [...(this.#stays?.keys() ?? [])]) this.#depart(name);
    for (const user of this.#watched ?? []) this.#host.watching.unwatch(user, this);
    if (session?.generation === this.#generation) this.#host.sessions.ended(session, ending);
    this.#host.ended(this);
  }

  /** The connection broke: the session is still shown where it was, for the grace. */
  #linger(session: Session): void {
    for (const [name, channel] of this.#stays ?? []) {
      channel.presence?.lost(session.id, session.user);
      session.lingers ??= new Map();
      session.lingers.set(name, channel);
    }
    this.#stays = undefined;
  }

  #letGo(name: ChannelName): void {
    this.#depart(name);
    const channel = this.#channels?.get(name);
    if (channel === undefined) return;
    this.#channels?.delete(name);
    this.#restOn(name, {});
    channel.leave(this);
    this.#host.left(channel);
  }
}

/** A stretch of an inbox as it is told; without notices asked for, only where it stands. */
function inboxReply({ notices, more, unread, head }: InboxSlice, countOnly: boolean): InboxReply {
  const last = more ? notices.at(-1)?.cursor : undefined;
  return { notices, more: !countOnly && more, unread, cursor: last ?? formatCursor(head) };
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

/** Refusals of hello that count against the address: what whoever tries out tokens would meet. */
const countedFailures: ReadonlySet<string> = new Set(['token-invalid', 'no-guests', 'user-mismatch']);

/** @throws {ProblemError} `bad-cursor` */
function placeOf(cursor: string): Place {
  const place = parseCursor(cursor);
  if (place === undefined) throw refusal('bad-cursor');
  return place;
}

function wishOf(wish: EnterWish): Wish {
  if (wish.after !== undefined) return { after: placeOf(wish.after) };
  return wish.last === undefined ? 'from-now' : { last: wish.last };
}

/** The members of the reply to `enter`, as JSON text without braces. */
function enteredText(channel: ChannelName, { cursor, messages, more, gap }: CaughtUp, list: string): string {
  const texts = messages.map((each) => each.text).join();
  const gapText = gap === undefined ? '' : `,"gap":${JSON.stringify({ channel, ...gap })}`;
  return `"channel":${JSON.stringify(channel)},"cursor":"${formatCursor(cursor)}","messages":[${texts}],"more":${more}${gapText}${list}`;
}
