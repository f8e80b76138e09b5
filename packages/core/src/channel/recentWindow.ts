import type { LogBounds, LoggedMessage, LogSlice, Place } from '../model/message.js';
import { answersText } from '../record/replying.js';
import { gapAfter, lastIndexOf, lastWithinBytes, withinBytes } from '../record/slices.js';

export interface RecentWindowHost {
  readonly maxMessages: number;
  /** In characters of the messages' texts. */
  readonly maxChars: number;
  /** Called when the window has grown or shrunk, with the difference in characters. */
  readonly resized: (chars: number) => void;
}

/** The latest messages of a channel, held ready for clients that come back. They have no holes up to the head. */
export class RecentWindow {
  readonly #host: RecentWindowHost;
  #messages: LoggedMessage[] = [];
  /** The characters of all texts, and how many of them `resized` was last told. */
  #chars = 0;
  #reportedChars = 0;

  constructor(host: RecentWindowHost) {
    this.#host = host;
  }

  /** The characters of all texts. */
  get chars(): number {
    return this.#chars;
  }

  /** When the last message was taken in, in milliseconds since the epoch. */
  get lastAtMs(): number | undefined {
    return this.#messages.at(-1)?.atMs;
  }

  latest(count: number): readonly LoggedMessage[] {
    return this.#messages.slice(-count);
  }

  /** Adds the next message. Hot: once per message. */
  add(logged: LoggedMessage): void {
    this.#messages.push(logged);
    const size = logged.size;
    this.#chars += size;
    const { maxMessages, maxChars, resized } = this.#host;
    // Twice the bound, so that cutting is rare.
    if (this.#messages.length > maxMessages * 2 || this.#chars > maxChars * 2) this.cut(maxMessages, maxChars);
    else {
      this.#reportedChars = this.#chars;
      resized(size);
    }
  }

  /** The last message added is a reply: the message with which its thread begins has one more. */
  replied({ reply, place, atMs }: LoggedMessage): void {
    if (reply !== undefined) this.#count(reply.thread, place.number, 1, atMs);
  }

  /** Counts a reply, or that one was withdrawn, at a place; what was read later than that is right already. */
  #count(thread: number, number: number, more: 1 | -1, atMs?: number): void {
    const index = this.#indexOf(thread);
    const root = this.#messages[index];
    const { replies } = root ?? {};
    if (!root?.isMessage || (replies?.number ?? 0) >= number) return;
    const count = Math.max(0, (replies?.count ?? 0) + more);
    this.#put(index, root.with({ replies: { count, number, atMs: atMs ?? replies?.atMs ?? root.atMs } }));
  }

  #indexOf(number: number): number {
    const last = this.#messages.length - 1;
    return last - ((this.#messages[last]?.place.number ?? 0) - number);
  }

  /** A message has been changed by the last one added: it is held as it stands now, and an earlier change of it no more. */
  change(change: LoggedMessage): void {
    const last = this.#messages.length - 1;
    const at = (number: number): number => this.#indexOf(number);
    this.#changeAnswers(change);
    const index = at(change.of as number);
    const target = this.#messages[index];
    if (target !== undefined) {
      // Read from the record after the change, together with it.
      if ((target.revision ?? 0) >= change.place.number) return;
      this.#put(index, change.standing(target));
      if (target.revision !== undefined) this.#void(at(target.revision));
      return;
    }
    this.#void(this.#messages.findIndex((each, index) => index < last && each.isChange && each.of === change.of));
  }

  /** Replies show how the message stands now; of one that was withdrawn nothing is held any more. */
  #changeAnswers(change: LoggedMessage): void {
    let answers: string | undefined;
    for (const [index, each] of this.#messages.entries())
      if (each.reply?.to === change.of && each.isMessage && each.answers !== undefined) {
        answers ??= answersText(change.message);
        this.#put(index, each.with({ answers }));
      }
    if (change.reply !== undefined && change.message.withdrawn)
      this.#count(change.reply.thread, change.place.number, -1);
  }

  #void(index: number): void {
    const earlier = this.#messages[index];
    if (earlier?.isChange) this.#put(index, earlier.voided());
  }

  #put(index: number, logged: LoggedMessage): void {
    const more = logged.size - (this.#messages[index] as LoggedMessage).size;
    this.#messages[index] = logged;
    this.#chars += more;
    this.#reportedChars = this.#chars;
    this.#host.resized(more);
  }

  /** Drops the oldest messages until at most `messages` with at most `chars` characters are left. */
  cut(messages: number, chars: number): void {
    let from = this.#messages.length;
    for (let left = chars; from > 0 && this.#messages.length - from < messages; from--) {
      left -= (this.#messages[from - 1] as LoggedMessage).size;
      if (left < 0) break;
    }
    this.#replace(this.#messages.slice(from));
  }

  /** Drops what is beyond the bounds of a `recent` logbook. */
  trim({ messages, forMs }: LogBounds, nowMs: number): void {
    const { length } = this.#messages;
    const index = this.#messages.findIndex(({ atMs }) => atMs >= nowMs - forMs);
    const from = index === -1 ? length : Math.max(index, length - messages);
    if (from > 0) this.#replace(this.#messages.slice(from));
  }

  clear(): void {
    this.#replace([]);
  }

  /** The messages after a place; `undefined` if the window does not reach back that far. */
  since(after: Place, head: Place, bytes: number): LogSlice | undefined {
    if (gapAfter(after, head.number - this.#messages.length + 1, head) !== undefined) return undefined;
    const missed = head.number - after.number;
    const messages = missed === 0 ? [] : withinBytes(this.#messages.slice(-missed), bytes);
    return { messages, more: messages.length < missed, head };
  }

  /** The last messages, beside changes; `undefined` if the window does not have so many, and the record does. */
  last(count: number, head: Place, bytes: number): LogSlice | undefined {
    const from = lastIndexOf(this.#messages, count);
    if (from === undefined && this.#messages.length < head.number) return undefined;
    const messages = count === 0 ? [] : lastWithinBytes(this.#messages.slice(from ?? 0), bytes);
    return { messages, more: false, head };
  }

  #replace(messages: LoggedMessage[]): void {
    this.#messages = messages;
    this.#chars = sizeOf(messages);
    this.#host.resized(this.#chars - this.#reportedChars);
    this.#reportedChars = this.#chars;
  }
}

/** The characters of messages' texts. */
export function sizeOf(messages: readonly LoggedMessage[]): number {
  return messages.reduce((sum, each) => sum + each.size, 0);
}
