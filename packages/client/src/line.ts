import {
  type Accepted,
  type Block,
  type BlockKind,
  type Changed,
  type ChannelLevel,
  type Cursor,
  channelName,
  defined,
  type InvitationsReply,
  type Invited,
  type Json,
  type Level,
  type LineLimits,
  type Marked,
  type Message,
  type PendingMessage,
  type Published,
  type Removed,
  type Reported,
  type RevisionsReply,
  type SearchReply,
  type Silenced,
  type ThreadInfo,
  type Uninvited,
} from '@nine-bells/wire';
import type {
  AnyChannels,
  ChannelContract,
  ChannelContracts,
  ChannelOf,
  DataOf,
  DefaultType,
  HailType,
  Known,
} from './contracts.js';
import { Entry, type EntryLine, type ReadResultOf } from './entry.js';
import type { Inbox } from './inbox.js';
import { LineError } from './lineError.js';
import type { Outbox } from './outbox.js';
import type { RequestMembers } from './requests.js';
import { Session } from './session.js';
import { TypedTarget } from './typedTarget.js';
import type {
  CallOptions,
  EnterOptions,
  HailOptions,
  InviteOptions,
  LineEvents,
  LineOptions,
  LineState,
  MessageRef,
  PublishOptions,
  ReadOptions,
  RemoveOptions,
  ReviseOptions,
  RevisionsOptions,
  SearchOptions,
  SilenceOptions,
  ThreadsOptions,
  WithdrawOptions,
} from './types.js';
import type { Unread } from './unread.js';

/** The type of a channel's entry, by its contract. */
export type EntryOf<K extends ChannelContract> = Entry<K['board'], K>;

/**
 * A line to the service: one session over any number of connections.
 *
 * It connects at once, reconnects whenever the connection breaks, and continues where it was. Unacknowledged messages are sent
 * again with their keys, so no message is lost or duplicated.
 *
 * @example
 * const line = connect('https://bells.regatta.example', { token: () => fetchToken() });
 * line.addEventListener('state', ({ detail }) => showState(detail));
 */
export class Line<C extends ChannelContracts = AnyChannels> extends TypedTarget<LineEvents> {
  readonly #session: Session;

  /** @internal Made by `connect`. */
  constructor(url: string, options: LineOptions) {
    super();
    this.#session = new Session(url, options, (type, detail) => this.emit(type, detail));
  }

  /** Published messages that the service has not acknowledged yet. */
  get outbox(): Outbox {
    return this.#session.outbox;
  }

  get state(): LineState {
    return this.#session.connection.state;
  }

  /** Limits of the service for this line; `undefined` until the line was open once. */
  get limits(): LineLimits | undefined {
    return this.#session.connection.limits;
  }

  /**
   * Resolves when the line is open.
   *
   * @throws {LineError} if the line is closed; `token-invalid` after the token function has returned three bad tokens, or none,
   *   in a row (the line keeps trying)
   */
  opened(): Promise<void> {
    return new Promise((resolve, reject) => {
      const look = (): void => {
        if (this.state.name === 'open') resolve();
        else if (this.state.name === 'closed') reject(this.#session.connection.closedError());
        else if (this.state.name === 'waiting' && this.#session.connection.hasNoToken)
          reject(new LineError('token-invalid', this.state.reason));
        else return;
        this.removeEventListener('state', look);
      };
      this.addEventListener('state', look);
      look();
    });
  }

  /**
   * Enters a channel, in any state of the line. Listeners added in the same turn receive everything. Each call returns a
   * separate entry, so several parts of a page may enter the same channel, each with its own history.
   *
   * @throws {RangeError} for a malformed channel name
   */
  enter<const Name extends string>(
    channel: Name & Known<C, Name>,
    options?: EnterOptions<ChannelOf<C, Name>['status']>,
  ): EntryOf<ChannelOf<C, Name>>;
  /** Enters a channel of a service without contracts. `Value` is the type of the board's values. */
  enter<Value>(channel: string extends keyof C ? string : never, options?: EnterOptions): Entry<Value>;
  enter(channel: string, options: EnterOptions = {}): Entry {
    return this.#enter(channel, options);
  }

  #enter(channel: string, options: EnterOptions): Entry {
    const name = channelName(channel);
    const { entries, connection } = this.#session;
    const stay = entries.stayIn(name);
    // An entry checks its own types.
    const entry = new Entry(this as unknown as EntryLine, this.#session, stay, options);
    if (connection.state.name === 'closed') entry.end(connection.closedError());
    else entries.add(entry, stay);
    return entry;
  }

  /**
   * Enters a thread like a channel: its first message and the replies.
   *
   * @param of - a message of the thread, or the cursor of its first message
   * @example
   * const thread = line.thread('race/3/chat', message, { last: 50 });
   * thread.addEventListener('message', ({ detail }) => show(detail));
   * await thread.publish({ text: 'So did we.' }, { replyTo: message });
   */
  thread(channel: string, of: string | Pick<Message, 'cursor' | 'thread'>, options: EnterOptions = {}): Entry {
    return this.#enter(channel, { ...options, filter: { ...options.filter, thread: threadOf(of) } });
  }

  /**
   * Publishes a message, and resolves when the service has acknowledged it. While the line is not open or the service is
   * unavailable, the message waits in the outbox. It is sent with the same key until the service answers.
   *
   * @throws {LineError} `outbox-full`; `cancelled` by `signal`; `closed` if the line is closed first; or the code of the
   *   service's refusal
   */
  async publish<
    const Name extends string,
    Type extends ChannelOf<C, Name>['clients'] = DefaultType<ChannelOf<C, Name>['clients']>,
  >(
    channel: Name & Known<C, Name>,
    data: DataOf<ChannelOf<C, Name>, Type>,
    options: PublishOptions<Type> = {},
  ): Promise<Published> {
    const { connection, outbox } = this.#session;
    if (connection.state.name === 'closed') throw connection.closedError();
    const key = this.#session.ownKey(options.key);
    const { replyTo, ...others } = options;
    const about = replyTo === undefined ? {} : { replyTo: refMembers(replyTo).cursor };
    // A contract describes JSON.
    const members = { ...others, ...about, key };
    const published = await outbox.publish(channel, data as Json, members);
    const { id, cursor, repeated, entry, notMentioned, data: changed } = published;
    return { id, cursor, ...(repeated ? { repeated } : {}), ...defined({ entry, notMentioned, data: changed }) };
  }

  /**
   * Reads a channel's record: the last messages, or those before or after a cursor.
   *
   * @throws {LineError} `not-open` if the line is not open; `closed` if it is closed before the reply; or the code of the
   *   service's refusal
   */
  async read<const Name extends string>(
    channel: Name & Known<C, Name>,
    options: ReadOptions = {},
  ): Promise<ReadResultOf<ChannelOf<C, Name>>> {
    const reading = this.#session.openRequests.ask({ do: 'read', channel, ...options });
    // The service has checked the messages against the contract.
    return reading as Promise<ReadResultOf<ChannelOf<C, Name>>>;
  }

  /**
   * Replaces the content of a message. The request has a key: if the connection breaks, it is sent again and done once.
   *
   * @param of - the message, or its cursor
   * @throws {LineError} `not-allowed`, `no-such-message`, `withdrawn`; `conflict` if `ifRevision` does not hold; `bad-data`,
   *   `too-large` and other refusals; `closed` if the line is closed before the reply
   * @example
   * await line.revise('race/3/chat', message, { text: 'Petrel is ahead by a length!' });
   */
  revise<
    const Name extends string,
    Type extends ChannelOf<C, Name>['clients'] = DefaultType<ChannelOf<C, Name>['clients']>,
  >(
    channel: Name & Known<C, Name>,
    of: MessageRef,
    data: DataOf<ChannelOf<C, Name>, Type>,
    options: ReviseOptions = {},
  ): Promise<Changed> {
    return this.#change({ do: 'revise', channel, ...refMembers(of), data, ...options });
  }

  /**
   * Withdraws a message: its content is deleted everywhere, including the record. Otherwise like `revise`.
   *
   * @example
   * await line.withdraw('race/3/chat', message, { reason: 'wrong race' });
   */
  withdraw(channel: string, of: MessageRef, options: WithdrawOptions = {}): Promise<Changed> {
    return this.#change({ do: 'withdraw', channel, ...refMembers(of), ...options });
  }

  async #change(request: RequestMembers & { readonly do: 'revise' | 'withdraw' }): Promise<Changed> {
    const { id, cursor, repeated, data } = await this.#session.requests.ask({ key: crypto.randomUUID(), ...request });
    return { id, cursor, ...(repeated ? { repeated } : {}), ...defined({ data }) };
  }

  /** Returns earlier contents of a message, if the rule keeps them and lets you read them. Throws like `read`. */
  async revisions(channel: string, of: MessageRef, options: RevisionsOptions = {}): Promise<RevisionsReply> {
    const { cursor } = refMembers(of);
    return this.#session.openRequests.ask({ do: 'revisions', channel, cursor, ...options });
  }

  /**
   * Ends a user's stay in a channel, if you may moderate there. Throws like `read`.
   *
   * @example
   * await line.remove('protest/7', 'ines', { reason: 'interrupting', banMs: 600_000 });
   */
  async remove(channel: string, user: string, options: RemoveOptions = {}): Promise<Removed> {
    return this.#session.openRequests.ask({ do: 'remove', channel, user, ...options });
  }

  /**
   * Silences a user in a channel, if you may moderate there: they can read, but not write. Throws like `read`.
   *
   * @example
   * await line.silence('race/3/chat', 'pia', { reason: 'shouting', forMs: 600_000 });
   */
  async silence(channel: string, user: string, options: SilenceOptions = {}): Promise<Silenced> {
    return this.#session.openRequests.ask({ do: 'silence', channel, user, ...options });
  }

  /**
   * Reports a message to the moderators. Reporting it again has no effect. Throws like `read`.
   *
   * @example
   * await line.report('race/3/chat', message.cursor, 'an insult');
   */
  async report(channel: string, cursor: string, reason?: string): Promise<Reported> {
    return this.#session.openRequests.ask({ do: 'report', channel, cursor, ...defined({ reason }) });
  }

  /**
   * Creates an invitation into a channel, if you may invite there. Its code admits users. Throws like `read`.
   *
   * @example
   * const { code } = await line.invite('protest/7', { role: 'witness', uses: 2 });
   * show(`https://regatta.example/hearing#invitation=${code}`); // behind `#`, no server sees it
   */
  async invite(channel: string, options: InviteOptions = {}): Promise<Invited> {
    // Never sent twice: the first invitation would count, and its code would be lost.
    return this.#session.openRequests.askOnce({ do: 'invite', channel, ...options });
  }

  /**
   * Accepts an invitation, and enters refused channels again. If the connection breaks, the request waits for the next one.
   *
   * @throws {LineError} `no-such-invitation`, `invitation-over`, `rate-limited` and other refusals
   */
  async accept(code: string): Promise<Accepted> {
    const accepted = await this.#session.requests.ask({ do: 'accept', code });
    this.#session.entries.retryRefused();
    return accepted;
  }

  /** Lists the invitations into a channel, latest first, without their codes. Throws like `read`. */
  async invitations(channel: string, options: { after?: string; limit?: number } = {}): Promise<InvitationsReply> {
    return this.#session.openRequests.ask({ do: 'invitations', channel, ...options });
  }

  /** Ends an invitation; with `admitted`, also the admissions of users who have accepted it. Throws like `read`. */
  async uninvite(channel: string, invitation: string, options: { admitted?: boolean } = {}): Promise<Uninvited> {
    return this.#session.openRequests.ask({ do: 'uninvite', channel, invitation, ...options });
  }

  /**
   * Enters the direct channel with other users. It is the same channel for all of them, no matter who enters first. Throws
   * like `read`, and `not-allowed` if the service has no direct channels. The entry tells whether you may begin the channel.
   */
  direct(users: readonly string[], options: EnterOptions = {}): Entry {
    return this.#enter(this.#session.directWith(users), options);
  }

  /** The user's notices. Guests have none. */
  inbox(): Inbox {
    return this.#session.inbox();
  }

  /**
   * Returns a user's status (`null`: not connected), and reports changes by the event `user` from now on. Throws as
   * `read` does.
   */
  async watch(user: string): Promise<Json> {
    const { status } = await this.#session.openRequests.ask({ do: 'watch', user });
    this.#session.watches(user);
    return status;
  }

  unwatch(user: string): void {
    this.#session.unwatch(user);
  }

  /**
   * Searches messages, best match first: in the channels that you have entered or read, or in `options.in`. A message matches if
   * it contains all words. `"two words"` matches a phrase, `sail*` a prefix; `-word` excludes a word.
   *
   * @throws {LineError} `bad-value`, `not-allowed` in a channel that you name, `rate-limited`, and others as `read`
   */
  async search(words: string, options?: SearchOptions): Promise<SearchReply> {
    return this.#session.openRequests.ask({ do: 'search', words, ...options });
  }

  /**
   * Lists your pending and rejected messages, oldest first: in a channel, or in all. Throws like
   * `read`.
   */
  async pending(channel?: string): Promise<readonly PendingMessage[]> {
    const { pending } = await this.#session.openRequests.ask({ do: 'pending', ...defined({ channel }) });
    return pending;
  }

  /**
   * Takes back a pending message of yours.
   *
   * @param id - from `pending`, or from the problem of `publish` (`problem.pending`)
   * @throws {LineError} `bad-value` if it is no longer pending
   */
  async takeBack(id: string): Promise<PendingMessage> {
    // Never sent twice: the first request may have taken effect.
    return this.#session.openRequests.askOnce({ do: 'take-back', pending: id });
  }

  /** Returns the user's notification levels by channel name. Throws like `read`. */
  async levels(): Promise<ReadonlyMap<string, ChannelLevel>> {
    const { levels } = await this.#session.openRequests.ask({ do: 'levels' });
    return new Map(levels.map((each) => [each.channel, each]));
  }

  /**
   * Sets the user's notification level for a channel, on all their devices (event `level`); `null` resets it. If the connection
   * breaks, the request waits for the next one.
   *
   * @param options - `forMs`: duration, in milliseconds; absent = unlimited
   * @throws {LineError} `too-many-levels`, `no-such-channel`, `not-allowed` for guests, and other refusals
   */
  async setLevel(channel: string, level: Level | null, options?: { forMs?: number }): Promise<void> {
    await this.#session.requests.ask({ do: 'level', channel, level, ...options });
  }

  /** The user's blocks and mutes, by user id. The event `blocks` reports changes, also from other devices. Guests have none. */
  get blocks(): ReadonlyMap<string, Block> {
    return this.#session.blocks;
  }

  /**
   * Blocks a user on all your devices: their messages in channels, direct messages and notices no longer arrive. `muted` affects
   * channels only. The user is not told. If the connection breaks, the request waits for the next one.
   *
   * @throws {LineError} `too-many-blocks`, `not-allowed` for guests, and other refusals
   */
  async block(user: string, as?: BlockKind): Promise<void> {
    const { blocks } = await this.#session.requests.ask({ do: 'block', user, ...defined({ as }) });
    this.#session.blocked(blocks);
  }

  /** Ends a block or mute. Reading a channel returns the messages from the meantime. Throws like `block`. */
  async unblock(user: string): Promise<void> {
    const { blocks } = await this.#session.requests.ask({ do: 'unblock', user });
    this.#session.blocked(blocks);
  }

  /** Returns unread counts by channel. Guests have none. */
  unread(): Unread {
    return this.#session.unread();
  }

  /**
   * Lists the user's threads with unread counts. With `follow`, the event `threads` reports changes from now on. Throws like `read`.
   */
  async threads(options: ThreadsOptions = {}): Promise<readonly ThreadInfo[]> {
    const { threads } = await this.#session.openRequests.ask({ do: 'threads', ...options });
    if (options.follow) this.#session.followThreads();
    return threads;
  }

  /**
   * Marks a thread as read up to a cursor; `null` leaves the thread. Otherwise like `mark`.
   *
   * @param of - a message of the thread, or the cursor of its first message
   */
  async markThread(
    channel: string,
    of: string | Pick<Message, 'cursor' | 'thread'>,
    cursor: string | null,
  ): Promise<Marked> {
    return this.#session.requests.ask({ do: 'mark', channel, thread: threadOf(of), cursor });
  }

  /**
   * Marks a kept channel as read up to a cursor, on all the user's devices; `null` removes the mark, which ends unread counts for
   * the channel. If the connection breaks, the request waits for the next one.
   *
   * @throws {LineError} the code of the service's refusal; `closed` if the line is closed before the reply
   */
  mark(channel: string, cursor: string | null): Promise<Marked> {
    return this.#session.mark(channel, cursor);
  }

  /**
   * Calls the application, by a name in `calls` of the configuration, and resolves with its answer. If the connection breaks, the
   * call is sent again with the same key, so it is done once.
   *
   * @throws {LineError} `call-refused` with the application's reason in `problem.refusal`, `call-failed`, `not-allowed`,
   *   or another code of the service's refusal; `closed` if the line is closed before the reply
   * @example
   * const { number } = await line.call<{ number: number }>('declare-turn', { reason: 'touched the mark' });
   */
  async call<Answer extends Json = Json>(name: string, data?: Json, options: CallOptions = {}): Promise<Answer> {
    const { channel, key = crypto.randomUUID() } = options;
    const reply = await this.#session.requests.ask({ do: 'call', name, channel, data, key });
    // The application defines its answer.
    return (reply.data ?? null) as Answer;
  }

  /** Sends an ephemeral message to the members of a channel. It is lost while the line is not open. */
  hail<const Name extends string, Type extends HailType<ChannelOf<C, Name>>>(
    channel: Name & Known<C, Name>,
    type: Type,
    data?: ChannelOf<C, Name>['hails'][Type],
    options: HailOptions = {},
  ): void {
    this.#session.transmitIfOpen({ do: 'hail', channel, type, data, to: options.to });
  }

  /** Sets your status in all channels, also after a reconnection: `available`, `busy`, `away`, or an object. */
  setStatus(status: Json): void {
    this.#session.setStatus(status);
  }

  /** Tells which channel is in view, or `null` for none. Notices may depend on it. */
  setLooking(channel: string | null): void {
    this.#session.setLooking(channel);
  }

  /**
   * Requests a new token from the token function, sends it, and enters refused channels again. Call it when the user's rights
   * have changed. While the line is not open, the next connection does this.
   *
   * @throws {LineError} if the service refuses the token, or the line is closed
   */
  async refresh(): Promise<void> {
    const { connection, entries } = this.#session;
    if (connection.state.name === 'closed') throw connection.closedError();
    await connection.refresh();
    entries.retryRefused();
  }

  /** Reconnects now, while the line is waiting. */
  retryNow(): void {
    this.#session.connection.retryNow();
  }

  /** Closes the line permanently. All entries end. */
  close(): void {
    this.#session.connection.close();
  }
}

/** Returns the members of a request that name a message. */
function refMembers(of: MessageRef): { readonly cursor: string; readonly message?: string } {
  return typeof of === 'string' ? { cursor: of } : { cursor: of.cursor, message: of.id };
}

/** Returns the cursor of a thread's first message. */
function threadOf(of: string | Pick<Message, 'cursor' | 'thread'>): Cursor {
  return (typeof of === 'string' ? of : (of.thread ?? of.cursor)) as Cursor;
}
