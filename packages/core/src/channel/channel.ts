import { type Author, type ChannelName, formatCursor, type Gap, refusal } from '@nine-bells/wire';
import { ShownMarks } from '../marks/shownMarks.js';
import type { Counts } from '../model/counters.js';
import { type Batch, Frame } from '../model/frame.js';
import { type Hail, hailFrame } from '../model/hail.js';
import type { UserMark } from '../model/mark.js';
import type { LoggedMessage, LogSlice, Place } from '../model/message.js';
import type { Signal } from '../model/signal.js';
import type { Report } from '../ports/report.js';
import type { LogReader } from '../ports/stores.js';
import { Presence } from '../presence/presence.js';
import { Tables, type TablesPorts } from '../presence/tables.js';
import { gapAfter, lastWithinBytes, withinBytes } from '../record/slices.js';
import type { RuleMatch } from '../rules/channelRule.js';

/** Whoever gets a channel's messages: a session's present connection. */
export interface Entrant {
  readonly session: string;
  readonly user: string;
  /** It has ended while it was entering. */
  readonly gone: boolean;
  push(frame: Frame): void;
  /** All that came within a turn. */
  pushAll(batch: Batch): void;
}

/** What an entrant asks for: to go on after a place, the last `n`, or only what comes from now on. */
export type Wish = { readonly after: Place } | { readonly last: number } | 'from-now';

/** What an entrant is given in the moment in which it becomes live. */
export interface CaughtUp {
  readonly cursor: Place;
  readonly messages: readonly LoggedMessage[];
  /** There is more, and the entrant is not live yet. */
  readonly more: boolean;
  readonly gap?: Omit<Gap, 'channel'>;
  /** Where it was found: here, or by reading the record. */
  readonly source: 'memory' | 'log';
}

export interface ChannelPorts {
  /** The channel's record, wherever it is kept. */
  readonly log: LogReader;
  readonly tailMessages: number;
  readonly tailChars: number;
  /** The latest messages held ready have become more or fewer, by so many characters. */
  tailGrew(chars: number): void;
  readonly marksShown: number;
  /** The marks of users in the channel: at most so many. */
  readMarks(limit: number): Promise<readonly UserMark[]>;
  readonly counts: Counts;
  /** Calls back at the end of the turn, before anything is written. */
  gather(act: () => void): void;
  /** Where the batches of this turn begin. */
  root(): Batch;
  /** A message was handed to so many connections here. */
  handed(logged: LoggedMessage, connections: number): void;
  readonly report: Report;
  now(): number;
  /** Calls back later, unless the returned function is called before. */
  after(delayMs: number, act: () => void): () => void;
  /** Somebody has come or has gone for good, where it is shown who is there. */
  noted(channel: Channel, change: 'joined' | 'left', author: Author, isBack: boolean): void;
  /** The last member that this instance shows is gone. */
  empty(channel: Channel): void;
  /** Somebody whom another instance showed, which is not there any more, has not come back. */
  abandoned(channel: Channel, home: string, author: Author): void;
  /** Has the relay hand over the channel; a promise where it takes time until nothing is missed. */
  want(channel: Channel): Promise<void> | undefined;
  /** What the tables of members need, where there are other instances. */
  readonly tables?: Omit<TablesPorts, 'own' | 'take' | 'replace'>;
}

/** Messages read at once from the record. */
const readMessages = 1000;
/** How long to wait before a record that could not be read is tried again, in milliseconds. */
const retryMs = 500;
/** When to ask again for what had no room in a reply, in milliseconds. */
const fullAgainMs = 100;
/** How long what is missing may still come by itself, where several instances publish, in milliseconds. */
const patienceMs = 20;
/** How long what the record has may still be on its way here, in milliseconds. */
const lateMs = 100;

/**
 * A channel that somebody on this instance has entered: who gets its messages, and how far they have got.
 *
 * Messages come from the relay, perhaps doubled, late or with holes. The channel passes each on once, in the order of
 * the numbers, and fetches from the record what is missing (promises 1 and 2).
 */
export class Channel {
  readonly name: ChannelName;
  readonly match: RuleMatch;
  readonly #ports: ChannelPorts;
  readonly #entrants = new Set<Entrant>();
  /** The last message that was passed on. */
  #head: Place | undefined;
  /** The latest messages passed on, without holes up to the head. */
  #tail: LoggedMessage[] = [];
  /** The characters of their texts, now and as reported last to the bound of all channels. */
  #tailChars = 0;
  #toldChars = 0;
  /** What came within this turn, and is handed to everybody together at its end. */
  #turn: Frame[] | undefined;
  /** What came while the record was being read. */
  #pending: LoggedMessage[] = [];
  #reading: Promise<void> | undefined;
  #closed = false;
  /** The relay hands over the channel from then on. */
  #wanted: Promise<void> | undefined;
  #isPatient = false;
  /** Calls of `enter` under way. */
  #entering = 0;
  /** Who is here, where that is shown. */
  readonly presence: Presence | undefined;
  /** Which instance shows whom, where there are several. */
  readonly tables: Tables | undefined;
  /** How far users have read, where that is shown. */
  readonly marks: ShownMarks | undefined;
  /** Nobody is left, and the engine waits a while before it closes the channel. */
  lingers = false;

  constructor(name: ChannelName, match: RuleMatch, ports: ChannelPorts) {
    this.name = name;
    this.match = match;
    this.#ports = ports;
    const { presence, showsMarks } = match.rule;
    const tell = (frame: Frame): void => {
      this.#handOver();
      for (const entrant of this.#entrants) entrant.push(frame);
    };
    if (showsMarks)
      this.marks = new ShownMarks(name, ports.marksShown, { read: ports.readMarks, after: ports.after, tell });
    if (presence !== undefined) {
      const here = new Presence(name, presence, {
        now: ports.now,
        after: ports.after,
        tell,
        noted: (change, author, isBack) => ports.noted(this, change, author, isBack),
        empty: () => ports.empty(this),
        changed: (change) => this.tables?.changed(change),
        abandoned: (home, author) => ports.abandoned(this, home, author),
      });
      this.presence = here;
      if (ports.tables !== undefined)
        this.tables = new Tables(name, {
          ...ports.tables,
          own: () => here.table,
          take: (home, change) => here.hear(home, change),
          replace: (home, entries) => here.replace(home, entries),
        });
    }
    this.#want();
  }

  get entrants(): number {
    return this.#entrants.size;
  }

  get isUnused(): boolean {
    return this.#entrants.size === 0 && this.#entering === 0 && this.presence?.isEmptyHere !== false;
  }

  get head(): Place | undefined {
    return this.#head;
  }

  /** The characters of the latest messages, which are held ready. */
  get tailChars(): number {
    return this.#tailChars;
  }

  /** When the last message passed on was taken in, in milliseconds since the epoch. */
  get lastAtMs(): number | undefined {
    return this.#tail.at(-1)?.atMs;
  }

  /** Takes messages from the relay. */
  receive(messages: readonly LoggedMessage[]): void {
    for (const each of messages) {
      if (this.#head === undefined || this.#reading !== undefined) this.#pending.push(each);
      else if (this.#follows(each)) {
        this.#passOn(each);
        if (this.#pending.length > 0) this.#takePending();
      } else if (!this.#isOld(each)) {
        this.#pending.push(each);
        this.#readOnSoon();
      }
    }
  }

  /** The record was seen to stand there: what does not come by itself is read. */
  lookAt(head: Place): void {
    if (this.#head === undefined || !this.#isAhead(head)) return;
    this.#ports.after(lateMs, () => {
      if (this.#closed || this.#reading !== undefined || !this.#isAhead(head)) return;
      // The relay should have handed it over: whether it still knows that the channel is wanted is in doubt.
      this.#want();
      void this.#readOn();
    });
  }

  /** An instance is not there any more. */
  gone(holder: string): void {
    this.tables?.forget(holder);
    this.presence?.abandon(holder);
  }

  /** Takes what has no number from the relay. */
  hear(signal: Signal): void {
    if ('mark' in signal) this.marks?.hear(signal);
    else if ('table' in signal) this.tables?.hear(signal);
    else this.#passOnHail(signal);
  }

  #passOnHail(hail: Hail): void {
    this.#handOver();
    const frame = hailFrame(hail);
    const { from, to } = hail;
    for (const entrant of this.#entrants)
      if (entrant.session !== from && (to === undefined || to.includes(entrant.user))) entrant.push(frame);
  }

  /**
   * Gives an entrant what it asks for, and from then on every message.
   *
   * `done` is called in the very turn in which the entrant becomes live, before anything is pushed to it, so that the
   * reply made there comes first. With `more` it has not become live.
   *
   * @param bytes - room for messages; at least one is given. With no room nothing is read, and the reply only has the
   *   cursor to continue from
   * @throws {ProblemError} `unavailable` if the record cannot be read; `busy` if there is no room for the last `n`
   */
  async enter(entrant: Entrant, wish: Wish, bytes: number, done: (caughtUp: CaughtUp) => void): Promise<void> {
    this.#entering += 1;
    try {
      await this.#ready();
      this.#trimTail();
      const given: LoggedMessage[] = [];
      let spare = bytes;
      let gap: CaughtUp['gap'];
      let source: CaughtUp['source'] = 'memory';
      const take = (slice: LogSlice, from: Place): Place => {
        if (slice.gap !== undefined) gap ??= gapOf(from, slice);
        given.push(...slice.messages);
        spare -= sizeOf(slice.messages);
        return slice.messages.at(-1)?.place ?? (slice.gap === undefined ? from : slice.head);
      };
      const finish = (cursor: Place, more: boolean): void => {
        // What came within this turn is in what is given.
        this.#handOver();
        if (more || entrant.gone) this.#entrants.delete(entrant);
        else this.#entrants.add(entrant);
        const messages = given.filter((each) => each.isFor(entrant.session));
        done({ cursor, messages, more, source, ...(gap === undefined ? {} : { gap }) });
      };

      let place = this.#head as Place;
      if (wish !== 'from-now' && 'after' in wish) place = wish.after;
      if (bytes <= 0) {
        const head = this.#head as Place;
        if (wish !== 'from-now' && 'last' in wish && wish.last > 0 && head.number > 0)
          throw refusal('busy', 'there is no room left in this reply', { retryAfterMs: fullAgainMs });
        const isAtHead = place.volume === head.volume && place.number === head.number;
        // Who is there would need room, too.
        finish(place, !isAtHead || this.presence !== undefined || this.marks !== undefined);
        return;
      }
      if (wish !== 'from-now' && 'last' in wish) {
        const slice = this.#lastOfTail(wish.last, spare) ?? (await this.#read(this.#lastOfRecord(wish.last, spare)));
        place = take({ messages: slice.messages, more: false, head: slice.head }, slice.head);
      }
      for (;;) {
        // Nothing is awaited between this look at the tail and becoming live: no message can slip between.
        const slice = this.#sinceInTail(place, Math.max(spare, 1));
        if (slice !== undefined && (slice.messages.length === 0 || spare > 0 || given.length === 0)) {
          finish(take(slice, place), slice.more);
          return;
        }
        if (given.length > 0 && (spare <= 0 || given.length >= readMessages)) {
          finish(place, true);
          return;
        }
        source = 'log';
        const read = await this.#read(
          this.#ports.log.since(this.name, place, { messages: readMessages, bytes: spare }),
        );
        place = take(read, place);
        if (!read.more && this.#isAhead(place)) await this.#readOn();
      }
    } finally {
      this.#entering -= 1;
    }
  }

  leave(entrant: Entrant): void {
    this.#handOver();
    this.#entrants.delete(entrant);
  }

  /** Nothing is read or passed on any more. */
  close(): void {
    this.#closed = true;
    this.presence?.close();
    this.tables?.close();
    this.marks?.close();
    this.#handOver();
    this.#entrants.clear();
    this.#setTail([]);
  }

  // ------------------------------------------------------------------------------------------ passing on

  /** Hot: once per message. */
  #passOn(logged: LoggedMessage): void {
    this.#head = logged.place;
    this.#tail.push(logged);
    const size = logged.text.length;
    this.#tailChars += size;
    const { tailMessages, tailChars } = this.#ports;
    if (this.#tail.length > tailMessages * 2 || this.#tailChars > tailChars * 2) this.cutTail(tailMessages, tailChars);
    else {
      this.#toldChars = this.#tailChars;
      this.#ports.tailGrew(size);
    }
    const frame = logged.toPush();
    this.#ports.handed(logged, this.#entrants.size);
    if (logged.except === undefined) {
      if (this.#turn === undefined) {
        this.#turn = [];
        this.#ports.gather(this.#handOver);
      }
      this.#turn.push(frame);
      return;
    }
    this.#handOver();
    for (const entrant of this.#entrants) {
      if (!logged.isFor(entrant.session)) continue;
      entrant.push(frame);
      this.#ports.counts.deliveries += 1;
    }
  }

  /** Hands what came within the turn to everybody, as one batch that all share. Hot: within it once per connection. */
  readonly #handOver = (): void => {
    const frames = this.#turn;
    if (frames === undefined) return;
    this.#turn = undefined;
    if (this.#entrants.size === 0) return;
    const batch = frames.reduce((all, frame) => all.and(frame), this.#ports.root());
    for (const entrant of this.#entrants) entrant.pushAll(batch);
    this.#ports.counts.deliveries += this.#entrants.size * frames.length;
  };

  #follows(logged: LoggedMessage): boolean {
    return logged.place.volume === this.#head?.volume && logged.place.number === this.#head.number + 1;
  }

  #isOld(logged: LoggedMessage): boolean {
    return logged.place.volume === this.#head?.volume && logged.place.number <= this.#head.number;
  }

  /** Whether a place of the record is beyond what was passed on. */
  #isAhead(place: Place): boolean {
    return place.volume !== this.#head?.volume || place.number > this.#head.number;
  }

  // ---------------------------------------------------------------------------------- reading the record

  /** Waits until the channel knows where it stands. */
  async #ready(): Promise<void> {
    if (this.#head === undefined) await this.#readOn();
    if (this.#head === undefined) throw unreadable();
    const reading = this.marks?.ready();
    if (reading !== undefined) await this.#read(reading);
    const asking = this.tables?.ready();
    if (asking !== undefined) await asking;
  }

  #want(): void {
    this.#wanted = this.#ports.want(this);
    this.#wanted?.then(
      () => {
        this.#wanted = undefined;
        if (this.#head !== undefined) this.#lookAround();
      },
      () => this.#ports.after(retryMs, () => !this.#closed && this.#want()),
    );
  }

  /** The relay has handed over nothing for a while. */
  #lookAround(): void {
    void this.#readOn();
    void this.tables?.pull();
  }

  /** Where several instances publish, their messages may overtake each other on the way here. */
  #readOnSoon(): void {
    if (this.#ports.tables === undefined) void this.#readOn();
    else if (!this.#isPatient) {
      this.#isPatient = true;
      this.#ports.after(patienceMs, () => {
        this.#isPatient = false;
        if (!this.#closed && this.#pending.length > 0) void this.#readOn();
      });
    }
  }

  /** Reads on in the record until what is pending follows. One reading at a time. */
  #readOn(): Promise<void> {
    this.#reading ??= this.#readUntilWhole().finally(() => {
      this.#reading = undefined;
      if (this.#pending.length > 0 && !this.#closed) this.#ports.after(retryMs, () => void this.#readOn());
    });
    return this.#reading;
  }

  async #readUntilWhole(): Promise<void> {
    try {
      if (this.#head === undefined) {
        if (this.#wanted !== undefined) await this.#wanted;
        this.#head = await this.#ports.log.head(this.name);
        if (this.#takePending()) return;
      }
      for (let advanced = true; advanced && !this.#closed; ) {
        const before: Place = this.#head;
        const slice = await this.#ports.log.since(this.name, before, {
          messages: readMessages,
          bytes: Number.MAX_SAFE_INTEGER,
        });
        if (slice.gap !== undefined) this.#startOver(before, slice);
        for (const each of slice.messages) if (this.#follows(each)) this.#passOn(each);
        // What was announced of another volume is of a record that is gone.
        this.#pending = this.#pending.filter((each) => each.place.volume === slice.head.volume);
        advanced = !this.#takePending() && slice.messages.length > 0;
      }
    } catch (error) {
      this.#ports.report(error, { what: 'reading a channel', channel: this.name });
    }
  }

  /** Passes on what is pending as far as it follows; `true` if nothing stays behind. */
  #takePending(): boolean {
    const pending = this.#pending.sort((a, b) => a.place.number - b.place.number);
    this.#pending = [];
    for (const each of pending) {
      if (this.#follows(each)) this.#passOn(each);
      else if (!this.#isOld(each)) this.#pending.push(each);
    }
    return this.#pending.length === 0;
  }

  /** The record was lost, or its next messages are not there any more: everybody live is told. */
  #startOver(after: Place, slice: LogSlice): void {
    const gap = gapOf(after, slice);
    const frame = new Frame(JSON.stringify({ on: 'gap', channel: this.name, ...gap }), true, this.name);
    this.#handOver();
    for (const entrant of this.#entrants) entrant.push(frame);
    this.#ports.counts.gaps[gap.why] += this.#entrants.size;
    this.#setTail([]);
    this.#head = startOf(slice);
  }

  async #read<T>(reading: Promise<T>): Promise<T> {
    try {
      return await reading;
    } catch (error) {
      this.#ports.report(error, { what: 'reading a channel', channel: this.name });
      throw unreadable();
    }
  }

  // --------------------------------------------------------------------------------------------- the tail

  /** Lets go of what a recent logbook's bounds no longer show. */
  #trimTail(): void {
    const { logbook } = this.match.rule;
    if (logbook.keep !== 'recent') return;
    const oldestMs = this.#ports.now() - logbook.bounds.forMs;
    const count = this.#tail.findIndex((each) => each.atMs >= oldestMs);
    const from = count === -1 ? this.#tail.length : Math.max(count, this.#tail.length - logbook.bounds.messages);
    if (from > 0) this.#setTail(this.#tail.slice(from));
  }

  /** Lets go of the oldest messages held ready, until at most so many are left, with at most so many characters. */
  cutTail(messages: number, chars: number): void {
    let from = this.#tail.length;
    for (let left = chars; from > 0 && this.#tail.length - from < messages; from--) {
      left -= (this.#tail[from - 1] as LoggedMessage).text.length;
      if (left < 0) break;
    }
    this.#setTail(this.#tail.slice(from));
  }

  #setTail(tail: readonly LoggedMessage[]): void {
    this.#tail = [...tail];
    const chars = sizeOf(tail);
    this.#ports.tailGrew(chars - this.#toldChars);
    this.#tailChars = chars;
    this.#toldChars = chars;
  }

  /** What came after a place, if the tail reaches back that far. */
  #sinceInTail(after: Place, bytes: number): LogSlice | undefined {
    if (!this.#covers(after)) return undefined;
    const head = this.#head as Place;
    const missed = head.number - after.number;
    const messages = missed === 0 ? [] : withinBytes(this.#tail.slice(-missed), bytes);
    return { messages, more: messages.length < missed, head };
  }

  #covers(after: Place): boolean {
    const head = this.#head as Place;
    return gapAfter(after, head.number - this.#tail.length + 1, head) === undefined;
  }

  #lastOfTail(count: number, bytes: number): LogSlice | undefined {
    const head = this.#head as Place;
    if (count > this.#tail.length && this.#tail.length < head.number) return undefined;
    const messages = count === 0 ? [] : lastWithinBytes(this.#tail.slice(-count), bytes);
    return { messages, more: false, head };
  }

  #lastOfRecord(count: number, bytes: number): Promise<LogSlice> {
    return this.#ports.log.before(this.name, undefined, { messages: count, bytes });
  }
}

function unreadable(): Error {
  return refusal('unavailable', 'the record of the channel cannot be read', { retryAfterMs: retryMs });
}

function gapOf(after: Place, slice: LogSlice): Omit<Gap, 'channel'> {
  return {
    after: formatCursor(after),
    cursor: formatCursor(startOf(slice)),
    why: slice.gap ?? 'expired',
  };
}

/** The place just before the first message of a slice. */
function startOf(slice: LogSlice): Place {
  const first = slice.messages[0]?.place;
  return first === undefined ? slice.head : { volume: first.volume, number: first.number - 1 };
}

function sizeOf(messages: readonly LoggedMessage[]): number {
  return messages.reduce((sum, each) => sum + each.text.length, 0);
}
