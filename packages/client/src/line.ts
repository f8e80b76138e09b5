import {
  type Cursor,
  channelName,
  closeCodes,
  defined,
  directSegment,
  type InboxReply,
  isFinalClose,
  isProblemCode,
  isPush,
  isReply,
  type Json,
  type LineLimits,
  type Marked,
  type Message,
  type Problem,
  type Published,
  problem,
  type ReadResult,
  type Refreshed,
  type Removed,
  type ReplyOf,
  readServerFrame,
  type ServerFrame,
  type Welcome,
} from '@nine-bells/wire';
import { type BackOff, defaultBackOff, waitBefore } from './backOff.js';
import { closedFor, endingText, isLasting } from './endings.js';
import { type Asked, Entries } from './entries.js';
import { Entry, type EntryLine } from './entry.js';
import { Inbox } from './inbox.js';
import { LifeSigns } from './lifeSigns.js';
import { LineError } from './lineError.js';
import { Marking } from './marking.js';
import { isPassing, Outbox } from './outbox.js';
import { type RequestMembers, Requests } from './requests.js';
import { Route } from './route.js';
import { utf8Bytes } from './sizes.js';
import type { SocketLike } from './socket.js';
import { tokenOf } from './tokens.js';
import { TypedTarget } from './typedTarget.js';
import type {
  EnterOptions,
  HailOptions,
  LineEvents,
  LineOptions,
  LineState,
  PublishOptions,
  ReadOptions,
  RemoveOptions,
} from './types.js';
import { Unread } from './unread.js';

/** `readyState` of a socket that takes frames. */
const openState = 1;
/** How long a connection may take to be welcomed, in milliseconds. */
const welcomeWithinMs = 15_000;
/** Bad tokens in a row after which `opened` gives up. */
const maxBadTokens = 3;
/** How large a hello is at most, in bytes, and how large it is allowed to be where the service takes less. */
const maxHelloBytes = 65_536;
const minHelloBytes = 4_096;
/** Room in a frame for what is not counted, in bytes. */
const frameRoom = 256;
/** Keys of the line's own publishes that are remembered to recognise their echo. */
const maxOwnKeys = 10_000;

/**
 * A line to the service: one session, on one connection after another.
 *
 * It connects at once, and again whenever the connection breaks, going on where it was; what was published and not
 * acknowledged is sent again with its key, so that nothing is lost and nothing doubled.
 *
 * @example
 * const line = connect('https://bells.regatta.example', { token: () => fetchToken() });
 * line.addEventListener('state', ({ detail }) => showState(detail));
 */
export class Line extends TypedTarget<LineEvents> {
  readonly #options: LineOptions;
  readonly #route: Route;
  readonly #backOff: BackOff;
  readonly #requests: Requests;
  readonly #entries: Entries;
  readonly #lifeSigns: LifeSigns;
  readonly #ownKeys = new Set<string>();
  /** Messages that were published and not acknowledged yet. */
  readonly outbox: Outbox;
  readonly #marking = new Marking((channel, cursor) => this.#sendMark(channel, cursor));
  readonly #watched = new Set<string>();
  #state: LineState = { name: 'connecting' };
  #socket: SocketLike | undefined;
  #helloSent = false;
  /** The service has answered the hello of this connection. */
  #isWelcomed = false;
  /** Connections that were given up while their hello had no answer: it may be read yet, and take the session over. */
  #orphans = 0;
  #inbox: Inbox | undefined;
  #unread: Unread | undefined;
  #direct: string | undefined;
  #status: Json | undefined;
  #looking: string | null = null;
  #user: string | undefined;
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

  /** @internal Made by `connect`. */
  constructor(url: string, options: LineOptions) {
    super();
    this.#options = options;
    this.#route = new Route(url, options);
    this.#backOff = { ...defaultBackOff, ...options.backOff };
    this.#requests = new Requests({
      ready: () => this.#helloSent,
      send: (text) => this.#send(text),
      waits: () => this.#lifeSigns.expectAnswer(),
    });
    this.#lifeSigns = new LifeSigns({
      pulse: () => this.#transmit({ do: 'pulse', got: this.#entries.news(this.#helloBytes / 2) }),
      probe: () => this.#transmit({ do: 'pulse', id: this.#requests.nextId() }),
      waits: () => this.#requests.size > 0 && this.#state.name === 'open',
      lost: (reason) => this.#lost(this.#socket, reason),
    });
    this.#entries = new Entries({
      requests: this.#requests,
      connection: () => this.#socket,
      helloSent: () => this.#helloSent,
      transmit: (request) => this.#transmit(request),
    });
    this.outbox = new Outbox(
      {
        // Without knowing what the service takes, one frame too large would end each connection anew.
        ready: () => this.#helloSent && this.#requests.limits !== undefined,
        send: (request, answered) =>
          this.#requests.send(request, {
            repeatable: false,
            resolve: ({ re: _, ...reply }) => answered(reply as unknown as Published),
            reject: answered,
          }),
      },
      options.outbox,
    );
    void this.#open();
    const page = globalThis as unknown as Partial<Window>;
    page.addEventListener?.('online', this.#online);
    page.addEventListener?.('offline', this.#offline);
  }

  get state(): LineState {
    return this.#state;
  }

  /** What the service takes from this line; known once it was open. */
  get limits(): LineLimits | undefined {
    return this.#requests.limits;
  }

  /**
   * Resolves when the line is open.
   *
   * @throws {LineError} if it is closed for good; `token-invalid` when the token function has given three bad tokens, or none,
   *   in a row (the line itself goes on trying)
   */
  opened(): Promise<void> {
    return new Promise((resolve, reject) => {
      const look = (): void => {
        if (this.#state.name === 'open') resolve();
        else if (this.#state.name === 'closed') reject(this.#closedError());
        else if (this.#state.name === 'waiting' && this.#badTokens >= maxBadTokens)
          reject(new LineError('token-invalid', this.#state.reason));
        else return;
        this.removeEventListener('state', look);
      };
      this.addEventListener('state', look);
      look();
    });
  }

  /**
   * Enters a channel. May be called in any state; add listeners in the same turn and they miss nothing. Each call gives an
   * entry of its own: several parts of a page may enter the same channel, each with the history that it wants.
   *
   * @throws {RangeError} if the name cannot be a channel's
   */
  enter(channel: string, options: EnterOptions = {}): Entry {
    const name = channelName(channel);
    const stay = this.#entries.stayIn(name);
    const entry = new Entry(this.#forEntries, stay, options);
    if (this.#state.name === 'closed') {
      entry.end(this.#closedError());
      return entry;
    }
    this.#entries.add(entry, stay);
    return entry;
  }

  /**
   * Publishes, and resolves when the service has acknowledged it. While the line is not open, or the service cannot take
   * it, the message waits in the outbox; it is sent again with its key until there is an answer.
   *
   * @throws {LineError} `outbox-full`; `cancelled` by `signal`; `closed` if the line was closed before the answer; or the
   *   code of the service's refusal
   */
  async publish(channel: string, data: Json, options: PublishOptions = {}): Promise<Published> {
    if (this.#state.name === 'closed') throw this.#closedError();
    const key = options.key ?? crypto.randomUUID();
    this.#rememberKey(key);
    const { id, cursor, repeated } = await this.outbox.publish(channel, data, { ...options, key });
    return { id, cursor, ...(repeated ? { repeated } : {}) };
  }

  /**
   * Reads in a channel's record: the last messages, those before or those after a cursor.
   *
   * @throws {LineError} `not-open` if the line is not open now, `closed` if it was closed before the answer, or the
   *   code of the service's refusal
   */
  async read(channel: string, options: ReadOptions = {}): Promise<ReadResult> {
    if (this.#state.name !== 'open') throw this.#notOpen();
    return this.#requests.ask({ do: 'read', channel, ...options });
  }

  /**
   * Ends a user's stay in a channel, if you may moderate there. Throws as `read` does.
   *
   * @example
   * await line.remove('protest/7', 'ines', { reason: 'interrupting', banMs: 600_000 });
   */
  async remove(channel: string, user: string, options: RemoveOptions = {}): Promise<Removed> {
    if (this.#state.name !== 'open') throw this.#notOpen();
    return this.#requests.ask({ do: 'remove', channel, user, ...options });
  }

  /**
   * Enters the direct channel with other users: the same for all of them, whichever of them begins. Throws as `read`
   * does, and `not-allowed` where there are no direct channels; the entry says whether you may begin it.
   */
  direct(users: readonly string[], options: EnterOptions = {}): Entry {
    if (this.#state.name !== 'open') throw this.#notOpen();
    if (this.#direct === undefined) throw LineError.from(problem('not-allowed', 'this service has no direct channels'));
    return this.enter(`${this.#direct}${directSegment([this.#state.user, ...users])}`, options);
  }

  /** The user's notices. Guests have none. */
  inbox(): Inbox {
    if (this.#inbox === undefined) {
      const inbox = new Inbox({ ask: (wish) => this.#requests.ask({ do: 'inbox', ...wish }) });
      this.#inbox = inbox;
      if (this.#state.name === 'open' && !this.#state.guest)
        this.#fillInbox(inbox, { notices: [], more: false, unread: 0, cursor: '' as Cursor });
    }
    return this.#inbox;
  }

  /**
   * Tells of a user's status from now on, by the event `user`, and gives it as it is; `null`: not connected. Throws as
   * `read` does.
   */
  async watch(user: string): Promise<Json> {
    if (this.#state.name !== 'open') throw this.#notOpen();
    const { status } = await this.#requests.ask({ do: 'watch', user });
    this.#watched.add(user);
    return status;
  }

  unwatch(user: string): void {
    this.#watched.delete(user);
    if (this.#state.name === 'open') this.#transmit({ do: 'unwatch', user });
  }

  /** How many messages the user has not read, by channel. Guests have no counts. */
  unread(): Unread {
    if (this.#unread === undefined) {
      this.#unread = new Unread();
      if (this.#state.name === 'open' && !this.#state.guest) this.#askUnread(this.#unread);
    }
    return this.#unread;
  }

  /**
   * Marks a kept channel as read up to a place, on all the user's devices; with `null` takes the mark away, so that what
   * comes there is no longer counted. If the connection breaks, it waits for the next one.
   *
   * @throws {LineError} if it is refused, or the line is closed for good before that
   */
  async mark(channel: string, cursor: string | null): Promise<Marked> {
    if (cursor === null) this.#marking.forget(channel);
    const marked = await this.#requests.ask({ do: 'mark', channel, cursor });
    if (marked.cursor === undefined) this.#unread?.forgotten(channel);
    else this.#unread?.changed({ [channel]: marked.unread });
    return marked;
  }

  #sendMark(channel: string, cursor: Cursor): void {
    this.mark(channel, cursor).catch((error: unknown) => {
      if (error instanceof LineError && error.problem !== undefined) this.emit('problem', error.problem);
    });
  }

  #askUnread(unread: Unread): void {
    this.#requests.send(
      { do: 'unread' },
      {
        repeatable: false,
        resolve: (reply) => unread.loaded((reply as unknown as ReplyOf['unread']).counts),
        reject: (error) => {
          if (error.problem !== undefined) this.emit('problem', error.problem);
        },
      },
    );
  }

  #fillInbox(inbox: Inbox, reply: InboxReply): void {
    inbox.welcomed(reply).catch((error: unknown) => {
      // A broken connection: the next one asks again.
      if (error instanceof LineError && error.problem !== undefined) this.emit('problem', error.problem);
    });
  }

  /** A short-lived word to those who are in a channel. While the line is not open, it is lost. */
  hail(channel: string, type: string, data?: Json, { to }: HailOptions = {}): void {
    if (this.#state.name === 'open') this.#transmit({ do: 'hail', channel, type, data, to });
  }

  /** Sets your status in all channels, also after the next reconnection: `available`, `busy`, `away`, or an object. */
  setStatus(status: Json): void {
    this.#status = status;
    this.#sendStatus(status);
  }

  /** Says which channel is in view, or none. Notices may depend on it. */
  setLooking(channel: string | null): void {
    this.#looking = channel;
    if (this.#state.name === 'open') this.#transmit({ do: 'status', looking: channel });
  }

  #sendStatus(status: Json, channel?: string): void {
    if (this.#state.name === 'open') this.#transmit({ do: 'status', status, channel });
  }

  /**
   * Asks the token function for a new token and hands it over now, and enters again what was refused: for when the user has
   * got more rights. While the line is not open, the next connection does so.
   *
   * @throws {LineError} if the service refuses the token, or the line is closed
   */
  async refresh(): Promise<void> {
    if (this.#state.name === 'closed') throw this.#closedError();
    const socket = this.#socket;
    if (this.#state.name === 'open' && socket !== undefined) await this.#refreshNow(socket);
    this.#entries.retryRefused();
  }

  /** While waiting: tries again now. */
  retryNow(): void {
    if (this.#state.name !== 'waiting') return;
    clearTimeout(this.#timer);
    void this.#open();
  }

  /** Says goodbye. The line does not come back; every entry ends. */
  close(): void {
    if (this.#state.name !== 'closed') this.#closeFor('closed by this side', 'client');
  }

  // -------------------------------------------------------------------------------------------- connecting

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
    this.#socket = socket;
    this.#lifeSigns.heard();
    this.#timer = setTimeout(() => this.#lost(socket, 'the service did not answer in time'), welcomeWithinMs);
    socket.onopen = () => this.#hello(token);
    socket.onmessage = (event: { data: unknown }) => this.#heard(socket, String(event.data));
    socket.onclose = (event: { code: number; reason: string }) => this.#ended(socket, event.code, event.reason);
    socket.onerror = () => {};
  }

  #hello(token: string | undefined): void {
    let asked: readonly Asked[] = [];
    const id = this.#requests.expect({
      repeatable: false,
      // The protocol gives this reply to `hello`.
      resolve: (reply) => this.#welcomed(reply as unknown as Welcome, asked),
      reject: (error) => {
        this.#refusal = error.problem;
      },
    });
    const hello = {
      do: 'hello',
      id,
      ...defined({ token }),
      ...(this.#secret === undefined ? {} : { session: this.#session, secret: this.#secret }),
      ...defined({ inbox: this.#inbox?.cursor }),
    };
    const named = this.#entries.wishesWithin(this.#helloBytes - utf8Bytes(JSON.stringify(hello)) - frameRoom);
    asked = named.asked;
    const isPartial = named.wishes.length < this.#entries.size;
    this.#transmit({ ...hello, ...(isPartial ? { partial: true } : {}), enter: named.wishes });
    this.#helloSent = true;
    if (this.#status !== undefined || this.#looking !== null)
      this.#transmit({ do: 'status', status: this.#status, looking: this.#looking });
    for (const user of this.#watched) this.#watchAgain(user);
    this.#requests.resend();
    this.outbox.opened();
  }

  /** After a reconnection: what has become of a watched user is told as a change. */
  #watchAgain(user: string): void {
    const id = this.#requests.expect({
      repeatable: false,
      resolve: (reply) => this.emit('user', { user, status: (reply as unknown as { status: Json }).status }),
      reject: (error) => {
        const socket = this.#socket;
        if (isPassing(error)) {
          const again = (): void => {
            if (socket !== undefined && socket === this.#socket && this.#watched.has(user)) this.#watchAgain(user);
          };
          setTimeout(again, error.problem?.retryAfterMs ?? 1_000);
          return;
        }
        this.#watched.delete(user);
        if (error.problem !== undefined) this.emit('user', { user, status: null, problem: error.problem });
      },
    });
    this.#transmit({ do: 'watch', id, user });
  }

  #welcomed(welcome: Welcome, asked: readonly Asked[]): void {
    clearTimeout(this.#timer);
    this.#attempt = 0;
    this.#badTokens = 0;
    this.#isWelcomed = true;
    this.#session = welcome.session;
    this.#user = welcome.user;
    this.#direct = welcome.direct;
    this.#secret = welcome.secret;
    this.#requests.limits = welcome.limits;
    this.#helloBytes = Math.min(welcome.limits.frameBytes, maxHelloBytes);
    this.outbox.opened();
    this.#lifeSigns.start(welcome.pulseMs);
    // From here on listeners are called, and any of them may close the line.
    if (this.#inbox !== undefined && welcome.inbox !== undefined) this.#fillInbox(this.#inbox, welcome.inbox);
    if (this.#unread !== undefined && welcome.guest !== true) this.#askUnread(this.#unread);
    const socket = this.#socket as SocketLike;
    this.#route.tryWebSocketLater(() => this.#reopen(socket));
    this.#setState({
      name: 'open',
      transport: this.#route.via,
      user: welcome.user,
      guest: welcome.guest === true,
      session: welcome.session,
      continued: welcome.continued,
      ...defined({ userName: welcome.name }),
    });
    this.#entries.welcomed(asked, welcome.entered);
  }

  /** Leaves a connection that works for another. */
  #reopen(socket: SocketLike, code?: number): void {
    if (socket !== this.#socket) return;
    socket.close(code);
    this.#dropSocket();
    void this.#open();
  }

  /** Gives up a connection without waiting for its goodbye. */
  #lost(socket: SocketLike | undefined, reason: string): void {
    if (socket === undefined || socket !== this.#socket) return;
    socket.close();
    this.#ended(socket, 1006, reason);
  }

  #ended(socket: SocketLike, code: number, reason: string): void {
    if (socket !== this.#socket || this.#state.name === 'closed') return;
    const wasOpen = this.#state.name === 'open';
    // Before it is known what the service takes, a hello may be too large.
    if (code === closeCodes.tooBig && !this.#isWelcomed)
      this.#helloBytes = Math.max(minHelloBytes, this.#helloBytes / 2);
    this.#dropSocket();
    if (this.#route.change(wasOpen, code, reason)) {
      void this.#open();
      return;
    }
    const refused =
      this.#refusal ?? (code === closeCodes.policy && isProblemCode(reason) ? closedFor(reason) : undefined);
    const why = refused === undefined ? endingText(code, reason) : (refused.detail ?? refused.title);
    const tokenFault =
      code === closeCodes.tokenEnded || refused?.code === 'token-invalid' || refused?.code === 'token-ended';
    // A function may give a better token; a fixed one stays as bad as it is.
    if (tokenFault) this.#badTokens += 1;
    const canRefresh = tokenFault && typeof this.#options.token === 'function';
    if (code === closeCodes.continuedElsewhere && this.#orphans > 0) {
      // An instance that had stood still has read the hello of a connection that this line gave up.
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
    this.#entries.interrupted();
    this.#requests.interrupted();
    this.outbox.interrupted();
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

  #closeFor(reason: string, closedBy: 'client' | 'service', refused?: Problem): void {
    const socket = this.#socket;
    this.#dropSocket();
    socket?.close(closeCodes.normal);
    const page = globalThis as unknown as Partial<Window>;
    page.removeEventListener?.('online', this.#online);
    page.removeEventListener?.('offline', this.#offline);
    this.#setState({ name: 'closed', reason, closedBy, ...defined({ problem: refused }) });
    const error = this.#closedError();
    this.#requests.close(error);
    this.outbox.close(error);
    this.#entries.close(error);
    this.#marking.close();
  }

  // ----------------------------------------------------------------------------------------------- hearing

  #heard(socket: SocketLike, text: string): void {
    if (socket !== this.#socket) return;
    this.#lifeSigns.heard();
    this.#route.heard();
    let frame: ServerFrame;
    try {
      frame = readServerFrame(text);
    } catch {
      this.#lost(socket, 'the service sent a frame that could not be read');
      return;
    }
    if (isReply(frame)) this.#requests.reply(frame);
    else if (isPush(frame, 'message')) {
      const { on: _, ...message } = frame;
      this.#entries.get(frame.channel)?.take(message, true);
    } else if (isPush(frame, 'gap')) this.#entries.get(frame.channel)?.gap(frame);
    else if (isPush(frame, 'drain')) this.#moveOn(socket, frame.withinMs);
    else if (isPush(frame, 'expiring')) void this.#refresh(socket);
    else if (isPush(frame, 'notice')) this.#inbox?.noticed(frame);
    else if (isPush(frame, 'inbox')) this.#inbox?.wasDone(frame);
    else if (isPush(frame, 'unread')) this.#unread?.changed(frame.counts);
    else if (isPush(frame, 'marks')) this.#entries.get(frame.channel)?.marksChanged(frame);
    else if (isPush(frame, 'user')) {
      const { on: _, ...told } = frame;
      if (told.problem !== undefined) this.#watched.delete(told.user);
      this.emit('user', told);
    } else if (isPush(frame, 'members')) this.#entries.get(frame.channel)?.membersChanged(frame);
    else if (isPush(frame, 'hail')) {
      const { type, by, data } = frame;
      this.#entries.get(frame.channel)?.hailed({ type, ...(by && { by }), ...defined({ data }) });
    } else if (isPush(frame, 'removed')) this.#entries.removed(frame);
    else if (isPush(frame, 'problem')) {
      const { on: _, ends, ...told } = frame;
      // The goodbye that follows has no room for it.
      if (ends) this.#refusal = told;
      else this.emit('problem', told);
    }
  }

  /** The instance is about to stop: comes back, elsewhere if there is another, at a moment that not all choose. */
  #moveOn(socket: SocketLike, withinMs: number): void {
    clearTimeout(this.#moving);
    this.#moving = setTimeout(() => this.#reopen(socket, closeCodes.movingOn), Math.random() * withinMs);
  }

  /** The token is about to end: swaps it for a fresh one, so that the connection can stay. */
  async #refresh(socket: SocketLike): Promise<void> {
    try {
      await this.#refreshNow(socket);
    } catch (error) {
      // Else the connection ends with its token, and the next one asks again.
      if (error instanceof LineError && error.problem !== undefined) this.emit('problem', error.problem);
    }
  }

  async #refreshNow(socket: SocketLike): Promise<void> {
    if (typeof this.#options.token !== 'function') return;
    const token = await tokenOf(this.#options.token);
    if (socket !== this.#socket || !this.#helloSent) return;
    await new Promise<void>((resolve, reject) =>
      this.#requests.send(
        { do: 'refresh', token },
        {
          repeatable: false,
          resolve: (reply) => {
            // The protocol gives this reply to `refresh`. Applied at once: what follows was sent after it.
            this.#entries.lose((reply as unknown as Refreshed).lost);
            resolve();
          },
          reject,
        },
      ),
    );
  }

  // ----------------------------------------------------------------------------------------------- telling

  #transmit(request: RequestMembers): void {
    this.#send(JSON.stringify(request));
  }

  #send(text: string): void {
    const socket = this.#socket;
    // One that is closing takes nothing more; what matters is sent again on the next.
    if (socket !== undefined && (socket.readyState ?? openState) === openState) socket.send(text);
  }

  // ----------------------------------------------------------------------------------------------- details

  #isOwn({ key }: Message): boolean {
    return key !== undefined && this.#ownKeys.has(key);
  }

  readonly #forEntries: EntryLine = {
    publish: (to, data, options) => this.publish(to, data, options),
    read: (from, options) => this.read(from, options),
    remove: (from, user, options) => this.remove(from, user, options),
    hail: (to, type, data, options) => this.hail(to, type, data, options),
    setStatus: (status, where) => this.#sendStatus(status, where),
    mark: (where, cursor) => this.#marking.move(where, cursor),
    leave: (left) => this.#entries.leave(left),
    isOwn: (message) => this.#isOwn(message),
    user: () => this.#user,
  };

  #rememberKey(key: string): void {
    this.#ownKeys.add(key);
    if (this.#ownKeys.size <= maxOwnKeys) return;
    for (const oldest of this.#ownKeys) {
      this.#ownKeys.delete(oldest);
      break;
    }
  }

  #setState(state: LineState): void {
    this.#state = state;
    this.emit('state', state);
  }

  #notOpen(): LineError {
    if (this.#state.name === 'closed') return this.#closedError();
    return new LineError('not-open', `the line is not open but ${this.#state.name}; nothing was sent`);
  }

  #closedError(): LineError {
    const { reason, problem: refused } = this.#state as Extract<LineState, { name: 'closed' }>;
    return refused === undefined ? new LineError('closed', `the line is closed: ${reason}`) : LineError.from(refused);
  }
}
