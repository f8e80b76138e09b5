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
  type ReactResult,
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
  /** One message, in the channel's order; each comes once. */
  message: ReceivedMessage<K>;
  /**
   * A message that was given, or one from before, was revised or withdrawn: this is how it stands now, under its own cursor. Each
   * change comes once; of several that were missed, only the last.
   */
  change: ReceivedChange<K>;
  /** Users have reacted to these messages, by their cursors, or no longer; `entry.reactions` is how it is now. */
  reactions: { readonly cursors: readonly string[] };
  /** Some messages can no longer be recovered, or were too many to hold until the first listener was added (`unheard`). */
  gap: EntryGap;
  /** Everything up to now has been given; from here on messages come as they happen. Again after each reconnection. */
  live: { readonly cursor: Cursor };
  /** The service does not let you in, or no longer does. */
  refused: Problem;
  /** It cannot be decided right now whether you are let in. It is tried again by itself. */
  waiting: Problem;
  /** A moderator has ended your stay. */
  removed: Removal;
  /** A moderator lets you read and not write here, or again write. */
  silenced: SilenceChange;
  /** The members have changed; `entry.members` is the current list. */
  members: MembersChange;
  /** A short-lived word of another member. */
  hail: ReceivedHail<K>;
  /** Other users have read further, in channels that show it; `entry.marks` has their marks. */
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

/** Dependencies of an entry. */
export interface EntryHost {
  publish(channel: string, data: Json, options?: PublishOptions): Promise<Published>;
  read(channel: string, options?: ReadOptions): Promise<ReadResult>;
  revise(channel: string, of: MessageRef, data: Json, options?: ReviseOptions): Promise<Changed>;
  withdraw(channel: string, of: MessageRef, options?: WithdrawOptions): Promise<Changed>;
  revisions(channel: string, of: MessageRef, options?: RevisionsOptions): Promise<RevisionsReply>;
  react(channel: string, of: MessageRef, word: string, on: boolean): Promise<ReactResult>;
  reactors(channel: string, of: MessageRef, options?: ReactorsOptions): Promise<ReactorsReply>;
  remove(channel: string, user: string, options?: RemoveOptions): Promise<Removed>;
  hail(channel: string, type: string, data?: Json, options?: HailOptions): void;
  setStatus(status: Json, channel?: string): void;
  setEntry(channel: string, entry: string, value: Json, options?: SetOptions): Promise<SetResult>;
  markAlong(channel: string, cursor: Cursor): void;
  leave(entry: Entry): void;
  isOwn(message: Message): boolean;
  /** Users that the user has blocked or muted. */
  readonly blocks: ReadonlyMap<string, Block>;
  /** Your own user id, once the line was open. */
  user(): string | undefined;
}

/**
 * A channel that you have entered: the messages as DOM events or by `for await`, until `leave`.
 *
 * It outlives broken connections: after each reconnection it goes on behind the last message it gave. Each call of
 * `line.enter` gives an entry of its own, with its own history and its own end; the entries of one channel share one stay,
 * so the service sends each message once.
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
  readonly #host: EntryHost;
  readonly #readers = new Set<MessageQueue<ReceivedMessage<K>>>();
  #stay: SharedStay;
  #state: EntryState = 'entering';
  #cursor: Cursor | undefined;
  #hasEarlier: boolean | undefined;
  /** Messages, changes and gaps, until the first listener or `for await`. */
  #early: EarlyEvents<GivenEvent<K>> | undefined = new EarlyEvents();
  /** The place before the first message given. */
  #start: Cursor | undefined;
  /** Changes that are known already and whose places lie ahead: a message that was read stands as it is now. */
  readonly #revised = new Map<Cursor, Cursor>();
  #isAnswered = false;
  /** It has been told who is there. */
  #knowsMembers = false;
  #ready!: Promise<void>;
  #resolveReady!: () => void;
  #rejectReady!: (error: LineError) => void;
  /** @internal As given to `Line.enter`. */
  readonly options: EnterOptions;

  /** @internal Made by `Line.enter`. */
  constructor(host: EntryHost, stay: SharedStay, options: EnterOptions) {
    super();
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
    // A caller that does not wait for it hears of a refusal by the event.
    this.#ready.catch(() => {});
  }

  /** Resolves when the entry is live for the first time; rejects with a `LineError` if you are not let in. */
  get ready(): Promise<void> {
    return this.#ready;
  }

  get state(): EntryState {
    return this.#state;
  }

  /** The place of the last message given, to go on from on another line. */
  get cursor(): Cursor | undefined {
    return this.#cursor;
  }

  /**
   * Whether the channel has, or had, messages before the first one given here; `undefined` until that is known. To get them:
   * `entry.read({ before })`.
   */
  get hasEarlier(): boolean | undefined {
    return this.#hasEarlier;
  }

  /** Your own user id, once the line was open. */
  get user(): string | undefined {
    return this.#host.user();
  }

  /** Members, in channels that show them; a sample of a crowd. The same list until it changes. */
  get members(): readonly Member[] {
    return this.#stay.members;
  }

  /** Number of members. */
  get count(): number {
    return this.#stay.count;
  }

  /** There is a crowd: `members` are only some of those who are there. */
  get isCrowd(): boolean {
    return this.#stay.isCrowd;
  }

  /** Says something else of you here: `available`, `busy`, `away`, or an object of your own. */
  setStatus(status: K['status']): void {
    // What a contract describes is JSON.
    this.#stay.status = status as Json;
    this.#host.setStatus(status as Json, this.channel);
  }

  /** A short-lived word to those who are here, or to some users among them. It may be lost; nothing keeps it. */
  hail<Type extends HailType<K>>(type: Type, data?: K['hails'][Type], options?: HailOptions): void {
    if (!this.isOver) this.#host.hail(this.channel, type, data as Json | undefined, options);
  }

  /**
   * Marks the channel as read up to a place, by default up to the last message given: on all the user's devices. May be
   * called for each message that is shown; what is sent is at most one mark a second. A mark only moves forward.
   */
  mark(cursor: string | undefined = this.#cursor): void {
    if (cursor !== undefined && !this.isOver) this.#host.markAlong(this.channel, cursor as Cursor);
  }

  /** Read marks by user id, in channels that show them. */
  get marks(): ReadonlyMap<string, Cursor> {
    return this.#stay.marks;
  }

  /** The latest value of each entry, where the channel has a board. The same object as long as you are in the channel. */
  get board(): Board<Value> {
    // The application says what its values are: the service does not know.
    return this.#stay.board as unknown as Board<Value>;
  }

  /**
   * Sets an entry of the board; `null` removes it. It shows on `board` at once. May be called as often as you like: an entry is
   * sent at most 20 times a second, and of what waits only the latest value, also while the connection is broken.
   *
   * Resolves when the service has it, or a later value of yours.
   *
   * @throws {LineError} `conflict` if `ifVersion` does not hold (`problem.stands` is what stands there); `not-allowed`,
   *   `too-large`, `board-full` and other refusals; `left` after `leave`
   */
  async set(entry: string, value: Value | null, options: SetOptions = {}): Promise<SetResult> {
    if (this.#state === 'left') throw hasLeft();
    return this.#host.setEntry(this.channel, entry, value as Json, options);
  }

  /** The other users who have read a message, where the channel shows it. */
  readBy(cursor: string): readonly string[] {
    return [...this.marks]
      .filter(([user, mark]) => user !== this.user && !isAfter(cursor as Cursor, mark))
      .map(([user]) => user);
  }

  /**
   * As `Line.publish`, into this channel.
   *
   * @throws {LineError} `left` after `leave`
   */
  async publish<Type extends K['clients'] = DefaultType<K['clients']>>(
    data: DataOf<K, Type>,
    options?: PublishOptions<Type>,
  ): Promise<Published> {
    if (this.#state === 'left') throw hasLeft();
    return this.#host.publish(this.channel, data as Json, options);
  }

  /**
   * Replaces what a message holds, under the rule's contract. It comes back as the event `change`, to everyone. Over a broken
   * connection it is sent again, with a key, and done once.
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
    return this.#host.revise(this.channel, of, data as Json, options);
  }

  /** Takes a message back: what it held is gone, for everyone and in the record. Otherwise as `revise`. */
  async withdraw(of: MessageRef, options?: WithdrawOptions): Promise<Changed> {
    if (this.#state === 'left') throw hasLeft();
    return this.#host.withdraw(this.channel, of, options);
  }

  /** Returns earlier contents of a message, if the rule keeps them and lets you read them. Throws like `read`. */
  revisions(of: MessageRef, options?: RevisionsOptions): Promise<RevisionsReply> {
    return this.#host.revisions(this.channel, of, options);
  }

  /** Reactions by the cursors of messages, in channels with reactions. Omits messages without any. */
  get reactions(): ReadonlyMap<string, MessageReactions> {
    return this.#stay.reactions.all;
  }

  /**
   * Reacts to a message with a short word or an emoji; with `on` false takes that back. Idempotent.
   *
   * @throws {LineError} `not-allowed`, `no-such-message`, `withdrawn`, `too-many-reactions` and other refusals; `left`
   * @example
   * await chat.react(message, '⛵');
   */
  async react(of: MessageRef, word: string, on = true): Promise<void> {
    if (this.#state === 'left') throw hasLeft();
    const { counts } = await this.#host.react(this.channel, of, word, on);
    const cursor = typeof of === 'string' ? of : of.cursor;
    this.#stay.reactions.reacted(cursor, word, on, counts);
    this.emit('reactions', { cursors: [cursor] });
  }

  /** Lists reactions to a message by word, then by user. */
  reactors(of: MessageRef, options?: ReactorsOptions): Promise<ReactorsReply> {
    return this.#host.reactors(this.channel, of, options);
  }

  /** As `Line.read`, in this channel. */
  read(options?: ReadOptions): Promise<ReadResultOf<K>> {
    // The service has held what it has against the contract.
    const reading = this.#host.read(this.channel, options) as Promise<ReadResultOf<K>>;
    return reading.then((result) => {
      if (result.reactions !== undefined) this.reactionsChanged(this.#stay.reactions.load(result.reactions));
      return result;
    });
  }

  /** As `Line.remove`, from this channel. */
  remove(user: string, options?: RemoveOptions): Promise<Removed> {
    return this.#host.remove(this.channel, user, options);
  }

  /** Nothing of the channel comes here any more, and every `for await` over it ends. Other entries of the channel stay. */
  leave(): void {
    if (this.#state === 'left') return;
    // Whatever passes through it, it is left in the same way.
    this.#host.leave(this as unknown as Entry);
    this.#early = undefined;
    this.end(hasLeft());
  }

  /**
   * The messages from now on; the first `for await` or listener also gets those from before it, since `enter`. Unread
   * messages wait in memory.
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

  /** The first listener for messages, changes or gaps also gets those from before it, once the current turn is over. */
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

  /** Gives an event to listeners and readers, or holds it until there is one. */
  #give(event: GivenEvent<K>): void {
    if (this.#early !== undefined) {
      this.#early.add(event);
      return;
    }
    this.emit(event.type, event.detail as never);
    if (event.type === 'message') for (const reader of this.#readers) reader.push(event.detail);
  }

  // ------------------------------------------------------------------------------------ called by the line

  /** @internal The stay that it shares with other entries of the channel. */
  get stay(): SharedStay {
    return this.#stay;
  }

  /** @internal Nothing comes here any more. */
  get isOver(): boolean {
    return this.#state === 'left' || this.#state === 'refused' || this.#state === 'removed';
  }

  /** @internal The service has answered this entry on this connection: what it pushed before that was of an earlier stay. */
  get isAnswered(): boolean {
    return this.#isAnswered;
  }

  /** @internal The connection broke: not live until entered again. */
  interrupted(): void {
    this.#isAnswered = false;
    if (this.#state === 'live') this.#state = 'entering';
  }

  /** @internal The service has begun to answer it, with messages from `first` on. */
  answered(first: Cursor, isAfterFirst: boolean, gap: Gap | undefined): void {
    this.#isAnswered = true;
    this.#start ??= isAfterFirst ? first : placeBefore(first);
    this.#hasEarlier ??= (parseCursor(first)?.number ?? 0) > (isAfterFirst ? 0 : 1);
    if (gap !== undefined && (this.#cursor === undefined || isAfter(gap.cursor, this.#cursor))) this.gap(gap);
  }

  /** @internal Everything up to a place has been given. With `more`, it is to be asked for what follows. */
  upTo(cursor: Cursor, more: boolean): void {
    if (this.isOver) return;
    this.#cursor = cursor;
    for (const [of, place] of this.#revised) if (!isAfter(place, cursor)) this.#revised.delete(of);
    // Once live, it may have entered again for what else was missing.
    if (more || this.#state === 'live') return;
    this.#state = 'live';
    this.#resolveReady();
    this.emit('live', { cursor });
  }

  /** @internal The members have changed; an entry that has no list yet gets all of them as joined. */
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

  /** @internal Cannot be decided now. */
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

  /** @internal It was refused, and is entered again with another token. */
  again(stay: SharedStay): void {
    this.#stay = stay;
    this.#state = 'entering';
    this.#knowsMembers = false;
    this.#begin();
  }

  /** @internal A message that came; one that came before is passed over. */
  take(message: Message, live: boolean): void {
    // A listener may have left while the messages of one reply are being given.
    if (this.isOver || !isAfter(message.cursor, this.#cursor)) return;
    this.#cursor = message.cursor;
    if (message.revision !== undefined) this.#revised.set(message.cursor, message.revision);
    const { filter } = this.options;
    // Another entry of the channel may want more.
    if (filter !== undefined && !filterFits(filter, message)) return;
    // As in `read`.
    const blocked = message.by && this.#host.blocks.get(message.by.user)?.as;
    const receipt = { own: this.#host.isOwn(message), live, ...defined({ blocked }) };
    const received = { ...message, ...receipt } as unknown as ReceivedMessage<K>;
    this.#give({ type: 'message', detail: received });
  }

  /**
   * @internal A message was changed, at a place. What was known before, or came with the message itself, is passed over.
   */
  changed(message: Message, place: Cursor | undefined, live: boolean): void {
    if (this.isOver || place === undefined || !isAfter(place, this.#cursor)) return;
    const known = this.#revised.get(message.cursor);
    if (known !== undefined && !isAfter(place, known)) return;
    if (live) this.#revised.delete(message.cursor);
    else this.#revised.set(message.cursor, place);
    const { filter } = this.options;
    // Its data may no longer fit.
    const { where: _, ...head } = filter ?? {};
    if (filter !== undefined && !filterFits(head, message)) return;
    const shown =
      filter === undefined || message.withdrawn || filterFits(filter, message)
        ? message
        : { ...message, data: null, unfit: true };
    // As in `read`.
    this.#give({ type: 'change', detail: { ...shown, live } as unknown as ReceivedChange<K> });
  }

  /** @internal Messages up to a place were not for it. */
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

/** An event that the entry holds for its first listener. */
type GivenEvent<K extends ChannelContract> = {
  [T in 'message' | 'change' | 'gap']: { readonly type: T; readonly detail: EntryEvents<K>[T] };
}['message' | 'change' | 'gap'];

function hasLeft(): LineError {
  return new LineError('left', 'the channel was left');
}
