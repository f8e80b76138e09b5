import {
  type ChannelName,
  closeCodes,
  type Ending,
  type HelloRequest,
  type LineLimits,
  type Problem,
  ProblemError,
  problem,
  type Request,
  readRequest,
  refusal,
  unknownMember,
} from '@nine-bells/wire';
import { bannedProblem } from '../access/moderationProblems.js';
import { SendQueue } from '../delivery/sendQueue.js';
import type { SlowReader } from '../delivery/waitingBudget.js';
import type { Paced } from '../lib/pacer.js';
import { TokenBucket } from '../lib/tokenBucket.js';
import type { Identity } from '../model/access.js';
import { type Batch, Frame } from '../model/frame.js';
import type { Link } from '../ports/link.js';
import { type ActOwner, ActQueue } from './actQueue.js';
import { type Asked, Client, type ClientLine } from './client.js';
import { guestIdentity } from './guests.js';
import type { ConnectionHost } from './host.js';
import { costs } from './rates.js';
import { guestIdOf } from './sessionSecret.js';
import type { SessionConnection } from './sessions.js';

const pulse = new Frame('{"on":"pulse"}', true);
/** Half pulses without a sign of life after which the other side is taken for gone: between 1.5 and 2 pulses. */
const silentMost = 3;
/** The stretch of time within which strikes are counted, in milliseconds. */
const strikesWithinMs = 10_000;
/** How long before its token ends a client is told, at the most, in milliseconds. */
const expiringMs = 60_000;
/** How long after its time hello is still waited for, in milliseconds. */
const helloGraceMs = 250;
/** Frames of more characters than this are paid for by their size; pulses so many times more. */
const largeChars = 4_096;
const largePulseCost = 7;
/** Beyond this many times `actsWaiting` a client that cannot be paused is told to wait. */
const actsBound = 64;

/**
 * One transport: from its first frame to its end. It takes frames, says hello, answers, and notices when the other side
 * is gone; what the client does there is done by `client`.
 *
 * The transport calls `receive`, `alive`, `drained` and `closed`. The acts of the client take effect in the order sent.
 */
export class Connection implements ClientLine, ActOwner<Request>, Paced, SessionConnection, SlowReader {
  readonly link: Link;
  readonly sinceMs: number;
  readonly #host: ConnectionHost;
  readonly #queue: SendQueue;
  readonly #acts: ActQueue<Request>;
  #client: Client | undefined;
  /** Of the token in a hello that is being answered. */
  #tokenMac: string | undefined;
  #helloSeen = false;
  /** The client wants to be told of members that the protocol does not know. */
  #isStrict = false;
  #ended = false;
  #paused = false;
  /** Nothing is read for a while, whether or not acts wait. */
  #rests = false;
  #received: TokenBucket | undefined;
  #strikes: number[] | undefined;
  #heard = true;
  /** Half pulses without a sign of life. */
  #silent = 0;
  #pingsNext = true;
  #pingedAtMs: number | undefined;
  #roundTripMs: number | undefined;
  #writtenAtPulse = 0;
  #cancelHello: (() => void) | undefined;
  /** Where it stands among those that the pacer calls. */
  readonly #slot: number;
  #cancelTokenEnd: (() => void) | undefined;

  constructor(host: ConnectionHost, link: Link) {
    this.#host = host;
    this.link = link;
    this.sinceMs = host.clock.now();
    this.#queue = new SendQueue(link, host.fanout, host.options.sendQueueBytes, this, host.waiting);
    this.#acts = new ActQueue(this);
    const { helloWithinMs } = host.options;
    // Not at once: where the process stood still meanwhile, hello may have come and not have been read yet.
    this.#cancelHello = host.wheel.after(helloWithinMs, () => {
      this.#cancelHello = host.wheel.after(helloGraceMs, () =>
        this.#refuse(problem('hello-first', `hello did not come within ${helloWithinMs} ms`)),
      );
    });
    this.#slot = host.pacer.add(this);
  }

  /** Who is on it; nobody before hello. */
  get client(): Client | undefined {
    return this.#client;
  }

  get ended(): boolean {
    return this.#ended;
  }

  /** How long the client took to answer the last ping, in milliseconds; absent before the first answer. */
  get roundTripMs(): number | undefined {
    return this.#roundTripMs;
  }

  get address(): string | undefined {
    return this.link.remote;
  }

  /** Bytes that wait for this connection, in its queue and in its transport. */
  get waitingBytes(): number {
    return this.#queue.bytes + this.link.waitingBytes;
  }

  /** Bytes that its transport has been given and has not sent yet. */
  get untakenBytes(): number {
    return this.link.waitingBytes;
  }

  /** Frames handed to its transport so far. */
  get written(): number {
    return this.#queue.written;
  }

  // ------------------------------------------------------------------------------- called by the transport

  /** Takes one text frame. */
  receive(text: string): void {
    if (this.#ended) return;
    this.#heard = true;
    this.#host.counts.charsIn += text.length;
    if (text.length > largeChars) this.#restFor(this.#spendOn(text.length));
    const reading = readRequest(text);
    if (!reading.ok) {
      this.#strike(reading.problem, reading.id);
      return;
    }
    const { request } = reading;
    this.#isStrict ||= request.do === 'hello' && request.strict === true;
    const unknown = this.#isStrict ? unknownMember(request) : undefined;
    if (unknown !== undefined) {
      this.#strike(unknown, request.id);
      return;
    }
    if (request.do === 'pulse') {
      // A long list of cursors is read for nothing that the client would wait for.
      if (text.length > largeChars) this.#restFor(this.#spendOn(text.length * largePulseCost));
      const waitMs = this.#client?.overRate('requests', costs.pulse) ?? 0;
      if (waitMs > 0) {
        this.#restFor(waitMs);
        return;
      }
      if (request.got !== undefined) this.#client?.hasGot(request.got);
      if (!this.#queue.isFull) this.reply(request.id, {});
      return;
    }
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
      const each = problem('busy', 'too many requests wait on this line', { retryAfterMs: 1000 });
      this.#sendProblem(each, request.id, request.do);
      return;
    }
    this.#acts.add(request);
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
    if (!this.#queue.push(frame)) this.cutOff();
  }

  /** Adds all frames of a turn. Hot: once per connection, channel and turn. */
  pushAll(batch: Batch): void {
    if (!this.#queue.pushAll(batch)) this.cutOff();
  }

  /** Ends the connection from this side. */
  close(code: number, reason: string, ending: Ending): void {
    if (this.#ended) return;
    this.#queue.flush();
    this.#end(ending);
    this.link.close(code, reason);
  }

  continuedElsewhere(): void {
    this.close(closeCodes.continuedElsewhere, 'session continued on another connection', 'continued-elsewhere');
  }

  /** Ends the connection because its user was signed out or banned, and says so. */
  signOut(each: Problem): void {
    this.#sayWhy(each);
    this.close(closeCodes.signedOut, each.code === 'banned' ? 'banned' : 'signed-out', 'signed-out');
  }

  /** The token is not good any more; the client may come back with another. */
  revoke(each: Problem): void {
    this.#sayWhy(each);
    this.close(closeCodes.tokenEnded, 'the token was revoked', 'token-ended');
  }

  #sayWhy(each: Problem): void {
    if (this.#ended) return;
    this.#noteRefusal(each, this.#helloSeen ? 'hello' : 'connect');
    this.#queue.reply(new Frame(JSON.stringify({ on: 'problem', ...each, ends: true })));
  }

  /** Forgets the pushes of a channel that wait: whoever was removed from it gets nothing of it any more. */
  drop(channel: ChannelName): void {
    this.#queue.drop(channel);
  }

  // -------------------------------------------------------------------------------------------------- acts

  act(request: Request): void | Promise<void> {
    // Whoever asks for more than it reads waits for its own replies.
    const room = this.#queue.whenBelow();
    if (room !== undefined) return room.then(() => this.act(request));
    const owedMs = this.#client?.owedMs ?? 0;
    if (owedMs > 0) return this.#wait(owedMs).then(() => this.act(request));
    try {
      const done = this.#perform(request);
      return done?.catch((error: unknown) => this.failed(error, request));
    } catch (error) {
      this.failed(error, request);
    }
  }

  #perform(request: Request): void | Promise<void> {
    if (this.#ended) return;
    if (request.do === 'hello') return this.#hello(request);
    // Hello comes first, and a refused one ends the connection.
    const client = this.#client as Client;
    const waitMs = client.overRate('requests', costs[request.do]);
    if (waitMs === 0) return client.perform(request);
    this.#sendProblem(
      problem('rate-limited', 'this session sends more requests than it may', { retryAfterMs: waitMs }),
      request.id,
      request.do,
    );
    // Whoever does not heed it is read from more slowly.
    return this.#wait(waitMs);
  }

  #wait(ms: number): Promise<void> {
    return new Promise((resolve) => void this.#host.wheel.after(ms, resolve));
  }

  async #hello(request: HelloRequest): Promise<void> {
    this.#cancelHello?.();
    this.#cancelHello = undefined;
    const { options, sessions } = this.#host;
    await this.#host.ready();
    if (!this.#host.mayAdmit())
      throw refusal('busy', 'this instance is cut off from the others, and lets nobody new in', { retryAfterMs: 1000 });
    const whoIs = await this.#whoIs(request);
    if (this.#ended) return;
    // A measure may have come between reading who it is and here.
    this.checkStanding(whoIs(request.session ?? ''));
    const { session, who, secret, continued, ended } = sessions.admit(whoIs, request.session, request.secret);
    const client = new Client(this.#host, this, session, who);
    this.#client = client;
    session.who = who;
    session.tokenMac = this.#tokenMac;
    this.#tokenMac = undefined;
    session.connection = this;
    this.#host.welcomed(this);
    this.watchTokenEnd(who);

    this.#queue.hold();
    const entered: string[] = [];
    let spare = options.backlogBytes;
    for (const [index, wish] of (request.enter ?? []).entries()) {
      try {
        // Those that are not caught up with are not entered yet, and count nevertheless.
        if (index >= options.channelsPerSession)
          throw refusal('too-many-channels', `a session may enter at most ${options.channelsPerSession} channels`);
        spare -= await client.enter(wish, spare, (text) => entered.push(`{${text}}`));
      } catch (error) {
        if (this.#ended) return;
        const refused = this.#problemOf(error, request.do);
        this.#noteRefusal(refused, 'enter', wish.channel);
        entered.push(JSON.stringify({ channel: wish.channel, problem: refused }));
      }
      if (this.#ended) return;
    }
    // Else the channels that are not named are left; with `partial` they may be entered in a moment.
    if (request.partial !== true) client.entered();
    const inbox = await client.inboxAtHello(request);
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
    this.replyText(request.id, `${welcome.slice(1, -1)},"entered":[${entered.join()}]`);
    this.#queue.release();
  }

  /** Who the client is, given which session it is in. Whoever is kept out, or has too much open, is refused. */
  async #whoIs({ token, session }: HelloRequest): Promise<(session: string, name?: string) => Identity> {
    const { options, seal, standing, access } = this.#host;
    if (token !== undefined) {
      const mac = seal.sign(`token ${token}`);
      const before = this.#host.sessions.known(session, mac);
      if (before !== undefined) this.checkStanding(before);
      const who = before ?? (await this.readToken(token));
      this.#tokenMac = mac;
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

  /** Measures may have been missed: whether it may still be here, and where it is. */
  lookAgain(): void {
    const client = this.#client;
    if (client === undefined || this.#ended || client.who.oversight) return;
    try {
      this.checkStanding(client.who);
      client.lookAgain();
    } catch (error) {
      this.#refuse(this.#problemOf(error, 'hello'));
    }
  }

  /** Reads a token, and looks whether it was revoked or its user banned. */
  async readToken(token: string): Promise<Identity> {
    const who = await this.#host.tokens.read(token);
    this.checkStanding(who);
    return who;
  }

  /** @throws {ProblemError} `token-ended`, `banned` */
  checkStanding(who: Identity): void {
    const { standing, access } = this.#host;
    const cutoffMs = standing.cutoffOf(who.user);
    if (cutoffMs !== undefined && !who.guest && (who.issuedAt === undefined || who.issuedAt < cutoffMs))
      throw refusal('token-ended', 'the token was revoked; ask for a new one');
    const ban = access.ban({ who, address: this.address });
    if (ban !== undefined) throw new ProblemError(bannedProblem(ban));
  }

  // ----------------------------------------------------------------------------------------------- replies

  reply(id: number | undefined, members: object): void {
    this.replyText(id, JSON.stringify(members).slice(1, -1));
  }

  replyText(id: number | undefined, members: string): void {
    if (id !== undefined) this.#queue.reply(new Frame(`{"re":${id}${members === '' ? '' : ','}${members}}`));
  }

  #noteRefusal(each: Problem, act: string, channel?: ChannelName): void {
    const { client } = this;
    this.#host.refusals.addProblem(each, {
      act,
      channel,
      user: client?.user,
      session: client?.session,
      address: this.address,
      origin: this.link.origin,
    });
  }

  #sendProblem(each: Problem, id: number | undefined, act: string, channel?: ChannelName): void {
    this.#noteRefusal(each, act, channel);
    this.#queue.reply(
      new Frame(JSON.stringify(id === undefined ? { on: 'problem', ...each } : { re: id, problem: each })),
    );
  }

  failed(error: unknown, request: Asked): void {
    if (this.#ended) return;
    const each = this.#problemOf(error, request.do);
    if (request.do === 'hello') {
      if (countedFailures.has(each.code)) this.#host.door.failed(this.address);
      this.#refuse(each, request.id);
    } else this.#sendProblem(each, request.id, request.do, 'channel' in request ? request.channel : undefined);
  }

  #problemOf(error: unknown, verb: string): Problem {
    if (error instanceof ProblemError) return error.problem;
    this.#host.report(error, { what: 'an act failed', verb, session: this.#client?.session });
    return problem('internal', 'the service has logged what happened');
  }

  /** Refuses the whole connection: says why, and closes. */
  #refuse(each: Problem, id?: number): void {
    if (this.#ended) return;
    if (id === undefined) this.#sayWhy(each);
    else this.#sendProblem(each, id, 'hello');
    if (each.code === 'token-ended') this.close(closeCodes.tokenEnded, each.code, 'token-ended');
    else if (each.code === 'banned') this.close(closeCodes.signedOut, each.code, 'signed-out');
    else if (each.code === 'busy') this.close(closeCodes.tryLater, each.code, 'refused');
    else this.close(closeCodes.policy, each.code, 'refused');
  }

  /** Counts what a sound client does not do; a stream of it ends the connection. */
  #strike(each: Problem, id: number | undefined): void {
    const now = this.#host.clock.now();
    this.#strikes = [...(this.#strikes ?? []).filter((atMs) => now - atMs < strikesWithinMs), now];
    if (this.#strikes.length >= this.#host.options.strikes) this.#refuse(each, id);
    else this.#sendProblem(each, id, 'frame');
  }

  // ------------------------------------------------------------------------------------------ life and end

  /** Looks for a sign of life, and gives one where nothing else was sent: so that neither side waits for more than a pulse. */
  beat(): void {
    this.#silent = this.#heard || this.link.oneWay === true ? 0 : this.#silent + 1;
    this.#heard = false;
    if (this.#silent >= silentMost) {
      this.close(closeCodes.goingAway, 'no sign of life', 'lost');
      return;
    }
    if (this.#queue.written === this.#writtenAtPulse && this.#queue.bytes === 0) this.push(pulse);
    this.#writtenAtPulse = this.#queue.written;
    if (this.#pingsNext) this.#ping();
    this.#pingsNext = !this.#pingsNext;
  }

  #ping(): void {
    this.#pingedAtMs ??= this.#host.clock.monotonic();
    this.link.ping();
  }

  /** Says that the token is about to end, and ends with it. */
  watchTokenEnd({ endsAt }: Identity): void {
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

  /** How long nothing more is to be read, in milliseconds, after so many characters. */
  #spendOn(chars: number): number {
    const { options, clock } = this.#host;
    const now = clock.monotonic();
    this.#received ??= new TokenBucket(options.received, now);
    return this.#received.spend(options.received, now, chars);
  }

  /** Reads nothing for so many milliseconds. */
  #restFor(ms: number): void {
    if (ms <= 0 || this.#rests) return;
    this.#rests = true;
    this.#pause();
    // More exact than the wheel: what has gathered in the meantime is read in one turn.
    this.#host.clock.setTimer(ms, () => {
      this.#rests = false;
      if (!this.#ended && this.#acts.length <= this.#host.options.actsWaiting) this.idle();
    });
  }

  #pause(): void {
    if (this.#paused) return;
    this.#paused = true;
    this.link.pause();
  }

  /** All that the client asked for has been done: more may come. */
  idle(): void {
    if (!this.#paused || this.#rests) return;
    this.#paused = false;
    this.link.resume();
  }

  /** Closes it as too slow. */
  cutOff(): void {
    if (this.#ended) return;
    this.#host.counts.cutOff += 1;
    this.#queue.close();
    this.#end('too-slow');
    this.link.close(closeCodes.tooSlow, 'more waits for this connection than it reads');
  }

  #end(ending: Ending): void {
    if (this.#ended) return;
    this.#ended = true;
    this.#cancelHello?.();
    this.#host.pacer.remove(this, this.#slot);
    this.#cancelTokenEnd?.();
    this.#queue.close();
    this.#acts.clear();
    this.#client?.end(ending);
    this.#host.ended(this);
  }
}

/** Refusals of hello that count against the address: what whoever tries out tokens would meet. */
const countedFailures: ReadonlySet<string> = new Set(['token-invalid', 'no-guests', 'user-mismatch']);
