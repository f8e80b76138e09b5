import {
  type ChannelName,
  type Cursor,
  defined,
  type Json,
  type Problem,
  ProblemError,
  refusal,
} from '@nine-bells/wire';
import type { Contracts } from '../contracts/contracts.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import { TokenBucket } from '../lib/tokenBucket.js';
import type { Contract } from '../model/contract.js';
import { Frame } from '../model/frame.js';
import type { Place } from '../model/message.js';
import type { InboxEntry, InboxSlice, KnownUser, NoticeDraft, NoticeWish, UserWord } from '../model/notice.js';
import { availability } from '../model/status.js';
import type { ActivityReader } from '../ports/activity.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';
import { type Relay, usersTopic } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { Store } from '../ports/stores.js';

/** Most users in one call. */
const maxUsers = 10_000;
/** Most characters of all notices of one call. */
const maxChars = 67_108_864;
/** Most users, and most characters, of one commit. */
const portionUsers = 100;
const portionChars = 16_384;
/** Calls that take many commits, waiting or under way: each holds its users and its data. */
const maxLengthyCalls = 16;
/** Questions to all instances about users that are not known here. */
const questionRate = { count: 20, perMs: 1_000 };
/** Longest rest between two portions, in milliseconds. */
const longestRestMs = 100;
/** What a notice has beside its title and its data, in characters. */
const noticeChars = 200;
/** Users met are written down together, this long after the first, in milliseconds. */
const meetEveryMs = 1_000;
/** Who comes again within this time, under the same name and with the same roles, is not written down anew, in milliseconds. */
const meetAgainMs = 600_000;
/** Most users whose last writing is remembered. */
const maxMet = 100_000;

export interface InboxesHost {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly wheel: TimerWheel;
  readonly store: Pick<Store, 'inboxes' | 'users'>;
  readonly relay: Relay;
  readonly report: Report;
  readonly contracts: Contracts;
  /** What the data of notices looks like. */
  readonly contract: Contract | undefined;
  /** Called when no session of the user was told of a notice in time. */
  readonly unreached: ((entry: InboxEntry) => void) | undefined;
  /** Pushes a frame to all sessions here of a user; how many there were. */
  push(user: string, frame: Frame): number;
  /** Members of a channel. */
  membersOf(channel: ChannelName): Promise<readonly string[]>;
  /** Who of some users has blocked another. */
  readonly blocking: (other: string, users: readonly string[]) => Promise<ReadonlySet<string>>;
  /** Who of some users wants to hear of a channel. */
  readonly hearing: (users: readonly string[], channel: ChannelName, isMention: boolean) => Promise<readonly string[]>;
  /** How users stand on all instances. */
  readonly activity: ActivityReader;
  /** The availability of a user here: 0 available, 1 busy, 2 away; `undefined` if it is not connected. */
  availabilityOf(user: string): number | undefined;
}

/** How many were notified. */
export interface Notified {
  readonly id: string;
  /** Users who have it in their inbox now. */
  readonly users: number;
  /** Users who were passed over by a condition. */
  readonly passedOver: number;
  /** Users who were not notified, because something failed on the way; and what. */
  readonly left?: readonly string[];
  readonly problem?: Problem;
}

/** Notices: into the inboxes of users, and to those of their sessions that are connected. */
export class Inboxes {
  readonly #host: InboxesHost;
  /** Notices held back until their users are no longer busy. */
  readonly #held = new Map<string, InboxEntry[]>();
  /** Notices that no session has been told of yet, with what cancels the report to the application. */
  readonly #unreached = new Map<string, Map<string, () => void>>();
  /** Users who came and are not written down yet, and those that are just being written. */
  #met = new Map<string, KnownUser>();
  #beingWritten: ReadonlyMap<string, KnownUser> = new Map();
  /** What was written down of users, and when. */
  readonly #writtenDown = new Map<string, { text: string; atMs: number }>();
  #writing = false;
  /** When the last of the calls that take many commits is over. */
  #lengthy: Promise<void> = Promise.resolve();
  #lengthyCalls = 0;
  readonly #questions: TokenBucket;

  constructor(host: InboxesHost) {
    this.#host = host;
    this.#questions = new TokenBucket(questionRate, host.clock.monotonic());
  }

  /**
   * Notifies users. Resolves when the notices are committed to their inboxes.
   *
   * @throws {ProblemError} `bad-value`, `bad-data`, `too-large`, `busy`, `unavailable`
   */
  async notify(wish: NoticeWish): Promise<Notified> {
    const { clock, ids, store, contract, contracts } = this.#host;
    const dataText = JSON.stringify(wish.data ?? null);
    if (contract !== undefined && !wish.isOwn)
      contracts.checkNotice(contract, { data: wish.data ?? null, chars: dataText.length, where: '/data' });
    const all = await this.#recipients(wish);
    const meant = await this.#meant(all, wish);
    const chars = wish.title.length + dataText.length + noticeChars;
    if (meant.length * chars > maxChars)
      throw refusal(
        'too-large',
        `${meant.length} notices of this size have more than ${maxChars} characters; name fewer users at once, or send less data`,
      );
    const atMs = clock.now();
    const id = ids.message(atMs);
    const draftFor = (user: string, isFirst: boolean): NoticeDraft => ({
      id: isFirst ? id : ids.message(atMs),
      user,
      title: wish.title,
      atMs,
      ...defined({ data: wish.data, key: wish.key }),
      ...(wish.forMs === undefined ? {} : { untilMs: atMs + wish.forMs }),
    });
    const passedOver = all.length - meant.length;
    const portion = Math.max(1, Math.min(portionUsers, Math.floor(portionChars / chars)));
    const notifyAll = async (): Promise<Notified> => {
      // Each portion is a commit of its own: what others publish meanwhile is not held up.
      for (let from = 0; from < meant.length; from += portion) {
        const drafts = meant.slice(from, from + portion).map((user, index) => draftFor(user, from + index === 0));
        const fromMs = clock.monotonic();
        try {
          for (const entry of await store.inboxes.notify(drafts)) this.#tell(entry, wish);
        } catch (error) {
          // What was committed stays, and the caller hears how far it came.
          if (from === 0 || !(error instanceof ProblemError)) throw error;
          return { id, users: from, passedOver, left: meant.slice(from), problem: error.problem };
        }
        if (from + portion < meant.length) await this.#rest(clock.monotonic() - fromMs);
      }
      return { id, users: meant.length, passedOver };
    };
    return meant.length <= portion ? notifyAll() : this.#afterOthers(notifyAll);
  }

  /** Of calls that take many commits, one is under way at a time: together they would leave no room for anything else. */
  #afterOthers<T>(call: () => Promise<T>): Promise<T> {
    if (this.#lengthyCalls >= maxLengthyCalls)
      throw refusal('busy', 'too many notices to many users are under way', { retryAfterMs: 5_000 });
    this.#lengthyCalls += 1;
    const called = this.#lengthy.then(call);
    const over = (): void => {
      this.#lengthyCalls -= 1;
    };
    this.#lengthy = called.then(over, over);
    return called;
  }

  /** Leaves the database to others for as long as it was just used. */
  #rest(ms: number): Promise<void> {
    return new Promise((resolve) => void this.#host.clock.setTimer(Math.min(ms, longestRestMs), resolve));
  }

  #tell(entry: InboxEntry, { holdWhileBusy = false, reachWithinMs }: NoticeWish): void {
    if (reachWithinMs !== undefined) this.#expectReach(entry, reachWithinMs);
    this.#host.relay.publish(usersTopic, {
      type: 'notice',
      entry,
      hold: holdWhileBusy,
      ...(reachWithinMs === undefined ? {} : { by: this.#self }),
    });
  }

  /** The notices in a user's inbox after a place, oldest first. */
  read(user: string, after: Place | undefined, limit: number): Promise<InboxSlice> {
    return this.#host.store.inboxes.inbox(user, after, limit, this.#host.clock.now());
  }

  /** A user as last seen; `undefined` if the service has never met it. */
  async user(id: string): Promise<KnownUser | undefined> {
    return this.justMet(id) ?? (await this.#host.store.users.user(id));
  }

  /** Whether the service has ever met a user; who came to another instance a moment ago may not be written down yet. */
  async isKnown(id: string): Promise<boolean> {
    return (await this.user(id)) !== undefined || (await this.connected([id])).has(id);
  }

  /** Those of some users who are connected to any instance; none, if that is asked for too often. */
  async connected(ids: readonly string[]): Promise<ReadonlySet<string>> {
    // Clients choose the ids, and each question goes to all instances.
    if (this.#questions.take(questionRate, this.#host.clock.monotonic()) > 0) return new Set();
    return new Set((await this.#host.activity.activityOf(ids)).users.keys());
  }

  /** How many notices a user has. */
  countOf(user: string): Promise<InboxSlice> {
    return this.#host.store.inboxes.inbox(user, undefined, 1, this.#host.clock.now());
  }

  /** Ends notices of a user: these, or all. Its other sessions hear of it. */
  async done(user: string, ids: readonly string[] | true): Promise<number> {
    const unread = await this.#host.store.inboxes.done(user, ids, this.#host.clock.now());
    this.#host.relay.publish(usersTopic, { type: 'done', user, ids, unread });
    return unread;
  }

  /** Takes the notice with a key out of a user's inbox, if it is of this message. */
  async retract(user: string, key: string, cursor: Cursor): Promise<void> {
    const notice = await this.#host.store.inboxes.noticeWith(user, key);
    if ((notice?.data as { cursor?: Json } | undefined)?.cursor === cursor)
      await this.done(user, [notice?.id as string]);
  }

  /** Users who had a role when they were seen last. */
  async usersWith(role: string): Promise<readonly string[]> {
    const users = new Set(await this.#host.store.users.usersWith(role));
    // Who came a moment ago is written down soon.
    for (const met of [this.#beingWritten, this.#met])
      for (const { id, roles } of met.values())
        if (roles.includes(role)) users.add(id);
        else users.delete(id);
    return [...users];
  }

  /** A user who came a moment ago and may not be written down yet. */
  justMet(id: string): KnownUser | undefined {
    return this.#met.get(id) ?? this.#beingWritten.get(id);
  }

  /** A user has come: it has what was in its inbox. */
  cameIn(user: string, seen: { name?: string; roles: readonly string[] }): void {
    this.#reached(user);
    const text = JSON.stringify(seen);
    const before = this.#writtenDown.get(user);
    const now = this.#host.clock.monotonic();
    if (before !== undefined && before.text === text && now - before.atMs < meetAgainMs) return;
    if (this.#writtenDown.size >= maxMet) this.#writtenDown.clear();
    this.#writtenDown.set(user, { text, atMs: now });
    this.#met.set(user, { id: user, ...seen, seenAtMs: this.#host.clock.now() });
    if (this.#writing) return;
    this.#writing = true;
    this.#host.wheel.after(meetEveryMs, () => void this.#writeMet());
  }

  /** A user says something else of itself: what was held back for it may be told now. */
  changed(user: string): void {
    const held = this.#held.get(user);
    if (held === undefined || this.#host.availabilityOf(user) === 1) return;
    this.#held.delete(user);
    for (const entry of held) this.#push(entry);
  }

  /** Writes down who was met. */
  async settled(): Promise<void> {
    await this.#writeMet();
  }

  async #recipients({ users, channel, role }: NoticeWish): Promise<readonly string[]> {
    if ([users, channel, role].filter((each) => each !== undefined).length !== 1)
      throw refusal('bad-value', 'say whom by one of `users`, `channel` or `role`', { where: '/users' });
    const all =
      users ?? (channel === undefined ? await this.usersWith(role as string) : await this.#host.membersOf(channel));
    if (users?.length === 0) throw refusal('bad-value', '`users` is empty', { where: '/users' });
    if (all.length > maxUsers) throw refusal('too-large', `at most ${maxUsers} users are notified at once`);
    return [...new Set(all)];
  }

  async #meant(
    all: readonly string[],
    { ifAvailable, unlessLooking, from, heardOf }: NoticeWish,
  ): Promise<readonly string[]> {
    const blockers = from === undefined ? new Set() : await this.#host.blocking(from, all);
    const reached = blockers.size === 0 ? all : all.filter((user) => !blockers.has(user));
    const reachable = heardOf ? await this.#host.hearing(reached, heardOf.channel, heardOf.isMention) : reached;
    if (!ifAvailable && unlessLooking === undefined) return reachable;
    const { users } = await this.#host.activity.activityOf(reachable, unlessLooking);
    return reachable.filter((user) => {
      const activity = users.get(user);
      if (ifAvailable && (activity === undefined || availability(activity.status) !== 0)) return false;
      return unlessLooking === undefined || activity?.isLooking !== true;
    });
  }

  /** This instance's id: the others report to it which notices have reached a session there. */
  get #self(): string {
    return this.#host.relay.others?.self ?? '';
  }

  /** A notice has reached a session on another instance. */
  reachedElsewhere(user: string, id: string): void {
    this.#reached(user, id);
  }

  /** Takes a word from the relay, for those sessions of a user that are here. */
  hear(word: Extract<UserWord, { type: 'notice' | 'done' }>): void {
    if (word.type === 'notice') {
      const { user } = word.entry;
      if (word.hold && this.#host.availabilityOf(user) === 1) this.#hold(word.entry);
      else if (this.#push(word.entry) && word.by !== undefined && word.by !== this.#self)
        this.#host.relay.others?.tell({ type: 'reached', user, id: word.entry.notice.id });
      return;
    }
    const { user, ids, unread } = word;
    const held = this.#held.get(user)?.filter(({ notice }) => ids !== true && !ids.includes(notice.id));
    if (held === undefined || held.length === 0) this.#held.delete(user);
    else this.#held.set(user, held);
    this.#host.push(user, new Frame(JSON.stringify({ on: 'inbox', done: ids, unread }), true));
  }

  /** As in the inbox, one with a key takes the place of the one that has it: what waits for a busy user is bounded by that. */
  #hold(entry: InboxEntry): void {
    const { key } = entry.notice;
    const held = this.#held.get(entry.user)?.filter(({ notice }) => key === undefined || notice.key !== key) ?? [];
    this.#held.set(entry.user, [...held, entry]);
  }

  #push(entry: InboxEntry): boolean {
    const text = JSON.stringify({ on: 'notice', ...entry.notice, unread: entry.unread });
    if (this.#host.push(entry.user, new Frame(text, true)) === 0) return false;
    this.#reached(entry.user, entry.notice.id);
    return true;
  }

  #expectReach(entry: InboxEntry, withinMs: number): void {
    const { user, notice } = entry;
    const waiting = this.#unreached.get(user) ?? new Map<string, () => void>();
    this.#unreached.set(user, waiting);
    waiting.set(
      notice.id,
      this.#host.wheel.after(withinMs, () => void this.#maybeUnreached(entry)),
    );
  }

  /** A user that has connected to another instance in the meantime found the notice in its inbox. */
  async #maybeUnreached(entry: InboxEntry): Promise<void> {
    const { user, notice } = entry;
    const { users } = await this.#host.activity.activityOf([user]);
    if (!this.#unreached.get(user)?.has(notice.id)) return;
    this.#forget(user, notice.id);
    if (!users.has(user) || this.#held.get(user)?.includes(entry)) this.#host.unreached?.(entry);
  }

  #reached(user: string, id?: string): void {
    for (const [each, cancel] of [...(this.#unreached.get(user) ?? [])]) {
      if (id !== undefined && each !== id) continue;
      cancel();
      this.#forget(user, each);
    }
  }

  #forget(user: string, id: string): void {
    const waiting = this.#unreached.get(user);
    waiting?.delete(id);
    if (waiting?.size === 0) this.#unreached.delete(user);
  }

  async #writeMet(): Promise<void> {
    const met = this.#met;
    this.#met = new Map();
    this.#writing = false;
    if (met.size === 0) return;
    this.#beingWritten = met;
    try {
      await this.#host.store.users.meet([...met.values()]);
    } catch (error) {
      for (const user of met.keys()) this.#writtenDown.delete(user);
      this.#host.report(error, { event: 'direct-contact-failed' });
    }
    if (this.#beingWritten === met) this.#beingWritten = new Map();
  }
}
