import type { ChannelName } from '@nine-bells/wire';
import type { LoggedMessage, LogSlice, Place } from '../model/message.js';
import type { Report } from '../ports/report.js';
import type { LogReader } from '../ports/stores.js';
import { startOf } from '../record/slices.js';

/** Messages read at once from the record. */
export const readMessages = 1000;
/** How long to wait before a record that could not be read is tried again, in milliseconds. */
export const retryMs = 500;
/** How long a missing message may still come by itself, where several instances publish, in milliseconds. */
const patienceMs = 20;
/** How long a message that the record has may still be on its way here, in milliseconds. */
const lateMs = 100;

/** What gets the messages in order: the channel. */
export interface SequencerOutput {
  /** Takes the next message. */
  pass(logged: LoggedMessage): void;
  /** The messages after `after` are lost or expired: the channel goes on at the beginning of `slice`. */
  startOver(after: Place, slice: LogSlice): void;
  /** The relay has handed over nothing for a while. */
  signalsMissed(): void;
}

export interface SequencerHost {
  readonly channel: ChannelName;
  readonly log: LogReader;
  readonly report: Report;
  /** Calls back later, unless the returned function is called before. */
  readonly after: (delayMs: number, act: () => void) => () => void;
  /** Several instances publish, and their messages may overtake each other on the way here. */
  readonly isShared: boolean;
  /** Subscribes to the channel at the relay; a promise where it takes time until nothing is missed. */
  readonly subscribe: () => Promise<void> | undefined;
}

/**
 * The order of a channel on this instance: it takes messages as the relay hands them over, perhaps doubled, late or
 * with holes, passes each on once in the order of the numbers, and fetches from the record what is missing (promises
 * `order` and `no silent loss`).
 */
export class Sequencer {
  readonly #host: SequencerHost;
  readonly #output: SequencerOutput;
  /** The place of the last message passed on. */
  #head: Place | undefined;
  /** Messages that came while the record was being read, or after a hole. */
  #pending: LoggedMessage[] = [];
  #reading: Promise<void> | undefined;
  #subscribing: Promise<void> | undefined;
  #isPatient = false;
  #closed = false;

  constructor(host: SequencerHost, output: SequencerOutput) {
    this.#host = host;
    this.#output = output;
  }

  get head(): Place | undefined {
    return this.#head;
  }

  /** Asks the relay for the channel's messages. */
  subscribe(): void {
    this.#subscribing = this.#host.subscribe();
    this.#subscribing?.then(
      () => {
        this.#subscribing = undefined;
        if (this.#head === undefined) return;
        void this.readOn();
        this.#output.signalsMissed();
      },
      () => this.#host.after(retryMs, () => !this.#closed && this.subscribe()),
    );
  }

  /** Takes messages from the relay. Hot: once per publish. */
  receive(messages: readonly LoggedMessage[]): void {
    for (const each of messages) {
      if (this.#head === undefined || this.#reading !== undefined) this.#pending.push(each);
      else if (this.#follows(each)) {
        this.#pass(each);
        if (this.#pending.length > 0) this.#passPending();
      } else if (!this.#isOld(each)) {
        this.#pending.push(each);
        this.#readOnSoon();
      }
    }
  }

  /** The head of the record was seen at a place: messages up to there that do not come by themselves are read. */
  lookAt(head: Place): void {
    if (this.#head === undefined || !this.isBehind(head)) return;
    this.#host.after(lateMs, () => {
      if (this.#closed || this.#reading !== undefined || !this.isBehind(head)) return;
      // The relay should have handed it over: it may have forgotten the subscription.
      this.subscribe();
      void this.readOn();
    });
  }

  /** Whether a place of the record is beyond the last message passed on. */
  isBehind(place: Place): boolean {
    return place.volume !== this.#head?.volume || place.number > this.#head.number;
  }

  /** Reads on in the record until the pending messages follow. One reading at a time; never rejects. */
  readOn(): Promise<void> {
    this.#reading ??= this.#readUntilWhole().finally(() => {
      this.#reading = undefined;
      if (this.#pending.length > 0 && !this.#closed) this.#host.after(retryMs, () => void this.readOn());
    });
    return this.#reading;
  }

  close(): void {
    this.#closed = true;
  }

  /** Hot: once per message. */
  #pass(logged: LoggedMessage): void {
    this.#head = logged.place;
    this.#output.pass(logged);
  }

  #follows({ place }: LoggedMessage): boolean {
    return place.volume === this.#head?.volume && place.number === this.#head.number + 1;
  }

  #isOld({ place }: LoggedMessage): boolean {
    return place.volume === this.#head?.volume && place.number <= this.#head.number;
  }

  #readOnSoon(): void {
    if (!this.#host.isShared) void this.readOn();
    else if (!this.#isPatient) {
      this.#isPatient = true;
      this.#host.after(patienceMs, () => {
        this.#isPatient = false;
        if (!this.#closed && this.#pending.length > 0) void this.readOn();
      });
    }
  }

  async #readUntilWhole(): Promise<void> {
    const { channel, log, report } = this.#host;
    try {
      if (this.#head === undefined) {
        if (this.#subscribing !== undefined) await this.#subscribing;
        this.#head = await log.head(channel);
        if (this.#passPending()) return;
      }
      for (let advanced = true; advanced && !this.#closed; ) {
        const before: Place = this.#head as Place;
        const slice = await log.since(channel, before, { messages: readMessages, bytes: Number.MAX_SAFE_INTEGER });
        if (slice.gap !== undefined) {
          this.#output.startOver(before, slice);
          this.#head = startOf(slice);
        }
        for (const each of slice.messages) if (this.#follows(each)) this.#pass(each);
        // Messages of another volume belong to a record that is gone.
        this.#pending = this.#pending.filter((each) => each.place.volume === slice.head.volume);
        advanced = !this.#passPending() && slice.messages.length > 0;
      }
    } catch (error) {
      report(error, { event: 'channel-unread', channel });
    }
  }

  /** Passes on the pending messages as far as they follow; `true` if none is left. */
  #passPending(): boolean {
    const pending = this.#pending.sort((a, b) => a.place.number - b.place.number);
    this.#pending = [];
    for (const each of pending) {
      if (this.#follows(each)) this.#pass(each);
      else if (!this.#isOld(each)) this.#pending.push(each);
    }
    return this.#pending.length === 0;
  }
}
