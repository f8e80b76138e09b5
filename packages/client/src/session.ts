import {
  type Block,
  type ChannelName,
  type Cursor,
  defined,
  directSegment,
  type InboxReply,
  isPush,
  type Json,
  type Marked,
  type Message,
  type Problem,
  type Published,
  problem,
  type ServerFrame,
  type SetResult,
  type Welcome,
} from '@nine-bells/wire';
import { BoardSets } from './boardSets.js';
import { Connection, type ConnectionHost } from './connection.js';
import { Entries } from './entries.js';
import type { Entry, EntryHost } from './entry.js';
import { Inbox, type InboxHost } from './inbox.js';
import { LineError } from './lineError.js';
import { Marking } from './marking.js';
import { isPassing, Outbox, type OutboxHost } from './outbox.js';
import type { RequestMembers, Requests } from './requests.js';
import type { LineEvents, LineOptions, LineState, SetOptions } from './types.js';
import { Unread } from './unread.js';
import type { Asked, Wishes } from './wishes.js';

/** Keys of the session's own publishes that are remembered to recognise their echo. */
const maxOwnKeys = 10_000;

/** Emits an event of the line. */
export type Tell = <K extends keyof LineEvents>(type: K, detail: LineEvents[K]) => void;

/** State of a line over all its connections: channels, outbox, inbox, marks and watched users. */
export class Session implements ConnectionHost, EntryHost, OutboxHost, InboxHost {
  readonly connection: Connection;
  readonly entries: Entries;
  readonly outbox: Outbox;
  readonly #tell: Tell;
  readonly #marking = new Marking((channel, cursor) => this.#sendMark(channel, cursor));
  readonly #sets = new BoardSets({
    board: (channel) => this.entries.get(channel as ChannelName)?.board,
    isLive: (channel) => this.entries.get(channel as ChannelName)?.head !== undefined,
    send: (request, awaited) => this.connection.requests.send(request, awaited),
  });
  readonly #watched = new Set<string>();
  readonly #ownKeys = new Set<string>();
  #inbox: Inbox | undefined;
  #blocks: ReadonlyMap<string, Block> = new Map();
  #unread: Unread | undefined;
  /** True if the service sends changes of threads. */
  #followsThreads = false;
  /** Prefix of the names of direct channels, if the service has any. */
  #direct: string | undefined;
  #status: Json | undefined;
  #looking: string | null = null;
  #userId: string | undefined;

  constructor(url: string, options: LineOptions, tell: Tell) {
    this.#tell = tell;
    this.connection = new Connection(url, options, this);
    this.entries = new Entries(
      this.connection,
      (channel) => this.#sets.entered(channel),
      (channel, error) => this.#sets.ended(channel, error),
    );
    this.outbox = new Outbox(this, options.outbox);
    this.connection.begin();
  }

  /** Your own user id, once the line was open. */
  user(): string | undefined {
    return this.#userId;
  }

  /** Requests, which wait for the next connection if there is none. Throws if the line is closed. */
  get requests(): Requests {
    const { connection } = this;
    if (connection.state.name === 'closed') throw connection.closedError();
    return connection.requests;
  }

  /** Requests on the current connection. Throws if the line is not open. */
  get openRequests(): Requests {
    this.#mustBeOpen();
    return this.connection.requests;
  }

  // -------------------------------------------------------------------------------------------------- messages

  /** Returns the key of a message that is published here, to recognize the message when it arrives. */
  ownKey(key: string = crypto.randomUUID()): string {
    this.#ownKeys.add(key);
    if (this.#ownKeys.size > maxOwnKeys) this.#ownKeys.delete(this.#ownKeys.values().next().value as string);
    return key;
  }

  /** Tells whether a message was published here. */
  isOwn({ key }: Message): boolean {
    return key !== undefined && this.#ownKeys.has(key);
  }

  leave(entry: Entry): void {
    this.entries.leave(entry);
  }

  /** Sets an entry of the board of a channel that was entered; `null` removes it. */
  setEntry(channel: string, entry: string, value: Json, options: SetOptions = {}): Promise<SetResult> {
    if (this.connection.state.name === 'closed') return Promise.reject(this.connection.closedError());
    return this.#sets.set(channel, entry, value, options);
  }

  /** The name of the direct channel with other users. */
  directWith(users: readonly string[]): string {
    const { user } = this.#mustBeOpen();
    if (this.#direct === undefined) throw LineError.from(problem('not-allowed', 'this service has no direct channels'));
    return `${this.#direct}${directSegment([user, ...users])}`;
  }

  // -------------------------------------------------------------------------------------------- status of users

  /** @param channel - where it is said; absent: everywhere, also after the next reconnection */
  setStatus(status: Json, channel?: string): void {
    if (channel === undefined) this.#status = status;
    this.transmitIfOpen({ do: 'status', status, channel });
  }

  setLooking(channel: string | null): void {
    this.#looking = channel;
    this.transmitIfOpen({ do: 'status', looking: channel });
  }

  /** Reports changes of a user's status, also after the next reconnection. */
  watches(user: string): void {
    this.#watched.add(user);
  }

  unwatch(user: string): void {
    this.#watched.delete(user);
    this.transmitIfOpen({ do: 'unwatch', user });
  }

  /** After a reconnection: reports each watched user whose status has changed meanwhile. */
  #watchAgain(user: string): void {
    const { requests, socket } = this.connection;
    const id = requests.expect('watch', {
      repeatable: false,
      resolve: ({ status }) => this.#tell('user', { user, status }),
      reject: (error) => {
        if (isPassing(error)) {
          const again = (): void => {
            if (socket === this.connection.socket && this.#watched.has(user)) this.#watchAgain(user);
          };
          setTimeout(again, error.problem?.retryAfterMs ?? 1_000);
          return;
        }
        this.#watched.delete(user);
        if (error.problem !== undefined) this.#tell('user', { user, status: null, problem: error.problem });
      },
    });
    this.connection.transmit({ do: 'watch', id, user });
  }

  // ------------------------------------------------------------------------------------------ notices and marks

  inbox(): Inbox {
    if (this.#inbox === undefined) {
      this.#inbox = new Inbox(this);
      if (this.#isSignedIn) this.#fillInbox(this.#inbox, { notices: [], more: false, unread: 0, cursor: '' as Cursor });
    }
    return this.#inbox;
  }

  ask(wish: { after?: Cursor; limit?: number; done?: readonly string[] | true }): Promise<InboxReply> {
    return this.connection.requests.ask({ do: 'inbox', ...wish });
  }

  #fillInbox(inbox: Inbox, reply: InboxReply): void {
    // A broken connection: the next one asks again.
    inbox.welcomed(reply).catch((error: unknown) => this.#tellProblemOf(error));
  }

  get blocks(): ReadonlyMap<string, Block> {
    return this.#blocks;
  }

  /** Applies the user's list of blocks. */
  blocked(blocks: readonly Block[]): void {
    const before = JSON.stringify([...this.#blocks.values()]);
    this.#blocks = new Map(blocks.map((each) => [each.user, each]));
    if (JSON.stringify(blocks) !== before) this.#tell('blocks', { blocks: this.#blocks });
  }

  unread(): Unread {
    if (this.#unread === undefined) {
      this.#unread = new Unread();
      if (this.#isSignedIn) this.#askUnread(this.#unread);
    }
    return this.#unread;
  }

  #askUnread(unread: Unread): void {
    this.connection.requests.send(
      { do: 'unread' },
      {
        repeatable: false,
        resolve: ({ counts }) => unread.loaded(counts),
        reject: (error) => this.#tellProblemOf(error),
      },
    );
  }

  /** Fetches missed changes of threads after a reconnection. */
  #followThreads(): void {
    this.connection.requests.send(
      { do: 'threads', follow: true },
      {
        repeatable: false,
        resolve: ({ threads }) => this.#tell('threads', { threads, left: [] }),
        reject: (error) => this.#tellProblemOf(error),
      },
    );
  }

  /** Moves a mark at once, or takes it away. */
  async mark(channel: string, cursor: string | null): Promise<Marked> {
    if (cursor === null) this.#marking.forget(channel);
    const marked = await this.requests.ask({ do: 'mark', channel, cursor });
    if (marked.cursor === undefined) this.#unread?.forgotten(channel);
    else this.#unread?.changed({ [channel]: marked.unread });
    return marked;
  }

  /** Reports changes of the user's threads as events from now on. */
  followThreads(): void {
    this.#followsThreads = true;
  }

  /** Moves a mark while messages are being read. */
  markAlong(channel: string, cursor: Cursor): void {
    this.#marking.move(channel, cursor);
  }

  #sendMark(channel: string, cursor: Cursor): void {
    this.mark(channel, cursor).catch((error: unknown) => this.#tellProblemOf(error));
  }

  // --------------------------------------------------------------------------------------- called by the outbox

  ready(): boolean {
    // The service closes the connection for a frame above its limits, so they must be known.
    return this.connection.helloSent && this.connection.limits !== undefined;
  }

  send(request: RequestMembers & { readonly do: 'publish' }, answered: (answer: Published | LineError) => void): void {
    this.connection.requests.send(request, { repeatable: false, resolve: answered, reject: answered });
  }

  // ----------------------------------------------------------------------------------- called by the connection

  helloMembers(): RequestMembers {
    return defined({ inbox: this.#inbox?.cursor });
  }

  wishesWithin(bytes: number): Wishes {
    return this.entries.wishesWithin(bytes);
  }

  news(bytes: number): Readonly<Record<string, Cursor>> {
    return this.entries.news(bytes);
  }

  greeted(): void {
    const { connection } = this;
    if (this.#status !== undefined || this.#looking !== null)
      connection.transmit({ do: 'status', status: this.#status, looking: this.#looking });
    for (const user of this.#watched) this.#watchAgain(user);
    connection.requests.resend();
    this.outbox.opened();
  }

  welcomed(welcome: Welcome): void {
    this.#userId = welcome.user;
    this.#direct = welcome.direct;
    this.blocked(welcome.blocks ?? []);
    this.outbox.opened();
    if (this.#inbox !== undefined && welcome.inbox !== undefined) this.#fillInbox(this.#inbox, welcome.inbox);
    if (this.#unread !== undefined && welcome.guest !== true) this.#askUnread(this.#unread);
    if (this.#followsThreads) this.#followThreads();
  }

  entered(asked: readonly Asked[], entered: Welcome['entered']): void {
    this.entries.welcomed(asked, entered);
  }

  revoked(lost: Parameters<Entries['lose']>[0]): void {
    this.entries.lose(lost);
  }

  pushed(frame: ServerFrame): void {
    if (isPush(frame, 'message')) {
      const { on: _, ...message } = frame;
      this.entries.get(frame.channel)?.take(message, true);
    } else if (isPush(frame, 'change')) this.entries.get(frame.channel)?.changed(frame.message, frame.cursor);
    else if (isPush(frame, 'reactions')) this.entries.get(frame.channel)?.reactionsChanged(frame);
    else if (isPush(frame, 'gap')) this.entries.get(frame.channel)?.gap(frame);
    else if (isPush(frame, 'passed')) this.entries.get(frame.channel)?.passed(frame.cursor);
    else if (isPush(frame, 'notice')) this.#inbox?.noticed(frame);
    else if (isPush(frame, 'inbox')) this.#inbox?.wasDone(frame);
    else if (isPush(frame, 'blocks')) this.blocked(frame.blocks);
    else if (isPush(frame, 'level')) {
      const { on: _, ...level } = frame;
      this.#tell('level', level);
    } else if (isPush(frame, 'threads')) {
      const { on: _, ...news } = frame;
      this.#tell('threads', news);
    } else if (isPush(frame, 'pending')) {
      const { on: _, ...pending } = frame;
      this.#tell('pending', pending);
    } else if (isPush(frame, 'unread')) this.#unread?.changed(frame.counts);
    else if (isPush(frame, 'marks')) this.entries.get(frame.channel)?.marksChanged(frame);
    else if (isPush(frame, 'board')) this.entries.boardChanged(frame);
    else if (isPush(frame, 'user')) {
      const { on: _, ...told } = frame;
      if (told.problem !== undefined) this.#watched.delete(told.user);
      this.#tell('user', told);
    } else if (isPush(frame, 'members')) this.entries.get(frame.channel)?.membersChanged(frame);
    else if (isPush(frame, 'hail')) {
      const { type, by, data } = frame;
      this.entries.get(frame.channel)?.hailed({ type, ...(by && { by }), ...defined({ data }) });
    } else if (isPush(frame, 'removed')) this.entries.removed(frame);
    else if (isPush(frame, 'silenced')) {
      const { on: _, ...change } = frame;
      this.#tell('silenced', change);
      this.entries.silenced(change);
    }
  }

  problem(told: Problem): void {
    this.#tell('problem', told);
  }

  stateChanged(state: LineState): void {
    this.#tell('state', state);
  }

  interrupted(): void {
    this.entries.interrupted();
    this.outbox.interrupted();
  }

  closed(error: LineError): void {
    this.outbox.close(error);
    this.entries.close(error);
    this.#marking.close();
    this.#sets.ended(undefined, error);
  }

  // --------------------------------------------------------------------------------------------------- details

  get #isSignedIn(): boolean {
    const { state } = this.connection;
    return state.name === 'open' && !state.guest;
  }

  #mustBeOpen(): Extract<LineState, { name: 'open' }> {
    const { state } = this.connection;
    if (state.name !== 'open') throw this.connection.notOpen();
    return state;
  }

  /** Sends a request without a reply. It is lost while the line is not open. */
  transmitIfOpen(request: RequestMembers): void {
    if (this.connection.state.name === 'open') this.connection.transmit(request);
  }

  #tellProblemOf(error: unknown): void {
    if (error instanceof LineError && error.problem !== undefined) this.#tell('problem', error.problem);
  }
}
