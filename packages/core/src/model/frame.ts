import type { ChannelName } from '@nine-bells/wire';

/**
 * How one kind of transport writes frames. One object per kind, shared by all its connections: what it makes is made
 * once per frame and once per batch.
 */
export interface Encoding {
  /** The complete bytes of one frame on the wire. */
  encode(payload: Uint8Array): Uint8Array;
  /** Encoded frames, one behind the other. */
  join(frames: readonly Uint8Array[]): Uint8Array;
  /** As `encode` and `join` in one, without a buffer for each: for frames that no other connection gets. */
  joinTexts?(texts: readonly string[]): Uint8Array;
}

const utf8 = new TextEncoder();
/** Where texts are measured. */
const scratch = new Uint8Array(16_384);

/** The size of a text in UTF-8, in bytes. */
function utf8Bytes(text: string): number {
  if (text.length * 3 > scratch.length) return utf8.encode(text).length;
  return utf8.encodeInto(text, scratch).written;
}

/** One frame to clients, encoded once per kind of transport however many get it. */
export class Frame {
  readonly text: string;
  /** Whether many connections get it. Frames for one are not looked for in the batches of others. */
  readonly shared: boolean;
  /** The channel whose frame it is: a client removed from the channel no longer gets it. */
  readonly channel: ChannelName | undefined;
  /** Whether it may be left out when a connection is slow. */
  readonly droppable: boolean;
  #payload: Uint8Array | undefined;
  #bytes: number | undefined;
  /** As most connections get it; what others get lies beside. */
  #encoding: Encoding | undefined;
  #encoded: Uint8Array | undefined;
  #others: Map<Encoding, Uint8Array> | undefined;

  constructor(text: string, shared = false, channel?: ChannelName, droppable = false) {
    this.text = text;
    this.shared = shared;
    this.channel = channel;
    this.droppable = droppable;
  }

  get payload(): Uint8Array {
    this.#payload ??= utf8.encode(this.text);
    return this.#payload;
  }

  /** Its size in bytes, without what a transport adds. */
  get bytes(): number {
    // A connection that gets a frame alone needs no payload of its own.
    this.#bytes ??= this.shared || this.#payload !== undefined ? this.payload.length : utf8Bytes(this.text);
    return this.#bytes;
  }

  encoded(encoding: Encoding): Uint8Array {
    if (this.#encoding === encoding) return this.#encoded as Uint8Array;
    let encoded = this.#others?.get(encoding);
    if (encoded !== undefined) return encoded;
    encoded = encoding.encode(this.payload);
    if (this.#encoding === undefined) {
      this.#encoding = encoding;
      this.#encoded = encoded;
    } else {
      this.#others ??= new Map();
      this.#others.set(encoding, encoded);
    }
    return encoded;
  }
}

/**
 * The frames that wait for a connection, in order: immutable, and the same object for all connections whose pending
 * frames are equal, so that joining them into one buffer is done once.
 */
export class Batch {
  readonly length: number;
  readonly bytes: number;
  readonly #before: Batch | undefined;
  readonly #frame: Frame | undefined;
  #lastFrame: Frame | undefined;
  #lastNext: Batch | undefined;
  #others: Map<Frame, Batch> | undefined;
  /** The batch that was added last, and both together. */
  #lastAdded: Batch | undefined;
  #lastSum: Batch | undefined;
  /** By kind of transport. */
  #joined: Map<Encoding, Uint8Array> | undefined;

  /** Without arguments: a new empty batch, the root of all batches of a turn. */
  constructor(before?: Batch, frame?: Frame) {
    this.#before = before;
    this.#frame = frame;
    this.length = before === undefined ? 0 : before.length + 1;
    this.bytes = before === undefined ? 0 : before.bytes + (frame as Frame).bytes;
  }

  /** This batch and one more frame. Hot: called once per delivery. */
  and(frame: Frame): Batch {
    if (this.#lastFrame === frame) return this.#lastNext as Batch;
    if (!frame.shared) return new Batch(this, frame);
    let next = this.#others?.get(frame);
    if (next === undefined) {
      next = new Batch(this, frame);
      if (this.#lastFrame !== undefined) {
        this.#others ??= new Map();
        this.#others.set(this.#lastFrame, this.#lastNext as Batch);
      }
    }
    this.#lastFrame = frame;
    this.#lastNext = next;
    return next;
  }

  /** This batch and then another one. Hot: once per connection, channel and turn. */
  andAll(batch: Batch): Batch {
    if (this.#lastAdded === batch) return this.#lastSum as Batch;
    const sum = batch.frames().reduce<Batch>((all, frame) => all.and(frame), this);
    this.#lastAdded = batch;
    this.#lastSum = sum;
    return sum;
  }

  /** The frames, oldest first. */
  frames(): Frame[] {
    const all = new Array<Frame>(this.length);
    let each: Batch = this;
    for (let i = this.length - 1; i >= 0; i--) {
      all[i] = each.#frame as Frame;
      each = each.#before as Batch;
    }
    return all;
  }

  /** All frames as the transport writes them, in one buffer that is shared and must not be changed. */
  joined(encoding: Encoding): Uint8Array {
    const { joinTexts } = encoding;
    const last = this.#frame as Frame;
    if (this.length === 1) {
      if (last.shared || joinTexts === undefined) return last.encoded(encoding);
      return joinTexts([last.text]);
    }
    let joined = this.#joined?.get(encoding);
    if (joined === undefined) {
      const frames = this.frames();
      joined =
        joinTexts === undefined || frames.some(({ shared }) => shared)
          ? encoding.join(frames.map((frame) => frame.encoded(encoding)))
          : joinTexts(frames.map(({ text }) => text));
      this.#joined ??= new Map();
      this.#joined.set(encoding, joined);
    }
    return joined;
  }
}
