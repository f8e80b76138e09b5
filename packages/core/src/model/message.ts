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
  /** Issue time of the author's token, in milliseconds since the epoch. The commit fails if the token was revoked meanwhile. */
  readonly issuedAtMs?: number | undefined;
  /** Time of publication, in milliseconds since the epoch. */
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
  /** The answered message. */
  readonly reply?: Reply | undefined;
  /** Quote of the answered message, as JSON text (`Answered`). Relayed, but not stored. */
  readonly answers?: string | undefined;
  /** Mentioned users and roles. */
  readonly mentions?: Mentions | undefined;
  /** The users who are mentioned by that. */
  readonly mentioned?: readonly string[] | undefined;
  /** The id of the waiting message that this publishes: the same commit removes it from the moderators' queue. */
  readonly releases?: string | undefined;
}

/** The answered message and its thread, by numbers of the volume. */
export interface Reply {
  readonly to: number;
  /** First message of the thread. */
  readonly thread: number;
}

/** State of a thread. */
export interface ThreadState {
  readonly count: number;
  /** Time of the last reply, in milliseconds since the epoch. */
  readonly atMs: number;
  /** The last reply, or withdrawal of one, that is counted. */
  readonly number: number;
}

/** A change of a message. */
export interface Change {
  readonly of: ChangedMessage;
  /** The number of the last change that must stand; 0: the message must be as it was published; absent: any. */
  readonly ifRevision?: number;
  /** The message is taken back. */
  readonly withdraws: boolean;
  /** Erases the author; `of.by` replaces them. The message may already be withdrawn. */
  readonly blanks?: boolean;
  /** Keeps the earlier content for users who may read it. */
  readonly keeps: boolean;
  readonly reason?: string | undefined;
}

/** Parts of a message that never change. */
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
  /** Number of the last change of a changed message. */
  readonly revision?: number | undefined;
  /** A change that a later one of the same message has made void: only its place is left. */
  readonly isVoid?: boolean | undefined;
  readonly reply?: Reply | undefined;
  /** As in `Draft`. */
  readonly answers?: string | undefined;
  /** State of the thread of an answered message. */
  readonly replies?: ThreadState | undefined;
}

/** Parts of a message, as stored and relayed. */
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

/** Facts about a message's last change. */
export interface LastChange {
  readonly atMs: number;
  readonly by?: Author | undefined;
  readonly withdrawn: boolean;
  readonly reason?: string | undefined;
}

/** Adds time, author and withdrawal of the last change to the tail of a message. */
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
  /** Time of the message or of the change, in milliseconds since the epoch. */
  readonly atMs: number;
  readonly except: readonly string[] | undefined;
  /** Number of the changed message; changes only. */
  readonly of: number | undefined;
  /** Number of the message's last change. */
  readonly revision: number | undefined;
  /** Nothing is left of it but its place. */
  readonly isVoid: boolean;
  /** The message that it, or the changed message, answers. */
  readonly reply: Reply | undefined;
  /** Quote of the answered message, as JSON text; absent if there is none or it is unknown here. */
  readonly answers: string | undefined;
  /** State of its thread, as known here; absent without replies. */
  readonly replies: ThreadState | undefined;
  #id: string | undefined;
  /** Parts of the text, until the text is needed. */
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

  /** The message, after the change if it is one. A void place has none. */
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

  /** Returns the changed message after this change, at the message's place. */
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

  /** Returns a copy with a quote and the state of the thread. */
  with(beside: Pick<MessageParts, 'reply' | 'answers' | 'replies'>): LoggedMessage {
    const { channel, place, atMs, except, tail, of, revision, isVoid, reply, answers, replies } = this;
    const parts = { atMs, except, of, revision, isVoid, reply, answers, replies, ...beside };
    // The text has the place of what it answers at its head.
    return new LoggedMessage(channel, place, { tail, ...parts });
  }

  /** Number of characters shown. */
  get size(): number {
    return this.text.length + (this.answers?.length ?? 0);
  }

  /** The message as JSON text, with its quote and the state of its thread. */
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

  /** Returns the frame of a change for clients whose filter the message no longer fits. */
  toUnfitPush(): Frame {
    return changeFrame(this.channel, this.place, this.unfitText);
  }

  /** The changed message without its content, as JSON text. */
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

/** Returns the beginning of a message's text. */
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
  /** Set if the key was known: `logged` has the id and place of the first message, and nothing was added. */
  readonly repeated: boolean;
  /** Messages of the channel that count as unread for at least one user, up to this one; of kept channels. */
  readonly counted?: number;
}

/** An earlier content of a message. */
export interface EarlierRevision {
  /** The number of the change that had made it so; 0: it was published so. */
  readonly number: number;
  /** Its data as JSON text. */
  readonly dataText: string;
  /** Time and author; no author if an application named none. */
  readonly atMs: number;
  readonly by?: Author;
}

/** A change requested by a client or an application. */
export interface OwnChange {
  readonly channel: ChannelName;
  readonly place: Place;
  /** The id of the message, where it is known. */
  readonly message?: string | undefined;
  /** New content; absent = withdraw. */
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
  /** Filters: messages that surely do not fit may be omitted. The slice then has the last place read. */
  readonly filters?: readonly MessageFilter[];
}

/** A stretch of a channel's record, without holes, oldest first. */
export interface LogSlice {
  readonly messages: readonly LoggedMessage[];
  /** There are more in the direction read. */
  readonly more: boolean;
  /** The channel's head when it was read. */
  readonly head: Place;
  /** Last place read, if a filter omitted messages. */
  readonly upTo?: Place;
  /** Some requested messages are missing; `messages` begin with the oldest remaining one. */
  readonly gap?: 'expired' | 'new-volume' | 'lost';
}

/** Logbook of a channel. */
export type Keeping =
  | { readonly type: 'kept'; readonly retention?: Retention }
  | { readonly type: 'recent'; readonly bounds: LogBounds };

/** A client's message, before the engine adds id and time. */
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
  /** The answered message and its quote. */
  readonly replying?: { readonly reply: Reply; readonly answers: string } | undefined;
  /** Mentions as shown, and all users they include. */
  readonly mentioning?: { readonly mentions: Mentions; readonly mentioned: readonly string[] } | undefined;
  /** As in `Draft`. */
  readonly releases?: string | undefined;
}

export interface KeptChannel {
  readonly channel: ChannelName;
  readonly head: Place;
  /** Time of the last message, in milliseconds since the epoch. */
  readonly lastAt?: number;
}
