import { type ChannelName, defined, type Json } from '@nine-bells/wire';
import {
  type Appended,
  type Draft,
  type LogBounds,
  LoggedMessage,
  type LogSlice,
  type MessageLine,
  type MessageParts,
  type Place,
  type ReadLimit,
} from '../model/message.js';
import { keyMemory } from '../model/options.js';
import { checkChange, noSuchMessage } from './changes.js';
import { firstToRead, gapAfter, keyName, lastIndexOf, lastWithinBytes, withinBytes } from './slices.js';

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
    const messages = entries.filter((each): each is SavedMessage => 'number' in each);
    // What is not there up to the head cannot be told from what was never there.
    const isWhole = messages.every(({ number }, index) => number === head - messages.length + 1 + index);
    for (const { number, ...each } of isWhole ? messages : [])
      log.#add(
        new LoggedMessage(
          channel,
          { volume, number },
          'tail' in each ? each : { ...each, dataText: JSON.stringify(each.data) },
        ),
      );
    for (const each of entries)
      if (!('number' in each)) {
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

  /**
   * @param nowMs - the time by which older messages and keys are forgotten
   * @throws {ProblemError} of a change: `no-such-message`, `withdrawn`, `conflict`
   */
  append(draft: Draft | MessageLine, bounds: LogBounds, nowMs = draft.atMs): Appended {
    const author = 'tail' in draft ? draft.author : draft.by?.user;
    const { owner } = draft;
    const key = draft.key === undefined ? undefined : keyName({ owner, author, key: draft.key });
    const known = key === undefined ? undefined : this.#keys.get(key);
    if (known !== undefined) return { logged: this.#known(known), repeated: true };
    const change = changeOf(draft);
    const changed = change && this.#toChange(change);
    this.#head += 1;
    const logged = new LoggedMessage(this.#channel, this.head, draft);
    this.#add(logged);
    if (changed !== undefined) this.#change(changed, logged);
    if (key !== undefined) this.#remember(key, { id: draft.id, number: this.#head, atMs: draft.atMs });
    this.#forget(bounds, nowMs);
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
    const stretch = end < oldest ? [] : this.#messages.slice(this.#gone, this.#gone + end - oldest + 1);
    const messages = lastWithinBytes(stretch.slice(lastIndexOf(stretch, limit.messages) ?? 0), limit.bytes);
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

  /** The message that is to be changed. */
  #toChange({ of, ifRevision, blanks }: ChangeWish): LoggedMessage {
    const found = this.#messages[this.#indexOf(of)];
    if (!found?.isMessage) throw noSuchMessage();
    const { revision, message } = found;
    if (!blanks) checkChange(this.#volume, { revision, isWithdrawn: message.withdrawn === true }, { ifRevision });
    return found;
  }

  /** A message is held as it stands after a change, and an earlier change of it no more. */
  #change(message: LoggedMessage, change: LoggedMessage): void {
    this.#put(this.#indexOf(message.place.number), change.standing(message));
    const index = message.revision === undefined ? -1 : this.#indexOf(message.revision);
    const earlier = this.#messages[index];
    if (earlier !== undefined) this.#put(index, earlier.voided());
  }

  /** Where the message of a number stands; nowhere, if it has fallen out. */
  #indexOf(number: number): number {
    const index = this.#messages.length - 1 - (this.#head - number);
    return index < this.#gone ? -1 : index;
  }

  #put(index: number, logged: LoggedMessage): void {
    this.#chars += logged.text.length - (this.#messages[index] as LoggedMessage).text.length;
    this.#messages[index] = logged;
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

/** What a draft or a line changes, and what must stand. */
interface ChangeWish {
  readonly of: number;
  readonly ifRevision?: number | undefined;
  readonly blanks?: boolean | undefined;
}

function changeOf(draft: Draft | MessageLine): ChangeWish | undefined {
  if ('tail' in draft) return draft.of === undefined ? undefined : { of: draft.of, ifRevision: draft.ifRevision };
  const { change } = draft;
  return change && { of: change.of.number, ifRevision: change.ifRevision, blanks: change.blanks };
}

/** What is remembered under a key. */
interface Keyed {
  readonly id: string;
  readonly number: number;
  readonly atMs: number;
}

/** A message of a record that is saved: its draft and its number. */
export type SavedDraft = Omit<Draft, 'dataText' | 'owner' | 'change'> & {
  readonly number: number;
  readonly data: Json;
};

/** The same of a message that was changed, and of a change. */
export type SavedParts = MessageParts & { readonly number: number };

export type SavedMessage = SavedDraft | SavedParts;

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

function saved(logged: LoggedMessage): SavedMessage {
  const { atMs, except, place, of, revision, tail } = logged;
  if (!logged.isMessage || revision !== undefined)
    return {
      number: place.number,
      atMs,
      tail,
      ...defined({ except, of, revision, isVoid: logged.isVoid || undefined }),
    };
  const { message } = logged;
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
