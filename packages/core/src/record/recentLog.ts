import { type ChannelName, defined, type Json } from '@nine-bells/wire';
import {
  type Appended,
  type Draft,
  type LogBounds,
  LoggedMessage,
  type LogSlice,
  type MessageLine,
  type Place,
  type ReadLimit,
} from '../model/message.js';
import { keyMemory } from '../model/options.js';
import { firstToRead, gapAfter, keyName, lastWithinBytes, withinBytes } from './slices.js';

/** What a message, and what a key, costs beside its text, in characters. */
const overhead = { message: 300, key: 150 } as const;

/**
 * The record of one `recent` channel: in memory, bounded by count and age.
 *
 * Messages that fall out leave a place behind that is known to be gone, so that a cursor before it gets a gap and never
 * silence. Of a key only the id, the number and the time of its message are remembered.
 */
export class RecentLog {
  readonly #channel: ChannelName;
  readonly #volume: string;
  #messages: LoggedMessage[] = [];
  /** How many at the front of `#messages` have fallen out; cut off now and then, not one by one. */
  #gone = 0;
  #head = 0;
  /** Oldest first. */
  readonly #keys = new Map<string, Keyed>();
  #chars = 0;

  constructor(channel: ChannelName, volume: string) {
    this.#channel = channel;
    this.#volume = volume;
  }

  /** A record that `opening` and `entries` have described. */
  static restored(channel: ChannelName, { volume, head }: SavedLog, entries: readonly SavedEntry[]): RecentLog {
    const log = new RecentLog(channel, volume);
    log.#head = head;
    const messages = entries.filter((each): each is SavedMessage => !('of' in each));
    // What is not there up to the head cannot be told from what was never there.
    const isWhole = messages.every(({ number }, index) => number === head - messages.length + 1 + index);
    for (const { number, data, ...draft } of isWhole ? messages : [])
      log.#add(new LoggedMessage(channel, { volume, number }, { ...draft, dataText: JSON.stringify(data) }));
    for (const each of entries)
      if ('of' in each) {
        const [id, number, atMs] = each.of;
        log.#remember(each.key, { id, number, atMs });
      }
    return log;
  }

  /** How it begins in a file, and whatever `entries` tell after that. */
  get opening(): SavedLog {
    return { volume: this.#volume, head: this.#head };
  }

  /** What it takes to go on after a restart, in the same volume, piece by piece. */
  *entries(): Iterable<SavedEntry> {
    for (const [key, { id, number, atMs }] of this.#keys) yield { key, of: [id, number, atMs] };
    for (let at = this.#gone; at < this.#messages.length; at++) yield saved(this.#messages[at] as LoggedMessage);
  }

  get head(): Place {
    return { volume: this.#volume, number: this.#head };
  }

  /** About how much memory it takes, in characters. */
  get chars(): number {
    return this.#chars;
  }

  append(draft: Draft | MessageLine, bounds: LogBounds): Appended {
    const author = 'tail' in draft ? draft.author : draft.by?.user;
    const { owner } = draft;
    const key = draft.key === undefined ? undefined : keyName({ owner, author, key: draft.key });
    const known = key === undefined ? undefined : this.#keys.get(key);
    if (known !== undefined) return { logged: this.#known(known), repeated: true };
    this.#head += 1;
    const logged = new LoggedMessage(this.#channel, this.head, draft);
    this.#add(logged);
    if (key !== undefined) this.#remember(key, { id: draft.id, number: this.#head, atMs: draft.atMs });
    this.#forget(bounds, draft.atMs);
    return { logged, repeated: false };
  }

  since(after: Place, limit: ReadLimit): LogSlice {
    const oldest = this.#head - (this.#messages.length - this.#gone) + 1;
    const gap = gapAfter(after, oldest, this.head);
    const from = firstToRead(after, gap, oldest, this.head);
    const start = this.#gone + (from - oldest);
    const wanted = this.#messages.slice(start, start + limit.messages);
    const messages = withinBytes(wanted, limit.bytes);
    const last = messages.at(-1)?.place.number ?? this.#head;
    return { messages, more: last < this.#head, head: this.head, ...defined({ gap }) };
  }

  before(before: Place | undefined, limit: ReadLimit): LogSlice {
    const oldest = this.#head - (this.#messages.length - this.#gone) + 1;
    const lost = before !== undefined && (before.volume !== this.#volume || before.number > this.#head + 1);
    const end = before === undefined || lost ? this.#head : before.number - 1;
    const count = Math.max(0, Math.min(limit.messages, end - oldest + 1));
    const start = this.#gone + (end - count + 1 - oldest);
    const messages = count === 0 ? [] : lastWithinBytes(this.#messages.slice(start, start + count), limit.bytes);
    const first = messages[0]?.place.number ?? end + 1;
    const gap = lost ? ('new-volume' as const) : first <= oldest && oldest > 1 ? ('expired' as const) : undefined;
    return { messages, more: messages.length > 0 && first > oldest, head: this.head, ...(gap ? { gap } : {}) };
  }

  /** Lets go of what is older than the bounds allow. */
  forget(bounds: LogBounds, nowMs: number): void {
    this.#forget(bounds, nowMs);
  }

  /** Lets go of the older half of messages and keys, whatever the bounds allow: there is no more room for all records. */
  shed(): void {
    const messages = Math.ceil((this.#messages.length - this.#gone) / 2);
    for (let n = 0; n < messages; n++) this.#drop();
    this.#cut();
    let keys = Math.ceil(this.#keys.size / 2);
    for (const key of this.#keys.keys()) {
      if (keys-- <= 0) break;
      this.#dropKey(key);
    }
  }

  /** Whether no message is left in it. */
  get isEmpty(): boolean {
    return this.#messages.length === this.#gone;
  }

  /** As much of a message as is remembered with its key. */
  #known({ id, number, atMs }: Keyed): LoggedMessage {
    const place = { volume: this.#volume, number };
    return new LoggedMessage(this.#channel, place, { atMs, tail: `"id":${JSON.stringify(id)}}` });
  }

  #add(logged: LoggedMessage): void {
    this.#messages.push(logged);
    this.#chars += logged.text.length + overhead.message;
  }

  #forget(bounds: LogBounds, nowMs: number): void {
    while (this.#gone < this.#messages.length) {
      const oldest = this.#messages[this.#gone] as LoggedMessage;
      const tooMany = this.#messages.length - this.#gone > bounds.messages;
      if (!tooMany && nowMs - oldest.atMs <= bounds.forMs) break;
      this.#drop();
    }
    if (this.#gone > 64 && this.#gone * 2 > this.#messages.length) this.#cut();
    for (const [key, { atMs }] of this.#keys) {
      if (this.#keys.size <= keyMemory.keys || nowMs - atMs <= keyMemory.ms) break;
      this.#dropKey(key);
    }
  }

  #drop(): void {
    const oldest = this.#messages[this.#gone] as LoggedMessage;
    this.#chars -= oldest.text.length + overhead.message;
    this.#gone += 1;
  }

  #cut(): void {
    this.#messages = this.#messages.slice(this.#gone);
    this.#gone = 0;
  }

  #remember(key: string, keyed: Keyed): void {
    this.#keys.set(key, keyed);
    this.#chars += key.length + overhead.key;
  }

  #dropKey(key: string): void {
    if (this.#keys.delete(key)) this.#chars -= key.length + overhead.key;
  }
}

/** What is remembered under a key. */
interface Keyed {
  readonly id: string;
  readonly number: number;
  readonly atMs: number;
}

/** A message of a record that is saved: its draft and its number. */
export type SavedMessage = Omit<Draft, 'dataText' | 'owner'> & { readonly number: number; readonly data: Json };

/** A key that is known, as `keyName` makes it: the id, the number and the time of its message. */
export interface SavedKey {
  readonly key: string;
  readonly of: readonly [id: string, number: number, atMs: number];
}

/** How the record of a recent channel begins in a file; its entries follow. */
export interface SavedLog {
  readonly volume: string;
  readonly head: number;
}

export type SavedEntry = SavedMessage | SavedKey;

function saved({ message, atMs, except, place }: LoggedMessage): SavedMessage {
  const { id, type, key, by, data } = message;
  return {
    number: place.number,
    id,
    type,
    atMs,
    data,
    ...defined({ key, by, except }),
  };
}
