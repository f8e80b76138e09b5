import type { Batch, BulkWriter, Connection, Encoding, Engine, Link } from '@nine-bells/core';
import type { Random } from './random.js';
import type { VirtualClock } from './virtualClock.js';

/** What the client's end of a connection hears. */
export interface FarEnd {
  frame(text: string): void;
  /** The connection has ended, with this code. */
  closed(code: number): void;
}

/** Where a connection leads. */
export interface Reached {
  readonly engine: Engine;
  /** Lets through what comes in, or keeps it until the process goes on. */
  gate?(act: () => void): void;
}

const encoding: Encoding = { encode: (payload) => payload, join: ([first = new Uint8Array()]) => first };

const bulk: BulkWriter = {
  write(batch, links) {
    for (const link of links) link.write(batch);
    return links.every(({ waitingBytes }) => waitingBytes === 0);
  },
};

/** What a broken service would do to the messages of a connection that stays whole: for testing the simulator itself. */
export type Sabotage = 'lose' | 'double' | 'swap';

/** One connection through a network that delays, and may be cut with frames still on their way. */
export class SimulatedLink implements Link {
  readonly transport = 'simulated';
  readonly encoding = encoding;
  /** Of every other one. */
  readonly bulk: BulkWriter | undefined;
  readonly #clock: VirtualClock;
  readonly #random: Random;
  readonly #far: FarEnd;
  readonly #sabotage: Sabotage | undefined;
  #near: Connection | undefined;
  #gate: (act: () => void) => void = (act) => act();
  /** The engine at the other end. */
  reached: Engine | undefined;
  #upMs = 0;
  #downMs = 0;
  #cut = false;
  #waiting = 0;
  /** Takes within moments what it is given. */
  calm = false;

  constructor(clock: VirtualClock, random: Random, far: FarEnd, sabotage?: Sabotage) {
    this.#sabotage = sabotage;
    this.bulk = Math.floor(clock.now()) % 2 === 0 ? bulk : undefined;
    this.#clock = clock;
    this.#random = random;
    this.#far = far;
  }

  /** Reaches the engine after a while. */
  open(engine: () => Reached | undefined): void {
    this.#later('up', () => {
      const present = engine();
      if (present === undefined) this.cut();
      else {
        this.#gate = present.gate ?? this.#gate;
        this.reached = present.engine;
        this.#gate(() => {
          this.#near = present.engine.connect(this);
        });
      }
    });
  }

  get waitingBytes(): number {
    return this.#waiting;
  }

  // The client's end.

  send(text: string): void {
    this.#later('up', () => this.#gate(() => this.#near?.receive(text)));
  }

  /** Says goodbye cleanly. */
  leave(): void {
    this.#later('up', () => {
      this.#cut = true;
      this.#gate(() => this.#near?.closed(1000));
    });
  }

  /** Breaks the connection; each side notices in its own time. */
  cut(): void {
    if (this.#cut) return;
    this.#cut = true;
    this.#clock.setTimer(this.#random.between(0, 3000), () => this.#gate(() => this.#near?.closed(1006)));
    this.#clock.setTimer(this.#random.between(0, 3000), () => this.#far.closed(1006));
  }

  // The service's end.

  write(batch: Batch): void {
    for (const text of this.#sabotaged(batch.frames().map((frame) => frame.text)))
      this.#later('down', () => this.#far.frame(text));
    if (!this.#random.chance(0.2)) return;
    // Now and then the socket does not take all at once.
    this.#waiting = batch.bytes;
    // Some read so slowly that they will be cut off.
    this.#clock.setTimer(
      !this.calm && this.#random.chance(0.03) ? this.#random.between(5_000, 20_000) : this.#random.between(1, 200),
      () => {
        this.#waiting = 0;
        this.#gate(() => this.#near?.drained());
      },
    );
  }

  ping(): void {
    this.#later('up', () => this.#gate(() => this.#near?.alive()));
  }

  pause(): void {}

  resume(): void {}

  close(code: number): void {
    this.#later('down', () => {
      if (this.#cut) return;
      this.#cut = true;
      this.#far.closed(code);
    });
  }

  #sabotaged(texts: string[]): string[] {
    if (this.#sabotage === undefined || !this.#random.chance(0.1)) return texts;
    const messages = texts.filter((text) => text.startsWith('{"on":"message"'));
    const others = texts.filter((text) => !messages.includes(text));
    if (this.#sabotage === 'lose') return [...others, ...messages.slice(1)];
    if (this.#sabotage === 'double') return [...texts, ...messages];
    return [...others, ...messages.reverse()];
  }

  #later(way: 'up' | 'down', act: () => void): void {
    const atMs = Math.max(
      this.#clock.monotonic() + this.#random.between(1, 80),
      way === 'up' ? this.#upMs : this.#downMs,
    );
    if (way === 'up') this.#upMs = atMs;
    else this.#downMs = atMs;
    this.#clock.setTimer(atMs - this.#clock.monotonic(), () => {
      if (!this.#cut) act();
    });
  }
}
