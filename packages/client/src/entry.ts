import {
  type Block,
  type Changed,
  type ChannelName,
  type Cursor,
  defined,
  filterFits,
  formatCursor,
  type Gap,
  type Json,
  type Member,
  type Message,
  type Problem,
  type Published,
  parseCursor,
  type ReactorsReply,
  type ReadResult,
  type Removed,
  type RevisionsReply,
  type SetResult,
} from '@nine-bells/wire';
import type { Board } from './board.js';
import type { AnyChannel, ChannelContract, DataOf, DefaultType, HailType, MessageOf } from './contracts.js';
import { isAfter } from './cursors.js';
import { EarlyEvents } from './earlyEvents.js';
import { LineError } from './lineError.js';
import { MessageQueue } from './messageQueue.js';
import type { MessageReactions, ReactionsShown } from './reactionsShown.js';
import type { Requests } from './requests.js';
import { TypedTarget } from './typedTarget.js';
import type {
  EnterOptions,
  HailOptions,
  MembersChange,
  MessageRef,
  PublishOptions,
  ReactorsOptions,
  ReadOptions,
  ReceivedChange,
  ReceivedHail,
  ReceivedMessage,
  Removal,
  RemoveOptions,
  ReviseOptions,
  RevisionsOptions,
  SetOptions,
  SilenceChange,
  WithdrawOptions,
} from './types.js';

export interface EntryEvents<K extends ChannelContract = AnyChannel> {
  /** A message, in the channel's order. Each message is reported once. */
  message: ReceivedMessage<K>;
  /**
   * The current state of a message that was revised or withdrawn, under its own cursor. Each change is reported once; of several
   * missed changes of a message, only the last.
   */
  change: ReceivedChange<K>;
  /** Reactions to these messages (cursors) have changed; `entry.reactions` has the current ones. */
  reactions: { readonly cursors: readonly string[] };
  /** Some messages are lost: no longer in the record, or too many to hold before the first listener was added (`unheard`). */
  gap: EntryGap;
  /** All earlier messages were reported; from now on, messages are live. Fires again after each reconnection. */
  live: { readonly cursor: Cursor };
  /** The service refuses access, or has revoked it. */
  refused: Problem;
  /** The service cannot decide on access now. The entry retries. */
  waiting: Problem;
  /** A moderator has ended your stay. */
  removed: Removal;
  /** A moderator has silenced you here, or has ended the silence. */
  silenced: SilenceChange;
  /** The members have changed; `entry.members` is the current list. */
  members: MembersChange;
  /** An ephemeral message of another member. */
  hail: ReceivedHail<K>;
  /** Read marks of other users have moved, in channels that show them; `entry.marks` has the current ones. */
  marks: { readonly users: readonly string[] };
}

/** A gap in the messages of an entry. */
export type EntryGap = Omit<Gap, 'why'> & { readonly why: Gap['why'] | 'unheard' };

/** Messages that were read. */
export type ReadResultOf<K extends ChannelContract> = Omit<ReadResult, 'messages' | 'changes'> & {
  readonly messages: readonly MessageOf<K>[];
  readonly changes?: readonly MessageOf<K>[];
};

export type EntryState = 'entering' | 'live' | 'refused' | 'removed' | 'left';

/** State shared by the entries of a channel. */
export interface SharedStay {
  readonly channel: ChannelName;
  /** Status of the user in the channel. */
  status: Json | undefined;
  readonly members: readonly Member[];
  readonly count: number;
  readonly isCrowd: boolean;
  readonly marks: ReadonlyMap<string, Cursor>;
  readonly board: Board;
  readonly reactions: ReactionsShown;
}

/** The line of an entry, without the types of its channels. */
export interface EntryLine {
  readonly blocks: ReadonlyMap<string, Block>;
  publish(channel: string, data: Json, options?: PublishOptions): Promise<Published>;
  read(channel: string, options?: ReadOptions): Promise<ReadResult>;
  revise(channel: string, of: MessageRef, data: Json, options?: ReviseOptions): Promise<Changed>;
  withdraw(channel: string, of: MessageRef, options?: WithdrawOptions): Promise<Changed>;
  revisions(channel: string, of: MessageRef, options?: RevisionsOptions): Promise<RevisionsReply>;
  remove(channel: string, user: string, options?: RemoveOptions): Promise<Removed>;
  hail(channel: string, type: string, data?: Json, options?: HailOptions): void;
}

/** The session of an entry. */
export interface EntryHost {
  /** Requests, which wait for the next connection if there is none. */
  readonly requests: Requests;
  /** Requests on the current connection. */
  readonly openRequests: Requests;
  setStatus(status: Json, channel?: string): void;
  setEntry(channel: string, entry: string, value: Json, options?: SetOptions): Promise<SetResult>;
  markAlong(channel: string, cursor: Cursor): void;
  leave(entry: Entry): void;
  isOwn(message: Message): boolean;
  /** Your own user id, once the line was open. */
  user(): string | undefined;
}

/**
 * An entered channel: its messages as DOM events or by `for await`, until `leave`.
 *
 * After each reconnection it continues behind the last reported message. Each call of `line.enter` returns a separate entry with
 * its own history and end. Entries of one channel share their connection to it, so the service sends each message once.
 *
 * @example
 * const chat = line.enter('race/3/chat', { last: 50 });
 * chat.addEventListener('message', ({ detail }) => show(detail));
 * await chat.publish({ text: 'Petrel is ahead!' });
 */
export class Entry<Value = Json, K extends ChannelContract = AnyChannel>
  extends TypedTarget<EntryEvents<K>>
  implements AsyncIterable<ReceivedMessage<K>>
{
  readonly channel: ChannelName;
  readonly #line: EntryLine;
  readonly #host: EntryHost;
  readonly #readers = new Set<MessageQueue<ReceivedMessage<K>>>();
  #stay: SharedStay;
  #state: EntryState = 'entering';
  #cursor: Cursor | undefined;
  #hasEarlier: boolean | undefined;
  /** Messages, changes and gaps that wait for the first listener or `for await`. */
  #early: EarlyEvents<GivenEvent<K>> | undefined = new EarlyEvents();
  /** Place before the first reported message. */
  #start: Cursor | undefined;
  /** Changes that were already read and whose places lie ahead. */
  readonly #revised = new Map<Cursor, Cursor>();
  #isAnswered = false;
  /** True once the service has sent the members. */
  #knowsMembers = false;
  #ready!: Promise<void>;
  #resolveReady!: () => void;
  #rejectReady!: (error: LineError) => void;
  /** @internal As given to `Line.enter`. */
  readonly options: EnterOptions;

  /** @internal Made by `Line.enter`. */
  constructor(line: EntryLine, host: EntryHost, stay: SharedStay, options: EnterOptions) {
    super();
    this.#line = line;
    this.#host = host;
    this.#stay = stay;
    this.channel = stay.channel;
    this.options = options;
    this.#cursor = options.after as Cursor | undefined;
    this.#begin();
  }

  #begin(): void {
    this.#ready = new Promise((resolve, reject) => {
      this.#resolveReady = resolve;
      this.#rejectReady = reject;
    });
    // Callers that do not wait for it get the event `refused`.
    this.#ready.catch(() => {});
  }

  /** Resolves when the entry is live for the first time; rejects with a `LineError` if access is refused. */
  get ready(): Promise<void> {
    return this.#ready;
  }

  get state(): EntryState {
    return this.#state;
  }

  /** Cursor of the last reported message, to continue from on another line. */
  get cursor(): Cursor | undefined {
    return this.#cursor;
  }

  /**
   * True if the channel has, or had, messages before the first reported one; `undefined` until that is known. Read them with
   * `entry.read({ before })`.
   */
  get hasEarlier(): boolean | undefined {
    return this.#hasEarlier;
  }

  /** Your own user id, once the line was open. */
  get user(): string | undefined {
    return this.#host.user();
  }

  /** Members, in channels that show them; a sample if `isCrowd`. The same array until it changes. */
  get members(): readonly Member[] {
    return this.#stay.members;
  }

  /** Number of members. */
  get count(): number {
    return this.#stay.count;
  }

  /** True in a crowd: `members` is a sample. */
  get isCrowd(): boolean {
    return this.#stay.isCrowd;
  }

  /** Sets your status in this channel: `available`, `busy`, `away`, or an object. */
  setStatus(status: K['status']): void {
    // Contracts describe JSON.
    this.#stay.status = status as Json;
    this.#host.setStatus(status as Json, this.channel);
  }

  /** Sends an ephemeral message to all members or to some users. It may be lost, and is never stored. */
  hail<Type extends HailType<K>>(type: Type, data?: K['hails'][Type], options?: HailOptions): void {
    if (!this.isOver) this.#line.hail(this.channel, type, data as Json | undefined, options);
  }

  /**
   * Marks the channel as read up to a cursor, by default the last reported message, on all the user's devices. Call it for each
   * message you show: at most one mark a second is sent. Marks only move forward.
   */
  mark(cursor: string | undefined = this.#cursor): void {
    if (cursor !== undefined && !this.isOver) this.#host.markAlong(this.channel, cursor as Cursor);
  }

  /** Read marks by user id, in channels that show them. */
  get marks(): ReadonlyMap<string, Cursor> {
    return this.#stay.marks;
  }

  /** The channel's board: the current value of each entry. The same object until you leave. */
  get board(): Board<Value> {
    // The application defines the values.
    return this.#stay.board as unknown as Board<Value>;
  }

  /**
   * Sets an entry of the board; `null` removes it. `board` shows the value at once. Calls are throttled: an entry is sent at most
   * 20 times a second, and only its latest value, also after a broken connection.
   *
   * Resolves when the service has stored this value or a later one of yours.
   *
   * @throws {LineError} `conflict` if `ifVersion` does not match (`problem.stands` has the current entry); `not-allowed`,
   *   `too-large`, `board-full` and other refusals; `left` after `leave`
   */
  async set(entry: string, value: Value | null, options: SetOptions = {}): Promise<SetResult> {
    if (this.#state === 'left') throw hasLeft();
    return this.#host.setEntry(this.channel, entry, value as Json, options);
  }

  /** Returns the other users who have read a message, in channels that show read marks. */
  readBy(cursor: string): readonly string[] {
    return [...this.marks]
      .filter(([user, mark]) => user !== this.user && !isAfter(cursor as Cursor, mark))
      .map(([user]) => user);
  }

  /**
   * Publishes to this channel, like `Line.publish`.
   *
   * @throws {LineError} `left` after `leave`
   */
  async publish<Type extends K['clients'] = DefaultType<K['clients']>>(
    data: DataOf<K, Type>,
    options?: PublishOptions<Type>,
  ): Promise<Published> {
    if (this.#state === 'left') throw hasLeft();
    return this.#line.publish(this.channel, data as Json, options);
  }

  /**
   * Replaces the content of a message. All members get the event `change`. The request has a key: if the connection breaks, it is
   * sent again and done once.
   *
   * @param of - the message, or its cursor
   * @throws {LineError} `not-allowed`, `no-such-message`, `withdrawn`; `conflict` if `ifRevision` does not hold; `bad-data`,
   *   `too-large` and other refusals; `left` after `leave`
   * @example
   * await chat.revise(message, { text: 'Petrel is ahead by a length!' });
   */
  async revise<Type extends K['clients'] = DefaultType<K['clients']>>(
    of: MessageRef,
    data: DataOf<K, Type>,
    options?: ReviseOptions,
  ): Promise<Changed> {
    if (this.#state === 'left') throw hasLeft();
    return this.#line.revise(this.channel, of, data as Json, options);
  }

  /** Withdraws a message: its content is deleted everywhere, including the record. Otherwise like `revise`. */
  async withdraw(of: MessageRef, options?: WithdrawOptions): Promise<Changed> {
    if (this.#state === 'left') throw hasLeft();
    return this.#line.withdraw(this.channel, of, options);
  }

  /** Returns earlier contents of a message, if the rule keeps them and lets you read them. Throws like `read`. */
  revisions(of: MessageRef, options?: RevisionsOptions): Promise<RevisionsReply> {
    return this.#line.revisions(this.channel, of, options);
  }

  /** Reactions by the cursors of messages, in channels with reactions. Omits messages without any. */
  get reactions(): ReadonlyMap<string, MessageReactions> {
    return this.#stay.reactions.all;
  }

  /**
   * Reacts to a message with a short word or an emoji; `on: false` removes the reaction. Idempotent.
   *
   * @throws {LineError} `not-allowed`, `no-such-message`, `withdrawn`, `too-many-reactions` and other refusals; `left`
   * @example
   * await chat.react(message, '⛵');
   */
  async react(of: MessageRef, word: string, on = true): Promise<void> {
    if (this.#state === 'left') throw hasLeft();
    const cursor = typeof of === 'string' ? of : of.cursor;
    const { channel } = this;
    const { counts } = await this.#host.requests.ask({ do: 'react', channel, cursor, word, ...(on ? {} : { on }) });
    this.#stay.reactions.reacted(cursor, word, on, counts);
    this.emit('reactions', { cursors: [cursor] });
  }

  /** Lists reactions to a message by word, then by user. */
  async reactors(of: MessageRef, options?: ReactorsOptions): Promise<ReactorsReply> {
    const cursor = typeof of === 'string' ? of : of.cursor;
    return this.#host.openRequests.ask({ do: 'reactors', channel: this.channel, cursor, ...options });
  }

  /** Reads this channel's record, like `Line.read`. */
  read(options?: ReadOptions): Promise<ReadResultOf<K>> {
    // The service has checked the messages against the contract.
    const reading = this.#line.read(this.channel, options) as Promise<ReadResultOf<K>>;
    return reading.then((result) => {
      if (result.reactions !== undefined) this.reactionsChanged(this.#stay.reactions.load(result.reactions));
      return result;
    });
  }

  /** Ends a user's stay in this channel, like `Line.remove`. */
  remove(user: string, options?: RemoveOptions): Promise<Removed> {
    return this.#line.remove(this.channel, user, options);
  }

  /** Leaves the channel, and ends every `for await` over this entry. Other entries of the channel stay. */
  leave(): void {
    if (this.#state === 'left') return;
    // The types of its messages do not matter here.
    this.#host.leave(this as unknown as Entry);
    this.#early = undefined;
    this.end(hasLeft());
  }

  /**
   * Iterates over the messages from now on; the first `for await` or listener also gets those since `enter`. Messages that are
   * not read yet wait in memory.
   */
  [Symbol.asyncIterator](): AsyncIterableIterator<ReceivedMessage<K>> {
    const queue: MessageQueue<ReceivedMessage<K>> = new MessageQueue(() => this.#readers.delete(queue));
    this.#readers.add(queue);
    this.#giveEarly();
    if (this.isOver) {
      this.#readers.delete(queue);
      queue.end();
    }
    return queue;
  }

  /** Adds a listener. The first one for messages, changes or gaps also gets the earlier ones, after the current turn. */
  protected override listened(type: string): void {
    if (this.#early === undefined || (type !== 'message' && type !== 'change' && type !== 'gap')) return;
    if (this.#early.isEmpty) this.#early = undefined;
    else queueMicrotask(() => this.#giveEarly());
  }

  #giveEarly(): void {
    const early = this.#early;
    this.#early = undefined;
    if (early === undefined) return;
    const { all } = early;
    const [after, cursor, { channel }] = [this.#start, this.#cursor, this];
    if (all !== undefined) for (const each of all) this.#give(each);
    else if (after !== undefined && cursor !== undefined)
      this.#give({ type: 'gap', detail: { channel, after, cursor, why: 'unheard' } });
  }

  /** Passes an event to listeners and readers, or holds it until there is one. */
  #give(event: GivenEvent<K>): void {
    if (this.#early !== undefined) {
      this.#early.add(event);
      return;
    }
    this.emit(event.type, event.detail as never);
    if (event.type === 'message') for (const reader of this.#readers) reader.push(event.detail);
  }

  // ------------------------------------------------------------------------------------ called by the line

  /** @internal Sets the state shared with other entries of the channel. */
  get stay(): SharedStay {
    return this.#stay;
  }

  /** @internal True once the entry has ended. */
  get isOver(): boolean {
    return this.#state === 'left' || this.#state === 'refused' || this.#state === 'removed';
  }

  /** @internal True once the service has replied on this connection; earlier pushes belong to an earlier stay. */
  get isAnswered(): boolean {
    return this.#isAnswered;
  }

  /** @internal Resets the entry after the connection broke. */
  interrupted(): void {
    this.#isAnswered = false;
    if (this.#state === 'live') this.#state = 'entering';
  }

  /** @internal Notes the reply of the service, with messages from `first` on. */
  answered(first: Cursor, isAfterFirst: boolean, gap: Gap | undefined): void {
    this.#isAnswered = true;
    this.#start ??= isAfterFirst ? first : placeBefore(first);
    this.#hasEarlier ??= (parseCursor(first)?.number ?? 0) > (isAfterFirst ? 0 : 1);
    if (gap !== undefined && (this.#cursor === undefined || isAfter(gap.cursor, this.#cursor))) this.gap(gap);
  }

  /** @internal Notes that all messages up to a place were reported. With `more`, the next ones must be requested. */
  upTo(cursor: Cursor, more: boolean): void {
    if (this.isOver) return;
    this.#cursor = cursor;
    for (const [of, place] of this.#revised) if (!isAfter(place, cursor)) this.#revised.delete(of);
    // A live entry may have been entered again to load missing state.
    if (more || this.#state === 'live') return;
    this.#state = 'live';
    this.#resolveReady();
    this.emit('live', { cursor });
  }

  /** @internal Reports a change of the members; a new entry gets all of them as joined. */
  membersChanged(change: MembersChange): void {
    if (this.isOver) return;
    const all = { joined: this.members, left: [], changed: [], count: change.count };
    const news = this.#knowsMembers ? change : all;
    this.#knowsMembers = true;
    this.emit('members', news);
  }

  /** @internal */
  reactionsChanged(cursors: readonly string[]): void {
    if (!this.isOver && cursors.length > 0) this.emit('reactions', { cursors });
  }

  /** @internal */
  marksChanged(users: readonly string[]): void {
    if (!this.isOver && users.length > 0) this.emit('marks', { users });
  }

  /** @internal */
  hailed(hail: ReceivedHail): void {
    this.emit('hail', hail as ReceivedHail<K>);
  }

  /** @internal Reports that access cannot be decided now. */
  wait(problem: Problem): void {
    this.interrupted();
    this.emit('waiting', problem);
  }

  /** @internal */
  silenced(change: SilenceChange): void {
    this.emit('silenced', change);
  }

  /** @internal */
  removed(removal: Removal): void {
    this.#over('removed', new LineError('removed', removal.reason ?? 'you were removed from the channel'));
    this.emit('removed', removal);
  }

  /** @internal */
  refuse(problem: Problem): void {
    this.#over('refused', LineError.from(problem));
    this.emit('refused', problem);
  }

  /** @internal Prepares a refused entry to be entered again. */
  again(stay: SharedStay): void {
    this.#stay = stay;
    this.#state = 'entering';
    this.#knowsMembers = false;
    this.#begin();
  }

  /** @internal Reports a message, unless it was reported before. */
  take(message: Message, live: boolean): void {
    // A listener may have left the channel during the messages of one reply.
    if (this.isOver || !isAfter(message.cursor, this.#cursor)) return;
    this.#cursor = message.cursor;
    if (message.revision !== undefined) this.#revised.set(message.cursor, message.revision);
    const { filter } = this.options;
    // Another entry of the channel may have requested more.
    if (filter !== undefined && !filterFits(filter, message)) return;
    // As in `read`.
    const blocked = message.by && this.#line.blocks.get(message.by.user)?.as;
    const receipt = { own: this.#host.isOwn(message), live, ...defined({ blocked }) };
    const received = { ...message, ...receipt } as unknown as ReceivedMessage<K>;
    this.#give({ type: 'message', detail: received });
  }

  /**
   * @internal Reports a change of a message at a place, unless it was known before or is part of the message.
   */
  changed(message: Message, place: Cursor | undefined, live: boolean): void {
    if (this.isOver || place === undefined || !isAfter(place, this.#cursor)) return;
    const known = this.#revised.get(message.cursor);
    if (known !== undefined && !isAfter(place, known)) return;
    if (live) this.#revised.delete(message.cursor);
    else this.#revised.set(message.cursor, place);
    const { filter } = this.options;
    // Its data may no longer match the filter.
    const { where: _, ...head } = filter ?? {};
    if (filter !== undefined && !filterFits(head, message)) return;
    const shown =
      filter === undefined || message.withdrawn || filterFits(filter, message)
        ? message
        : { ...message, data: null, unfit: true };
    // As in `read`.
    this.#give({ type: 'change', detail: { ...shown, live } as unknown as ReceivedChange<K> });
  }

  /** @internal Notes that messages up to a place did not match the filter. */
  passed(cursor: Cursor): void {
    if (!this.isOver && isAfter(cursor, this.#cursor)) this.#cursor = cursor;
  }

  /** @internal */
  gap(gap: Gap): void {
    this.#cursor = gap.cursor;
    this.#give({ type: 'gap', detail: gap });
  }

  /** @internal */
  end(error: LineError): void {
    if (this.#state !== 'left') this.#over('left', error);
  }

  #over(state: 'left' | 'refused' | 'removed', error: LineError): void {
    this.#state = state;
    this.#isAnswered = false;
    this.#rejectReady(error);
    for (const reader of this.#readers) reader.end();
    this.#readers.clear();
  }
}

function placeBefore(cursor: Cursor): Cursor {
  const place = parseCursor(cursor);
  return place === undefined ? cursor : formatCursor({ ...place, number: Math.max(0, place.number - 1) });
}

/** An event held for the first listener. */
type GivenEvent<K extends ChannelContract> = {
  [T in 'message' | 'change' | 'gap']: { readonly type: T; readonly detail: EntryEvents<K>[T] };
}['message' | 'change' | 'gap'];

function hasLeft(): LineError {
  return new LineError('left', 'the channel was left');
}
