import type { Batch, Connection, Encoding, Engine, Link } from '@nine-bells/core';
import type { Random } from './random.js';
import type { Reached } from './simulatedNetwork.js';

const encoding: Encoding = { encode: (payload) => payload, join: ([first = new Uint8Array()]) => first };

/**
 * A client that does all that its rates permit and means no good: it names hundreds of channels in its hello, asks and does
 * not read, enters and leaves, sends marks and pulses without end, publishes large messages under ever new keys, and comes
 * back when it is closed. It keeps to the protocol, so that it is not simply sent away.
 */
export class HostileClient {
  readonly #name: string;
  readonly #random: Random;
  readonly #engine: () => Reached | undefined;
  #link: UnreadLink | undefined;
  #reached: Engine | undefined;
  #count = 0;
  /** How often it was closed by the service. */
  closings = 0;

  constructor(name: string, random: Random, engine: () => Reached | undefined) {
    this.#name = name;
    this.#random = random;
    this.#engine = engine;
  }

  /** Does something; connects if it has to. */
  act(): void {
    const present = this.#engine();
    if (present === undefined || present.engine !== this.#reached) this.#link = undefined;
    this.#reached = present?.engine;
    const link = this.#link;
    if (link?.near === undefined) {
      if (present !== undefined) this.#connect(present.engine);
      return;
    }
    // A transport that is paused hands over nothing more.
    for (let n = 0; n < 40 && !link.isPaused && link.near !== undefined; n++) this.#send(this.#next());
  }

  #connect(engine: Engine): void {
    this.#link = new UnreadLink(() => {
      this.closings += 1;
    });
    this.#link.near = engine.connect(this.#link);
    const enter = Array.from({ length: 300 }, (_, n) => ({
      channel: this.#channel(n),
      ...this.#random.pick([{}, { last: 1000 }]),
    }));
    this.#send({ do: 'hello', token: this.#name, enter });
  }

  #next(): object {
    const channel = this.#channel(this.#random.between(0, 5_000));
    return this.#random.pick([
      () => ({ do: 'read', channel: 'recent/9', limit: 1000 }),
      () => ({ do: 'enter', channel, last: 1000 }),
      () => ({ do: 'leave', channel }),
      () => ({ do: 'enter', channel: 'recent/9', last: 1000 }),
      () => ({ do: 'publish', channel: 'recent/9', data: 'x'.repeat(2_000), key: `${this.#name} ${this.#count++}` }),
      () => ({ do: 'mark', channel: 'kept/1', cursor: null }),
      () => ({ do: 'unread' }),
      () => ({ do: 'pulse', got: Object.fromEntries(Array.from({ length: 50 }, (_, n) => [this.#channel(n), 'v:1'])) }),
      () => ({ do: 'status', status: 'x'.repeat(500) }),
    ])();
  }

  #channel(n: number): string {
    return `noise/${n}`;
  }

  #send(request: object): void {
    this.#link?.near?.receive(JSON.stringify({ id: ++this.#count, ...request }));
  }
}

/** A connection whose client takes nothing, ever. */
class UnreadLink implements Link {
  readonly transport = 'hostile';
  readonly encoding = encoding;
  readonly remote = '192.0.2.66';
  readonly #closed: () => void;
  /** Absent once it is closed. */
  near: Connection | undefined;
  isPaused = false;
  waitingBytes = 0;

  constructor(closed: () => void) {
    this.#closed = closed;
  }

  write(batch: Batch): void {
    this.waitingBytes += batch.bytes;
  }

  ping(): void {
    this.near?.alive();
  }

  pause(): void {
    this.isPaused = true;
  }

  resume(): void {
    this.isPaused = false;
  }

  close(code: number): void {
    const { near } = this;
    this.near = undefined;
    this.#closed();
    near?.closed(code);
  }
}
