import type { ChannelName, Json } from '@nine-bells/wire';
import { keyMemory } from '../options.js';
import {
  type Appended,
  type Draft,
  firstToRead,
  gapAfter,
  keyName,
  type LogBounds,
  LoggedMessage,
  type LogSlice,
  lastWithinBytes,
  type MessageLine,
  type Place,
  type ReadLimit,
  withinBytes,
} from './logbook.js';

/**
 * The record of one `recent` channel: in memory, bounded by count and age.
 *
 * Messages that fall out leave a place behind that is known to be gone, so that a cursor before it gets a gap and never
 * silence.
 */
export class RecentLog {
  readonly #channel: ChannelName;
  readonly #volume: string;
  #messages: LoggedMessage[] = [];
  /** How many at the front of `#messages` have fallen out; cut off now and then, not one by one. */
  #gone = 0;
  #head = 0;
  readonly #keys = new Map<string, Keyed>();

  constructor(channel: ChannelName, volume: string) {
    this.#channel = channel;
    this.#volume = volume;
  }

  /** A record as `saved` gave it. */
  static restored(channel: ChannelName, { volume, head, messages, keyed }: SavedLog): RecentLog {
    const log = new RecentLog(channel, volume);
    const read = ({ number, data, ...draft }: SavedMessage) =>
      new LoggedMessage(channel, { volume, number }, { ...draft, dataText: JSON.stringify(data) });
    log.#messages = messages.map(read);
    const owners = new Map([...keyed, ...messages].map(({ id, owner }) => [id, owner]));
    for (const logged of [...keyed.map(read), ...log.#messages]) {
      const { key, by } = logged.message;
      const owner = owners.get(logged.id);
      if (key !== undefined) log.#remember(keyName({ owner, author: by?.user, key }), { logged, owner });
    }
    log.#head = head;
    return log;
  }

  /** What it takes to go on after a restart, in the same volume. */
  get saved(): SavedLog {
    const there = this.#messages.slice(this.#gone);
    const present = new Set(there);
    const keyed = [...this.#keys.values()].map(({ logged }) => logged).filter((logged) => !present.has(logged));
    const owners = new Map([...this.#keys.values()].map(({ logged, owner }) => [logged, owner]));
    const save = (logged: LoggedMessage): SavedMessage => saved(logged, owners.get(logged));
    return { volume: this.#volume, head: this.#head, messages: there.map(save), keyed: keyed.map(save) };
  }

  get head(): Place {
    return { volume: this.#volume, number: this.#head };
  }

  append(draft: Draft | MessageLine, bounds: LogBounds): Appended {
    const author = 'tail' in draft ? draft.author : draft.by?.user;
    const { owner } = draft;
    const key = draft.key === undefined ? undefined : keyName({ owner, author, key: draft.key });
    const known = key === undefined ? undefined : this.#keys.get(key)?.logged;
    if (known !== undefined) return { logged: known, repeated: true };
    this.#head += 1;
    const logged = new LoggedMessage(this.#channel, this.head, draft);
    this.#messages.push(logged);
    if (key !== undefined) this.#remember(key, { logged, owner });
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
    return { messages, more: last < this.#head, head: this.head, ...(gap === undefined ? {} : { gap }) };
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

  /** Whether no message is left in it. */
  get isEmpty(): boolean {
    return this.#messages.length === this.#gone;
  }

  #forget(bounds: LogBounds, nowMs: number): void {
    while (this.#gone < this.#messages.length) {
      const oldest = this.#messages[this.#gone] as LoggedMessage;
      const tooMany = this.#messages.length - this.#gone > bounds.messages;
      if (!tooMany && nowMs - oldest.atMs <= bounds.forMs) break;
      this.#gone += 1;
    }
    if (this.#gone > 64 && this.#gone * 2 > this.#messages.length) {
      this.#messages = this.#messages.slice(this.#gone);
      this.#gone = 0;
    }
    for (const [key, { logged }] of this.#keys) {
      if (this.#keys.size <= keyMemory.keys || nowMs - logged.atMs <= keyMemory.ms) break;
      this.#keys.delete(key);
    }
  }

  #remember(key: string, keyed: Keyed): void {
    this.#keys.set(key, keyed);
  }
}

/** A message of a record that is saved: its draft and its number. */
export type SavedMessage = Omit<Draft, 'dataText'> & { readonly number: number; readonly data: Json };

/** The record of a recent channel at a clean stop. */
export interface SavedLog {
  readonly volume: string;
  readonly head: number;
  readonly messages: readonly SavedMessage[];
  /** Messages that have fallen out, and whose keys are still known. */
  readonly keyed: readonly SavedMessage[];
}

function saved({ message, atMs, except, place }: LoggedMessage, owner: string | undefined): SavedMessage {
  const { id, type, key, by, data } = message;
  return {
    number: place.number,
    id,
    type,
    atMs,
    data,
    ...(key === undefined ? {} : { key }),
    ...(owner === undefined ? {} : { owner }),
    ...(by === undefined ? {} : { by }),
    ...(except === undefined ? {} : { except }),
  };
}

interface Keyed {
  readonly logged: LoggedMessage;
  readonly owner: string | undefined;
}
