import { type ChannelName, defined, type Json, type Problem, refusal } from '@nine-bells/wire';
import type { ActiveBans } from '../access/activeBans.js';
import { bannedProblem, endedProblem, removedBy } from '../access/moderationProblems.js';
import type { Hooks } from '../hooks/hooks.js';
import { isWithin, readRange } from '../lib/addresses.js';
import { BoundedMap } from '../lib/boundedMap.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Identity } from '../model/access.js';
import type { ModerationTaken } from '../model/control.js';
import {
  type ActiveBan,
  type Actor,
  type AuditEntry,
  type Ban,
  type BanWish,
  type Committing,
  type Effect,
  type EndSilence,
  isActiveBan,
  type ModerationAction,
  type Removal,
  type RemovalWish,
  type Revocation,
  type SignOut,
  type Silence,
  type SilenceWish,
  type Unban,
} from '../model/moderation.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';
import type { Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { ModerationStore } from '../ports/stores.js';
import { ChangeWatch } from './changeWatch.js';

/** A connection, as far as moderation acts on it. */
export interface ModeratedConnection {
  readonly address: string | undefined;
  readonly client:
    | {
        readonly user: string;
        readonly who: Identity;
        isIn(channel: ChannelName): boolean;
        expel(channel: ChannelName, told: ReturnType<typeof removedBy>): void;
        silenced(action: Silence | EndSilence): void;
      }
    | undefined;
  signOut(why: Problem): void;
  revoke(why: Problem): void;
  lookAgain(): void;
}

/** The connections of this instance. */
export interface ModeratedConnections extends Iterable<ModeratedConnection> {
  /** Those of a user who is signed in. */
  of(user: string): ReadonlySet<ModeratedConnection>;
}

export interface ModerationHost {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly store: ModerationStore;
  readonly report: Report;
  readonly bans: ActiveBans;
  readonly connected: ModeratedConnections;
  /** How many connections an action is about, on all instances. */
  readonly concerned: (action: ModerationAction) => Promise<number>;
  /** @throws {ProblemError} `no-such-channel`, `bad-name` */
  readonly checkChannel: (channel: ChannelName) => void;
  readonly hooks: Hooks;
  /** No longer shows a user in any channel here. */
  readonly hide: (user: string) => void;
}

/** How long to wait before bans that could not be read are tried again, in milliseconds. */
const readAgainMs = 1_000;
/** How often the database is asked whether there are changes that were not heard of, in milliseconds. */
const lookMs = 1_500;
/** Most changes that are looked through one by one, to end stays and sessions that they have ended elsewhere. */
const maxMissed = 1_000;

/** Takes moderation actions, has all instances obey them, and makes those of others take effect here. */
export class Moderation {
  readonly #host: ModerationHost;
  readonly #watch = new ChangeWatch();
  /** Number and time of the latest actions applied here. A restored backup numbers new actions like earlier ones. */
  readonly #applied = new BoundedMap<string, true>(maxMissed);
  #ready: Promise<void> | undefined;
  #readingAgain: Promise<void> | undefined;
  /** Readings of what is in force that are under way. */
  #reading = 0;
  #isStopped = false;
  /** What was heard while what is in force is being read: it may not be in what is read. */
  #heardMeanwhile: ModerationAction[] = [];

  constructor(host: ModerationHost) {
    this.#host = host;
  }

  /** Resolves when the bans in force are known. Until then no client is let in. */
  ready(): Promise<void> {
    this.#ready ??= this.#read();
    return this.#ready;
  }

  /**
   * Bans a user or an address, from a channel or from the whole service; connected clients are removed at once.
   *
   * @throws {ProblemError} `no-such-channel`, `bad-value`, `unavailable`
   */
  async ban(wish: BanWish, by: Actor): Promise<Effect<Ban>> {
    if ((wish.user === undefined) === (wish.address === undefined))
      throw refusal('bad-value', 'a ban is of a user or of an address', { where: '/user' });
    if (wish.channel !== undefined) this.#host.checkChannel(wish.channel);
    const { forMs, ...given } = wish;
    const whom = given.address === undefined ? given : { ...given, address: addressOf(given.address) };
    return this.#take({ type: 'ban', ...whom, ...this.#taken(by, wish.reason), ...this.#until(forMs) });
  }

  /**
   * Ends a ban before its time.
   *
   * @throws {ProblemError} `bad-value` if there is no such ban in force; `unavailable`
   */
  unban(id: string, by: Actor, reason?: string): Promise<Effect<Unban>> {
    const ban = this.#host.bans.byId(id);
    if (ban === undefined) throw refusal('no-such-id', 'no ban of this id is in force');
    const { user, channel } = ban;
    const address = ban.type === 'ban' ? ban.address : undefined;
    return this.#take({
      type: 'unban',
      ban: id,
      ...defined({ user, address, channel }),
      ...this.#taken(by, reason),
    });
  }

  /** The bans in force, the latest first. */
  get bans(): readonly ActiveBan[] {
    return this.#host.bans.all;
  }

  /**
   * Ends a user's stay in a channel; with `banMs` it may not come back for so long.
   *
   * @throws {ProblemError} `no-such-channel`, `unavailable`
   */
  remove({ channel, user, reason, banMs }: RemovalWish, by: Actor): Promise<Effect<Removal>> {
    this.#host.checkChannel(channel);
    return this.#take({
      type: 'remove',
      channel,
      user,
      ...this.#taken(by, reason),
      ...this.#until(banMs || undefined),
    });
  }

  /**
   * Lets a user read and not write, or only write now and then, in a channel or in the whole service.
   *
   * @throws {ProblemError} `no-such-channel`, `unavailable`
   */
  silence({ user, channel, everyMs, forMs, reason }: SilenceWish, by: Actor): Promise<Effect<Silence>> {
    if (channel !== undefined) this.#host.checkChannel(channel);
    const taken = { ...this.#taken(by, reason), ...this.#until(forMs) };
    return this.#take({ type: 'silence', user, ...defined({ channel, everyMs }), ...taken });
  }

  /**
   * Ends a silence before its time.
   *
   * @throws {ProblemError} `bad-value` if there is no such silence in force; `unavailable`
   */
  endSilence(id: string, by: Actor, reason?: string): Promise<Effect<EndSilence>> {
    const silence = this.#host.bans.silenceById(id);
    if (silence === undefined) throw refusal('no-such-id', 'no silence of this id is in force');
    const { user, channel } = silence;
    return this.#take({ type: 'end-silence', silence: id, user, ...defined({ channel }), ...this.#taken(by, reason) });
  }

  /** The silences in force, the latest first. */
  get silences(): readonly Silence[] {
    return this.#host.bans.silences;
  }

  /**
   * Ends all sessions of a user and revokes tokens issued until now.
   *
   * @throws {ProblemError} `unavailable`
   */
  signOut(user: string, by: Actor, reason?: string): Promise<Effect<SignOut>> {
    return this.#take({ type: 'sign-out', user, ...this.#taken(by, reason) });
  }

  /**
   * Takes no token of a user any more that was issued until now; connections that were opened with one end.
   *
   * @throws {ProblemError} `unavailable`
   */
  revokeTokens(user: string, by: Actor, reason?: string): Promise<Effect<Revocation>> {
    return this.#take({ type: 'revoke-tokens', user, ...this.#taken(by, reason) });
  }

  /**
   * The revocation of a user's tokens issued until a time, for a store that commits it with something else. `enforce` follows.
   *
   * @param revocation.atMs - milliseconds since the epoch
   */
  revocationOf(revocation: Omit<Revocation, 'type'>): Committing<Revocation> {
    const action = { type: 'revoke-tokens', ...revocation } as const;
    return { action, events: this.#host.hooks.eventsOf(action.type, hookDataOf(action), undefined) };
  }

  /** Has all instances obey a committed action. Idempotent. */
  async enforce({ action, events }: Committing<ModerationAction>): Promise<void> {
    this.#host.hooks.queued(events.map(({ hook }) => hook));
    await this.#host.relay.control.append(action);
  }

  /** The audit log: the last entries before a number, the latest first. */
  audit(before: number | undefined, limit: number, user?: string): Promise<readonly AuditEntry[]> {
    return this.#host.store.audit(before, limit, user);
  }

  /** Makes an action take effect on this instance, in this turn. */
  obey({ change, ...action }: ModerationTaken): void {
    this.#host.bans.take(action);
    if (this.#reading > 0) this.#heardMeanwhile.push(action);
    if (change !== undefined) this.#watch.heard(change);
    this.#carryOut(action, change);
  }

  /** Applies an action to the connections here. Idempotent by `change`: the relay and the database may both deliver it. */
  #carryOut(action: ModerationAction, change: number | undefined): void {
    if (change !== undefined) {
      const key = `${change} ${action.atMs}`;
      if (this.#applied.has(key)) return;
      this.#applied.set(key, true);
    }
    for (const connection of this.concernedHere(action)) {
      if (isActiveBan(action) && action.channel === undefined) connection.signOut(bannedProblem(action));
      else if (action.type === 'sign-out') connection.signOut(endedProblem('signed out', action));
      else if (action.type === 'revoke-tokens') connection.revoke(endedProblem('the token was revoked', action));
      else if (action.type === 'silence' || action.type === 'end-silence') connection.client?.silenced(action);
      else if (action.type === 'ban' || action.type === 'remove') {
        connection.client?.expel(action.channel as ChannelName, removedBy(action));
      }
    }
    if (action.type === 'revoke-tokens' && action.erases) this.#host.hide(action.user);
  }

  /** Some may have been missed: what is in force is read anew, and holds for everyone who is here. */
  readAgain(): Promise<void> {
    this.#readingAgain ??= this.#readMissed()
      .catch((error: unknown) => this.#failed(error))
      .finally(() => {
        this.#readingAgain = undefined;
      });
    return this.#readingAgain;
  }

  /**
   * Reads decisions that are in the database, and of which no instance has told.
   *
   * @throws {ProblemError} `unavailable`
   */
  async catchUp(): Promise<void> {
    if ((await this.#host.store.changes()) > this.#watch.known) await this.readAgain();
  }

  /** Reads nothing any more, and resolves when nothing is being read. */
  async stop(): Promise<void> {
    this.#isStopped = true;
    await this.#readingAgain;
  }

  /**
   * Asks now and then whether there are changes that were not heard of.
   *
   * @param missed - called when there are, after they have taken effect here
   */
  watchChanges(missed: () => void): void {
    const { wheel, store } = this.#host;
    const look = async (): Promise<void> => {
      try {
        if (!this.#watch.look(await store.changes())) return;
        await this.readAgain();
        missed();
      } catch (error) {
        this.#failed(error);
      }
    };
    wheel.after(lookMs, () => void look().finally(() => this.watchChanges(missed)));
  }

  /** The connections here that an action is about. */
  concernedHere(action: ModerationAction): readonly ModeratedConnection[] {
    if (action.type === 'unban') return [];
    const { connected } = this.#host;
    const address = action.type === 'ban' ? action.address : undefined;
    const channel = 'channel' in action ? action.channel : undefined;
    const range = address === undefined ? undefined : readRange(address);
    const isSignOut = action.type === 'sign-out';
    const ofUser = connected.of(action.user ?? '');
    // An operator who is signed out takes along those made up in the workbench.
    return [...(ofUser.size > 0 && !isSignOut ? ofUser : connected)].filter(
      (each) =>
        (range === undefined
          ? each.client?.user === action.user || (isSignOut && each.client?.who.workbench === action.user)
          : each.address !== undefined && isWithin(each.address, range)) &&
        (channel === undefined || each.client?.isIn(channel) === true) &&
        (each.client?.who.observer !== true || isSignOut),
    );
  }

  async #readMissed(): Promise<void> {
    await this.ready();
    const before = this.#watch.known;
    await this.#read();
    if (this.#isStopped) return;
    const count = Math.min(this.#watch.known - before, maxMissed);
    const missed = count === 0 ? [] : await this.#host.store.audit(this.#watch.known + 1, count);
    for (const each of [...missed].reverse()) if (isAboutUser(each)) this.#carryOut(each, each.number);
    for (const connection of [...this.#host.connected]) connection.lookAgain();
  }

  async #read(): Promise<void> {
    const { relay, store, bans, clock, wheel } = this.#host;
    await relay.control.ready();
    this.#reading += 1;
    while (!this.#isStopped) {
      try {
        // In this order: what is committed in between is looked at twice, and not missed.
        const last = await store.changes();
        bans.load(await store.inForce(clock.settled()), this.#heardMeanwhile);
        this.#watch.caughtUp(last);
        break;
      } catch (error) {
        this.#failed(error);
        await new Promise<void>((resolve) => void wheel.after(readAgainMs, resolve));
      }
    }
    this.#reading -= 1;
    if (this.#reading === 0) this.#heardMeanwhile = [];
  }

  /** While it stops, what it reads from may be closed. */
  #failed(error: unknown): void {
    if (!this.#isStopped) this.#host.report(error, { event: 'bans-unread' });
  }

  #taken(by: Actor, reason: string | undefined): { id: string; by: Actor; atMs: number; reason?: string } {
    const { clock, ids } = this.#host;
    return { id: ids.moderation(), by, atMs: clock.now(), ...defined({ reason }) };
  }

  #until(forMs: number | undefined): { untilMs?: number } {
    return forMs === undefined ? {} : { untilMs: this.#host.clock.now() + forMs };
  }

  /** Commits an action, then has all instances obey it. */
  async #take<M extends ModerationAction>(action: M): Promise<Effect<M>> {
    const { store, relay, concerned, hooks } = this.#host;
    // Counted before it takes effect, which no instance that is slow to answer may hold up.
    const counting = concerned(action);
    const events = hooks.eventsOf(action.type, hookDataOf(action), 'channel' in action ? action.channel : undefined);
    const change = await store.take(action, events);
    hooks.queued(events.map(({ hook }) => hook));
    await relay.control.append({ ...action, change });
    return { action, sessions: await counting };
  }
}

/** The data of a moderation action's event for hooks. */
function hookDataOf({ atMs, by, type: _, ...action }: ModerationAction): Json {
  const { untilMs, ...rest } = { untilMs: undefined, ...action };
  const until = untilMs === undefined ? undefined : new Date(untilMs).toISOString();
  return { ...rest, by: { ...by }, at: new Date(atMs).toISOString(), ...defined({ until }) };
}

/** The range of a ban, as it is written in one way only. */
function addressOf(text: string): string {
  try {
    return readRange(text).text;
  } catch (error) {
    throw refusal('bad-value', (error as Error).message, { where: '/address' });
  }
}

/** Whether an entry of the audit log ends something for a user or an address. */
function isAboutUser(entry: AuditEntry): entry is AuditEntry & ModerationAction {
  return ['ban', 'remove', 'silence', 'end-silence', 'sign-out', 'revoke-tokens'].includes(entry.type);
}
