import type {
  Author,
  ChannelName,
  Cursor,
  Entered,
  EnterWish,
  Gap,
  Json,
  MarksPush,
  Member,
  MembersPush,
  Message,
  Problem,
  Published,
  ReadResult,
  Removed,
} from '@nine-bells/wire';
import { isAfter } from './cursors.js';
import type { HailOptions, PublishOptions, ReadOptions, RemoveOptions } from './line.js';
import { LineError } from './lineError.js';
import { TypedTarget } from './typedTarget.js';

/** Where to begin in a channel. Neither: from now on. */
export interface EnterOptions {
  /** The last so many messages, then everything new. */
  readonly last?: number;
  /** Everything after this cursor. */
  readonly after?: string;
  /** Receive without being a member. */
  readonly quiet?: boolean;
  /** What to say of oneself there: `available`, `busy`, `away`, or an object of one's own. */
  readonly status?: Json;
}

/** A message as it arrives. */
export interface ReceivedMessage extends Message {
  /** It was published on this very line: one's own echo, told by its key. */
  readonly own: boolean;
  /** It was pushed as it happened; `false` for what came before or was missed. */
  readonly live: boolean;
}

export interface EntryEvents {
  /** One message, in the channel's order; each comes once. */
  message: ReceivedMessage;
  /** Some messages can no longer be recovered. */
  gap: Gap;
  /** Everything up to now has been given; from here on messages come as they happen. Again after each reconnection. */
  live: { readonly cursor: Cursor };
  /** The service does not let one in, or not any more. */
  refused: Problem;
  /** It cannot be decided right now whether one is let in. It is tried again by itself. */
  waiting: Problem;
  /** Somebody who may has ended one's stay. */
  removed: Removal;
  /** Who is there has changed; `entry.members` is the list as it is now. */
  members: MembersChange;
  /** A short-lived word of somebody who is there. */
  hail: ReceivedHail;
  /** Others have read on, where the channel shows it; `entry.marks` says how far. */
  marks: { readonly users: readonly string[] };
}

/** Who has come, gone or changed since the last time. In a crowd all are empty. */
export interface MembersChange {
  readonly joined: readonly Member[];
  readonly left: readonly Member[];
  readonly changed: readonly Member[];
  readonly count: number;
}

export interface ReceivedHail {
  readonly type: string;
  readonly by?: Author;
  readonly data?: Json;
}

/** Why one's stay was ended, by whom, and until when one may not come back (RFC 3339). */
export interface Removal {
  readonly reason?: string;
  readonly by?: Author;
  readonly until?: string;
}

export type EntryState = 'entering' | 'live' | 'refused' | 'removed' | 'left';

/** What an entry needs of its line. */
export interface EntryLine {
  publish(channel: string, data: Json, options?: PublishOptions): Promise<Published>;
  read(channel: string, options?: ReadOptions): Promise<ReadResult>;
  remove(channel: string, user: string, options?: RemoveOptions): Promise<Removed>;
  hail(channel: string, type: string, data?: Json, options?: HailOptions): void;
  setStatus(status: Json, channel?: string): void;
  mark(channel: string, cursor: Cursor): void;
  leave(entry: Entry): void;
  isOwn(message: Message): boolean;
  /** One's own user id, once the line was open. */
  user(): string | undefined;
}

/**
 * A channel that one has entered: the messages as DOM events or by `for await`, until `leave`.
 *
 * It outlives broken connections: after each reconnection it goes on behind the last message it gave.
 *
 * @example
 * const chat = line.enter('race/3/chat', { last: 50 });
 * chat.addEventListener('message', ({ detail }) => show(detail));
 * await chat.publish({ text: 'Petrel is ahead!' });
 */
export class Entry extends TypedTarget<EntryEvents> implements AsyncIterable<ReceivedMessage> {
  readonly channel: ChannelName;
  /** Resolves when one is live for the first time; rejects with a `LineError` if one is not let in. */
  readonly ready: Promise<void>;
  readonly #line: EntryLine;
  readonly #options: EnterOptions;
  readonly #readers = new Set<MessageQueue>();
  #state: EntryState = 'entering';
  #cursor: Cursor | undefined;
  #isAnswered = false;
  #members = new Map<string, Member>();
  #count = 0;
  #isPartial = false;
  #marks = new Map<string, Cursor>();
  #status: Json | undefined;
  #resolveReady!: () => void;
  #rejectReady!: (error: LineError) => void;

  /** @internal Made by `Line.enter`. */
  constructor(line: EntryLine, channel: ChannelName, options: EnterOptions) {
    super();
    this.#line = line;
    this.channel = channel;
    this.#options = options;
    this.#cursor = options.after as Cursor | undefined;
    this.#status = options.status;
    this.ready = new Promise((resolve, reject) => {
      this.#resolveReady = resolve;
      this.#rejectReady = reject;
    });
    // Whoever does not wait for it hears of a refusal by the event.
    this.ready.catch(() => {});
  }

  get state(): EntryState {
    return this.#state;
  }

  /** The place of the last message given, to go on from on another line. */
  get cursor(): Cursor | undefined {
    return this.#cursor;
  }

  /** One's own user id, once the line was open. */
  get user(): string | undefined {
    return this.#line.user();
  }

  /** Who is there, where the channel shows it; of a crowd only some. */
  get members(): readonly Member[] {
    return [...this.#members.values()];
  }

  /** How many are there. */
  get count(): number {
    return this.#count;
  }

  /** There is a crowd: `members` are only some of those who are there. */
  get isCrowd(): boolean {
    return this.#isPartial;
  }

  /** Says something else of oneself here: `available`, `busy`, `away`, or an object of one's own. */
  setStatus(status: Json): void {
    this.#status = status;
    this.#line.setStatus(status, this.channel);
  }

  /** A short-lived word to those who are here, or to some users among them. It may be lost; nothing keeps it. */
  hail(type: string, data?: Json, options?: HailOptions): void {
    this.#line.hail(this.channel, type, data, options);
  }

  /**
   * Marks the channel as read up to a place, by default up to the last message given: on all the user's devices. May be
   * called for each message that is shown; what is sent is at most one mark a second. A mark only moves forward.
   */
  mark(cursor: string | undefined = this.#cursor): void {
    if (cursor !== undefined && !this.#isOver) this.#line.mark(this.channel, cursor as Cursor);
  }

  /** How far users have read, by user id, where the channel shows it. */
  get marks(): ReadonlyMap<string, Cursor> {
    return this.#marks;
  }

  /** The other users who have read a message, where the channel shows it. */
  readBy(cursor: string): readonly string[] {
    return [...this.#marks]
      .filter(([user, mark]) => user !== this.user && !isAfter(cursor as Cursor, mark))
      .map(([user]) => user);
  }

  /** As `Line.publish`, into this channel. */
  publish(data: Json, options?: PublishOptions): Promise<Published> {
    return this.#line.publish(this.channel, data, options);
  }

  /** As `Line.read`, in this channel. */
  read(options?: ReadOptions): Promise<ReadResult> {
    return this.#line.read(this.channel, options);
  }

  /** As `Line.remove`, from this channel. */
  remove(user: string, options?: RemoveOptions): Promise<Removed> {
    return this.#line.remove(this.channel, user, options);
  }

  /** Nothing of the channel comes any more, and every `for await` over it ends. */
  leave(): void {
    if (this.#state === 'left') return;
    this.#line.leave(this);
    this.end(new LineError('left', 'the channel was left'));
  }

  /** The messages from now on; after `enter` in the same turn, all of them. What is not read yet waits in memory. */
  [Symbol.asyncIterator](): AsyncIterableIterator<ReceivedMessage> {
    const queue = new MessageQueue(() => this.#readers.delete(queue));
    if (this.#isOver) queue.end();
    else this.#readers.add(queue);
    return queue;
  }

  get #isOver(): boolean {
    return this.#state === 'left' || this.#state === 'refused' || this.#state === 'removed';
  }

  // ------------------------------------------------------------------------------------ called by the line

  /** @internal What to ask for: on from where it is, or as wished for in the beginning. */
  get wish(): EnterWish {
    const { last, quiet } = this.#options;
    return {
      channel: this.channel,
      ...(this.#cursor === undefined ? (last === undefined ? {} : { last }) : { after: this.#cursor }),
      ...(quiet === undefined ? {} : { quiet }),
      ...(this.#status === undefined ? {} : { status: this.#status }),
    };
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

  /** @internal The reply to `enter`; `true` if there is more to ask for. */
  entered(entered: Entered): boolean {
    this.#isAnswered = true;
    if (entered.gap !== undefined) this.gap(entered.gap);
    for (const message of entered.messages) this.take(message, false);
    if (this.#isOver) return false;
    if (entered.members !== undefined)
      this.#changeMembers({
        whole: true,
        joined: entered.members,
        count: entered.count ?? 0,
        partial: entered.partial,
      });
    if (this.#isOver) return false;
    this.#marks = new Map(Object.entries(entered.marks ?? {}));
    if (this.#marks.size > 0) this.emit('marks', { users: [...this.#marks.keys()] });
    if (this.#isOver) return false;
    this.#cursor = entered.cursor;
    if (entered.more) return true;
    this.#state = 'live';
    this.#resolveReady();
    this.emit('live', { cursor: entered.cursor });
    return false;
  }

  /** @internal */
  membersChanged(push: MembersPush): void {
    this.#changeMembers(push);
  }

  /** @internal */
  marksChanged({ marks }: MarksPush): void {
    for (const [user, mark] of Object.entries(marks))
      if (mark === null) this.#marks.delete(user);
      else this.#marks.set(user, mark);
    this.emit('marks', { users: Object.keys(marks) });
  }

  #changeMembers({ whole, joined = [], left = [], changed = [], count, partial }: MembersNews): void {
    const before = this.#members;
    const now = new Map(whole ? [] : before);
    for (const each of [...joined, ...changed]) now.set(each.user, each);
    for (const user of left) now.delete(user);
    this.#members = now;
    this.#count = count;
    this.#isPartial = partial === true;
    // What is told may be known already: what is new comes from comparing.
    const news = { joined: [] as Member[], left: [] as Member[], changed: [] as Member[], count };
    for (const each of now.values()) {
      const old = before.get(each.user);
      if (old === undefined) news.joined.push(each);
      else if (old !== each && JSON.stringify(old) !== JSON.stringify(each)) news.changed.push(each);
    }
    for (const each of before.values()) if (!now.has(each.user)) news.left.push(each);
    this.emit('members', news);
  }

  /** One is not told any more who is there. */
  #forgetMembers(): void {
    if (this.#count > 0) this.#changeMembers({ whole: true, count: 0 });
  }

  /** @internal */
  hailed(hail: ReceivedHail): void {
    this.emit('hail', hail);
  }

  /** @internal Cannot be decided now. */
  wait(problem: Problem): void {
    this.interrupted();
    this.emit('waiting', problem);
  }

  /** @internal */
  removed(removal: Removal): void {
    this.#state = 'removed';
    this.#forgetMembers();
    this.emit('removed', removal);
    this.#rejectReady(new LineError('removed', removal.reason ?? 'one was removed from the channel'));
    for (const reader of this.#readers) reader.end();
  }

  /** @internal */
  refuse(problem: Problem): void {
    this.#state = 'refused';
    this.#forgetMembers();
    this.emit('refused', problem);
    this.#rejectReady(LineError.from(problem));
    for (const reader of this.#readers) reader.end();
  }

  /** @internal A message that came; one that came before is passed over. */
  take(message: Message, live: boolean): void {
    // A listener may have left while the messages of one reply are being given.
    if (this.#isOver || !isAfter(message.cursor, this.#cursor)) return;
    this.#cursor = message.cursor;
    const received = { ...message, own: this.#line.isOwn(message), live };
    this.emit('message', received);
    for (const reader of this.#readers) reader.push(received);
  }

  /** @internal */
  gap(gap: Gap): void {
    this.#cursor = gap.cursor;
    this.emit('gap', gap);
  }

  /** @internal */
  end(error: LineError): void {
    if (this.#state === 'left') return;
    this.#state = 'left';
    this.#forgetMembers();
    this.#rejectReady(error);
    for (const reader of this.#readers) reader.end();
  }
}

type MembersNews = Pick<MembersPush, 'whole' | 'joined' | 'left' | 'changed' | 'count'> & {
  partial?: true | undefined;
};

/** Messages on their way to one `for await`. */
class MessageQueue implements AsyncIterableIterator<ReceivedMessage> {
  readonly #onReturn: () => void;
  #messages: ReceivedMessage[] = [];
  #waiting: ((result: IteratorResult<ReceivedMessage>) => void)[] = [];
  #ended = false;

  constructor(onReturn: () => void) {
    this.#onReturn = onReturn;
  }

  push(message: ReceivedMessage): void {
    const waiting = this.#waiting.shift();
    if (waiting === undefined) this.#messages.push(message);
    else waiting({ value: message, done: false });
  }

  end(): void {
    this.#ended = true;
    for (const waiting of this.#waiting.splice(0)) waiting({ value: undefined, done: true });
  }

  next(): Promise<IteratorResult<ReceivedMessage>> {
    const message = this.#messages.shift();
    if (message !== undefined) return Promise.resolve({ value: message, done: false });
    if (this.#ended) return Promise.resolve({ value: undefined, done: true });
    return new Promise((resolve) => this.#waiting.push(resolve));
  }

  return(): Promise<IteratorResult<ReceivedMessage>> {
    this.#onReturn();
    this.#messages = [];
    this.end();
    return Promise.resolve({ value: undefined, done: true });
  }

  [Symbol.asyncIterator](): this {
    return this;
  }
}
