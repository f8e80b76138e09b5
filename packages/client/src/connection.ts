import {
  closeCodes,
  defined,
  isFinalClose,
  isPush,
  isReply,
  type LineLimits,
  type Problem,
  problem,
  type Refreshed,
  readServerFrame,
  type ServerFrame,
  type Welcome,
} from '@nine-bells/wire';
import { type BackOff, defaultBackOff, waitBefore } from './backOff.js';
import { endingText, isLasting, isTokenFault, refusalOf } from './endings.js';
import { LifeSigns } from './lifeSigns.js';
import { LineError } from './lineError.js';
import { page } from './page.js';
import { type RequestMembers, Requests } from './requests.js';
import { Route } from './route.js';
import { utf8Bytes } from './sizes.js';
import type { SocketLike } from './socket.js';
import { tokenOf } from './tokens.js';
import type { LineOptions, LineState } from './types.js';
import type { Asked, Wishes } from './wishes.js';

/** `readyState` of a socket that takes frames. */
const openState = 1;
/** How long a connection may take to be welcomed, in milliseconds. */
const welcomeWithinMs = 15_000;
/** Bad tokens in a row after which the token function is taken to be broken. */
const maxBadTokens = 3;
/** How large a hello is at most, in bytes, and how large it is allowed to be where the service takes less. */
const maxHelloBytes = 65_536;
const minHelloBytes = 4_096;
/** Room in a frame for what is not counted, in bytes. */
const frameRoom = 256;

/** What a connection carries, and whom it tells what becomes of it. */
export interface ConnectionHost {
  /** Members of hello besides the token, the session and the channels. */
  helloMembers(): RequestMembers;
  /** The channels to enter with a hello in which so many bytes are left. */
  wishesWithin(bytes: number): Wishes;
  /** How far channels have come since the last pulse, in at most so many bytes. */
  news(bytes: number): RequestMembers[string];
  /** Hello was sent: what follows it may be sent now. */
  greeted(): void;
  /** The service has answered hello. Called before the state changes. */
  welcomed(welcome: Welcome): void;
  /** The service has answered the wishes of hello. Called after the state has changed. */
  entered(asked: readonly Asked[], entered: Welcome['entered']): void;
  /** Stays that a new token no longer allows. */
  revoked(lost: Refreshed['lost']): void;
  pushed(frame: ServerFrame): void;
  problem(told: Problem): void;
  stateChanged(state: LineState): void;
  /** The connection broke; another follows. */
  interrupted(): void;
  /** It was closed for good. */
  closed(error: LineError): void;
}

/** One session with the service, on one socket after another. */
export class Connection {
  readonly requests: Requests;
  readonly #host: ConnectionHost;
  readonly #options: LineOptions;
  readonly #route: Route;
  readonly #backOff: BackOff;
  readonly #lifeSigns: LifeSigns;
  #state: LineState = { name: 'connecting' };
  #socket: SocketLike | undefined;
  /** The socket that broke last, until another is opened. */
  #broken: SocketLike | undefined;
  #helloSent = false;
  /** The service has answered the hello of this socket. */
  #isWelcomed = false;
  /** Sockets that were given up while their hello had no answer: it may be read yet, and take the session over. */
  #orphans = 0;
  #session: string | undefined;
  #secret: string | undefined;
  #attempt = 0;
  /** Why the service ends the connection, if it has said so. */
  #refusal: Problem | undefined;
  /** How large a hello may be, as far as is known. */
  #helloBytes = maxHelloBytes;
  /** Tokens in a row that were bad or could not be had. */
  #badTokens = 0;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #moving: ReturnType<typeof setTimeout> | undefined;

  constructor(url: string, options: LineOptions, host: ConnectionHost) {
    this.#host = host;
    this.#options = options;
    this.#route = new Route(url, options);
    this.#backOff = { ...defaultBackOff, ...options.backOff };
    this.requests = new Requests(this);
    this.#lifeSigns = new LifeSigns(this);
  }

  get state(): LineState {
    return this.#state;
  }

  /** Identifies the present socket: what belongs to an earlier one is over. */
  get socket(): unknown {
    return this.#socket;
  }

  /** Whether hello was sent on the present socket: requests may follow it. */
  get helloSent(): boolean {
    return this.#helloSent;
  }

  /** What the service takes; known once the line was open. */
  get limits(): LineLimits | undefined {
    return this.requests.limits;
  }

  /** The token function has given bad tokens, or none, time and again. */
  get hasNoToken(): boolean {
    return this.#badTokens >= maxBadTokens;
  }

  /** Connects, and from now on again whenever the connection breaks. */
  begin(): void {
    void this.#open();
    page.addEventListener?.('online', this.#online);
    page.addEventListener?.('offline', this.#offline);
    page.addEventListener?.('pagehide', this.#pageHidden);
    page.addEventListener?.('pageshow', this.#online);
  }

  /** While waiting: tries again now. */
  retryNow(): void {
    if (this.#state.name !== 'waiting') return;
    clearTimeout(this.#timer);
    void this.#open();
  }

  /** Says goodbye for good. */
  close(): void {
    if (this.#state.name !== 'closed') this.#closeFor('closed by this side', 'client');
  }

  /** Sends a request that has no answer, or whose answer is awaited already. */
  transmit(request: RequestMembers): void {
    this.send(JSON.stringify(request));
  }

  send(text: string): void {
    const socket = this.#socket;
    // One that is closing takes nothing more; what matters is sent again on the next.
    if (socket !== undefined && (socket.readyState ?? openState) === openState) socket.send(text);
  }

  /** Asks the token function for a token and hands it over, if there is a function and the connection is still the same. */
  async refresh(): Promise<void> {
    const socket = this.#socket;
    if (this.#state.name !== 'open' || typeof this.#options.token !== 'function') return;
    const token = await tokenOf(this.#options.token);
    if (socket !== this.#socket || !this.#helloSent) return;
    await new Promise<void>((resolve, reject) =>
      this.requests.send(
        { do: 'refresh', token },
        {
          repeatable: false,
          resolve: ({ lost }) => {
            // At once: what follows was sent after it.
            this.#host.revoked(lost);
            resolve();
          },
          reject,
        },
      ),
    );
  }

  /** What a request is answered with that cannot be sent now. */
  notOpen(): LineError {
    if (this.#state.name === 'closed') return this.closedError();
    return new LineError('not-open', `the line is not open but ${this.#state.name}; nothing was sent`);
  }

  /** What a request is answered with after the end. */
  closedError(): LineError {
    const { reason, problem: refused } = this.#state as Extract<LineState, { name: 'closed' }>;
    return refused === undefined ? new LineError('closed', `the line is closed: ${reason}`) : LineError.from(refused);
  }

  // ------------------------------------------------------------------------- called by requests and life signs

  get hasWaiting(): boolean {
    return this.requests.size > 0 && this.#state.name === 'open';
  }

  expectAnswer(): void {
    this.#lifeSigns.expectAnswer();
  }

  pulse(): void {
    this.transmit({ do: 'pulse', got: this.#host.news(this.#helloBytes / 2) });
  }

  probe(): void {
    this.transmit({ do: 'pulse', id: this.requests.nextId() });
  }

  /** Gives up the present socket without waiting for its goodbye. */
  lost(reason: string): void {
    const socket = this.#socket;
    if (socket === undefined) return;
    socket.close();
    this.#ended(socket, 1006, reason);
  }

  // ------------------------------------------------------------------------------------------------ connecting

  async #open(): Promise<void> {
    this.#setState({ name: 'connecting' });
    let token: string | undefined;
    let socket: SocketLike;
    try {
      const connect = await this.#route.prepare();
      token = await tokenOf(this.#options.token);
      if (this.#state.name !== 'connecting') return;
      socket = connect();
    } catch (error) {
      this.#badTokens += 1;
      this.#waitAndRetry(`no token could be had: ${(error as Error).message}`);
      return;
    }
    this.#refusal = undefined;
    this.#broken = undefined;
    this.#socket = socket;
    this.#lifeSigns.heard();
    this.#timer = setTimeout(() => {
      if (socket === this.#socket) this.lost('the service did not answer in time');
    }, welcomeWithinMs);
    socket.onopen = () => this.#hello(token);
    socket.onmessage = (event: { data: unknown }) => this.#heard(socket, String(event.data));
    socket.onclose = (event: { code: number; reason: string }) => this.#ended(socket, event.code, event.reason);
    socket.onerror = () => {};
  }

  #hello(token: string | undefined): void {
    let asked: readonly Asked[] = [];
    const id = this.requests.expect('hello', {
      repeatable: false,
      resolve: (welcome) => this.#welcomed(welcome, asked),
      reject: (error) => {
        this.#refusal = error.problem;
      },
    });
    const secret = this.#secret;
    const session = secret === undefined ? undefined : this.#session;
    const hello = { do: 'hello', id, ...defined({ token, session, secret }), ...this.#host.helloMembers() };
    const named = this.#host.wishesWithin(this.#helloBytes - utf8Bytes(JSON.stringify(hello)) - frameRoom);
    asked = named.asked;
    this.transmit({ ...hello, ...(named.isPartial ? { partial: true } : {}), enter: named.wishes });
    this.#helloSent = true;
    this.#host.greeted();
  }

  #welcomed(welcome: Welcome, asked: readonly Asked[]): void {
    clearTimeout(this.#timer);
    this.#attempt = 0;
    this.#badTokens = 0;
    this.#isWelcomed = true;
    this.#session = welcome.session;
    this.#secret = welcome.secret;
    this.requests.limits = welcome.limits;
    this.#helloBytes = Math.min(welcome.limits.frameBytes, maxHelloBytes);
    this.#lifeSigns.start(welcome.pulseMs);
    const socket = this.#socket as SocketLike;
    this.#route.tryWebSocketLater(() => this.#reopen(socket));
    // From here on listeners are called, and any of them may close the line.
    this.#host.welcomed(welcome);
    if (socket !== this.#socket) return;
    this.#setState({
      name: 'open',
      transport: this.#route.via,
      user: welcome.user,
      guest: welcome.guest === true,
      session: welcome.session,
      continued: welcome.continued,
      ...defined({ userName: welcome.name }),
    });
    this.#host.entered(asked, welcome.entered);
  }

  /** Leaves a socket that works for another. */
  #reopen(socket: SocketLike, code?: number): void {
    if (socket !== this.#socket) return;
    socket.close(code);
    this.#dropSocket();
    void this.#open();
  }

  #ended(socket: SocketLike, code: number, reason: string): void {
    if (socket !== this.#socket || this.#state.name === 'closed') return;
    const wasOpen = this.#state.name === 'open';
    this.#broken = socket;
    // Before it is known what the service takes, a hello may be too large.
    if (code === closeCodes.tooBig && !this.#isWelcomed)
      this.#helloBytes = Math.max(minHelloBytes, this.#helloBytes / 2);
    this.#dropSocket();
    if (this.#route.change(wasOpen, code, reason)) {
      void this.#open();
      return;
    }
    const refused = this.#refusal ?? refusalOf(code, reason);
    const why = refused === undefined ? endingText(code, reason) : (refused.detail ?? refused.title);
    const tokenFault = isTokenFault(code, refused);
    // A function may give a better token; a fixed one stays as bad as it is.
    if (tokenFault) this.#badTokens += 1;
    const canRefresh = tokenFault && typeof this.#options.token === 'function';
    if (code === closeCodes.continuedElsewhere && this.#orphans > 0) {
      // An instance that had stood still has read the hello of a socket that this line gave up.
      this.#orphans -= 1;
      this.#waitAndRetry('an earlier attempt to connect took the session over');
    } else if (isFinalClose(code) || (tokenFault && !canRefresh) || (refused !== undefined && isLasting(refused)))
      this.#closeFor(why, 'service', refused ?? (tokenFault ? problem('token-ended') : undefined));
    else this.#waitAndRetry(why);
  }

  #dropSocket(): void {
    this.#socket = undefined;
    if (this.#helloSent && !this.#isWelcomed) this.#orphans += 1;
    this.#helloSent = false;
    this.#isWelcomed = false;
    clearTimeout(this.#timer);
    clearTimeout(this.#moving);
    this.#route.stopTrying();
    this.#lifeSigns.stop();
    this.requests.interrupted();
    this.#host.interrupted();
  }

  #waitAndRetry(reason: string): void {
    if (this.#state.name === 'closed') return;
    const delayMs = waitBefore(this.#attempt, this.#backOff, Math.random());
    this.#attempt += 1;
    this.#timer = setTimeout(() => void this.#open(), delayMs);
    this.#setState({ name: 'waiting', reason, retryAt: Date.now() + delayMs });
  }

  readonly #online = (): void => this.retryNow();
  /** The browser thinks that there is no network. It may be wrong, so the service is asked. */
  readonly #offline = (): void => {
    if (this.#state.name === 'open') this.#lifeSigns.probe();
  };

  /** The page is left: says goodbye, so that others see it soon. A page that is shown again connects again. */
  readonly #pageHidden = (): void => {
    // Browsers may break streams before they say that the page is left.
    this.#broken?.close(closeCodes.normal);
    const socket = this.#socket;
    if (socket === undefined) return;
    this.#dropSocket();
    socket.close(closeCodes.normal);
    this.#waitAndRetry('the page was left');
  };

  #closeFor(reason: string, closedBy: 'client' | 'service', refused?: Problem): void {
    const socket = this.#socket;
    this.#dropSocket();
    (socket ?? this.#broken)?.close(closeCodes.normal);
    page.removeEventListener?.('online', this.#online);
    page.removeEventListener?.('offline', this.#offline);
    page.removeEventListener?.('pagehide', this.#pageHidden);
    page.removeEventListener?.('pageshow', this.#online);
    this.#setState({ name: 'closed', reason, closedBy, ...defined({ problem: refused }) });
    const error = this.closedError();
    this.requests.close(error);
    this.#host.closed(error);
  }

  #setState(state: LineState): void {
    this.#state = state;
    this.#host.stateChanged(state);
  }

  // --------------------------------------------------------------------------------------------------- hearing

  #heard(socket: SocketLike, text: string): void {
    if (socket !== this.#socket) return;
    this.#lifeSigns.heard();
    this.#route.heard();
    let frame: ServerFrame;
    try {
      frame = readServerFrame(text);
    } catch {
      this.lost('the service sent a frame that could not be read');
      return;
    }
    if (isReply(frame)) this.requests.reply(frame);
    else if (isPush(frame, 'drain')) this.#moveOn(socket, frame.withinMs);
    else if (isPush(frame, 'expiring')) void this.#expiring();
    else if (isPush(frame, 'problem')) {
      const { on: _, ends, ...told } = frame;
      // The goodbye that follows has no room for it.
      if (ends) this.#refusal = told;
      else this.#host.problem(told);
    } else this.#host.pushed(frame);
  }

  /** The instance is about to stop: comes back, elsewhere if there is another, at a moment that not all choose. */
  #moveOn(socket: SocketLike, withinMs: number): void {
    clearTimeout(this.#moving);
    this.#moving = setTimeout(() => this.#reopen(socket, closeCodes.movingOn), Math.random() * withinMs);
  }

  /** The token is about to end: swaps it for a fresh one, so that the connection can stay. */
  async #expiring(): Promise<void> {
    try {
      await this.refresh();
    } catch (error) {
      // Else the connection ends with its token, and the next one asks again.
      if (error instanceof LineError && error.problem !== undefined) this.#host.problem(error.problem);
    }
  }
}
