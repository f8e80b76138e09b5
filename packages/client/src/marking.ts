import type { Cursor } from '@nine-bells/wire';
import { isAfter } from './cursors.js';

/** A mark is sent at most this often for each channel, in milliseconds. */
const everyMs = 1_000;

interface Moving {
  sent: Cursor | undefined;
  waiting: Cursor | undefined;
  timer: ReturnType<typeof setTimeout> | undefined;
}

/**
 * Moves read marks while messages are being read: the first at once, then the latest of each second, so that scrolling
 * through a hundred messages sends two marks.
 */
export class Marking {
  readonly #send: (channel: string, cursor: Cursor) => void;
  readonly #moving = new Map<string, Moving>();

  constructor(send: (channel: string, cursor: Cursor) => void) {
    this.#send = send;
  }

  move(channel: string, cursor: Cursor): void {
    const moving = this.#moving.get(channel) ?? { sent: undefined, waiting: undefined, timer: undefined };
    this.#moving.set(channel, moving);
    if (!isAfter(cursor, moving.waiting ?? moving.sent)) return;
    moving.waiting = cursor;
    if (moving.timer === undefined) this.#sendNow(channel, moving);
  }

  /** The mark was taken away: a later one begins anew. */
  forget(channel: string): void {
    clearTimeout(this.#moving.get(channel)?.timer);
    this.#moving.delete(channel);
  }

  close(): void {
    for (const channel of [...this.#moving.keys()]) this.forget(channel);
  }

  #sendNow(channel: string, moving: Moving): void {
    moving.timer = undefined;
    if (moving.waiting === undefined) return;
    moving.sent = moving.waiting;
    moving.waiting = undefined;
    moving.timer = setTimeout(() => this.#sendNow(channel, moving), everyMs);
    this.#send(channel, moving.sent);
  }
}
