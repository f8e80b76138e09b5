import { type ChannelName, defined, formatCursor, type Gap, refusal } from '@nine-bells/wire';
import type { Fanout } from '../delivery/fanout.js';
import type { SendQueue } from '../delivery/sendQueue.js';
import type { Counters } from '../model/counters.js';
import { type Batch, Frame } from '../model/frame.js';
import { type Hail, hailFrame } from '../model/hail.js';
import type { LoggedMessage, LogSlice, Place } from '../model/message.js';
import type { Signal } from '../model/signal.js';
import { type Figures, Flow } from '../model/traffic.js';
import type { Clock } from '../ports/clock.js';
import { channelTopic, type Relay, type Subscriber } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { LogReader } from '../ports/stores.js';
import { startOf } from '../record/slices.js';
import type { Traces } from '../record/traces.js';
import type { RuleMatch } from '../rules/channelRule.js';
import type { ChannelFeature, FeatureSource } from './feature.js';
import { type Filter, FilteredGroups } from './filters.js';
import { RecentWindow, sizeOf } from './recentWindow.js';
import type { Recipient } from './recipient.js';
import { readMessages, retryMs, Sequencer, type SequencerOutput } from './sequencer.js';
import { isOutdatedBy, shownOf } from './shown.js';

/** A client's wish on entering: messages after a place, the last `n`, or only new ones. */
export type Wish = { readonly after: Place } | { readonly last: number } | 'from-now';

/** Messages for a client at the moment when it becomes live. */
export interface CaughtUp {
  readonly cursor: Place;
  readonly messages: readonly LoggedMessage[];
  /** Messages from before these that were changed since, as JSON texts. */
  readonly changes: readonly string[];
  /** There is more, and the client is not live yet. */
  readonly more: boolean;
  readonly gap?: Omit<Gap, 'channel'>;
  /** The characters of all messages that were looked at: with a filter, more than are given. */
  readonly looked?: number;
  /** Source of the messages: the recent window, or the record. */
  readonly source: 'memory' | 'log';
}

/** Dependencies of a channel. */
export interface ChannelHost {
  readonly clock: Clock;
  readonly relay: Relay;
  readonly report: Report;
  readonly fanout: Fanout;
  readonly counters: Counters;
  readonly traces: Traces;
  /** The record of the channel. */
  readonly log: LogReader;
  readonly windowMessages: number;
  readonly windowChars: number;
  /** The recent window has grown or shrunk, by so many characters. */
  readonly windowResized: (chars: number) => void;
  readonly after: (delayMs: number, act: () => void) => () => void;
  readonly features: readonly FeatureSource[];
}

const everything = (): undefined => undefined;
const nothing = { messages: [], changes: [], source: 'memory' } as const;

/** Retry interval for messages that did not fit into a reply, in milliseconds. */
const fullAgainMs = 100;
/** Characters of messages that are looked at for one reply, where only some are wanted. */
const filteredChars = 262_144;
/** How often the record is read for such a reply, and what a message counts for that was passed over there, in characters. */
const filteredReads = 2;
const lookedChars = 50;
/** Interval of `passed` pushes to clients whose filter passes over a channel's messages, in milliseconds. */
const passedEveryMs = 5_000;

/**
 * A channel that a client on this instance has entered: who gets its messages, and which of them are held ready.
 *
 * The relay hands messages to `receive`; a `Sequencer` puts them in order and calls `pass`.
 */
export class Channel implements Subscriber<Signal>, SequencerOutput {
  readonly name: ChannelName;
  readonly match: RuleMatch;
  readonly #host: ChannelHost;
  /** With their queues: what is done for each delivery goes through no other object. */
  readonly #recipients = new Map<Recipient, SendQueue>();
  /** Those that want some of the messages, by what they want. */
  readonly #filtered = new FilteredGroups();
  #cancelPassed: (() => void) | undefined;
  readonly #sequencer: Sequencer;
  readonly #window: RecentWindow;
  readonly #features: readonly ChannelFeature[];
  /** Frames of this turn, which are handed to all recipients together at its end. */
  #turn: Frame[] | undefined;
  /** The frames of this turn that a session is not to get. */
  #excepted: Map<string, Set<Frame>> | undefined;
  /** Calls of `enter` under way. */
  #entering = 0;
  /** What has gone through it here since it was opened, and how much of it the traffic log has counted. */
  readonly flow = new Flow();
  counted: Figures = new Flow();
  /** No client is left, and the engine waits a while before it closes the channel. */
  lingers = false;

  constructor(name: ChannelName, match: RuleMatch, host: ChannelHost) {
    this.name = name;
    this.match = match;
    this.#host = host;
    const { relay, report, after, log } = host;
    this.#window = new RecentWindow({
      maxMessages: host.windowMessages,
      maxChars: host.windowChars,
      resized: host.windowResized,
    });
    const isShared = relay.others !== undefined;
    const subscribe = (): Promise<void> | undefined => relay.subscribe(channelTopic(name), this);
    this.#sequencer = new Sequencer({ channel: name, log, report, after, isShared, subscribe }, this);
    this.#features = host.features.flatMap((source) => source.attach(this) ?? []);
    this.#sequencer.subscribe();
  }

  get recipients(): number {
    return this.#recipients.size + this.#filtered.size;
  }

  get isUnused(): boolean {
    return this.recipients === 0 && this.#entering === 0 && !this.#features.some(({ keepsOpen }) => keepsOpen);
  }

  /** The place of the last message passed on. */
  get head(): Place | undefined {
    return this.#sequencer.head;
  }

  /** The characters of the messages that are held ready. */
  get windowChars(): number {
    return this.#window.chars;
  }

  /** The latest messages that are held ready, oldest first. */
  latest(count: number): readonly LoggedMessage[] {
    return this.#window.latest(count);
  }

  /** Time of the last message passed on, in milliseconds since the epoch. */
  get lastAtMs(): number | undefined {
    return this.#window.lastAtMs;
  }

  // --------------------------------------------------------------------------------------- from the relay

  /** Takes messages from the relay. Hot: once per publish. */
  receive(messages: readonly LoggedMessage[]): void {
    this.#sequencer.receive(messages);
  }

  /** Takes a signal from the relay: a hail, or a change of a feature. */
  hear(signal: Signal): void {
    if ('type' in signal) this.#passOnHail(signal);
    else for (const feature of this.#features) feature.receive(signal);
  }

  /** The head of the record was seen at a place: messages up to there that do not come by themselves are read. */
  lookAt(head: Place): void {
    this.#sequencer.lookAt(head);
  }

  /** Another instance has ended. */
  instanceGone(instanceId: string): void {
    for (const feature of this.#features) feature.instanceGone(instanceId);
  }

  // -------------------------------------------------------------------------------------------- in and out

  /**
   * Gives a client what it asks for, and from then on every message. With `more` the client has not become live.
   *
   * The client's pushes are held back from the turn in which it becomes live: the caller queues its reply, then
   * releases them (`SendQueue.release`), so the reply comes before the first push.
   *
   * @param filterNow - only these messages; what is passed over counts as given, so that a reply looks at a bounded number. It
   *   is asked again in the turn in which the client becomes live
   * @param bytes - room for messages; at least one is given. With no room nothing is read, and the reply only has the
   *   cursor to continue from
   * @throws {ProblemError} `unavailable` if the record cannot be read; `busy` if there is no room for the last `n`
   */
  async enter(
    recipient: Recipient,
    wish: Wish,
    bytes: number,
    filterNow: () => Filter | undefined = everything,
  ): Promise<CaughtUp> {
    this.#entering += 1;
    try {
      await this.#ready();
      if (bytes <= 0) return this.#enterWithoutRoom(recipient, wish, filterNow());
      // With a filter, what is looked at counts.
      const room = filterNow() === undefined ? bytes : Math.min(bytes, filteredChars);
      return await this.#catchUp(recipient, wish, room, filterNow);
    } finally {
      this.#entering -= 1;
    }
  }

  leave(recipient: Recipient): void {
    this.#handOver();
    this.#remove(recipient);
  }

  /** From now on a client gets these messages; it must be there. */
  refilter(recipient: Recipient, filter: Filter | undefined): void {
    this.#handOver();
    if (this.#remove(recipient)) this.#add(recipient, filter);
  }

  /** Returns a client's filter; `undefined` if it gets everything or has not entered. */
  filterFor(recipient: Recipient): Filter | undefined {
    return this.#filtered.filterFor(recipient);
  }

  #add(recipient: Recipient, filter: Filter | undefined): void {
    if (filter === undefined) this.#recipients.set(recipient, recipient.queue);
    else this.#filtered.add(recipient, filter);
  }

  /** Returns whether it was there. */
  #remove(recipient: Recipient): boolean {
    return this.#recipients.delete(recipient) || this.#filtered.delete(recipient);
  }

  /** All recipients. */
  *#all(): Iterable<Recipient> {
    yield* this.#recipients.keys();
    yield* this.#filtered.recipients();
  }

  /** Pushes a frame to all recipients, after the messages of this turn. */
  tell(frame: Frame): void {
    this.#handOver();
    for (const queue of this.#recipients.values()) queue.push(frame);
    for (const { queue } of this.#filtered.recipients()) queue.push(frame);
  }

  /** Nothing is read or passed on any more. */
  close(): void {
    this.#sequencer.close();
    for (const feature of this.#features) feature.close();
    this.#handOver();
    this.#recipients.clear();
    this.#filtered.clear();
    this.#cancelPassed?.();
    this.#window.clear();
  }

  /** Halves the recent window. */
  halveWindow(): void {
    this.#window.cut(this.#host.windowMessages, this.#window.chars / 2);
  }

  /** Waits until the channel knows its head, and each feature what it shows. */
  async #ready(): Promise<void> {
    if (this.head === undefined) await this.#sequencer.readOn();
    if (this.head === undefined) throw unreadable();
    for (const feature of this.#features) {
      const ready = feature.ready();
      if (ready !== undefined) await this.#read(ready);
    }
  }

  #enterWithoutRoom(recipient: Recipient, wish: Wish, filter: Filter | undefined): CaughtUp {
    const head = this.head as Place;
    if (wish !== 'from-now' && 'last' in wish && wish.last > 0 && head.number > 0)
      throw refusal('busy', 'there is no room left in this reply', { retryAfterMs: fullAgainMs });
    const place = wish !== 'from-now' && 'after' in wish ? wish.after : head;
    const isAtHead = place.volume === head.volume && place.number === head.number;
    // What the features show would need room, too.
    const more = !isAtHead || this.#features.length > 0;
    return this.#becomeLive(recipient, { ...nothing, cursor: place, more }, filter);
  }

  async #catchUp(
    recipient: Recipient,
    wish: Wish,
    bytes: number,
    filterNow: () => Filter | undefined,
  ): Promise<CaughtUp> {
    const filter = filterNow();
    this.#trimWindow();
    const given: LoggedMessage[] = [];
    let spare = bytes;
    let gap: CaughtUp['gap'];
    let source: CaughtUp['source'] = 'memory';
    let looked = 0;
    let searchedFrom: number | undefined;
    const take = (slice: LogSlice, from: Place): Place => {
      searchedFrom ??= slice.gap === undefined ? from.number : startOf(slice).number;
      if (slice.gap !== undefined) gap ??= gapOf(from, slice);
      given.push(...slice.messages);
      const size = sizeOf(slice.messages);
      spare -= size;
      looked += size;
      if (slice.upTo !== undefined) {
        looked += (slice.upTo.number - from.number) * lookedChars;
        return slice.upTo;
      }
      return slice.messages.at(-1)?.place ?? (slice.gap === undefined ? from : slice.head);
    };
    const live = (cursor: Place, more: boolean): CaughtUp => {
      const now = filterNow();
      const { messages, changes } = shownOf(given, comesFrom(wish, gap), recipient.session, now);
      return this.#becomeLive(recipient, { cursor, messages, changes, more, source, looked, ...defined({ gap }) }, now);
    };

    let place = this.head as Place;
    const isOutdated = (next: LogSlice): boolean =>
      searchedFrom !== undefined && isOutdatedBy(next, given, { from: searchedFrom, upTo: place.number }, filter);
    if (wish !== 'from-now' && 'after' in wish) place = wish.after;
    else if (wish !== 'from-now') {
      const slice =
        filter === undefined
          ? (this.#window.last(wish.last, place, spare) ?? (await this.#readLast(wish.last, spare)))
          : await this.#lastFitting(wish.last, spare, filter, (chars) => {
              looked += chars;
            });
      const last: LogSlice = { messages: slice.messages, more: false, head: slice.head };
      place = take(last, startOf(last));
    }
    for (let reads = 0; ; reads++) {
      // Nothing is awaited between this look at the window and becoming live: no message can slip between.
      const slice = this.#window.since(place, this.head as Place, Math.max(spare, 1));
      // The client asks again from here and receives the change.
      if (slice !== undefined && isOutdated(slice)) return live(place, true);
      if (slice !== undefined && (slice.messages.length === 0 || spare > 0 || given.length === 0))
        return live(take(slice, place), slice.more);
      if (given.length > 0 && (spare <= 0 || given.length >= readMessages)) return live(place, true);
      if (filter !== undefined && reads >= filteredReads) return live(place, true);
      source = 'log';
      const limit = { messages: readMessages, bytes: spare, ...(filter && { filters: filter.parts }) };
      const read = await this.#read(this.#host.log.since(this.name, place, limit));
      if (isOutdated(read)) return live(place, true);
      place = take(read, place);
      if (!read.more && this.#sequencer.isBehind(place)) await this.#sequencer.readOn();
    }
  }

  #becomeLive(recipient: Recipient, caughtUp: CaughtUp, filter: Filter | undefined): CaughtUp {
    // The messages of this turn are among those given.
    this.#handOver();
    this.#remove(recipient);
    if (!caughtUp.more && !recipient.gone) {
      recipient.queue.hold();
      this.#add(recipient, filter);
    }
    return caughtUp;
  }

  /** The last messages that fit, as far as they are found without looking at more than `bytes` characters. */
  async #lastFitting(count: number, bytes: number, filter: Filter, look: (chars: number) => void): Promise<LogSlice> {
    const found: LoggedMessage[] = [];
    let head: Place | undefined;
    let before: Place | undefined;
    let room = bytes;
    for (let reads = 0; reads < filteredReads && room > 0 && found.length < count; reads++) {
      const limit = { messages: readMessages, bytes: room, filters: filter.parts };
      const slice = await this.#read(this.#host.log.before(this.name, before, limit));
      head ??= slice.head;
      found.unshift(...slice.messages.filter((each) => each.isMessage && filter.fits(each)));
      const size = sizeOf(slice.messages);
      room -= size;
      look(size);
      const from = before ?? slice.head;
      before = slice.upTo ?? slice.messages[0]?.place;
      if (slice.upTo !== undefined) look((from.number - slice.upTo.number) * lookedChars);
      if (before === undefined || !slice.more) break;
    }
    const messages = count === 0 ? [] : found.slice(-count);
    return { messages, more: false, head: head ?? (this.head as Place) };
  }

  // -------------------------------------------------------------------------------------------- passing on

  /** Passes a message on to all recipients. Hot: once per message. */
  pass(logged: LoggedMessage): void {
    this.#window.add(logged);
    if (logged.isVoid) return;
    this.flow.messages += 1;
    const frame = logged.toPush();
    if (logged.reply !== undefined && logged.of === undefined) this.#window.replied(logged);
    const hasQuote = logged.answers !== undefined && this.#filtered.size > 0;
    const bare = hasQuote ? logged.with({ answers: undefined }).toPush() : frame;
    if (logged.of !== undefined) this.#passChange(logged, frame);
    else {
      let handed = this.#recipients.size;
      if (this.#filtered.size > 0) handed += this.#offer(logged, frame, bare);
      this.#host.traces.handed(logged, handed);
    }
    if (this.#turn === undefined) {
      this.#turn = [];
      this.#host.fanout.gather(this.#handOver);
    }
    this.#turn.push(frame);
    if (logged.except === undefined) return;
    this.#excepted ??= new Map();
    for (const session of logged.except) {
      const frames = this.#excepted.get(session);
      if (frames === undefined) this.#excepted.set(session, new Set([frame, bare]));
      else frames.add(frame).add(bare);
    }
  }

  #passChange(change: LoggedMessage, frame: Frame): void {
    this.#window.change(change);
    this.#host.traces.changed(change);
    if (this.#filtered.size === 0) return;
    this.#tellPassedLater();
    this.#filtered.offerChange(change, frame);
  }

  /** Hands the messages of this turn to all recipients, as one batch that they share. Hot: within it once per recipient. */
  readonly #handOver = (): void => {
    const frames = this.#turn;
    if (frames === undefined) return;
    const excepted = this.#excepted;
    this.#turn = undefined;
    this.#excepted = undefined;
    if (this.#recipients.size > 0) this.#give(this.#recipients, frames, excepted);
    if (this.#filtered.size === 0) return;
    for (const { recipients, frames: some } of this.#filtered.take()) this.#give(recipients, some, excepted);
  };

  /** Gives frames to recipients, as one batch that they share. */
  #give(
    recipients: ReadonlyMap<Recipient, SendQueue>,
    frames: readonly Frame[],
    excepted: ReadonlyMap<string, ReadonlySet<Frame>> | undefined,
  ): void {
    const batch = this.#batchOf(frames);
    this.#host.counters.deliveries += recipients.size * frames.length;
    this.flow.deliveries += recipients.size * frames.length;
    this.flow.bytes += recipients.size * batch.bytes;
    if (excepted === undefined) {
      for (const queue of recipients.values()) queue.pushAll(batch);
      return;
    }
    for (const [{ session }, queue] of recipients) {
      const without = excepted.get(session);
      if (without === undefined) {
        queue.pushAll(batch);
        continue;
      }
      const others = frames.filter((frame) => !without.has(frame));
      this.#host.counters.deliveries -= frames.length - others.length;
      if (others.length > 0) queue.pushAll(this.#batchOf(others));
    }
  }

  /** Decides once per filter whether a message is for its clients. Returns the number of these clients. */
  #offer(logged: LoggedMessage, frame: Frame, bare: Frame): number {
    this.#tellPassedLater();
    return this.#filtered.offer(logged, frame, bare);
  }

  #tellPassedLater(): void {
    this.#cancelPassed ??= this.#host.after(passedEveryMs, () => {
      this.#cancelPassed = undefined;
      this.#tellPassed();
    });
  }

  /** Sends the channel's head to clients whose filter passed over messages, so that they reconnect with a late cursor. */
  #tellPassed(): void {
    this.#handOver();
    const { head } = this;
    if (head === undefined) return;
    const text = JSON.stringify({ on: 'passed', channel: this.name, cursor: formatCursor(head) });
    const frame = new Frame(text, true, this.name, true);
    for (const queue of this.#filtered.passedOver()) queue.push(frame);
  }

  #batchOf(frames: readonly Frame[]): Batch {
    return frames.reduce<Batch>((all, frame) => all.and(frame), this.#host.fanout.root);
  }

  /** The record was lost, or its next messages have expired: all recipients are told. */
  startOver(after: Place, slice: LogSlice): void {
    const gap = gapOf(after, slice);
    this.tell(new Frame(JSON.stringify({ on: 'gap', channel: this.name, ...gap }), true, this.name));
    this.#host.counters.gaps[gap.why] += this.recipients;
    this.#window.clear();
  }

  signalsMissed(): void {
    for (const feature of this.#features) feature.signalsMissed();
  }

  #passOnHail(hail: Hail): void {
    this.#handOver();
    const frame = hailFrame(hail);
    const { from, to, by } = hail;
    for (const { session, user, queue, blocks } of this.#all())
      if (session !== from && (to === undefined || to.includes(user)))
        if (by === undefined || !blocks?.hides(by.user, this.match.rule)) queue.push(frame);
  }

  // --------------------------------------------------------------------------------------------- the record

  /** Drops from the window what the bounds of the logbook no longer show. */
  #trimWindow(): void {
    const { logbook } = this.match.rule;
    if (logbook.type === 'recent') this.#window.trim(logbook.bounds, this.#host.clock.settled());
    else if (logbook.retention !== undefined) {
      const { messages = Number.MAX_SAFE_INTEGER, forMs = Number.MAX_SAFE_INTEGER } = logbook.retention;
      this.#window.trim({ messages, forMs }, this.#host.clock.settled());
    }
  }

  #readLast(count: number, bytes: number): Promise<LogSlice> {
    return this.#read(this.#host.log.before(this.name, undefined, { messages: count, bytes }));
  }

  async #read<T>(reading: Promise<T>): Promise<T> {
    try {
      return await reading;
    } catch (error) {
      this.#host.report(error, { event: 'channel-unread', channel: this.name });
      throw unreadable();
    }
  }
}

function unreadable(): Error {
  return refusal('unavailable', 'the record of the channel cannot be read', { retryAfterMs: retryMs });
}

/** The number behind which a client knows nothing of the channel: what was changed behind it, it gets as it stands. */
function comesFrom(wish: Wish, gap: CaughtUp['gap']): number {
  return wish === 'from-now' || 'last' in wish || gap?.why === 'new-volume' ? 0 : wish.after.number;
}

function gapOf(after: Place, slice: LogSlice): Omit<Gap, 'channel'> {
  return { after: formatCursor(after), cursor: formatCursor(startOf(slice)), why: slice.gap ?? 'expired' };
}
