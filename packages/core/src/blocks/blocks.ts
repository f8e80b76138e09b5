import { refusal } from '@nine-bells/wire';
import type { TimerWheel } from '../lib/timerWheel.js';
import { BlockList, type BlockWish, type KeptBlock } from '../model/block.js';
import type { Clock } from '../ports/clock.js';
import { type Relay, usersTopic } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { BlockStore } from '../ports/stores.js';
import type { RuleMatch } from '../rules/channelRule.js';

/** When to read again what could not be read, in milliseconds. */
const againMs = 1_000;
/** As long as no user keeps another away, it is asked again so often, in milliseconds: a word may have been lost. */
const askAgainMs = 30_000;
/** Users whose blocks are read at once. */
const usersAtOnce = 100;

/** A session that has to know whom its user keeps away. */
export interface BlockingSession {
  readonly user: string;
  /** The list it was given last; absent: not read yet. */
  readonly blocks: BlockList | undefined;
  blocksChanged(list: BlockList): void;
}

export interface BlocksHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly store: BlockStore;
  readonly report: Report;
  /** Most users that one user keeps away. */
  readonly most: number;
  /** The sessions here of a user who is signed in; without one, of all. */
  readonly sessions: (user?: string) => Iterable<BlockingSession>;
  /** The blocks of a user who is connected here have changed. */
  readonly changed: (user: string) => void;
}

/** A list that is being read. */
interface Reading {
  readonly done: Promise<BlockList>;
  /** What is asked meanwhile waits for this one, which begins afterwards. */
  next?: Promise<BlockList>;
}

/**
 * Whom users keep away. The store has it; here are the lists of the users who are connected and have one, read when they come
 * and again when an instance says that they have changed. While no user keeps another away, this costs nothing.
 */
export class Blocks {
  readonly #host: BlocksHost;
  readonly #lists = new Map<string, BlockList>();
  readonly #reading = new Map<string, Reading>();
  /** Who of the users that are connected here keeps a user away. */
  readonly #blockers = new Map<string, Set<string>>();
  /** Whether any user keeps another away; `undefined`: not known. */
  #isUsed: boolean | undefined;
  #askedAtMs = 0;
  /** Users whose lists have changed while those of all are read. */
  #changedMeanwhile: Set<string> | undefined;
  #looking: Promise<void> = Promise.resolve();

  constructor(host: BlocksHost) {
    this.#host = host;
  }

  /** The list of a user who is connected here. @throws {ProblemError} `unavailable` */
  async listFor(user: string): Promise<BlockList> {
    const known = this.#lists.get(user);
    if (known !== undefined) return known;
    return (await this.#hasAny()) ? this.#read(user) : BlockList.empty;
  }

  /** A session has ended. */
  ended(session: BlockingSession): void {
    const { user } = session;
    const list = this.#lists.get(user);
    if (list === undefined || this.#isHere(user, session)) return;
    this.#lists.delete(user);
    this.#unindex(user, list);
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
    return this.#read(user);
  }

  /** Whom a user keeps away, as the store has it. @throws {ProblemError} `unavailable` */
  of(user: string): Promise<BlockList> {
    return this.#read(user);
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
    return [...blockers].filter((user) => this.#lists.get(user)?.hides(other, match.rule));
  }

  /** The blocks of a user have changed, on whichever instance. */
  hear(user: string): void {
    this.#isUsed = true;
    if (this.#isHere(user)) this.#readSoon(user);
  }

  /** Changes may not have been heard. */
  lookAgain(): void {
    if (this.#isUsed === false) this.#isUsed = undefined;
    // One after another.
    this.#looking = this.#looking.then(() => this.#lookAtAll());
  }

  async #lookAtAll(): Promise<void> {
    const { store, wheel, report, sessions } = this.#host;
    try {
      if (!(await this.#hasAny())) return;
      const users = [...new Set([...sessions()].map(({ user }) => user))];
      for (let from = 0; from < users.length; from += usersAtOnce) {
        const some = users.slice(from, from + usersAtOnce);
        const changed = new Set(this.#reading.keys());
        this.#changedMeanwhile = changed;
        const kept = await store.blocks(some);
        // What has changed meanwhile is read by itself, and is newer.
        for (const user of some) if (!changed.has(user)) this.#apply(user, listOf(user, kept));
      }
    } catch (error) {
      report(error, { event: 'blocks-unread' });
      wheel.after(againMs, () => this.lookAgain());
    }
    this.#changedMeanwhile = undefined;
  }

  #readSoon(user: string): void {
    this.#read(user).catch((error: unknown) => {
      this.#host.report(error, { event: 'blocks-unread', user });
      this.#host.wheel.after(againMs, () => {
        if (this.#isHere(user)) this.#readSoon(user);
      });
    });
  }

  /** Reads a list that may have changed; what is asked meanwhile is answered by a reading that began later. */
  #read(user: string): Promise<BlockList> {
    this.#changedMeanwhile?.add(user);
    const current = this.#reading.get(user);
    if (current === undefined) return this.#beginReading(user);
    // One after another: what was read earlier is never applied later.
    const begin = (): Promise<BlockList> => this.#read(user);
    current.next ??= current.done.then(begin, begin);
    return current.next;
  }

  #beginReading(user: string): Promise<BlockList> {
    const done = this.#host.store.blocks([user]).then((kept) => this.#apply(user, listOf(user, kept)));
    const reading: Reading = { done };
    this.#reading.set(user, reading);
    const over = (): void => {
      if (this.#reading.get(user) === reading) this.#reading.delete(user);
    };
    done.then(over, over);
    return done;
  }

  /** Takes over a list, and gives it to the sessions here if it has changed. */
  #apply(user: string, list: BlockList): BlockList {
    const sessions = [...this.#host.sessions(user)];
    const before = this.#lists.get(user) ?? BlockList.empty;
    if (sessions.length === 0) return list;
    if (!before.isSameAs(list)) {
      this.#unindex(user, before);
      if (list.blocks.length === 0) this.#lists.delete(user);
      else this.#lists.set(user, list);
      for (const { user: other } of list.blocks) {
        const blockers = this.#blockers.get(other);
        if (blockers === undefined) this.#blockers.set(other, new Set([user]));
        else blockers.add(user);
      }
    }
    const outdated = sessions.filter(({ blocks }) => blocks !== undefined && !blocks.isSameAs(list));
    for (const session of outdated) session.blocksChanged(list);
    if (outdated.length > 0) this.#host.changed(user);
    return list;
  }

  #unindex(user: string, list: BlockList): void {
    for (const { user: other } of list.blocks) {
      const blockers = this.#blockers.get(other);
      blockers?.delete(user);
      if (blockers?.size === 0) this.#blockers.delete(other);
    }
  }

  /** Whether a user has a session here, beside one. */
  #isHere(user: string, except?: BlockingSession): boolean {
    for (const session of this.#host.sessions(user)) if (session !== except) return true;
    return false;
  }

  async #hasAny(): Promise<boolean> {
    const now = this.#host.clock.monotonic();
    if (this.#isUsed === undefined || (!this.#isUsed && now - this.#askedAtMs > askAgainMs)) {
      this.#askedAtMs = now;
      const found = await this.#host.store.hasBlocks();
      // A first one may have come meanwhile.
      this.#isUsed ||= found;
    }
    return this.#isUsed;
  }
}

function listOf(user: string, kept: readonly KeptBlock[]): BlockList {
  const own = kept.filter((each) => each.user === user);
  return own.length === 0 ? BlockList.empty : new BlockList(own);
}
