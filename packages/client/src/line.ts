import {
  type Accepted,
  type Block,
  type BlockKind,
  type Changed,
  type ChannelLevel,
  type Cursor,
  channelName,
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
import { Entry, type ReadResultOf } from './entry.js';
import type { Inbox } from './inbox.js';
import { LineError } from './lineError.js';
import type { Outbox } from './outbox.js';
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

/** An entry of a channel by its contract. */
export type EntryOf<K extends ChannelContract> = Entry<K['board'], K>;

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
export class Line<C extends ChannelContracts = AnyChannels> extends TypedTarget<LineEvents> {
  readonly #session: Session;

  /** @internal Made by `connect`. */
  constructor(url: string, options: LineOptions) {
    super();
    this.#session = new Session(url, options, (type, detail) => this.emit(type, detail));
  }

  /** Messages that were published and not acknowledged yet. */
  get outbox(): Outbox {
    return this.#session.outbox;
  }

  get state(): LineState {
    return this.#session.connection.state;
  }

  /** Limits of the service for this line; known after it was open once. */
  get limits(): LineLimits | undefined {
    return this.#session.connection.limits;
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
   * Enters a channel. May be called in any state; add listeners in the same turn and they miss nothing. Each call gives an
   * entry of its own: several parts of a page may enter the same channel, each with the history that it wants.
   *
   * @throws {RangeError} if the name cannot be a channel's
   */
  enter<const Name extends string>(
    channel: Name & Known<C, Name>,
    options?: EnterOptions<ChannelOf<C, Name>['status']>,
  ): EntryOf<ChannelOf<C, Name>>;
  /** As above, of a service without contracts, with the type of the board's values said by the caller. */
  enter<Value>(channel: string extends keyof C ? string : never, options?: EnterOptions): Entry<Value>;
  enter(channel: string, options: EnterOptions = {}): Entry {
    return this.#enter(channel, options);
  }

  #enter(channel: string, options: EnterOptions): Entry {
    const name = channelName(channel);
    const { entries, connection } = this.#session;
    const stay = entries.stayIn(name);
    const entry = new Entry(this.#session, stay, options);
    if (connection.state.name === 'closed') entry.end(connection.closedError());
    else entries.add(entry, stay);
    return entry;
  }

  /**
   * Enters a thread as a channel of its own: the message with which it begins, and its replies.
   *
   * @param of - a message of the thread, or the cursor of its first one
   * @example
   * const thread = line.thread('race/3/chat', message, { last: 50 });
   * thread.addEventListener('message', ({ detail }) => show(detail));
   * await thread.publish({ text: 'So did we.' }, { replyTo: message });
   */
  thread(channel: string, of: string | Pick<Message, 'cursor' | 'thread'>, options: EnterOptions = {}): Entry {
    return this.#enter(channel, { ...options, filter: { ...options.filter, thread: threadOf(of) } });
  }

  /**
   * Publishes, and resolves when the service has acknowledged it. While the line is not open, or the service cannot take
   * it, the message waits in the outbox; it is sent again with its key until there is an answer.
   *
   * @throws {LineError} `outbox-full`; `cancelled` by `signal`; `closed` if the line was closed before the answer; or the
   *   code of the service's refusal
   */
  publish<
    const Name extends string,
    Type extends ChannelOf<C, Name>['clients'] = DefaultType<ChannelOf<C, Name>['clients']>,
  >(
    channel: Name & Known<C, Name>,
    data: DataOf<ChannelOf<C, Name>, Type>,
    options: PublishOptions<Type> = {},
  ): Promise<Published> {
    // What a contract describes is JSON.
    return this.#session.publish(channel, data as Json, options);
  }

  /**
   * Reads in a channel's record: the last messages, those before or those after a cursor.
   *
   * @throws {LineError} `not-open` if the line is not open now, `closed` if it was closed before the answer, or the
   *   code of the service's refusal
   */
  read<const Name extends string>(
    channel: Name & Known<C, Name>,
    options: ReadOptions = {},
  ): Promise<ReadResultOf<ChannelOf<C, Name>>> {
    // The service has held what it has against the contract.
    return this.#session.read(channel, options) as Promise<ReadResultOf<ChannelOf<C, Name>>>;
  }

  /**
   * Replaces what a message holds. Over a broken connection it is sent again, with a key, and done once.
   *
   * @param of - the message, or its cursor
   * @throws {LineError} `not-allowed`, `no-such-message`, `withdrawn`; `conflict` if `ifRevision` does not hold; `bad-data`,
   *   `too-large` and other refusals; `closed` if the line is closed before the answer
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
    return this.#session.revise(channel, of, data as Json, options);
  }

  /**
   * Takes a message back: what it held is gone, for everyone and in the record. Otherwise as `revise`.
   *
   * @example
   * await line.withdraw('race/3/chat', message, { reason: 'wrong race' });
   */
  withdraw(channel: string, of: MessageRef, options: WithdrawOptions = {}): Promise<Changed> {
    return this.#session.withdraw(channel, of, options);
  }

  /** Returns earlier contents of a message, if the rule keeps them and lets you read them. Throws like `read`. */
  revisions(channel: string, of: MessageRef, options: RevisionsOptions = {}): Promise<RevisionsReply> {
    return this.#session.revisions(channel, of, options);
  }

  /**
   * Ends a user's stay in a channel, if you may moderate there. Throws as `read` does.
   *
   * @example
   * await line.remove('protest/7', 'ines', { reason: 'interrupting', banMs: 600_000 });
   */
  remove(channel: string, user: string, options: RemoveOptions = {}): Promise<Removed> {
    return this.#session.remove(channel, user, options);
  }

  /**
   * Lets a user read and not write in a channel, if you may moderate there. Throws as `read` does.
   *
   * @example
   * await line.silence('race/3/chat', 'pia', { reason: 'shouting', forMs: 600_000 });
   */
  silence(channel: string, user: string, options: SilenceOptions = {}): Promise<Silenced> {
    return this.#session.silence(channel, user, options);
  }

  /**
   * Reports a message to the moderators; a user reports each message once. Throws as `read` does.
   *
   * @example
   * await line.report('race/3/chat', message.cursor, 'an insult');
   */
  report(channel: string, cursor: string, reason?: string): Promise<Reported> {
    return this.#session.report(channel, cursor, reason);
  }

  /**
   * Makes an invitation into a channel, if you may invite there; its code lets users in. Throws as `read` does.
   *
   * @example
   * const { code } = await line.invite('protest/7', { role: 'witness', uses: 2 });
   * show(`https://regatta.example/hearing#invitation=${code}`); // behind `#`, no server sees it
   */
  invite(channel: string, options: InviteOptions = {}): Promise<Invited> {
    return this.#session.invite(channel, options);
  }

  /**
   * Accepts an invitation, and enters again what was refused. If the connection breaks, it waits for the next one.
   *
   * @throws {LineError} `no-such-invitation`, `invitation-over`, `rate-limited` and other refusals
   */
  accept(code: string): Promise<Accepted> {
    return this.#session.accept(code);
  }

  /** The invitations into a channel, the latest first, without their codes. Throws as `read` does. */
  invitations(channel: string, options: { after?: string; limit?: number } = {}): Promise<InvitationsReply> {
    return this.#session.invitations(channel, options);
  }

  /** Ends an invitation; with `admitted`, those who have accepted it are no longer let in. Throws as `read` does. */
  uninvite(channel: string, invitation: string, options: { admitted?: boolean } = {}): Promise<Uninvited> {
    return this.#session.uninvite(channel, invitation, options);
  }

  /**
   * Enters the direct channel with other users: the same for all of them, whichever of them begins. Throws as `read`
   * does, and `not-allowed` where there are no direct channels; the entry says whether you may begin it.
   */
  direct(users: readonly string[], options: EnterOptions = {}): Entry {
    return this.#enter(this.#session.directWith(users), options);
  }

  /** The user's notices. Guests have none. */
  inbox(): Inbox {
    return this.#session.inbox();
  }

  /**
   * Tells of a user's status from now on, by the event `user`, and gives it as it is; `null`: not connected. Throws as
   * `read` does.
   */
  watch(user: string): Promise<Json> {
    return this.#session.watch(user);
  }

  unwatch(user: string): void {
    this.#session.unwatch(user);
  }

  /**
   * Finds messages by their words, the best first: in the channels that you have entered or read, or in those that you name.
   * All words must be there; `"these words"` stand together, `sail*` begins so, `-word` is not there.
   *
   * @throws {LineError} `bad-value`, `not-allowed` in a channel that you name, `rate-limited`, and others as `read`
   */
  search(words: string, options?: SearchOptions): Promise<SearchReply> {
    return this.#session.search(words, options);
  }

  /**
   * Lists your messages that wait for a moderator or were refused, oldest first: of a channel, or of all. Throws as `read`
   * does.
   */
  pending(channel?: string): Promise<readonly PendingMessage[]> {
    return this.#session.pending(channel);
  }

  /**
   * Takes back a message of yours that waits for a moderator.
   *
   * @param id - from `pending`, or from the problem of `publish` (`problem.pending`)
   * @throws {LineError} `bad-value` if it no longer waits
   */
  takeBack(id: string): Promise<PendingMessage> {
    return this.#session.takeBack(id);
  }

  /** Returns the user's notification levels by channel name. Throws like `read`. */
  levels(): Promise<ReadonlyMap<string, ChannelLevel>> {
    return this.#session.levels();
  }

  /**
   * Says how much the user wants to hear of a channel, on all its devices (event `level`): `everything`, `mentions` or
   * `nothing`; `null`: as if nothing were said. If the connection breaks, it waits for the next one.
   *
   * @param options - `forMs`: for how long, in milliseconds
   * @throws {LineError} `too-many-levels`, `no-such-channel`, `not-allowed` for guests, and other refusals
   */
  setLevel(channel: string, level: Level | null, options?: { forMs?: number }): Promise<void> {
    return this.#session.setLevel(channel, level, options);
  }

  /** Whom the user keeps away, by user id: changed on another device, too (event `blocks`). Guests have none. */
  get blocks(): ReadonlyMap<string, Block> {
    return this.#session.blocks;
  }

  /**
   * Keeps a user away from now on, on all your devices: nothing of what it says in channels arrives, nor in direct talk, nor
   * by notices. With `muted` only in channels. The user is not told. If the connection breaks, it waits for the next one.
   *
   * @throws {LineError} `too-many-blocks`, `not-allowed` for guests, and other refusals
   */
  block(user: string, as?: BlockKind): Promise<void> {
    return this.#session.block(user, as);
  }

  /** Ends a block or mute. Messages from the meantime are there when you read. Throws like `block`. */
  unblock(user: string): Promise<void> {
    return this.#session.unblock(user);
  }

  /** Returns unread counts by channel. Guests have none. */
  unread(): Unread {
    return this.#session.unread();
  }

  /**
   * Lists the threads in which the user takes part, with unread counts. With `follow`, the event `threads` reports later
   * changes. Throws as `read` does.
   */
  threads(options: ThreadsOptions = {}): Promise<readonly ThreadInfo[]> {
    return this.#session.threads(options);
  }

  /**
   * Marks a thread as read up to a place; with `null` the user no longer takes part in it. Otherwise as `mark`.
   *
   * @param of - a message of the thread, or the cursor of its first one
   */
  markThread(channel: string, of: string | Pick<Message, 'cursor' | 'thread'>, cursor: string | null): Promise<Marked> {
    return this.#session.markThread(channel, threadOf(of), cursor);
  }

  /**
   * Marks a kept channel as read up to a place, on all the user's devices; with `null` takes the mark away, so that what
   * comes there is no longer counted. If the connection breaks, it waits for the next one.
   *
   * @throws {LineError} if it is refused, or the line is closed for good before that
   */
  mark(channel: string, cursor: string | null): Promise<Marked> {
    return this.#session.mark(channel, cursor);
  }

  /**
   * Asks the application, by a name of the configuration's `calls`, and resolves with its answer. If the connection breaks, it
   * is asked again on the next one: with the same key, so that it is done once.
   *
   * @throws {LineError} `call-refused` with the application's own words in `problem.refusal`, `call-failed`, `not-allowed`,
   *   or another code of the service's refusal; `closed` if the line was closed before the answer
   * @example
   * const { number } = await line.call<{ number: number }>('declare-turn', { reason: 'touched the mark' });
   */
  call<Answer extends Json = Json>(name: string, data?: Json, options: CallOptions = {}): Promise<Answer> {
    return this.#session.call(name, data, options);
  }

  /** A short-lived word to those who are in a channel. While the line is not open, it is lost. */
  hail<const Name extends string, Type extends HailType<ChannelOf<C, Name>>>(
    channel: Name & Known<C, Name>,
    type: Type,
    data?: ChannelOf<C, Name>['hails'][Type],
    options: HailOptions = {},
  ): void {
    this.#session.hail(channel, type, data as Json | undefined, options);
  }

  /** Sets your status in all channels, also after the next reconnection: `available`, `busy`, `away`, or an object. */
  setStatus(status: Json): void {
    this.#session.setStatus(status);
  }

  /** Says which channel is in view, or none. Notices may depend on it. */
  setLooking(channel: string | null): void {
    this.#session.setLooking(channel);
  }

  /**
   * Asks the token function for a new token and hands it over now, and enters again what was refused: for when the user has
   * got more rights. While the line is not open, the next connection does so.
   *
   * @throws {LineError} if the service refuses the token, or the line is closed
   */
  async refresh(): Promise<void> {
    const { connection, entries } = this.#session;
    if (connection.state.name === 'closed') throw connection.closedError();
    await connection.refresh();
    entries.retryRefused();
  }

  /** While waiting: tries again now. */
  retryNow(): void {
    this.#session.connection.retryNow();
  }

  /** Closes the line permanently. All entries end. */
  close(): void {
    this.#session.connection.close();
  }
}

/** The cursor of the first message of a thread. */
function threadOf(of: string | Pick<Message, 'cursor' | 'thread'>): Cursor {
  return (typeof of === 'string' ? of : (of.thread ?? of.cursor)) as Cursor;
}
