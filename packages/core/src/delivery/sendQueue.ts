import type { ChannelName } from '@nine-bells/wire';
import type { Batch, Frame } from '../model/frame.js';
import type { Link } from '../ports/link.js';
import type { Fanout, Flushable } from './fanout.js';
import { joined } from './latestFrame.js';
import type { SlowReader, WaitingBudget } from './waitingBudget.js';

/** The part of the bound that may be taken when a hail is added. */
const hailsPart = 0.5;
/** The part that must be free after joining what can be joined, or the client is too slow for good. */
const roomPart = 0.125;

/**
 * A bounded queue of frames waiting for one connection.
 *
 * Frames are shared between queues and never copied. Nothing is handed to a transport that still has frames to send,
 * so frames that wait here can be dropped. Above `maxBytes` of pushes, hails are dropped and mergeable frames merged;
 * if that is not enough, the connection is cut off (4900; promise `nobody slows anybody`).
 *
 * Replies do not count against `maxBytes`: a client that comes back may get a long one, and must not be cut off for
 * pushes that come in the meantime. Replies are bounded by `whenBelow`, which the connection awaits before each act,
 * and by the budget of all connections.
 *
 * @param maxBytes - bound on encoded bytes of pushes that wait here, excluding what the transport has already taken
 */
export class SendQueue implements Flushable {
  // What is looked at for each delivery comes first, so that it lies together in memory.
  readonly link: Link;
  #batch: Batch | undefined;
  #held: Frame[] | undefined;
  #pushBytes = 0;
  #closed = false;
  #scheduled = false;
  #isSlow = false;
  /** Frames handed to the transport so far. */
  written = 0;
  #room: (() => void) | undefined;
  readonly #fanout: Fanout;
  readonly #maxBytes: number;
  readonly #owner: SlowReader | undefined;
  readonly #budget: WaitingBudget | undefined;

  /** @param owner - the connection, told to `budget` while it does not take what it is given */
  constructor(link: Link, fanout: Fanout, maxBytes: number, owner?: SlowReader, budget?: WaitingBudget) {
    this.link = link;
    this.#fanout = fanout;
    this.#maxBytes = maxBytes;
    this.#owner = owner;
    this.#budget = budget;
  }

  /** Bytes that wait here. */
  get bytes(): number {
    return this.#batch?.bytes ?? 0;
  }

  /**
   * Adds a push, behind those held back if there are any. If there is no room, cuts its connection off and returns
   * `false`. Hot: once per delivery.
   */
  push(frame: Frame): boolean {
    if (this.#closed) return true;
    // Hails go first: a client that does not keep up gets none, long before it is cut off.
    if (frame.droppable && this.#pushBytes + frame.bytes > this.#maxBytes * hailsPart) {
      this.#fanout.hailsDropped += 1;
      return true;
    }
    this.#pushBytes += frame.bytes;
    if (this.#isSlow) this.#budget?.grew(frame.bytes);
    if (this.#held !== undefined) this.#held.push(frame);
    else this.#add(frame);
    if (this.#pushBytes > this.#maxBytes) this.#makeLess();
    // One push alone always fits: a bound smaller than a message would make it undeliverable for ever.
    const fits = this.#pushBytes <= this.#maxBytes || this.#pushBytes === frame.bytes;
    if (!fits) this.#owner?.cutOff();
    return fits;
  }

  /** As `push`, for all pushes of a turn, in their order. Hot: once per connection, channel and turn. */
  pushAll(batch: Batch): boolean {
    if (this.#closed) return true;
    if (this.#held === undefined && this.#pushBytes + batch.bytes <= this.#maxBytes) {
      this.#batch = this.#batch === undefined ? batch : this.#batch.andAll(batch);
      this.#pushBytes += batch.bytes;
      if (this.#isSlow) this.#budget?.grew(batch.bytes);
      this.#schedule();
      return true;
    }
    for (const frame of batch.frames()) if (!this.push(frame)) return false;
    return true;
  }

  /** Adds a reply; a reply is never held back. */
  reply(frame: Frame): void {
    if (this.#closed) return;
    this.#budget?.grew(frame.bytes);
    this.#add(frame);
  }

  /** From now on holds pushes back, so that a reply that is being made comes before them. */
  hold(): void {
    this.#held ??= [];
  }

  /** Lets go what was held back. */
  release(): void {
    const held = this.#held ?? [];
    this.#held = undefined;
    for (const frame of held) this.#add(frame);
  }

  /** The transport has not taken all that it was given: what can wait is better made later. */
  get isBehind(): boolean {
    return this.#isSlow || this.link.waitingBytes > 0;
  }

  /** So much waits here and in the transport that nothing more should be made for it. */
  get isFull(): boolean {
    return this.bytes + this.link.waitingBytes >= this.#maxBytes;
  }

  /**
   * Resolves when less than `maxBytes` wait here and in the transport, or the queue has been closed; `undefined` if that
   * is so now.
   */
  whenBelow(): Promise<void> | undefined {
    if (this.#closed || !this.isFull) return undefined;
    if (this.link.waitingBytes > 0) this.#setSlow(true);
    return new Promise((resolve) => {
      this.#room = resolve;
    });
  }

  /** Drops the pushes of a channel that wait: a client removed from it gets nothing more of it. */
  drop(channel: ChannelName): void {
    this.#forget((frame) => frame.channel === channel);
  }

  /** Writes what waits, unless the transport is still busy with what it took. */
  flush(): void {
    const batch = this.take();
    if (batch === undefined) return;
    this.link.write(batch);
    this.wrote(false);
  }

  /** Hot: once per connection and turn. */
  take(): Batch | undefined {
    this.#scheduled = false;
    const batch = this.#batch;
    if (this.#closed) return undefined;
    if (this.link.waitingBytes > 0) {
      if (batch !== undefined) this.#setSlow(true);
      return undefined;
    }
    if (batch === undefined) {
      this.#setSlow(false);
      this.#makeRoom();
      return undefined;
    }
    this.#batch = undefined;
    // What is held back still waits.
    this.#pushBytes = this.#held === undefined ? 0 : bytesOf(this.#held);
    this.written += batch.length;
    this.#fanout.bytesOut += batch.bytes;
    this.#fanout.framesOut += batch.length;
    this.#fanout.writes += 1;
    return batch;
  }

  /** Hot: once per connection and turn. */
  wrote(isTaken: boolean): void {
    this.#setSlow(!isTaken && this.link.waitingBytes > 0);
    if (this.#room !== undefined) this.#makeRoom();
  }

  /** Forgets what waits and takes nothing more. */
  close(): void {
    this.#closed = true;
    this.#batch = undefined;
    this.#held = undefined;
    this.#setSlow(false);
    this.#makeRoom();
  }

  #setSlow(isSlow: boolean): void {
    if (this.#isSlow === isSlow) return;
    this.#isSlow = isSlow;
    if (this.#owner === undefined) return;
    if (isSlow) this.#budget?.add(this.#owner);
    else this.#budget?.delete(this.#owner);
  }

  /** Drops the hails, and joins what counts only in its latest form. */
  #makeLess(): void {
    this.#forget((each) => each.droppable);
    if (this.#held !== undefined) this.#held = [...joined(this.#held)];
    const frames = this.#batch?.frames() ?? [];
    const fewer = joined(frames);
    if (fewer.length < frames.length) {
      this.#pushBytes += bytesOf(fewer) - bytesOf(frames);
      this.#batch = fewer.reduce((all, frame) => all.and(frame), this.#fanout.root);
    }
    // Without some room, each further push would go through all of this again.
    if (frames.length > fewer.length && this.#pushBytes > this.#maxBytes * (1 - roomPart))
      this.#pushBytes = this.#maxBytes + 1;
  }

  #forget(isMeant: (frame: Frame) => boolean): void {
    const stays = (frame: Frame): boolean => {
      if (!isMeant(frame)) return true;
      this.#pushBytes = Math.max(0, this.#pushBytes - frame.bytes);
      if (frame.droppable) this.#fanout.hailsDropped += 1;
      return false;
    };
    this.#held = this.#held?.filter(stays);
    const frames = this.#batch?.frames() ?? [];
    const kept = frames.filter(stays);
    if (kept.length < frames.length)
      this.#batch = kept.length === 0 ? undefined : kept.reduce((all, frame) => all.and(frame), this.#fanout.root);
  }

  #add(frame: Frame): void {
    this.#batch = (this.#batch ?? this.#fanout.root).and(frame);
    this.#schedule();
  }

  #schedule(): void {
    if (this.#scheduled) return;
    this.#scheduled = true;
    this.#fanout.schedule(this);
  }

  #makeRoom(): void {
    if (this.#room === undefined || (!this.#closed && this.isFull)) return;
    const room = this.#room;
    this.#room = undefined;
    room?.();
  }
}

function bytesOf(frames: readonly Frame[]): number {
  let bytes = 0;
  for (const frame of frames) bytes += frame.bytes;
  return bytes;
}
