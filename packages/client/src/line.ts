import {
  type ChannelName,
  type Cursor,
  channelName,
  closeCodes,
  directSegment,
  type Entered,
  type EnterRefused,
  type EnterWish,
  type InboxReply,
  isFinalClose,
  isProblemCode,
  isPush,
  isReply,
  type Json,
  LINE_PATH,
  LINE_SUBPROTOCOL,
  type LineLimits,
  type Marked,
  type Message,
  type Problem,
  type ProblemCode,
  type Published,
  problem,
  protocolLimits,
  type ReadResult,
  type Refreshed,
  type Removed,
  type RemovedPush,
  type ReplyFrame,
  type ReplyOf,
  readServerFrame,
  type ServerFrame,
  type Welcome,
} from '@nine-bells/wire';
import { type BackOff, defaultBackOff, waitBefore } from './backOff.js';
import { type EnterOptions, Entry, type EntryLine } from './entry.js';
import { Inbox } from './inbox.js';
import { LineError } from './lineError.js';
import { Marking } from './marking.js';
import { isPassing, Outbox, type OutboxBounds } from './outbox.js';
import { findSocketClass, type SocketClass, type SocketLike } from './socket.js';
import { Stay } from './stay.js';
import { heldBack, StreamSocket } from './streamSocket.js';
import { TypedTarget } from './typedTarget.js';
import { Unread } from './unread.js';

/** `readyState` of a socket that takes frames. */
const openState = 1;

/** A token, or how to get one. A function is asked before each connection, so that it can give a fresh one. */
export type TokenSource = string | (() => string | Promise<string>);

export interface LineOptions {
  /** Without it one is a guest, where guests are let in. */
  readonly token?: TokenSource;
  readonly backOff?: Partial<BackOff>;
  /**
   * How to reach the service. `auto`, the default: by WebSocket, and where that is blocked over HTTP, by a stream or by
   * polls, until a WebSocket gets through. With a WebSocket class of one's own the default is `websocket`.
   */
  readonly transport?: Transport | 'auto';
  /** Over HTTP: when a WebSocket is tried again, in milliseconds; later each time. Default 30,000. */
  readonly webSocketAgainMs?: number;
  /** What may wait to be published while the connection is broken, or the service cannot take it. */
  readonly outbox?: Partial<OutboxBounds>;
  /** The WebSocket class to use; by default the surroundings' own, or that of `ws`. */
  readonly WebSocket?: SocketClass;
}

/** What carries a line. */
export type Transport = 'websocket' | 'stream' | 'poll';

/** How it stands with the line, for a page to show. */
export type LineState =
  | { readonly name: 'connecting' }
  | {
      readonly name: 'open';
      readonly user: string;
      readonly userName?: string;
      readonly guest: boolean;
      readonly session: string;
      readonly transport: Transport;
      /** The session went on; `false`: a new one. */
      readonly continued: boolean;
    }
  | {
      readonly name: 'waiting';
      /** Why the connection ended, for people. */
      readonly reason: string;
      /** When the next try is made (milliseconds since the epoch, by this machine's clock). */
      readonly retryAt: number;
    }
  | {
      readonly name: 'closed';
      readonly reason: string;
      /** Who ended it for good. */
      readonly by: 'client' | 'service';
      readonly problem?: Problem;
    };

export interface LineEvents {
  state: LineState;
  /** A problem that belongs to no call. */
  problem: Problem;
  /**
   * A watched user says something else of itself; `null`: it is not connected. With a `problem`, the user may not be watched
   * any more.
   */
  user: { readonly user: string; readonly status: Json; readonly problem?: Problem };
}

export interface PublishOptions {
  /** Default `message`. */
  readonly type?: string;
  /** One's own idempotency key; by default a random one. */
  readonly key?: string;
  /** `false`: not to this session. */
  readonly echo?: boolean;
  /** Takes the message back when it is aborted before it was sent. */
  readonly signal?: AbortSignal;
}

export interface ReadOptions {
  readonly after?: string;
  readonly before?: string;
  /** Default 100, at most 1,000. */
  readonly limit?: number;
}

export interface RemoveOptions {
  /** Told to whoever is removed. */
  readonly reason?: string;
  /** How long the user may not come back, in milliseconds. Default: not at all. */
  readonly banMs?: number;
}

export interface HailOptions {
  /** Only to these users, of those who are there. */
  readonly to?: readonly string[];
}

/** How long a token function may take, in milliseconds. */
const tokenWithinMs = 15_000;
/** How long a connection may take to be welcomed, in milliseconds. */
const welcomeWithinMs = 15_000;
/** How long an answer may take before the connection is doubted, and then a probe, in milliseconds. */
const answerWithinMs = 5_000;
/** Bad tokens in a row after which `opened` gives up. */
const mostBadTokens = 3;
/** How large a hello is at the most, in bytes, and how large it is allowed to be where the service takes less. */
const mostHelloBytes = 65_536;
const leastHelloBytes = 4_096;
/** Channels that one hello may name. */
const helloWishes = 1_000;
/** Room in a frame for what is not counted, in bytes. */
const frameRoom = 256;
/** Keys of one's own publishes that are remembered for their echo. */
const ownKeysMost = 10_000;
/** When a line over HTTP tries a WebSocket again, in milliseconds: the first time, and at the latest. */
const tryAgain = { firstMs: 30_000, mostMs: 900_000 };

interface Pending {
  readonly request: Readonly<Record<string, unknown>>;
  /** Sent again after a broken connection: safe for what has a key or only reads. */
  readonly repeatable: boolean;
  resolve(reply: ReplyFrame): void;
  reject(error: LineError): void;
}

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
  readonly #url: string;
  readonly #options: LineOptions;
  readonly #backOff: BackOff;
  readonly #stays = new Map<ChannelName, Stay>();
  /** Entries that were refused, to be tried again with another token. */
  readonly #refusedEntries = new Set<Entry>();
  readonly #pending = new Map<number, Pending>();
  readonly #ownKeys = new Set<string>();
  /** What was published and not acknowledged yet. */
  readonly outbox: Outbox;
  #state: LineState = { name: 'connecting' };
  #socket: SocketLike | undefined;
  #helloSent = false;
  /** The service has answered the hello of this connection. */
  #isWelcomed = false;
  /** Connections that were given up while their hello had no answer: it may be read yet, and take the session over. */
  #orphans = 0;
  #via: Transport;
  /** A WebSocket has got through before: if one does not, it is not because they are blocked. */
  #webSocketWorks: boolean;
  #tryAgainMs: number;
  #limits: LineLimits | undefined;
  #inbox: Inbox | undefined;
  #unread: Unread | undefined;
  readonly #marking = new Marking((channel, cursor) => this.#sendMark(channel, cursor));
  #direct: string | undefined;
  readonly #watched = new Set<string>();
  #status: Json | undefined;
  #looking: string | null = null;
  #user: string | undefined;
  #session: string | undefined;
  #secret: string | undefined;
  #nextId = 1;
  #attempt = 0;
  #refusal: Problem | undefined;
  #heardAt = 0;
  /** How large a hello may be, as far as is known. */
  #helloBytes = mostHelloBytes;
  /** How far channels have come, as it was told last on this connection. */
  readonly #told = new Map<ChannelName, Cursor>();
  /** Tokens in a row that were bad or could not be had. */
  #badTokens = 0;
  /** Goes off when an answer may be overdue. */
  #overdue: ReturnType<typeof setTimeout> | undefined;
  /** Goes off when a probe has no answer. */
  #probing: ReturnType<typeof setTimeout> | undefined;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #trying: ReturnType<typeof setTimeout> | undefined;
  #moving: ReturnType<typeof setTimeout> | undefined;
  #pulse: ReturnType<typeof setInterval> | undefined;
  /** Goes off when nothing was heard for too long. */
  #deaf: ReturnType<typeof setTimeout> | undefined;

  /** @internal Made by `connect`. */
  constructor(url: string, options: LineOptions) {
    super();
    this.#url = lineUrl(url);
    this.#options = options;
    const { transport = options.WebSocket === undefined ? 'auto' : 'websocket' } = options;
    this.#via = transport === 'auto' ? 'websocket' : transport;
    this.#webSocketWorks = transport !== 'auto';
    this.#tryAgainMs = options.webSocketAgainMs ?? tryAgain.firstMs;
    this.outbox = new Outbox(
      {
        // Without knowing what the service takes, one frame too large would end each connection anew.
        ready: () => this.#helloSent && this.#limits !== undefined,
        send: (request, answered) =>
          this.#request(request, {
            repeatable: false,
            resolve: ({ re: _, ...reply }) => answered(reply as unknown as Published),
            reject: answered,
          }),
      },
      options.outbox,
    );
    this.#backOff = { ...defaultBackOff, ...options.backOff };
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
    return this.#limits;
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
        else if (this.#state.name === 'waiting' && this.#badTokens >= mostBadTokens)
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
    const stay = this.#stays.get(name) ?? new Stay(name);
    const entry = new Entry(this.#forEntries, stay, options);
    if (this.#state.name === 'closed') {
      entry.end(this.#closedError());
      return entry;
    }
    this.#enter(entry);
    return entry;
  }

  #enter(entry: Entry): void {
    const { stay, options } = entry;
    this.#stays.set(entry.channel, stay);
    stay.add(entry);
    // Until the service has answered hello, the entry is named in it or follows it.
    if (!this.#helloSent) return;
    const isFromNow = options.last === undefined && options.after === undefined;
    if (!isFromNow || options.status !== undefined || stay.head === undefined) this.#sendEnter(stay, [entry]);
    // In another turn, so that its listeners are there.
    else queueMicrotask(() => this.#joinOrEnter(entry));
  }

  /** Another entry of the channel may be live already; then nothing needs to be asked. */
  #joinOrEnter(entry: Entry): void {
    const { stay } = entry;
    if (entry.isOver || entry.isAnswered || !this.#helloSent || this.#stays.get(entry.channel) !== stay) return;
    const isFromNow = entry.cursor === undefined && entry.options.last === undefined;
    if (isFromNow && stay.head !== undefined) stay.join(entry, stay.head);
    else this.#sendEnter(stay, [entry]);
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
    return this.#ask({ do: 'read', channel, ...options });
  }

  /**
   * Ends a user's stay in a channel, if one may moderate there. Throws as `read` does.
   *
   * @example
   * await line.remove('protest/7', 'ines', { reason: 'interrupting', banMs: 600_000 });
   */
  async remove(channel: string, user: string, options: RemoveOptions = {}): Promise<Removed> {
    if (this.#state.name !== 'open') throw this.#notOpen();
    return this.#ask({ do: 'remove', channel, user, ...options });
  }

  /**
   * Enters the direct channel with other users: the same for all of them, whoever begins. Throws as `read` does, and
   * `not-allowed` where there are no direct channels; whether one may begin it, the entry says.
   */
  direct(users: readonly string[], options: EnterOptions = {}): Entry {
    if (this.#state.name !== 'open') throw this.#notOpen();
    if (this.#direct === undefined) throw LineError.from(problem('not-allowed', 'this service has no direct channels'));
    return this.enter(`${this.#direct}${directSegment([this.#state.user, ...users])}`, options);
  }

  /** The user's notices. Guests have none. */
  inbox(): Inbox {
    if (this.#inbox === undefined) {
      const inbox = new Inbox({ ask: (wish) => this.#ask({ do: 'inbox', ...wish }) });
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
    const { status } = await this.#ask({ do: 'watch', user });
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
   * comes there is not counted any more. If the connection breaks, it waits for the next one.
   *
   * @throws {LineError} if it is refused, or the line is closed for good before that
   */
  async mark(channel: string, cursor: string | null): Promise<Marked> {
    if (cursor === null) this.#marking.forget(channel);
    const marked = await this.#ask({ do: 'mark', channel, cursor });
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
    this.#request(
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

  /** Says something of oneself in all channels, also after the next reconnection: `available`, `busy`, `away`, or an object. */
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
    for (const entry of [...this.#refusedEntries]) {
      this.#refusedEntries.delete(entry);
      if (entry.state !== 'refused') continue;
      entry.again(this.#stays.get(entry.channel) ?? new Stay(entry.channel));
      this.#enter(entry);
    }
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
      const socketClass =
        this.#via === 'websocket' ? (this.#options.WebSocket ?? (await findSocketClass())) : undefined;
      token = typeof this.#options.token === 'function' ? await inTime(this.#options.token) : this.#options.token;
      if (typeof this.#options.token === 'function' && !token)
        throw new Error('the token function gave nothing; a guest connects without one');
      if (this.#state.name !== 'connecting') return;
      socket =
        socketClass === undefined
          ? new StreamSocket(this.#url.replace(/^ws/, 'http'), { polls: this.#via === 'poll' })
          : new socketClass(this.#url, [LINE_SUBPROTOCOL]);
    } catch (error) {
      this.#badTokens += 1;
      this.#waitAndRetry(`no token could be had: ${(error as Error).message}`);
      return;
    }
    if (this.#state.name !== 'connecting') return;
    this.#refusal = undefined;
    this.#socket = socket;
    this.#heardAt = Date.now();
    this.#timer = setTimeout(() => this.#lost(socket, 'the service did not answer in time'), welcomeWithinMs);
    socket.onopen = () => this.#hello(token);
    socket.onmessage = (event: { data: unknown }) => this.#heard(socket, String(event.data));
    socket.onclose = (event: { code: number; reason: string }) => this.#ended(socket, event.code, event.reason);
    socket.onerror = () => {};
  }

  #hello(token: string | undefined): void {
    const id = this.#nextId++;
    const hello = {
      do: 'hello',
      id,
      ...(token === undefined ? {} : { token }),
      ...(this.#secret === undefined ? {} : { session: this.#session, secret: this.#secret }),
      ...(this.#inbox?.cursor === undefined ? {} : { inbox: this.#inbox.cursor }),
    };
    const { asked, wishes } = this.#wishesWithin(this.#helloBytes - utf8Bytes(JSON.stringify(hello)) - frameRoom);
    const isPartial = wishes.length < this.#stays.size;
    this.#pending.set(id, {
      request: {},
      repeatable: false,
      resolve: (reply) => this.#welcomed(reply as unknown as Welcome, asked),
      reject: (error) => {
        this.#refusal = error.problem;
      },
    });
    this.#transmit({ ...hello, ...(isPartial ? { partial: true } : {}), enter: wishes });
    this.#helloSent = true;
    if (this.#status !== undefined || this.#looking !== null)
      this.#transmit({ do: 'status', status: this.#status, looking: this.#looking });
    for (const user of this.#watched) this.#watchAgain(user);
    // What was under way when the last connection broke goes right behind.
    for (const [pendingId, { request, repeatable }] of this.#pending)
      if (repeatable) this.#transmit({ ...request, id: pendingId });
    this.outbox.opened();
  }

  /** What to enter with hello: as much as has room in the frame. The rest follows by requests of its own. */
  #wishesWithin(bytes: number): { asked: readonly Asked[]; wishes: readonly EnterWish[] } {
    const asked: Asked[] = [];
    const wishes: EnterWish[] = [];
    let room = bytes;
    for (const stay of this.#stays.values()) {
      const entries = stay.first;
      const wish = stay.wishFor(entries);
      room -= utf8Bytes(JSON.stringify(wish)) + 1;
      if (room < 0 || wishes.length >= helloWishes) break;
      asked.push({ stay, entries });
      wishes.push(wish);
    }
    return { asked, wishes };
  }

  /** After a reconnection: what has become of a watched user is told as a change. */
  #watchAgain(user: string): void {
    const id = this.#nextId++;
    this.#pending.set(id, {
      request: {},
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
    this.#limits = welcome.limits;
    this.#helloBytes = Math.min(welcome.limits.frameBytes, mostHelloBytes);
    this.#told.clear();
    this.outbox.opened();
    this.#watch(welcome.pulseMs);
    // From here on listeners are called, and any of them may close the line.
    if (this.#inbox !== undefined && welcome.inbox !== undefined) this.#fillInbox(this.#inbox, welcome.inbox);
    if (this.#unread !== undefined && welcome.guest !== true) this.#askUnread(this.#unread);
    if (this.#via !== 'websocket') this.#tryWebSocketLater(this.#socket as SocketLike);
    this.#setState({
      name: 'open',
      transport: this.#via,
      user: welcome.user,
      guest: welcome.guest === true,
      session: welcome.session,
      continued: welcome.continued,
      ...(welcome.name === undefined ? {} : { userName: welcome.name }),
    });
    for (const [index, entered] of welcome.entered.entries()) {
      const each = asked[index];
      if (each !== undefined) this.#entered(each.stay, each.entries, entered);
    }
    // What had no room in hello, and further entries of channels that were named there.
    const socket = this.#socket;
    const named = new Map(asked.map(({ stay, entries }) => [stay, entries]));
    for (const stay of [...this.#stays.values()]) {
      const known = named.get(stay);
      if (known === undefined) this.#sendEnter(stay, stay.first);
      const there = known ?? stay.first;
      for (const entry of stay.entries)
        if (socket === this.#socket && !there.includes(entry) && !entry.isAnswered) this.#joinOrEnter(entry);
    }
  }

  /**
   * A WebSocket on which nothing was ever heard may be blocked, opened or not, and a stream that shows nothing may be held
   * back: then the next way is tried at once. Where that fails too, the service is not there, and the first way comes next.
   */
  #goesAnotherWay(wasOpen: boolean, code: number, reason: string): boolean {
    const { transport = this.#options.WebSocket === undefined ? 'auto' : 'websocket' } = this.#options;
    if (transport !== 'auto') return false;
    if (this.#via === 'stream' && reason === heldBack) {
      this.#via = 'poll';
      return true;
    }
    // A service that closes with a code of its own was reached.
    if (wasOpen || code !== 1006) return false;
    if (this.#via === 'websocket' && !this.#webSocketWorks) {
      this.#via = 'stream';
      return true;
    }
    this.#via = 'websocket';
    return false;
  }

  /** Over HTTP: looks now and then whether a WebSocket gets through, and goes on with one. */
  #tryWebSocketLater(socket: SocketLike): void {
    if (this.#options.transport !== undefined && this.#options.transport !== 'auto') return;
    const waitMs = this.#tryAgainMs * (1 + Math.random() / 4);
    this.#tryAgainMs = Math.min(this.#tryAgainMs * 2, tryAgain.mostMs);
    clearTimeout(this.#trying);
    this.#trying = setTimeout(async () => {
      const socketClass = this.#options.WebSocket ?? (await findSocketClass().catch(() => undefined));
      if (socketClass === undefined || socket !== this.#socket) return;
      const trial = new socketClass(this.#url, [LINE_SUBPROTOCOL]);
      trial.onerror = () => {};
      trial.onclose = () => socket === this.#socket && this.#tryWebSocketLater(socket);
      trial.onopen = () => {
        trial.onclose = null;
        trial.close();
        if (socket !== this.#socket) return;
        this.#via = 'websocket';
        socket.close();
        this.#dropSocket();
        void this.#open();
      };
    }, waitMs);
    (this.#trying as { unref?(): void }).unref?.();
  }

  /** Sends pulses, and notices when nothing comes any more. */
  #watch(pulseMs: number): void {
    clearInterval(this.#pulse);
    clearTimeout(this.#deaf);
    const socket = this.#socket as SocketLike;
    this.#pulse = setInterval(() => this.#transmit({ do: 'pulse', got: this.#news() }), pulseMs / 2);
    const listen = (): void => {
      const leftMs = this.#heardAt + 2 * pulseMs - Date.now();
      if (leftMs <= 0) this.#lost(socket, 'nothing was heard from the service');
      else this.#deaf = setTimeout(listen, leftMs);
    };
    listen();
  }

  /** The cursors that have changed since the last pulse of this connection. Those without room follow in the next pulse. */
  #news(): Record<string, Cursor> {
    const news: Record<string, Cursor> = {};
    let room = this.#helloBytes / 2;
    let count = 0;
    for (const [channel, { cursor }] of this.#stays) {
      if (cursor === undefined || this.#told.get(channel) === cursor) continue;
      room -= channel.length + cursor.length + frameRoom / 8;
      count += 1;
      if (room < 0 || count > protocolLimits.gotCount) break;
      this.#told.set(channel, cursor);
      news[channel] = cursor;
    }
    return news;
  }

  /** Asks for an answer at once: a connection that gives none within a while is given up. */
  #probe(): void {
    const socket = this.#socket;
    if (socket === undefined || this.#state.name !== 'open' || this.#probing !== undefined) return;
    const sentAt = Date.now();
    this.#transmit({ do: 'pulse', id: this.#nextId++ });
    this.#probing = setTimeout(() => {
      this.#probing = undefined;
      if (this.#heardAt < sentAt) this.#lost(socket, 'the service did not answer');
    }, answerWithinMs);
  }

  /** Looks after an answer that is overdue. */
  #watchAnswers(): void {
    this.#overdue ??= setTimeout(() => {
      this.#overdue = undefined;
      if (this.#pending.size === 0 || this.#state.name !== 'open') return;
      if (Date.now() - this.#heardAt >= answerWithinMs) this.#probe();
      this.#watchAnswers();
    }, answerWithinMs);
  }

  /** Gives up a connection without waiting for its goodbye. */
  #lost(socket: SocketLike, reason: string): void {
    if (socket !== this.#socket) return;
    socket.close();
    this.#ended(socket, 1006, reason);
  }

  #ended(socket: SocketLike, code: number, reason: string): void {
    if (socket !== this.#socket || this.#state.name === 'closed') return;
    const wasOpen = this.#state.name === 'open';
    // Before it is known what the service takes, a hello may be too large.
    if (code === closeCodes.tooBig && !this.#isWelcomed)
      this.#helloBytes = Math.max(leastHelloBytes, this.#helloBytes / 2);
    this.#dropSocket();
    if (this.#goesAnotherWay(wasOpen, code, reason)) {
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
    clearTimeout(this.#trying);
    clearInterval(this.#pulse);
    clearTimeout(this.#deaf);
    clearTimeout(this.#overdue);
    clearTimeout(this.#probing);
    this.#overdue = undefined;
    this.#probing = undefined;
    for (const stay of this.#stays.values()) stay.interrupted();
    for (const [id, pending] of this.#pending) if (!pending.repeatable) this.#pending.delete(id);
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
  readonly #offline = (): void => this.#probe();

  #closeFor(reason: string, by: 'client' | 'service', refused?: Problem): void {
    const socket = this.#socket;
    this.#dropSocket();
    socket?.close(closeCodes.normal);
    const page = globalThis as unknown as Partial<Window>;
    page.removeEventListener?.('online', this.#online);
    page.removeEventListener?.('offline', this.#offline);
    this.#setState({ name: 'closed', reason, by, ...(refused === undefined ? {} : { problem: refused }) });
    const error = this.#closedError();
    for (const pending of this.#pending.values()) pending.reject(error);
    this.#pending.clear();
    this.outbox.close(error);
    for (const stay of this.#stays.values()) stay.end(error);
    this.#stays.clear();
    this.#refusedEntries.clear();
    this.#marking.close();
  }

  // ----------------------------------------------------------------------------------------------- hearing

  #heard(socket: SocketLike, text: string): void {
    if (socket !== this.#socket) return;
    this.#heardAt = Date.now();
    if (this.#via === 'websocket') this.#webSocketWorks = true;
    let frame: ServerFrame;
    try {
      frame = readServerFrame(text);
    } catch {
      this.#lost(socket, 'the service sent a frame that could not be read');
      return;
    }
    if (isReply(frame)) this.#reply(frame);
    else if (isPush(frame, 'message')) {
      const { on: _, ...message } = frame;
      this.#stays.get(frame.channel)?.take(message, true);
    } else if (isPush(frame, 'gap')) this.#stays.get(frame.channel)?.gap(frame);
    else if (isPush(frame, 'drain')) this.#moveOn(socket, frame.withinMs);
    else if (isPush(frame, 'expiring')) void this.#refresh(socket);
    else if (isPush(frame, 'notice')) this.#inbox?.noticed(frame);
    else if (isPush(frame, 'inbox')) this.#inbox?.wasDone(frame);
    else if (isPush(frame, 'unread')) this.#unread?.changed(frame.counts);
    else if (isPush(frame, 'marks')) this.#stays.get(frame.channel)?.marksChanged(frame);
    else if (isPush(frame, 'user')) {
      const { on: _, ...told } = frame;
      if (told.problem !== undefined) this.#watched.delete(told.user);
      this.emit('user', told);
    } else if (isPush(frame, 'members')) this.#stays.get(frame.channel)?.membersChanged(frame);
    else if (isPush(frame, 'hail')) {
      const { type, by, data } = frame;
      this.#stays.get(frame.channel)?.hailed({ type, ...(by && { by }), ...(data === undefined ? {} : { data }) });
    } else if (isPush(frame, 'removed')) this.#removed(frame);
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
    this.#moving = setTimeout(() => {
      if (socket !== this.#socket) return;
      socket.close(closeCodes.movingOn);
      this.#dropSocket();
      void this.#open();
    }, Math.random() * withinMs);
  }

  #removed({ channel, problem: refused, reason, by, until }: RemovedPush): void {
    const stay = this.#stays.get(channel);
    // A push that comes before the reply belongs to an earlier stay.
    if (stay?.entries.some(({ isAnswered }) => isAnswered) !== true) return;
    if (refused !== undefined) {
      this.#refused(stay, stay.entries, refused);
      return;
    }
    this.#stays.delete(channel);
    stay.removed({
      ...(reason === undefined ? {} : { reason }),
      ...(by === undefined ? {} : { by }),
      ...(until === undefined ? {} : { until }),
    });
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
    const { token } = this.#options;
    if (typeof token !== 'function') return;
    const fresh = await inTime(token);
    if (socket !== this.#socket || !this.#helloSent) return;
    await new Promise<void>((resolve, reject) =>
      this.#request(
        { do: 'refresh', token: fresh },
        {
          repeatable: false,
          resolve: (reply) => {
            this.#lose((reply as unknown as Refreshed).lost);
            resolve();
          },
          reject,
        },
      ),
    );
  }

  #lose(channels: readonly ChannelName[]): void {
    for (const channel of channels) {
      const stay = this.#stays.get(channel);
      const told = problem('not-allowed', 'the new token does not let you in');
      if (stay !== undefined) this.#refused(stay, stay.entries, told);
    }
  }

  #reply(frame: ReplyFrame): void {
    const pending = this.#pending.get(frame.re);
    if (pending === undefined) return;
    this.#pending.delete(frame.re);
    if (frame.problem === undefined) pending.resolve(frame);
    else pending.reject(LineError.from(frame.problem));
  }

  #entered(stay: Stay, asked: readonly Entry[], entered: Entered | EnterRefused): void {
    // Left, and perhaps entered anew, while the answer was on its way.
    if (this.#stays.get(stay.channel) !== stay) return;
    if ('problem' in entered) this.#refused(stay, asked, entered.problem);
    else if (stay.entered(entered, asked)) this.#sendEnter(stay, asked);
  }

  #refused(stay: Stay, asked: readonly Entry[], refused: Problem): void {
    if (isPassing(refused)) {
      for (const entry of asked) entry.wait(refused);
      const socket = this.#socket;
      setTimeout(() => {
        if (socket === this.#socket) this.#sendEnter(stay, asked);
      }, refused.retryAfterMs ?? 1000);
      return;
    }
    const isAll = asked.length >= stay.entries.length;
    if (isAll) {
      this.#stays.delete(stay.channel);
      stay.refuse(refused);
    } else for (const entry of asked) entry.refuse(refused);
    for (const entry of asked) {
      stay.delete(entry);
      this.#refusedEntries.add(entry);
    }
  }

  // ----------------------------------------------------------------------------------------------- telling

  #sendEnter(stay: Stay, asked: readonly Entry[]): void {
    const entries = asked.filter(({ isOver }) => !isOver);
    if (entries.length === 0 || this.#stays.get(stay.channel) !== stay) return;
    this.#request(
      { do: 'enter', ...stay.wishFor(entries) },
      {
        repeatable: false,
        resolve: (reply) => this.#entered(stay, entries, reply as unknown as Entered),
        reject: (error) => {
          if (error.problem !== undefined)
            this.#entered(stay, entries, { channel: stay.channel, problem: error.problem });
        },
      },
    );
  }

  #leave(entry: Entry): void {
    const { stay, channel } = entry;
    this.#refusedEntries.delete(entry);
    if (!stay.delete(entry) || this.#stays.get(channel) !== stay) return;
    this.#stays.delete(channel);
    if (this.#helloSent) this.#transmit({ do: 'leave', channel });
  }

  /** Asks for what may be asked twice: what has a key, only reads, or is the same when done again. */
  #ask<V extends 'read' | 'remove' | 'inbox' | 'watch' | 'mark'>(request: {
    readonly do: V;
    readonly [member: string]: unknown;
  }): Promise<ReplyOf[V]> {
    return new Promise((resolve, reject) =>
      this.#request(request, {
        repeatable: true,
        resolve: ({ re: _, ...reply }) => resolve(reply as unknown as ReplyOf[V]),
        reject,
      }),
    );
  }

  #request(request: Readonly<Record<string, unknown>>, how: Omit<Pending, 'request'>): void {
    const id = this.#nextId++;
    const text = JSON.stringify({ ...request, id });
    const most = this.#limits?.frameBytes;
    if (most !== undefined && text.length * 3 > most && utf8Bytes(text) > most) {
      // The service would end the whole connection for it (RFC 6455, close code 1009).
      how.reject(LineError.from(problem('too-large', `a frame to this service has at most ${most} bytes`)));
      return;
    }
    this.#pending.set(id, { request, ...how });
    this.#watchAnswers();
    if (this.#helloSent) this.#send(text);
  }

  #transmit(request: Readonly<Record<string, unknown>>): void {
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
    leave: (left) => this.#leave(left),
    isOwn: (message) => this.#isOwn(message),
    user: () => this.#user,
  };

  #rememberKey(key: string): void {
    this.#ownKeys.add(key);
    if (this.#ownKeys.size <= ownKeysMost) return;
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

/** Entries of a channel that one request is for. */
interface Asked {
  readonly stay: Stay;
  readonly entries: readonly Entry[];
}

function utf8Bytes(text: string): number {
  return new TextEncoder().encode(text).length;
}

/** What a token function gives; one that never does must not hold up the line for ever. */
function inTime(token: () => string | Promise<string>): Promise<string> {
  return new Promise((resolve, reject) => {
    const timer = setTimeout(
      () => reject(new Error(`the token function gave none within ${tokenWithinMs / 1000} s`)),
      tokenWithinMs,
    );
    Promise.resolve()
      .then(token)
      .then(resolve, reject)
      .finally(() => clearTimeout(timer));
  });
}

/** The problem whose code is the reason of a close. */
function closedFor(code: ProblemCode): Problem {
  if (code !== 'bad-origin') return problem(code);
  const { origin = 'this page' } = (globalThis as { location?: { origin?: string } }).location ?? {};
  return problem(code, `the service takes no pages of ${origin}: its operator lists origins in \`service.origins\``);
}

/** Refusals that another try would only meet again. */
function isLasting({ code }: Problem): boolean {
  return (
    code === 'no-guests' ||
    code === 'bad-origin' ||
    code === 'not-allowed' ||
    code === 'banned' ||
    code === 'bad-value' ||
    code === 'user-mismatch'
  );
}

function endingText(code: number, reason: string): string {
  if (reason === 'signed-out') return 'you were signed out';
  if (reason !== '') return reason;
  return code === 1006 || code === 1005 ? 'the connection broke' : `the connection was closed with code ${code}`;
}

/** `http(s)://host/base` or `ws(s)://...` to the address of the line. */
function lineUrl(url: string): string {
  const parsed = new URL(url, (globalThis as { location?: { href: string } }).location?.href);
  parsed.protocol = parsed.protocol.replace(/^http/, 'ws');
  parsed.pathname = `${parsed.pathname.replace(/\/$/, '')}${LINE_PATH}`;
  parsed.search = '';
  parsed.hash = '';
  return parsed.href;
}
