import type { Json } from '@nine-bells/wire';
import type { Holder, PlacedRecord } from '../model/board.js';

/** An entry of a board; without a value, the trace of a removed one. */
export interface Entry {
  readonly name: string;
  readonly number: number;
  readonly value: Json | undefined;
  readonly by: string | undefined;
  readonly session: string | undefined;
  readonly holder: Holder | undefined;
  /** By the clock that never jumps, in milliseconds; `undefined`: it does not end by itself. */
  readonly endsAtMs: number | undefined;
  /** The member of a frame that shows it, as JSON text; made when it is first needed. */
  text: string | undefined;
  before: Entry | undefined;
  next: Entry | undefined;
}

/**
 * The entries of a board, and traces of removed ones, in the order of their last changes. What has changed since a number is
 * found by walking back from the end, whatever the size of the board.
 */
export class EntryList {
  readonly #byName = new Map<string, Entry>();
  /** How many entries sessions hold. */
  readonly #held = new Map<string, number>();
  #last: Entry | undefined;
  #first: Entry | undefined;
  #size = 0;
  /** The highest number of a removal whose trace was dropped. */
  forgotten = 0;

  /** Entries that are there. */
  get size(): number {
    return this.#size;
  }

  /** Whether a session holds entries: those go with it. */
  isHolder(session: string): boolean {
    return this.#held.has(session);
  }

  get(name: string): Entry | undefined {
    const entry = this.#byName.get(name);
    return entry?.value === undefined ? undefined : entry;
  }

  /** The entries that are there, by their last change. */
  *[Symbol.iterator](): Iterator<Entry> {
    for (let each = this.#first; each !== undefined; each = each.next) if (each.value !== undefined) yield each;
  }

  /** What has changed after a number, the latest first. */
  *since(number: number): Iterable<Entry> {
    for (let each = this.#last; each !== undefined && each.number > number; each = each.before) yield each;
  }

  /** Takes a change, the latest of all. */
  take({ entry: name, number, value, by, session, holder, forMs }: PlacedRecord, nowMs: number): void {
    const earlier = this.#byName.get(name);
    if (earlier !== undefined) this.#unlink(earlier);
    this.#count(earlier?.holder, -1);
    this.#count(holder, 1);
    if (earlier?.value !== undefined) this.#size -= 1;
    if (value !== undefined) this.#size += 1;
    const endsAtMs = forMs === undefined ? undefined : nowMs + forMs;
    const entry = {
      name,
      number,
      value,
      by,
      session,
      holder,
      endsAtMs,
      text: undefined,
      before: this.#last,
      next: undefined,
    };
    if (this.#last === undefined) this.#first = entry;
    else this.#last.next = entry;
    this.#last = entry;
    this.#byName.set(name, entry);
    this.#forgetGone();
  }

  clear(number: number): void {
    this.#byName.clear();
    this.#held.clear();
    this.#first = undefined;
    this.#last = undefined;
    this.#size = 0;
    this.forgotten = number;
  }

  /** Drops the oldest traces of removed entries once they outnumber the entries. */
  #forgetGone(): void {
    if (this.#byName.size <= 2 * this.#size + 100) return;
    const left = this.#size + 50;
    for (let each = this.#first; each !== undefined && this.#byName.size > left; each = each.next) {
      if (each.value !== undefined) continue;
      this.#unlink(each);
      this.#byName.delete(each.name);
      this.forgotten = Math.max(this.forgotten, each.number);
    }
  }

  #count(holder: Holder | undefined, more: number): void {
    if (holder === undefined) return;
    const count = (this.#held.get(holder.session) ?? 0) + more;
    if (count > 0) this.#held.set(holder.session, count);
    else this.#held.delete(holder.session);
  }

  #unlink({ before, next }: Entry): void {
    if (before === undefined) this.#first = next;
    else before.next = next;
    if (next === undefined) this.#last = before;
    else next.before = before;
  }
}

/** The member of a frame that shows an entry: its name and value. */
export function memberText(entry: Entry): string {
  entry.text ??= `${JSON.stringify(entry.name)}:${JSON.stringify(entry.value)}`;
  return entry.text;
}
