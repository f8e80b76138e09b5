import {
  type Author,
  type ChannelName,
  type Cursor,
  formatCursor,
  type Json,
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
}

/** A draft as a line. */
export function lineOf(draft: Draft): MessageLine {
  const { id, key, owner, by, atMs, except } = draft;
  return { id, key, owner, author: by?.user, atMs, except, tail: tailOf(draft) };
}

function tailOf({ id, type, key, by, atMs, dataText }: Draft): string {
  const named = JSON.stringify({ id, type, key }).slice(1, -1);
  const author = by === undefined ? '' : `,"by":${authorText(by)}`;
  return `${named}${author},"at":"${new Date(atMs).toISOString()}","data":${dataText}}`;
}

/** A message that has its place in the channel's order. Shared by everyone who gets it; made ready for the wire once. */
export class LoggedMessage {
  readonly channel: ChannelName;
  readonly place: Place;
  readonly atMs: number;
  readonly except: readonly string[] | undefined;
  #id: string | undefined;
  /** What its text is made of, until it is needed. */
  #draft: Draft | undefined;
  #text: string | undefined;
  #message: Message | undefined;

  constructor(channel: ChannelName, place: Place, draft: Draft | Pick<MessageLine, 'atMs' | 'except' | 'tail'>) {
    this.channel = channel;
    this.place = place;
    this.atMs = draft.atMs;
    this.except = draft.except?.length ? draft.except : undefined;
    if ('tail' in draft) this.#text = headOf(channel, place) + draft.tail;
    else {
      this.#id = draft.id;
      this.#draft = draft;
    }
  }

  get id(): string {
    this.#id ??= this.message.id;
    return this.#id;
  }

  get cursor(): Cursor {
    return formatCursor(this.place);
  }

  get message(): Message {
    this.#message ??= JSON.parse(this.text) as Message;
    return this.#message;
  }

  /** The message as JSON text. */
  get text(): string {
    if (this.#text === undefined) {
      this.#text = headOf(this.channel, this.place) + tailOf(this.#draft as Draft);
      this.#draft = undefined;
    }
    return this.#text;
  }

  /** The text from its `id` on: what does not depend on its place. */
  get tail(): string {
    return this.text.slice(headOf(this.channel, this.place).length);
  }

  /** A frame that pushes it: made once per instance, and not kept with the record. */
  toPush(): Frame {
    return new Frame(`{"on":"message",${this.text.slice(1)}`, true, this.channel);
  }

  isFor(session: string): boolean {
    return this.except === undefined || !this.except.includes(session);
  }
}

/** How the text of a message begins. */
function headOf(channel: ChannelName, place: Place): string {
  return `{"channel":${JSON.stringify(channel)},"cursor":"${formatCursor(place)}",`;
}

export interface Appended {
  readonly logged: LoggedMessage;
  /** The key was known: of `logged`, id and place are of what was published first, and nothing was added. */
  readonly repeated: boolean;
  /** Messages of the channel that count as unread for at least one user, up to this one; of kept channels. */
  readonly counted?: number;
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
}

export interface KeptChannel {
  readonly channel: ChannelName;
  readonly head: Place;
  /** When its last message was taken in, in milliseconds since the epoch. */
  readonly lastAt?: number;
}
