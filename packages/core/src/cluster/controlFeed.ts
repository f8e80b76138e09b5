import type { ControlEntry } from '../model/control.js';
import type { LoggedMessage, LogSlice, Place } from '../model/message.js';
import type { Clock } from '../ports/clock.js';
import type { ControlLog } from '../ports/relay.js';
import { readCarried } from './carried.js';
import { controlBounds, controlChannel, type Exchange, type Placed } from './exchange.js';
import { cutOff } from './refusals.js';

/** How long the control log may be unread before no new client is let in, in milliseconds. */
const freshMs = 5_000;

export interface ControlFeedHost {
  readonly clock: Clock;
  readonly exchange: Exchange;
  readonly isLinked: () => boolean;
  /** This instance's id. */
  readonly self: () => string;
  /** Rejects if a call takes too long. */
  readonly within: <T>(call: Promise<T>) => Promise<T>;
  readonly failed: (error: unknown) => void;
}

/** The control log: what all instances must hear of, in one order. Read as a channel of its own, from its head on. */
export class ControlFeed implements ControlLog {
  readonly #host: ControlFeedHost;
  #receive: (entry: ControlEntry) => void = () => {};
  #lost: () => void = () => {};
  #place: Place | undefined;
  #readAtMs = Number.NEGATIVE_INFINITY;
  #reading: Promise<void> | undefined;
  /** Entries that could not be written: they have taken effect here, and the others are told later. */
  #unsaid: ControlEntry[] = [];
  readonly #waiters: (() => void)[] = [];

  constructor(host: ControlFeedHost) {
    this.#host = host;
  }

  get isFresh(): boolean {
    return this.#host.clock.monotonic() - this.#readAtMs < freshMs;
  }

  follow(receive: (entry: ControlEntry) => void, lost: () => void): void {
    this.#receive = receive;
    this.#lost = lost;
  }

  async ready(): Promise<void> {
    if (this.#place !== undefined) return;
    await new Promise<void>((resolve) => void this.#waiters.push(resolve));
  }

  async catchUp(): Promise<void> {
    // A reading under way may have had its answer before the call.
    await this.#reading;
    const { clock } = this.#host;
    const sinceMs = clock.monotonic();
    await this.read();
    if (this.#readAtMs < sinceMs) throw new Error('the control log could not be read');
  }

  /** Tells the others as soon as there is a way; here the entry takes effect in any case. */
  async append(entry: ControlEntry): Promise<void> {
    const at = this.#place;
    try {
      const placed = await this.#write(entry);
      if (at === undefined || !this.#has(placed)) await this.read();
      if (!this.#has(placed)) this.#receive(entry);
    } catch {
      this.#unsaid.push(entry);
      this.#receive(entry);
    }
  }

  /** Takes what the exchange has carried. */
  heard(text: string): void {
    for (const each of readCarried(controlChannel, text) ?? []) {
      if (this.#place === undefined || this.#has(each.place)) continue;
      if (each.place.volume !== this.#place.volume || each.place.number !== this.#place.number + 1) {
        void this.read();
        return;
      }
      this.#take(each);
    }
  }

  /** Reads on to the head of the log. One reading at a time; never rejects. */
  read(): Promise<void> {
    this.#reading ??= this.#readNow()
      .catch((error: unknown) => this.#host.failed(error))
      .finally(() => {
        this.#reading = undefined;
      });
    return this.#reading;
  }

  /** The exchange can be reached again: writes what could not be written. */
  resume(): void {
    for (const entry of this.#unsaid.splice(0))
      this.#write(entry).catch(() => {
        this.#unsaid.push(entry);
      });
  }

  async #write(entry: ControlEntry): Promise<Place> {
    const { clock, exchange, isLinked, self, within } = this.#host;
    if (!isLinked()) throw cutOff();
    const atMs = clock.now();
    const id = `${self()}-${atMs}`;
    const tail = JSON.stringify({ id, data: entry }).slice(1);
    const [placed] = await within(exchange.append(controlChannel, [{ id, atMs, tail }], controlBounds));
    return (placed as Placed).place;
  }

  #has(place: Place): boolean {
    return this.#place?.volume === place.volume && this.#place.number >= place.number;
  }

  #take(each: LoggedMessage): void {
    this.#place = each.place;
    // Only instances write there.
    this.#receive(each.message.data as unknown as ControlEntry);
  }

  async #readNow(): Promise<void> {
    const { clock, exchange, within } = this.#host;
    if (this.#place === undefined) {
      this.#place = await within(exchange.head(controlChannel));
      for (const tell of this.#waiters.splice(0)) tell();
    }
    for (let more = true; more; ) {
      const after: Place = this.#place;
      const limit = { messages: 1_000, bytes: 10_000_000 };
      const slice: LogSlice = await within(exchange.since(controlChannel, after, limit, controlBounds));
      // What was heard while this was read is not taken twice.
      for (const each of slice.messages) if (!this.#has(each.place)) this.#take(each);
      if (slice.gap !== undefined) {
        if (slice.messages.length === 0) this.#place = slice.head;
        this.#lost();
      }
      more = slice.more;
    }
    this.#readAtMs = clock.monotonic();
  }
}
