import {
  type Author,
  type ChannelName,
  type Cursor,
  formatCursor,
  type Json,
  type Mentions,
  type Message,
  type MessageFilter,
  type Place,
} from '@nine-bells/wire';
import { authorText } from './author.js';
import { Frame } from './frame.js';
import type { Retention } from './retention.js';

export type { Place };

/** A message on its way in, before it has its place. */
export interface Draft {
  readonly id: string;
  readonly type: string;
  readonly key?: string | undefined;
  /** The application whose key it is: two that use the same one do not mean the same message. Absent: a user's. */
  readonly owner?: string | undefined;
  readonly by?: Author | undefined;
  /** When the author's token was issued, in milliseconds since the epoch: the commit fails where it was revoked meanwhile. */
  readonly issuedAtMs?: number | undefined;
  /** When the service took it in, in milliseconds since the epoch. */
  readonly atMs: number;
  /** Its data as JSON text: made once, and used wherever it goes. */
  readonly dataText: string;
  /** Sessions that are not to get it. */
  readonly except?: readonly string[] | undefined;
  /** Users whose unread messages are counted from this message on, if it is the first of its channel. */
  readonly begins?: readonly string[] | undefined;
  /** Hooks that get the message. In a kept channel, their queues are written in the same commit. */
  readonly hooks?: readonly string[] | undefined;
  /** Through how many intakes it has come. */
  readonly hops?: number | undefined;
  /**
   * It changes a message that is there. `id`, `by` and `atMs` are of the change, and `dataText` is what the message holds then;
   * `type` and `except` are of the message.
   */
  readonly change?: Change | undefined;
  /** What it answers. */
  readonly reply?: Reply | undefined;
  /** How the message that it answers stands, as JSON text (`Answered`). It is carried, and not kept. */
  readonly answers?: string | undefined;
  /** What it mentions. */
  readonly mentions?: Mentions | undefined;
  /** The users who are mentioned by that. */
  readonly mentioned?: readonly string[] | undefined;
  /** The id of the waiting message that this publishes: the same commit removes it from the moderators' queue. */
  readonly releases?: string | undefined;
}

/** What a message answers, by numbers of its volume. */
export interface Reply {
  readonly to: number;
  /** The message with which the thread begins. */
  readonly thread: number;
}

/** How a thread stands. */
export interface ThreadState {
  readonly count: number;
  /** When the last reply was taken in, in milliseconds since the epoch. */
  readonly atMs: number;
  /** The last reply, or withdrawal of one, that is counted. */
  readonly number: number;
}

/** What a draft changes. */
export interface Change {
  readonly of: ChangedMessage;
  /** The number of the last change that must stand; 0: the message must be as it was published; absent: any. */
  readonly ifRevision?: number;
  /** The message is taken back. */
  readonly withdraws: boolean;
  /** Its author was erased: `of.by` is who stands there then, and the message may have been withdrawn before. */
  readonly blanks?: boolean;
  /** What the message held is kept, for those who may read it. */
  readonly keeps: boolean;
  readonly reason?: string | undefined;
}

/** What of a message never changes. */
export interface ChangedMessage {
  readonly number: number;
  readonly id: string;
  readonly type: string;
  readonly key?: string | undefined;
  readonly by?: Author | undefined;
  readonly atMs: number;
  readonly reply?: Reply | undefined;
  readonly mentions?: Mentions | undefined;
}

/**
 * A message on its way between instances: as text, so that an instance passes it on without parsing it.
 *
 * `tail` is the message as JSON text from its `id` on, closing brace included: what stands before it depends on its place.
 */
export interface MessageLine {
  readonly id: string;
  readonly key?: string | undefined;
  /** As in `Draft`. */
  readonly owner?: string | undefined;
  /** The author's user id. */
  readonly author?: string | undefined;
  readonly atMs: number;
  readonly except?: readonly string[] | undefined;
  readonly tail: string;
  /** It changes the message of this number: `tail` is that message, as it stands then. */
  readonly of?: number | undefined;
  /** As in `Change`. */
  readonly ifRevision?: number | undefined;
  readonly withdraws?: boolean | undefined;
  /** Of a message that was changed: the number of its last change. */
  readonly revision?: number | undefined;
  /** A change that a later one of the same message has made void: only its place is left. */
  readonly isVoid?: boolean | undefined;
  readonly reply?: Reply | undefined;
  /** As in `Draft`. */
  readonly answers?: string | undefined;
  /** Of a message that was answered. */
  readonly replies?: ThreadState | undefined;
}

/** What a message is made of, as it is kept and carried. */
export type MessageParts = Pick<
  MessageLine,
  'atMs' | 'except' | 'tail' | 'of' | 'revision' | 'isVoid' | 'reply' | 'answers' | 'replies'
>;

/** A draft as a line. */
export function lineOf(draft: Draft): MessageLine {
  const { id, key, owner, by, atMs, except, change } = draft;
  return { id, key, owner, author: by?.user, atMs, except, tail: tailOf(draft), ...lineChange(change) };
}

function lineChange(change: Change | undefined): Pick<MessageLine, 'of' | 'ifRevision' | 'withdraws'> {
  if (change === undefined) return {};
  const { of, ifRevision, withdraws } = change;
  return { of: of.number, ifRevision, withdraws };
}

function tailOf(draft: Draft): string {
  return draft.change === undefined ? messageTail(draft) : changedTail(draft, draft.change);
}

type TailParts = Pick<Draft, 'id' | 'type' | 'key' | 'by' | 'atMs' | 'dataText' | 'mentions'>;

function messageTail({ id, type, key, by, atMs, dataText, mentions }: TailParts): string {
  const named = JSON.stringify({ id, type, key }).slice(1, -1);
  const author = by === undefined ? '' : `,"by":${authorText(by)}`;
  const whom = mentions === undefined ? '' : `,"mentions":${JSON.stringify(mentions)}`;
  return `${named}${author},"at":"${new Date(atMs).toISOString()}"${whom},"data":${dataText}}`;
}

/** A message as it stands after a change, from its `id` on. */
function changedTail({ by, atMs, dataText }: Draft, { of, withdraws, reason }: Change): string {
  const mentions = withdraws ? undefined : of.mentions;
  return standingTail(messageTail({ ...of, mentions, dataText }), { atMs, by, withdrawn: withdraws, reason });
}

/** What is known of a message's last change. */
export interface LastChange {
  readonly atMs: number;
  readonly by?: Author | undefined;
  readonly withdrawn: boolean;
  readonly reason?: string | undefined;
}

/** Adds to the tail of a message when it was changed last, by whom, and whether it was withdrawn. */
export function standingTail(tail: string, { atMs, by, withdrawn, reason }: LastChange): string {
  const author = by === undefined ? '' : `,"revisedBy":${authorText(by)}`;
  const gone = withdrawn ? ',"withdrawn":true' : '';
  const why = reason === undefined ? '' : `,"reason":${JSON.stringify(reason)}`;
  return `${tail.slice(0, -1)},"revisedAt":"${new Date(atMs).toISOString()}"${author}${gone}${why}}`;
}

/**
 * What has a place in the channel's order: a message; a change of one; or the place of a change that a later one has made void.
 * Shared by everyone who gets it; made ready for the wire once.
 */
export class LoggedMessage {
  readonly channel: ChannelName;
  readonly place: Place;
  /** When it was taken in; of a change, when it was made. */
  readonly atMs: number;
  readonly except: readonly string[] | undefined;
  /** Of a change: the number of the message. */
  readonly of: number | undefined;
  /** Of a message: the number of its last change. */
  readonly revision: number | undefined;
  /** Nothing is left of it but its place. */
  readonly isVoid: boolean;
  /** What it answers; of a change, what its message answers. */
  readonly reply: Reply | undefined;
  /** How the message that it answers stands, as JSON text; absent: it answers none, or that is not known here. */
  readonly answers: string | undefined;
  /** How many have answered it, as far as it is known here; absent: nobody has. */
  readonly replies: ThreadState | undefined;
  #id: string | undefined;
  /** What its text is made of, until it is needed. */
  #draft: Draft | undefined;
  #text: string | undefined;
  #message: Message | undefined;

  constructor(channel: ChannelName, place: Place, draft: Draft | MessageParts) {
    this.channel = channel;
    this.place = place;
    this.atMs = draft.atMs;
    this.except = draft.except?.length ? draft.except : undefined;
    this.answers = draft.answers;
    if ('tail' in draft) {
      this.reply = draft.reply;
      this.replies = draft.replies;
      this.of = draft.of;
      this.revision = draft.revision;
      this.isVoid = draft.isVoid === true;
      this.#text = this.isVoid ? '' : this.#head + draft.tail;
    } else {
      this.reply = draft.change?.of.reply ?? draft.reply;
      this.replies = undefined;
      this.of = draft.change?.of.number;
      this.revision = undefined;
      this.isVoid = false;
      this.#id = draft.id;
      this.#draft = draft;
    }
  }

  /** A message, which is shown by itself: neither a change nor a place without anything. */
  get isMessage(): boolean {
    return this.of === undefined && !this.isVoid;
  }

  /** A change that is shown: the last one of its message. */
  get isChange(): boolean {
    return this.of !== undefined && !this.isVoid;
  }

  get id(): string {
    this.#id ??= this.message.id;
    return this.#id;
  }

  get cursor(): Cursor {
    return formatCursor(this.place);
  }

  /** Of a change, the message as it stands after it. Nothing that is void has one. */
  get message(): Message {
    this.#message ??= JSON.parse(this.text) as Message;
    return this.#message;
  }

  /** The message as JSON text; of a change, as it stands after it; empty if nothing is left. */
  get text(): string {
    if (this.#text === undefined) {
      this.#text = this.#head + tailOf(this.#draft as Draft);
      this.#draft = undefined;
    }
    return this.#text;
  }

  /** The text from its `id` on: what does not depend on its place. */
  get tail(): string {
    return this.isVoid ? '' : this.text.slice(this.#head.length);
  }

  /** Of a change: the message as it stands after it, at its own place. */
  standing(of: LoggedMessage): LoggedMessage {
    const { channel, tail, except, place } = this;
    const { atMs, reply, answers, replies } = of;
    return new LoggedMessage(channel, of.place, {
      atMs,
      except: of.except ?? except,
      tail,
      revision: place.number,
      reply,
      answers,
      replies,
    });
  }

  /** The same message with what stands beside it. */
  with(beside: Pick<MessageParts, 'reply' | 'answers' | 'replies'>): LoggedMessage {
    const { channel, place, atMs, except, tail, of, revision, isVoid, reply, answers, replies } = this;
    const parts = { atMs, except, of, revision, isVoid, reply, answers, replies, ...beside };
    // The text has the place of what it answers at its head.
    return new LoggedMessage(channel, place, { tail, ...parts });
  }

  /** The characters of what is shown of it. */
  get size(): number {
    return this.text.length + (this.answers?.length ?? 0);
  }

  /** The message as JSON text, with what stands beside it: how the message that it answers stands, and its thread. */
  get shown(): string {
    const { answers, replies, text } = this;
    if (answers === undefined && replies === undefined) return text;
    const thread =
      replies === undefined
        ? ''
        : `,"replies":${JSON.stringify({ count: replies.count, at: new Date(replies.atMs).toISOString() })}`;
    return `${text.slice(0, -1)}${answers === undefined ? '' : `,"answers":${answers}`}${thread}}`;
  }

  /** Only the place of a change, which a later one has made void. */
  voided(): LoggedMessage {
    return new LoggedMessage(this.channel, this.place, { atMs: this.atMs, tail: '', of: this.of, isVoid: true });
  }

  /** A frame that pushes it: made once per instance, and not kept with the record. */
  toPush(): Frame {
    const { channel } = this;
    if (this.of === undefined) return new Frame(`{"on":"message",${this.shown.slice(1)}`, true, channel);
    return changeFrame(channel, this.place, this.text);
  }

  /** Of a change: as `toPush`, for those whose filter the message no longer fits. */
  toUnfitPush(): Frame {
    return changeFrame(this.channel, this.place, this.unfitText);
  }

  /** Of a change: the message without what it holds, as JSON text. */
  get unfitText(): string {
    return JSON.stringify({ ...this.message, data: null, unfit: true });
  }

  isFor(session: string): boolean {
    return this.except === undefined || !this.except.includes(session);
  }

  get #head(): string {
    const { channel, place, of, revision, reply } = this;
    const { volume } = place;
    const head =
      of !== undefined
        ? headOf(channel, { volume, number: of }, place)
        : headOf(channel, place, revision === undefined ? undefined : { volume, number: revision });
    if (reply === undefined) return head;
    const [to, thread] = [reply.to, reply.thread].map((number) => formatCursor({ volume, number }));
    return `${head}"replyTo":"${to}","thread":"${thread}",`;
  }
}

/** How the text of a message begins. */
function headOf(channel: ChannelName, place: Place, revision: Place | undefined): string {
  const head = `{"channel":${JSON.stringify(channel)},"cursor":"${formatCursor(place)}",`;
  return revision === undefined ? head : `${head}"revision":"${formatCursor(revision)}",`;
}

function changeFrame(channel: ChannelName, place: Place, text: string): Frame {
  const head = `{"on":"change","channel":${JSON.stringify(channel)},"cursor":"${formatCursor(place)}"`;
  return new Frame(`${head},"message":${text}}`, true, channel);
}

export interface Appended {
  readonly logged: LoggedMessage;
  /** The key was known: of `logged`, id and place are of what was published first, and nothing was added. */
  readonly repeated: boolean;
  /** Messages of the channel that count as unread for at least one user, up to this one; of kept channels. */
  readonly counted?: number;
}

/** What a message held before it was changed. */
export interface EarlierRevision {
  /** The number of the change that had made it so; 0: it was published so. */
  readonly number: number;
  /** Its data as JSON text. */
  readonly dataText: string;
  /** When that was, and by whom; absent: by an application that named no user. */
  readonly atMs: number;
  readonly by?: Author;
}

/** What a client changes, or an application. */
export interface OwnChange {
  readonly channel: ChannelName;
  readonly place: Place;
  /** The id of the message, where it is known. */
  readonly message?: string | undefined;
  /** What the message is to hold; absent: it is withdrawn. */
  readonly data?: Json | undefined;
  readonly reason?: string | undefined;
  /** As in `Change`, as a place; `null`: the message must be as it was published. */
  readonly ifRevision?: Place | null | undefined;
  readonly key?: string | undefined;
  readonly owner?: string | undefined;
  readonly by?: Author | undefined;
  /** The session that changes it; absent: an application. */
  readonly session?: string | undefined;
  /** As in `Draft`. */
  readonly issuedAtMs?: number | undefined;
  /** As in `Draft`. */
  readonly releases?: string | undefined;
}

/** Bounds of a `recent` logbook; what exceeds either is forgotten. */
export interface LogBounds {
  readonly messages: number;
  readonly forMs: number;
}

export interface ReadLimit {
  readonly messages: number;
  /** Bound on the JSON text of all messages, in characters; at least one message is given. */
  readonly bytes: number;
  /** Messages that surely do not fit all of these may be left out: the slice then says how far was looked. */
  readonly filters?: readonly MessageFilter[];
}

/** A stretch of a channel's record, without holes, oldest first. */
export interface LogSlice {
  readonly messages: readonly LoggedMessage[];
  /** There are more in the direction read. */
  readonly more: boolean;
  /** The channel's head when it was read. */
  readonly head: Place;
  /** Where messages were left out by a filter: the last place that was looked at. */
  readonly upTo?: Place;
  /** What was asked for is not all there; `messages` begin with the oldest that is. */
  readonly gap?: 'expired' | 'new-volume' | 'lost';
}

/** How the record of a channel is kept. */
export type Keeping =
  | { readonly type: 'kept'; readonly retention?: Retention }
  | { readonly type: 'recent'; readonly bounds: LogBounds };

/** What a client publishes, before the engine has given it an id and a time. */
export interface OwnDraft {
  readonly channel: ChannelName;
  readonly data: Json;
  readonly type?: string | undefined;
  readonly key?: string | undefined;
  /** The application that publishes; absent: a user. */
  readonly owner?: string | undefined;
  readonly by?: Author | undefined;
  readonly except?: readonly string[] | undefined;
  /** Through how many intakes it has come. */
  readonly hops?: number | undefined;
  /** The session that publishes; absent: an application. */
  readonly session?: string | undefined;
  /** As in `Draft`. */
  readonly issuedAtMs?: number | undefined;
  /** What it answers, and how that stands. */
  readonly replying?: { readonly reply: Reply; readonly answers: string } | undefined;
  /** Whom it mentions: as it is shown, and all users that this means. */
  readonly mentioning?: { readonly mentions: Mentions; readonly mentioned: readonly string[] } | undefined;
  /** As in `Draft`. */
  readonly releases?: string | undefined;
}

export interface KeptChannel {
  readonly channel: ChannelName;
  readonly head: Place;
  /** When its last message was taken in, in milliseconds since the epoch. */
  readonly lastAt?: number;
}
