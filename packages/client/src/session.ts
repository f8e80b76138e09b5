import {
  type Accepted,
  type Block,
  type BlockKind,
  type Changed,
  type ChannelLevel,
  type ChannelName,
  type Cursor,
  defined,
  directSegment,
  type InboxReply,
  type InvitationsReply,
  type Invited,
  isPush,
  type Json,
  type Level,
  type Marked,
  type Message,
  type PendingMessage,
  type Problem,
  type Published,
  problem,
  type ReactorsReply,
  type ReactResult,
  type ReadResult,
  type Removed,
  type Reported,
  type RevisionsReply,
  type SearchReply,
  type ServerFrame,
  type SetResult,
  type Silenced,
  type ThreadInfo,
  type Uninvited,
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
import type { RequestMembers } from './requests.js';
import type {
  CallOptions,
  HailOptions,
  InviteOptions,
  LineEvents,
  LineOptions,
  LineState,
  MessageRef,
  PublishOptions,
  ReactorsOptions,
  ReadOptions,
  RemoveOptions,
  ReviseOptions,
  RevisionsOptions,
  SearchOptions,
  SetOptions,
  SilenceOptions,
  ThreadsOptions,
  WithdrawOptions,
} from './types.js';
import { Unread } from './unread.js';
import type { Asked, Wishes } from './wishes.js';

/** Keys of the session's own publishes that are remembered to recognise their echo. */
const maxOwnKeys = 10_000;

/** How a session tells of its events. */
export type Tell = <K extends keyof LineEvents>(type: K, detail: LineEvents[K]) => void;

/** What a line does, over one connection after another: its channels, outbox, inbox, marks and watched users. */
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
  /** Whether the service sends changes of threads. */
  #followsThreads = false;
  /** What the names of direct channels begin with, where there are some. */
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

  // -------------------------------------------------------------------------------------------------- messages

  async publish(channel: string, data: Json, options: PublishOptions = {}): Promise<Published> {
    if (this.connection.state.name === 'closed') throw this.connection.closedError();
    const key = options.key ?? crypto.randomUUID();
    this.#rememberKey(key);
    const { replyTo, ...others } = options;
    const about = replyTo === undefined ? {} : { replyTo: refMembers(replyTo).cursor };
    const {
      id,
      cursor,
      repeated,
      entry,
      notMentioned,
      data: changed,
    } = await this.outbox.publish(channel, data, {
      ...others,
      ...about,
      key,
    });
    return { id, cursor, ...(repeated ? { repeated } : {}), ...defined({ entry, notMentioned, data: changed }) };
  }

  /** Whether a message was published here. */
  isOwn({ key }: Message): boolean {
    return key !== undefined && this.#ownKeys.has(key);
  }

  async read(channel: string, options: ReadOptions = {}): Promise<ReadResult> {
    this.#mustBeOpen();
    return this.connection.requests.ask({ do: 'read', channel, ...options });
  }

  revise(channel: string, of: MessageRef, data: Json, options: ReviseOptions = {}): Promise<Changed> {
    return this.#change({ do: 'revise', channel, ...refMembers(of), data, ...options });
  }

  withdraw(channel: string, of: MessageRef, options: WithdrawOptions = {}): Promise<Changed> {
    return this.#change({ do: 'withdraw', channel, ...refMembers(of), ...options });
  }

  async #change(request: RequestMembers & { readonly do: 'revise' | 'withdraw' }): Promise<Changed> {
    if (this.connection.state.name === 'closed') throw this.connection.closedError();
    const { id, cursor, repeated, data } = await this.connection.requests.ask({ key: crypto.randomUUID(), ...request });
    return { id, cursor, ...(repeated ? { repeated } : {}), ...defined({ data }) };
  }

  async react(channel: string, of: MessageRef, word: string, on: boolean): Promise<ReactResult> {
    if (this.connection.state.name === 'closed') throw this.connection.closedError();
    const { cursor } = refMembers(of);
    return this.connection.requests.ask({ do: 'react', channel, cursor, word, ...(on ? {} : { on }) });
  }

  async reactors(channel: string, of: MessageRef, options: ReactorsOptions = {}): Promise<ReactorsReply> {
    this.#mustBeOpen();
    const { cursor } = refMembers(of);
    return this.connection.requests.ask({ do: 'reactors', channel, cursor, ...options });
  }

  async revisions(channel: string, of: MessageRef, options: RevisionsOptions = {}): Promise<RevisionsReply> {
    this.#mustBeOpen();
    const { cursor } = refMembers(of);
    return this.connection.requests.ask({ do: 'revisions', channel, cursor, ...options });
  }

  async remove(channel: string, user: string, options: RemoveOptions = {}): Promise<Removed> {
    this.#mustBeOpen();
    return this.connection.requests.ask({ do: 'remove', channel, user, ...options });
  }

  async silence(channel: string, user: string, options: SilenceOptions = {}): Promise<Silenced> {
    this.#mustBeOpen();
    return this.connection.requests.ask({ do: 'silence', channel, user, ...options });
  }

  async report(channel: string, cursor: string, reason?: string): Promise<Reported> {
    this.#mustBeOpen();
    return this.connection.requests.ask({ do: 'report', channel, cursor, ...defined({ reason }) });
  }

  async invite(channel: string, options: InviteOptions = {}): Promise<Invited> {
    this.#mustBeOpen();
    // Not again after a broken connection: the code of the first one would be lost, and its place taken.
    return new Promise((resolve, reject) =>
      this.connection.requests.send({ do: 'invite', channel, ...options }, { repeatable: false, resolve, reject }),
    );
  }

  async accept(code: string): Promise<Accepted> {
    const accepted = await this.connection.requests.ask({ do: 'accept', code });
    this.entries.retryRefused();
    return accepted;
  }

  async invitations(channel: string, options: { after?: string; limit?: number } = {}): Promise<InvitationsReply> {
    this.#mustBeOpen();
    return this.connection.requests.ask({ do: 'invitations', channel, ...options });
  }

  async uninvite(channel: string, invitation: string, options: { admitted?: boolean } = {}): Promise<Uninvited> {
    this.#mustBeOpen();
    return this.connection.requests.ask({ do: 'uninvite', channel, invitation, ...options });
  }

  leave(entry: Entry): void {
    this.entries.leave(entry);
  }

  call<Answer extends Json>(name: string, data: Json | undefined, { channel, key }: CallOptions): Promise<Answer> {
    const { connection } = this;
    if (connection.state.name === 'closed') return Promise.reject(connection.closedError());
    const request = { do: 'call', name, channel, data, key: key ?? crypto.randomUUID() } as const;
    return new Promise((resolve, reject) =>
      connection.requests.send(request, {
        repeatable: true,
        // What the application answers is for the caller to know.
        resolve: (reply) => resolve((reply.data ?? null) as Answer),
        reject,
      }),
    );
  }

  hail(channel: string, type: string, data?: Json, { to }: HailOptions = {}): void {
    this.#transmitIfOpen({ do: 'hail', channel, type, data, to });
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

  #rememberKey(key: string): void {
    this.#ownKeys.add(key);
    if (this.#ownKeys.size <= maxOwnKeys) return;
    for (const oldest of this.#ownKeys) {
      this.#ownKeys.delete(oldest);
      break;
    }
  }

  // -------------------------------------------------------------------------------------------- status of users

  /** @param channel - where it is said; absent: everywhere, also after the next reconnection */
  setStatus(status: Json, channel?: string): void {
    if (channel === undefined) this.#status = status;
    this.#transmitIfOpen({ do: 'status', status, channel });
  }

  setLooking(channel: string | null): void {
    this.#looking = channel;
    this.#transmitIfOpen({ do: 'status', looking: channel });
  }

  async watch(user: string): Promise<Json> {
    this.#mustBeOpen();
    const { status } = await this.connection.requests.ask({ do: 'watch', user });
    this.#watched.add(user);
    return status;
  }

  unwatch(user: string): void {
    this.#watched.delete(user);
    this.#transmitIfOpen({ do: 'unwatch', user });
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

  async block(user: string, as?: BlockKind): Promise<void> {
    this.#blocked((await this.connection.requests.ask({ do: 'block', user, ...defined({ as }) })).blocks);
  }

  async unblock(user: string): Promise<void> {
    this.#blocked((await this.connection.requests.ask({ do: 'unblock', user })).blocks);
  }

  async search(words: string, options: SearchOptions = {}): Promise<SearchReply> {
    this.#mustBeOpen();
    return this.connection.requests.ask({ do: 'search', words, ...options });
  }

  async pending(channel?: string): Promise<readonly PendingMessage[]> {
    this.#mustBeOpen();
    return (await this.connection.requests.ask({ do: 'pending', ...defined({ channel }) })).pending;
  }

  async takeBack(pending: string): Promise<PendingMessage> {
    this.#mustBeOpen();
    // Not repeated after a broken connection: the first request may have taken effect.
    return new Promise((resolve, reject) =>
      this.connection.requests.send({ do: 'take-back', pending }, { repeatable: false, resolve, reject }),
    );
  }

  async levels(): Promise<ReadonlyMap<string, ChannelLevel>> {
    this.#mustBeOpen();
    const { levels } = await this.connection.requests.ask({ do: 'levels' });
    return new Map(levels.map((each) => [each.channel, each]));
  }

  async setLevel(channel: string, level: Level | null, { forMs }: { forMs?: number } = {}): Promise<void> {
    await this.connection.requests.ask({ do: 'level', channel, level, ...defined({ forMs }) });
  }

  #blocked(blocks: readonly Block[]): void {
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

  /** After a reconnection: fetches what has changed in the meantime. */
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
    const marked = await this.connection.requests.ask({ do: 'mark', channel, cursor });
    if (marked.cursor === undefined) this.#unread?.forgotten(channel);
    else this.#unread?.changed({ [channel]: marked.unread });
    return marked;
  }

  async threads(options: ThreadsOptions): Promise<readonly ThreadInfo[]> {
    this.#mustBeOpen();
    const { threads } = await this.connection.requests.ask({ do: 'threads', ...options });
    if (options.follow) this.#followsThreads = true;
    return threads;
  }

  markThread(channel: string, thread: Cursor, cursor: string | null): Promise<Marked> {
    return this.connection.requests.ask({ do: 'mark', channel, thread, cursor });
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
    // Without knowing what the service takes, one frame too large would end each connection anew.
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
    this.#blocked(welcome.blocks ?? []);
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
    else if (isPush(frame, 'blocks')) this.#blocked(frame.blocks);
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

  #transmitIfOpen(request: RequestMembers): void {
    if (this.connection.state.name === 'open') this.connection.transmit(request);
  }

  #tellProblemOf(error: unknown): void {
    if (error instanceof LineError && error.problem !== undefined) this.#tell('problem', error.problem);
  }
}

/** How requests name a message. */
function refMembers(of: MessageRef): { readonly cursor: string; readonly message?: string } {
  return typeof of === 'string' ? { cursor: of } : { cursor: of.cursor, message: of.id };
}
