import type { Json } from '@nine-bells/wire';
import type { TimerWheel } from '../lib/timerWheel.js';
import { Frame } from '../model/frame.js';
import type { UserActivity } from '../model/info.js';
import type { InstanceWord } from '../model/instance.js';
import { goodbyeGraceMs } from '../model/presenceRule.js';
import { availability } from '../model/status.js';
import type { Others } from '../ports/relay.js';

/** Changes are told after this long, in milliseconds; that a user has gone, after the grace. */
const tellMs = 250;
const graceMs = 10_000;
/** The other instances are told who is watched here this often, and believe it for so long, in milliseconds. */
const renewMs = 20_000;
const believedMs = 60_000;
/** How long the other instances have to say how a user is, in milliseconds. */
const askWithinMs = 500;

/** A session that is told of a user's status. */
export interface Watcher {
  push(frame: Frame): void;
}

/** The sessions of a user that are connected, as far as its status depends on them. */
export interface Said {
  readonly status: Json | undefined;
}

/**
 * Who watches whose status, and what it was told last. A user's status is that of the most available of its sessions, on
 * whichever instance; `null` while it has none.
 *
 * Instances tell each other which users they watch; only of those the others tell changes.
 */
export class Watching {
  readonly #wheel: TimerWheel;
  readonly #sessionsOf: (user: string) => readonly Said[];
  readonly #others: Others | undefined;
  readonly #watchers = new Map<string, Set<Watcher>>();
  readonly #told = new Map<string, string>();
  readonly #pending = new Map<string, () => void>();
  /** The status of watched users on other instances. */
  readonly #elsewhere = new Map<string, Map<string, Json>>();
  /** Users who are watched on another instance, with what cancels that this is forgotten. */
  readonly #watchedElsewhere = new Map<string, () => void>();
  #renews = false;

  constructor(wheel: TimerWheel, sessionsOf: (user: string) => readonly Said[], others?: Others) {
    this.#wheel = wheel;
    this.#sessionsOf = sessionsOf;
    this.#others = others;
  }

  /** The status of a user now, as far as this instance knows; `null` if it is not connected. */
  statusOf(user: string): Json {
    const here = this.statusHere(user);
    const there = [...(this.#elsewhere.get(user)?.values() ?? [])];
    return [here, ...there].reduce((best, each) => (better(each, best) ? each : best), null);
  }

  /** The status of a user's sessions on this instance; `null` if there are none. */
  statusHere(user: string): Json {
    let best: Said | undefined;
    for (const each of this.#sessionsOf(user))
      if (best === undefined || availability(each.status) < availability(best.status)) best = each;
    return best === undefined ? null : (best.status ?? 'available');
  }

  /** From now on tells the watcher of changes; gives the status as it is. */
  watch(user: string, watcher: Watcher): Json | Promise<Json> {
    const all = this.#watchers.get(user) ?? new Set();
    this.#watchers.set(user, all.add(watcher));
    if (this.#others === undefined || all.size > 1) return this.#beginTelling(user);
    this.#renewLater();
    this.#others.tell({ type: 'watching', users: [user] });
    return this.#askElsewhere([user]).then(() => this.#beginTelling(user));
  }

  unwatch(user: string, watcher: Watcher): void {
    const all = this.#watchers.get(user);
    all?.delete(watcher);
    if (all?.size !== 0) return;
    this.#watchers.delete(user);
    this.#told.delete(user);
    this.#elsewhere.delete(user);
    this.#pending.get(user)?.();
    this.#pending.delete(user);
  }

  /**
   * A user has connected, disconnected, or set a status here.
   *
   * @param left - the user has disconnected with a goodbye, so watchers wait for the short grace only
   */
  changed(user: string, left = false): void {
    if (this.#watchedElsewhere.has(user))
      this.#others?.tell({ type: 'status', user, status: this.statusHere(user), ...(left ? { left } : {}) });
    this.#tellLater(user, left);
  }

  // ------------------------------------------------------------------------------------- other instances

  hear(from: string, word: Extract<InstanceWord, { type: 'watching' | 'status' }>): void {
    if (word.type === 'watching') for (const user of word.users) this.#believe(user);
    else if (this.#watchers.has(word.user)) {
      this.#place(word.user, from, word.status);
      this.#tellLater(word.user, word.left);
    }
  }

  /** Another instance has ended. */
  gone(instanceId: string): void {
    for (const [user, there] of this.#elsewhere) if (there.delete(instanceId)) this.#tellLater(user);
  }

  /** What changed meanwhile may not have been heard. */
  lookAgain(): void {
    const users = [...this.#watchers.keys()];
    if (this.#others === undefined || users.length === 0) return;
    this.#others.tell({ type: 'watching', users });
    void this.#askElsewhere(users).then(() => {
      for (const user of users) this.#tellLater(user);
    });
  }

  #believe(user: string): void {
    this.#watchedElsewhere.get(user)?.();
    const forget = this.#wheel.after(believedMs, () => this.#watchedElsewhere.delete(user));
    this.#watchedElsewhere.set(user, forget);
  }

  #place(user: string, instanceId: string, status: Json): void {
    const there = this.#elsewhere.get(user) ?? new Map<string, Json>();
    this.#elsewhere.set(user, there);
    if (status === null) there.delete(instanceId);
    else there.set(instanceId, status);
  }

  async #askElsewhere(users: readonly string[]): Promise<void> {
    const others = this.#others as Others;
    const { answers } = await others.ask<Record<string, UserActivity>>({ type: 'activity', users }, askWithinMs);
    for (const { instanceId, answer } of answers)
      for (const user of users)
        if (this.#watchers.has(user)) this.#place(user, instanceId, answer[user]?.status ?? null);
  }

  #renewLater(): void {
    if (this.#renews) return;
    this.#renews = true;
    this.#wheel.after(renewMs, () => {
      this.#renews = false;
      if (this.#watchers.size === 0) return;
      this.#others?.tell({ type: 'watching', users: [...this.#watchers.keys()] });
      this.#renewLater();
    });
  }

  // ---------------------------------------------------------------------------------------------- telling

  #beginTelling(user: string): Json {
    const status = this.statusOf(user);
    if (this.#watchers.has(user) && !this.#told.has(user)) this.#told.set(user, JSON.stringify(status));
    return status;
  }

  #tellLater(user: string, left = false): void {
    if (!this.#watchers.has(user)) return;
    this.#pending.get(user)?.();
    const goneMs = left ? goodbyeGraceMs : graceMs;
    const delayMs = this.statusOf(user) === null ? goneMs : tellMs;
    this.#pending.set(
      user,
      this.#wheel.after(delayMs, () => this.#tell(user)),
    );
  }

  #tell(user: string): void {
    this.#pending.delete(user);
    const status = this.statusOf(user);
    const text = JSON.stringify(status);
    if (this.#told.get(user) === text) return;
    this.#told.set(user, text);
    const frame = new Frame(JSON.stringify({ on: 'user', user, status }), true);
    for (const watcher of this.#watchers.get(user) ?? []) watcher.push(frame);
  }
}

/** Whether a status counts before another; `null` counts for nothing. */
function better(a: Json, b: Json): boolean {
  return a !== null && (b === null || availability(a) < availability(b));
}
