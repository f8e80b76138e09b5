import {
  type ChannelName,
  closeCodes,
  type Ending,
  type Problem,
  ProblemError,
  problem,
  type Request,
  readRequest,
  unknownMember,
} from '@nine-bells/wire';
import { SendQueue } from '../delivery/sendQueue.js';
import type { SlowReader } from '../delivery/waitingBudget.js';
import type { Paced } from '../lib/pacer.js';
import type { Identity } from '../model/access.js';
import { type Batch, Frame } from '../model/frame.js';
import type { Link } from '../ports/link.js';
import { type ActOwner, ActQueue } from './actQueue.js';
import { costOf, dispatch } from './dispatch.js';
import { type HelloLine, hello } from './hello.js';
import type { SessionHost } from './host.js';
import { Identification } from './identification.js';
import type { Asked, LiveSession } from './liveSession.js';
import { largeChars, Reading } from './reading.js';
import { watchTokenEnd } from './tokenEnd.js';

const pulse = new Frame('{"on":"pulse"}', true);
/** Half pulses without a sign of life after which the client is taken for gone: between 1.5 and 2 pulses. */
const maxSilent = 3;
/** The stretch of time within which violations are counted, in milliseconds. */
const violationsWithinMs = 10_000;
/** How long after its time hello is still waited for, in milliseconds. */
const helloGraceMs = 250;
/** Beyond this many times `actsWaiting` a client that cannot be paused is told to wait. */
const actsBound = 64;

/**
 * One transport, from its first frame to its end: it takes frames, says hello, answers, and notices when the client is
 * gone. What the client does there is done by its `LiveSession`.
 *
 * The transport calls `receive`, `alive`, `drained` and `closed`. Acts take effect in the order sent.
 */
export class Connection implements HelloLine, ActOwner<Request>, Paced, SlowReader {
  readonly link: Link;
  readonly sinceMs: number;
  readonly queue: SendQueue;
  readonly #host: SessionHost;
  readonly #acts: ActQueue<Request>;
  #client: LiveSession | undefined;
  /** Made with the first frame that is charged by its size, or the first pause. */
  #reading: Reading | undefined;
  #helloSeen = false;
  /** The client wants unknown members to be refused. */
  #isStrict = false;
  #ended = false;
  #violations: number[] | undefined;
  #heard = true;
  /** Half pulses without a sign of life. */
  #silent = 0;
  #pingsNext = true;
  #pingedAtMs: number | undefined;
  #roundTripMs: number | undefined;
  #writtenAtPulse = 0;
  #cancelHello: (() => void) | undefined;
  /** Its slot among those that the pacer calls. */
  readonly #slot: number;
  #cancelTokenEnd: (() => void) | undefined;

  constructor(host: SessionHost, link: Link) {
    this.#host = host;
    this.link = link;
    this.sinceMs = host.clock.now();
    this.queue = new SendQueue(link, host.fanout, host.options.sendQueueBytes, this, host.waiting);
    this.#acts = new ActQueue(this);
    const { helloWithinMs } = host.options;
    // Not at once: where the process stood still meanwhile, hello may have come without having been read.
    this.#cancelHello = host.wheel.after(helloWithinMs, () => {
      this.#cancelHello = host.wheel.after(helloGraceMs, () =>
        this.#refuse(problem('hello-first', `hello did not come within ${helloWithinMs} ms`)),
      );
    });
    this.#slot = host.pacer.add(this);
  }

  /** The session on it; absent before hello. */
  get client(): LiveSession | undefined {
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
    return this.queue.bytes + this.link.waitingBytes;
  }

  /** Bytes that its transport has been given and has not sent yet. */
  get untakenBytes(): number {
    return this.link.waitingBytes;
  }

  get unsentBytes(): number | undefined {
    return this.link.unsentBytes;
  }

  /** Frames handed to its transport so far. */
  get written(): number {
    return this.queue.written;
  }

  // ------------------------------------------------------------------------------- called by the transport

  /** Takes one text frame. */
  receive(text: string): void {
    if (this.#ended) return;
    this.#heard = true;
    this.#host.counters.charsIn += text.length;
    if (text.length > largeChars) this.#readingNow.received(text.length);
    const read = readRequest(text);
    if (!read.ok) {
      this.#violation(read.problem, read.id);
      return;
    }
    const { request } = read;
    this.#isStrict ||= request.do === 'hello' && request.strict === true;
    const unknown = this.#isStrict ? unknownMember(request) : undefined;
    if (unknown !== undefined) this.#violation(unknown, request.id);
    else if (request.do === 'pulse') this.#pulsed(request, text.length);
    else if (!this.#helloSeen && request.do !== 'hello')
      this.#violation(problem('hello-first', `\`${request.do}\` came before hello`), request.id);
    else if (this.#helloSeen && request.do === 'hello')
      this.#violation(problem('hello-twice', 'a line says hello once; to change the user, open a new one'), request.id);
    else this.#queueAct(request);
  }

  /** The client gave a sign of life that is not a frame (a pong). */
  alive(): void {
    this.#heard = true;
    if (this.#pingedAtMs === undefined) return;
    this.#roundTripMs = this.#host.clock.monotonic() - this.#pingedAtMs;
    this.#pingedAtMs = undefined;
  }

  /** The transport has sent what it was given. */
  drained(): void {
    this.queue.flush();
  }

  /** The transport has ended, whichever side ended it. */
  closed(code: number): void {
    // Browsers close with 1001 when the page is left (RFC 6455, 7.4.1).
    this.#end(code === closeCodes.normal || code === closeCodes.goingAway ? 'left' : 'lost');
  }

  // ---------------------------------------------------------------------------------- called by the engine

  push(frame: Frame): void {
    this.queue.push(frame);
  }

  pushAll(batch: Batch): void {
    this.queue.pushAll(batch);
  }

  /** Ends the connection from this side. */
  close(code: number, reason: string, ending: Ending): void {
    if (this.#ended) return;
    this.queue.flush();
    this.#end(ending);
    this.link.close(code, reason);
  }

  continuedElsewhere(): void {
    this.close(closeCodes.continuedElsewhere, 'session continued on another connection', 'continued-elsewhere');
  }

  signOut(why: Problem): void {
    this.#sayWhy(why);
    this.close(closeCodes.signedOut, why.code === 'banned' ? 'banned' : 'signed-out', 'signed-out');
  }

  revoke(why: Problem): void {
    this.#sayWhy(why);
    this.close(closeCodes.tokenEnded, 'the token was revoked', 'token-ended');
  }

  #sayWhy(why: Problem): void {
    if (this.#ended) return;
    this.#noteRefusal(why, this.#helloSeen ? 'hello' : 'connect');
    this.queue.reply(new Frame(JSON.stringify({ on: 'problem', ...why, ends: true })));
  }

  // -------------------------------------------------------------------------------------------------- acts

  /** A pulse is answered ahead of acts that wait. */
  #pulsed(request: Extract<Request, { readonly do: 'pulse' }>, chars: number): void {
    if (chars > largeChars) this.#readingNow.pulsed(chars);
    const client = this.#client;
    if (client === undefined) {
      if (!this.queue.isFull) this.reply(request.id, {});
      return;
    }
    const waitMs = client.rates.charge('requests', costOf(request));
    if (waitMs > 0) this.#readingNow.restFor(waitMs);
    else void dispatch(client, request);
  }

  #queueAct(request: Request): void {
    this.#helloSeen = true;
    // From here on it is this side that takes its time.
    this.#cancelHello?.();
    this.#cancelHello = undefined;
    const { actsWaiting } = this.#host.options;
    if (this.#acts.length >= actsWaiting * actsBound) {
      const busy = problem('busy', 'too many requests wait on this line', { retryAfterMs: 1000 });
      this.#sendProblem(busy, request.id, request.do);
      return;
    }
    this.#acts.add(request);
    if (this.#isBusy()) this.#readingNow.pause();
  }

  act(request: Request): void | Promise<void> {
    // A client that asks for more than it reads waits for its own replies.
    const room = this.queue.whenBelow();
    if (room !== undefined) return room.then(() => this.act(request));
    const standstill = this.#host.standstill?.over();
    if (standstill !== undefined) return standstill.then(() => this.act(request));
    const owedMs = this.#client?.rates.owedMs ?? 0;
    if (owedMs > 0) return this.#wait(owedMs).then(() => this.act(request));
    try {
      const done = this.#perform(request);
      return done?.catch((error: unknown) => this.failed(error, request));
    } catch (error) {
      this.failed(error, request);
    }
  }

  /** All acts have been done: more may come. */
  idle(): void {
    this.#reading?.resume();
  }

  #perform(request: Request): void | Promise<void> {
    if (this.#ended) return;
    if (request.do === 'hello') return hello(this.#host, this, request);
    // Hello comes first, and a refused one ends the connection.
    const client = this.#client as LiveSession;
    const retryAfterMs = client.rates.charge('requests', costOf(request));
    if (retryAfterMs === 0) return this.#seen(request, dispatch(client, request));
    const tooMany = problem('rate-limited', 'this session sends more requests than it may', { retryAfterMs });
    this.#sendProblem(tooMany, request.id, request.do);
    // A client that does not heed it is read from more slowly.
    return this.#wait(retryAfterMs);
  }

  /** Tells the log of a request that was carried out. */
  #seen(request: Asked, done: void | Promise<void>): void | Promise<void> {
    const { seen } = this.#host;
    // Channels are entered by hello, too: `LiveSession.enter` tells of them.
    if (seen === undefined || request.do === 'enter') return done;
    const tell = (): void => {
      const channel = 'channel' in request ? request.channel : undefined;
      seen('request', { act: request.do, channel, ...this.#facts });
    };
    return done === undefined ? tell() : done.then(tell);
  }

  get #facts() {
    return { user: this.#client?.user, session: this.#client?.session, address: this.address };
  }

  begin(session: LiveSession): void {
    this.#client = session;
    this.#host.seen?.('connected', { transport: this.link.transport, ...this.#facts });
  }

  refused(error: unknown, act: string, channel: ChannelName): Problem {
    const refused = this.#problemOf(error, 'hello');
    this.#noteRefusal(refused, act, channel);
    return refused;
  }

  get #identification(): Identification {
    return new Identification(this.#host, this.address);
  }

  readToken(token: string): Promise<Identity> {
    return this.#identification.readToken(token);
  }

  checkAdmission(who: Identity): void {
    this.#identification.check(who);
  }

  /** Enforces bans and silences that this instance may have missed. */
  lookAgain(): void {
    const client = this.#client;
    if (client === undefined || this.#ended || client.who.observer) return;
    try {
      this.checkAdmission(client.who);
      client.entered.checkBans();
      client.enforceSilences();
    } catch (error) {
      this.#refuse(this.#problemOf(error, 'hello'));
    }
  }

  // ----------------------------------------------------------------------------------------------- replies

  reply(id: number | undefined, members: object): void {
    this.replyText(id, JSON.stringify(members).slice(1, -1));
  }

  replyText(id: number | undefined, members: string): void {
    if (id !== undefined) this.queue.reply(new Frame(`{"re":${id}${members === '' ? '' : ','}${members}}`));
  }

  failed(error: unknown, request: Asked): void {
    if (this.#ended) return;
    const refused = this.#problemOf(error, request.do);
    if (request.do === 'hello') {
      if (countedFailures.has(refused.code)) this.#host.limiter.failed(this.address);
      this.#refuse(refused, request.id);
    } else this.#sendProblem(refused, request.id, request.do, 'channel' in request ? request.channel : undefined);
  }

  #noteRefusal(refused: Problem, act: string, channel?: ChannelName): void {
    const { client } = this;
    this.#host.refusals.addProblem(refused, {
      act,
      channel,
      user: client?.user,
      session: client?.session,
      address: this.address,
      origin: this.link.origin,
    });
  }

  #sendProblem(refused: Problem, id: number | undefined, act: string, channel?: ChannelName): void {
    this.#noteRefusal(refused, act, channel);
    this.queue.reply(
      new Frame(JSON.stringify(id === undefined ? { on: 'problem', ...refused } : { re: id, problem: refused })),
    );
  }

  #problemOf(error: unknown, verb: string): Problem {
    if (error instanceof ProblemError) return error.problem;
    this.#host.report(error, { event: 'request-failed', verb, session: this.#client?.session });
    return problem('internal', 'the service has logged what happened');
  }

  /** Refuses the whole connection: says why, and closes. */
  #refuse(refused: Problem, id?: number): void {
    if (this.#ended) return;
    if (id === undefined) this.#sayWhy(refused);
    else this.#sendProblem(refused, id, 'hello');
    if (refused.code === 'token-ended') this.close(closeCodes.tokenEnded, refused.code, 'token-ended');
    else if (refused.code === 'banned') this.close(closeCodes.signedOut, refused.code, 'signed-out');
    else if (refused.code === 'busy') this.close(closeCodes.tryLater, refused.code, 'refused');
    else this.close(closeCodes.policy, refused.code, 'refused');
  }

  /** Counts what a sound client does not do; a stream of it ends the connection. */
  #violation(refused: Problem, id: number | undefined): void {
    const now = this.#host.clock.now();
    this.#violations = [...(this.#violations ?? []).filter((atMs) => now - atMs < violationsWithinMs), now];
    if (this.#violations.length >= this.#host.options.violations) this.#refuse(refused, id);
    else this.#sendProblem(refused, id, 'frame');
  }

  // ------------------------------------------------------------------------------------------ life and end

  /** Looks for a sign of life, and sends one where nothing else was sent: neither side waits for more than a pulse. */
  beat(): void {
    this.#silent = this.#heard || this.link.oneWay === true ? 0 : this.#silent + 1;
    this.#heard = false;
    if (this.#silent >= maxSilent) {
      this.close(closeCodes.goingAway, 'no sign of life', 'lost');
      return;
    }
    if (this.queue.written === this.#writtenAtPulse && this.queue.bytes === 0) this.push(pulse);
    this.#writtenAtPulse = this.queue.written;
    if (this.#pingsNext) {
      this.#pingedAtMs ??= this.#host.clock.monotonic();
      this.link.ping();
    }
    this.#pingsNext = !this.#pingsNext;
  }

  watchTokenEnd({ endsAt }: Identity): void {
    this.#cancelTokenEnd?.();
    this.#cancelTokenEnd = endsAt === undefined ? undefined : watchTokenEnd(this.#host, this, endsAt);
  }

  /** Closes the connection as too slow. */
  cutOff(): void {
    if (this.#ended) return;
    this.#host.counters.cutOff += 1;
    this.queue.close();
    this.#end('too-slow');
    this.link.close(closeCodes.tooSlow, 'more waits for this connection than it reads');
  }

  #isBusy(): boolean {
    return this.#acts.length > this.#host.options.actsWaiting;
  }

  get #readingNow(): Reading {
    this.#reading ??= new Reading(this.#host, this.link, () => this.#isBusy());
    return this.#reading;
  }

  #wait(ms: number): Promise<void> {
    return new Promise((resolve) => void this.#host.wheel.after(ms, resolve));
  }

  #end(ending: Ending): void {
    if (this.#ended) return;
    this.#ended = true;
    this.#cancelHello?.();
    this.#host.pacer.remove(this, this.#slot);
    this.#cancelTokenEnd?.();
    this.queue.close();
    this.#acts.clear();
    this.#client?.end(ending);
    this.#host.seen?.('disconnected', { ending, ...this.#facts });
    if (this.#host.connected.remove(this, ending === 'left')) this.#host.limiter.went(this.address);
  }
}

/** Refusals of hello that count against the address: what a client that tries out tokens would meet. */
const countedFailures: ReadonlySet<string> = new Set(['token-invalid', 'no-guests', 'user-mismatch']);
