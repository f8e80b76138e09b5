import type { ChannelName } from '@nine-bells/wire';
import { LatestFrame } from '../delivery/latestFrame.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Frame } from '../model/frame.js';
import type { Growth, MarkState } from '../model/mark.js';
import type { Clock } from '../ports/clock.js';
import { growthTopic, type Relay, type Subscriber } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { MarkStore } from '../ports/stores.js';

/** A user is told of changes at most this often, in milliseconds. */
const everyMs = 1_000;
/** After a message was withdrawn, all who have unread ones in its channel are counted anew: at most this often, in milliseconds. */
const recountMs = 2_000;
/** Counting a user anew after it has blocked others: a second time this soon waits, in milliseconds. */
const recountUserMs = 10_000;
/** What happens together is told together: the first change waits this long, in milliseconds. */
const gatherMs = 50;

/** A session that is told what its user has not read. */
export interface UnreadReader {
  push(frame: Frame): void;
  /** Whether it may know of a channel at all. */
  mayKnow(channel: ChannelName): boolean | Promise<boolean>;
}

export interface UnreadHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly store: Pick<MarkStore, 'unread'>;
  readonly relay: Pick<Relay, 'subscribe' | 'unsubscribe'>;
  readonly report: Report;
  /** Users connected here who do not get what another says in a channel. */
  readonly hidersOf: (other: string, channel: ChannelName) => readonly string[];
}

type Counts = Readonly<Record<string, number>>;

/** A channel in which users who are told have marks. */
interface Counted {
  /** Messages of the channel that count as unread for at least one user, so far. */
  counted: number;
  readonly pairs: Set<Pair>;
  /** Those that nothing new is waiting to be told of. */
  readonly clean: Set<Pair>;
  /** It is counted anew soon. */
  recounting: boolean;
  recountedAtMs: number;
}

/** A user's mark in a channel. */
interface Pair {
  readonly user: UserCounts;
  readonly channel: ChannelName;
  readonly of: Counted;
  /** Messages of the channel that count, but not as unread for this user. Only ever grows. */
  read: number;
  /** What the user was told last. */
  told: number | undefined;
}

interface UserCounts {
  readonly id: string;
  readonly readers: Set<UnreadReader>;
  readonly pairs: Map<ChannelName, Pair>;
  readonly dirty: Set<Pair>;
  /** Channels where the store must be asked how the mark stands. */
  readonly stale: Set<ChannelName>;
  loading: Promise<void> | undefined;
  isLoaded: boolean;
  cancelTelling: (() => void) | undefined;
  telling: boolean;
  toldAtMs: number;
  /** Raised when what counts for the user has changed: what was asked before is asked again. */
  epoch: number;
  recountedAtMs: number;
  cancelRecounting: (() => void) | undefined;
}

/**
 * What the users who are connected here have not read, kept right while messages come.
 *
 * The store knows each count exactly; here only differences are kept, so that a message costs no query: a channel says how
 * many of its messages count, and a user's mark how many of those it has read.
 */
export class Unread implements Subscriber<Growth> {
  readonly #host: UnreadHost;
  readonly #users = new Map<string, UserCounts>();
  readonly #channels = new Map<ChannelName, Counted>();

  constructor(host: UnreadHost) {
    this.#host = host;
  }

  /**
   * Tells a session from now on; gives the counts as they are.
   *
   * @throws {Error} if the store cannot be read
   */
  async follow(id: string, reader: UnreadReader): Promise<Counts> {
    const user = this.#users.get(id) ?? this.#begin(id);
    user.readers.add(reader);
    user.loading ??= this.#load(user);
    try {
      await user.loading;
    } catch (error) {
      user.loading = undefined;
      this.unfollow(id, reader);
      throw error;
    }
    if (!user.readers.has(reader)) return {};
    const counts: Record<string, number> = {};
    for (const [channel, pair] of user.pairs) {
      pair.told ??= unreadOf(pair);
      if (await reader.mayKnow(channel)) counts[channel] = unreadOf(pair);
    }
    return counts;
  }

  unfollow(id: string, reader: UnreadReader): void {
    const user = this.#users.get(id);
    if (user === undefined || !user.readers.delete(reader) || user.readers.size > 0) return;
    this.#users.delete(id);
    user.cancelTelling?.();
    user.cancelRecounting?.();
    for (const pair of user.pairs.values()) this.#release(pair);
  }

  /** A user's mark has moved. */
  marked(id: string, state: MarkState): void {
    const user = this.#users.get(id);
    if (user === undefined) return;
    this.#take(user, state);
    this.#tellLater(user);
  }

  /** What users have not read of a channel counts from now on, which is its first message. */
  begun(users: readonly string[], channel: ChannelName): void {
    for (const id of users) this.#ask(id, channel);
  }

  /** A channel has grown. Hot: once per message of a kept channel. */
  hear({ channel, counted, by, recount }: Growth): void {
    const grown = this.#channels.get(channel);
    if (grown === undefined) return;
    if (recount) this.#recountLater(channel, grown);
    if (by !== undefined && this.#mayCount(by, channel)) this.#ask(by, channel);
    if (counted <= grown.counted) return;
    const grownBy = counted - grown.counted;
    grown.counted = counted;
    if (by !== undefined)
      for (const id of this.#host.hidersOf(by, channel)) {
        const pair = this.#users.get(id)?.pairs.get(channel);
        // It counts for the channel, and not for who does not get it. Of several, some may be by others.
        if (pair !== undefined && grownBy === 1) pair.read += 1;
        else if (this.#mayCount(id, channel)) this.#ask(id, channel);
      }
    for (const pair of grown.clean) {
      pair.user.dirty.add(pair);
      this.#tellLater(pair.user);
    }
    grown.clean.clear();
  }

  /** What channels have grown by meanwhile may not have been heard. */
  lookAgain(): void {
    for (const user of this.#users.values()) for (const channel of user.pairs.keys()) this.#ask(user.id, channel);
  }

  /** What counts for a user has changed: all its channels are counted anew, at once or after a while. */
  recount(id: string): void {
    const user = this.#users.get(id);
    if (user === undefined || user.cancelRecounting !== undefined) return;
    const { clock, wheel } = this.#host;
    const dueMs = user.recountedAtMs + recountUserMs - clock.monotonic();
    if (dueMs <= 0) this.#recountNow(user);
    else user.cancelRecounting = wheel.after(dueMs, () => this.#recountNow(user));
  }

  #recountNow(user: UserCounts): void {
    user.cancelRecounting = undefined;
    user.recountedAtMs = this.#host.clock.monotonic();
    user.epoch += 1;
    for (const pair of user.pairs.values()) {
      pair.read = 0;
      this.#ask(user.id, pair.channel);
    }
  }

  /** Whether a user has a mark in a channel, or its marks are being read and may be from before now. */
  #mayCount(id: string, channel: ChannelName): boolean {
    const user = this.#users.get(id);
    return user !== undefined && (!user.isLoaded || user.pairs.has(channel));
  }

  #begin(id: string): UserCounts {
    const user: UserCounts = {
      id,
      readers: new Set(),
      pairs: new Map(),
      dirty: new Set(),
      stale: new Set(),
      loading: undefined,
      isLoaded: false,
      cancelTelling: undefined,
      telling: false,
      toldAtMs: Number.NEGATIVE_INFINITY,
      epoch: 0,
      recountedAtMs: Number.NEGATIVE_INFINITY,
      cancelRecounting: undefined,
    };
    this.#users.set(id, user);
    return user;
  }

  async #load(user: UserCounts): Promise<void> {
    const states = await this.#host.store.unread(user.id);
    if (this.#users.get(user.id) !== user) return;
    user.isLoaded = true;
    for (const state of states) {
      // What a channel that nobody followed has grown by since the store was read, was not heard.
      if (!this.#channels.has(state.channel)) this.#ask(user.id, state.channel);
      this.#take(user, state);
    }
    for (const pair of user.dirty) pair.of.clean.add(pair);
    user.dirty.clear();
  }

  /** Takes over how a mark stands. What was read late is no step back: what a user has read only grows. */
  #take(user: UserCounts, { channel, place, unread, counted }: MarkState): void {
    const known = user.pairs.get(channel);
    if (place === undefined) {
      if (known === undefined) return;
      user.pairs.delete(channel);
      user.dirty.delete(known);
      this.#release(known);
      return;
    }
    const of = this.#channels.get(channel) ?? this.#open(channel);
    if (counted > of.counted) {
      of.counted = counted;
      for (const pair of of.clean) pair.user.dirty.add(pair);
      of.clean.clear();
    }
    const pair = known ?? { user, channel, of, read: 0, told: undefined };
    pair.read = Math.max(pair.read, counted - unread);
    user.pairs.set(channel, pair);
    of.pairs.add(pair);
    of.clean.delete(pair);
    user.dirty.add(pair);
  }

  #release(pair: Pair): void {
    pair.of.pairs.delete(pair);
    pair.of.clean.delete(pair);
    if (pair.of.pairs.size > 0 || this.#channels.get(pair.channel) !== pair.of) return;
    this.#channels.delete(pair.channel);
    this.#host.relay.unsubscribe(growthTopic(pair.channel));
  }

  #open(channel: ChannelName): Counted {
    const of: Counted = {
      counted: 0,
      pairs: new Set(),
      clean: new Set(),
      recounting: false,
      recountedAtMs: Number.NEGATIVE_INFINITY,
    };
    this.#channels.set(channel, of);
    // What the channel has grown by until it is told of is in the store.
    void this.#host.relay
      .subscribe(growthTopic(channel), this)
      ?.catch((error: unknown) => this.#host.report(error, { event: 'unread-follow-failed', channel }))
      .then(() => {
        for (const { user } of of.pairs) this.#ask(user.id, channel);
      });
    return of;
  }

  /** A message counts no more: the store is asked for those who may not have read it. */
  #recountLater(channel: ChannelName, of: Counted): void {
    if (of.recounting) return;
    of.recounting = true;
    const { clock, wheel } = this.#host;
    wheel.after(Math.max(0, of.recountedAtMs + recountMs - clock.monotonic()), () => {
      of.recounting = false;
      of.recountedAtMs = clock.monotonic();
      for (const pair of of.pairs) if (unreadOf(pair) > 0) this.#ask(pair.user.id, channel);
    });
  }

  /** What only the store knows is asked for before the user is told again. */
  #ask(id: string, channel: ChannelName): void {
    const user = this.#users.get(id);
    if (user === undefined) return;
    user.stale.add(channel);
    this.#tellLater(user);
  }

  #tellLater(user: UserCounts): void {
    if (user.cancelTelling !== undefined || user.telling) return;
    const dueMs = user.toldAtMs + everyMs - this.#host.clock.monotonic();
    user.cancelTelling = this.#host.wheel.after(Math.max(gatherMs, dueMs), () => void this.#tell(user));
  }

  async #tell(user: UserCounts): Promise<void> {
    user.cancelTelling = undefined;
    user.telling = true;
    user.toldAtMs = this.#host.clock.monotonic();
    try {
      await this.#freshen(user);
      if (this.#users.get(user.id) === user) await this.#tellNow(user);
    } catch (error) {
      this.#host.report(error, { event: 'unread-count-failed', user: user.id });
    }
    user.telling = false;
    if (this.#users.get(user.id) === user && (user.dirty.size > 0 || user.stale.size > 0)) this.#tellLater(user);
  }

  async #freshen(user: UserCounts): Promise<void> {
    if (user.stale.size === 0) return;
    const asked = [...user.stale];
    const { epoch } = user;
    user.stale.clear();
    try {
      const states = await this.#host.store.unread(user.id, asked);
      if (user.epoch !== epoch) for (const channel of asked) user.stale.add(channel);
      else for (const state of states) if (this.#users.get(user.id) === user) this.#take(user, state);
    } catch (error) {
      for (const channel of asked) user.stale.add(channel);
      throw error;
    }
  }

  async #tellNow(user: UserCounts): Promise<void> {
    const changed = new Map<ChannelName, number>();
    for (const pair of user.dirty) {
      // What this very user has published meanwhile is looked up first.
      if (user.stale.has(pair.channel)) continue;
      user.dirty.delete(pair);
      pair.of.clean.add(pair);
      const unread = unreadOf(pair);
      if (pair.told !== unread) changed.set(pair.channel, unread);
      pair.told = unread;
    }
    if (changed.size === 0) return;
    for (const reader of user.readers) {
      const counts: Record<string, number> = {};
      for (const [channel, unread] of changed) if (await reader.mayKnow(channel)) counts[channel] = unread;
      if (Object.keys(counts).length > 0)
        reader.push(new LatestFrame('unread', { on: 'unread', counts }, mergedCounts, false));
    }
  }
}

interface CountsPush {
  readonly on: 'unread';
  readonly counts: Counts;
}

function mergedCounts(earlier: CountsPush, later: CountsPush): CountsPush {
  return { on: 'unread', counts: { ...earlier.counts, ...later.counts } };
}

function unreadOf({ of, read }: Pair): number {
  return Math.max(0, of.counted - read);
}
