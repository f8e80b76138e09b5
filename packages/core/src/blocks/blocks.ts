import { refusal } from '@nine-bells/wire';
import type { TimerWheel } from '../lib/timerWheel.js';
import { BlockList, type BlockWish, type KeptBlock } from '../model/block.js';
import type { Clock } from '../ports/clock.js';
import { type Relay, usersTopic } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { BlockStore } from '../ports/stores.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';

/** When to read again what could not be read, in milliseconds. */
const againMs = 1_000;
/** Users whose blocks are read at once. */
const usersAtOnce = 100;

/** A session whose user keeps others away. */
export interface BlockingSession {
  readonly user: string;
  blocksChanged(list: BlockList): void;
}

export interface BlocksHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly store: BlockStore;
  readonly rules: ChannelRules;
  readonly report: Report;
  /** Most users that one user keeps away. */
  readonly most: number;
  /** The blocks of a user who is connected here have changed. */
  readonly changed: (user: string) => void;
}

/** The blocks of a user who is connected here. */
interface Followed {
  readonly user: string;
  readonly sessions: Set<BlockingSession>;
  /** Absent: not read yet. */
  list: BlockList | undefined;
  /** They may have changed since they were read. */
  stale: boolean;
  reading: Promise<BlockList> | undefined;
}

/**
 * Whom users keep away. The store has it; here are the lists of the users who are connected, read when they come and again
 * when an instance says that they have changed.
 */
export class Blocks {
  readonly #host: BlocksHost;
  readonly #users = new Map<string, Followed>();
  /** Who of the users that are connected here keeps a user away. */
  readonly #blockers = new Map<string, Set<string>>();
  /** Whether any user keeps another away; `undefined`: not known. */
  #isUsed: boolean | undefined;

  constructor(host: BlocksHost) {
    this.#host = host;
  }

  /**
   * Gives the list of a session's user, and tells the session of changes until `unfollow`.
   *
   * @throws {ProblemError} `unavailable`
   */
  async follow(session: BlockingSession): Promise<BlockList> {
    const { user } = session;
    const followed = this.#users.get(user) ?? {
      user,
      sessions: new Set(),
      list: undefined,
      stale: true,
      reading: undefined,
    };
    this.#users.set(user, followed);
    followed.sessions.add(session);
    if (followed.list !== undefined) return followed.list;
    if (!(await this.#hasAny())) {
      followed.list ??= BlockList.empty;
      return followed.list;
    }
    return this.#read(followed);
  }

  unfollow(session: BlockingSession): void {
    const followed = this.#users.get(session.user);
    if (followed === undefined || !followed.sessions.delete(session) || followed.sessions.size > 0) return;
    this.#users.delete(session.user);
    this.#index(followed, undefined);
  }

  /**
   * Blocks or mutes a user for another, or no longer. Idempotent. Gives the user's list; it holds on this instance when the
   * promise resolves, and on the others a moment later.
   *
   * @throws {ProblemError} `bad-value`, `too-many-blocks`, `unavailable`
   */
  async set(wish: Omit<BlockWish, 'atMs' | 'most'>): Promise<BlockList> {
    const { store, clock, relay, most } = this.#host;
    const { user, other } = wish;
    if (user === other) throw refusal('bad-value', 'a user cannot block itself', { where: '/user' });
    await store.block({ ...wish, atMs: clock.now(), most });
    this.#isUsed = true;
    relay.publish(usersTopic, { type: 'blocks', user });
    return this.of(user);
  }

  /** Whom a user keeps away, as the store has it. @throws {ProblemError} `unavailable` */
  async of(user: string): Promise<BlockList> {
    const followed = this.#users.get(user);
    return followed === undefined ? this.#listOf(user, await this.#fetch([user])) : this.#read(followed);
  }

  /** Who of some users has blocked another; those who have only muted it are not among them. */
  async blocking(other: string, users: readonly string[]): Promise<ReadonlySet<string>> {
    if (users.length === 0 || !(await this.#hasAny())) return new Set();
    return new Set(await this.#host.store.blocking(other, users));
  }

  /** Users connected here who do not get what another says in a channel. Hot: once per message of a kept channel. */
  hidersOf(other: string, match: RuleMatch | undefined): readonly string[] {
    const blockers = this.#blockers.get(other);
    if (blockers === undefined || match === undefined || match.rule.marksBlocked) return [];
    return [...blockers].filter((user) => this.#users.get(user)?.list?.hides(other, match.rule));
  }

  /** The blocks of a user have changed, on whichever instance. */
  hear(user: string): void {
    this.#isUsed = true;
    const followed = this.#users.get(user);
    if (followed !== undefined) this.#readSoon(followed);
  }

  /** Changes may not have been heard. */
  lookAgain(): void {
    if (this.#isUsed === false) this.#isUsed = undefined;
    void this.#lookAtAll();
  }

  async #lookAtAll(): Promise<void> {
    const { store, wheel, report } = this.#host;
    const all = [...this.#users.values()].filter(({ list }) => list !== undefined);
    try {
      if (all.length === 0 || !(await this.#hasAny())) return;
      for (let from = 0; from < all.length; from += usersAtOnce) {
        const some = all.slice(from, from + usersAtOnce);
        for (const each of some) each.stale = false;
        const kept = await store.blocks(some.map(({ user }) => user));
        // What has changed meanwhile is read by itself.
        for (const each of some) if (!each.stale) this.#apply(each, this.#listOf(each.user, kept));
      }
    } catch (error) {
      report(error, { what: 'whom users keep away could not be read' });
      wheel.after(againMs, () => void this.#lookAtAll());
    }
  }

  #readSoon(followed: Followed): void {
    this.#read(followed).catch((error: unknown) => {
      this.#host.report(error, { what: 'whom a user keeps away could not be read', user: followed.user });
      this.#host.wheel.after(againMs, () => {
        if (this.#users.get(followed.user) === followed) this.#readSoon(followed);
      });
    });
  }

  /** Reads a list that may have changed; what is asked meanwhile is answered by a reading that began later. */
  #read(followed: Followed): Promise<BlockList> {
    followed.stale = true;
    followed.reading ??= this.#readWhileStale(followed).finally(() => {
      followed.reading = undefined;
    });
    return followed.reading;
  }

  async #readWhileStale(followed: Followed): Promise<BlockList> {
    for (;;) {
      followed.stale = false;
      const list = this.#listOf(followed.user, await this.#fetch([followed.user]));
      if (!followed.stale) return this.#apply(followed, list);
    }
  }

  async #fetch(users: readonly string[]): Promise<readonly KeptBlock[]> {
    return this.#host.store.blocks(users);
  }

  #listOf(user: string, kept: readonly KeptBlock[]): BlockList {
    const own = kept.filter((each) => each.user === user);
    return own.length === 0 ? BlockList.empty : new BlockList(own);
  }

  #apply(followed: Followed, list: BlockList): BlockList {
    const { list: before, sessions, user } = followed;
    if (before?.isSameAs(list)) return before;
    followed.list = list;
    if (this.#users.get(user) !== followed) return list;
    this.#index(followed, before);
    if (before === undefined) return list;
    for (const session of sessions) session.blocksChanged(list);
    this.#host.changed(user);
    return list;
  }

  /** Notes by whom users are kept away, after a list has changed or its user has gone. */
  #index({ user, list = BlockList.empty }: Followed, before: BlockList | undefined): void {
    for (const { user: other } of (this.#users.has(user) ? before : list)?.blocks ?? []) {
      const blockers = this.#blockers.get(other);
      blockers?.delete(user);
      if (blockers?.size === 0) this.#blockers.delete(other);
    }
    if (!this.#users.has(user)) return;
    for (const { user: other } of list.blocks) {
      const blockers = this.#blockers.get(other);
      if (blockers === undefined) this.#blockers.set(other, new Set([user]));
      else blockers.add(user);
    }
  }

  async #hasAny(): Promise<boolean> {
    if (this.#isUsed === undefined) {
      const found = await this.#host.store.hasBlocks();
      // A first one may have come meanwhile.
      this.#isUsed ||= found;
    }
    return this.#isUsed;
  }
}
