import type { Json } from '@nine-bells/wire';
import { Frame } from '../fanout/batch.js';
import type { Wheel } from '../time/wheel.js';
import { availability } from './status.js';

/** Changes are told after this long, in milliseconds; that somebody has gone, after the grace. */
const tellMs = 250;
const graceMs = 10_000;

/** Whoever is told of a user's status. */
export interface Watcher {
  push(frame: Frame): void;
}

/** The sessions of a user that are connected, as far as its status depends on them. */
export interface Said {
  readonly status: Json | undefined;
}

/**
 * Who watches whose status, and what it was told last. A user's status is that of the most available of its sessions;
 * `null` while it has none.
 */
export class Watching {
  readonly #wheel: Wheel;
  readonly #sessionsOf: (user: string) => readonly Said[];
  readonly #watchers = new Map<string, Set<Watcher>>();
  readonly #told = new Map<string, string>();
  readonly #pending = new Map<string, () => void>();

  constructor(wheel: Wheel, sessionsOf: (user: string) => readonly Said[]) {
    this.#wheel = wheel;
    this.#sessionsOf = sessionsOf;
  }

  /** The status of a user now; `null` if it is not connected. */
  statusOf(user: string): Json {
    const all = this.#sessionsOf(user);
    let best: Said | undefined;
    for (const each of all)
      if (best === undefined || availability(each.status) < availability(best.status)) best = each;
    return best === undefined ? null : (best.status ?? 'available');
  }

  /** From now on tells the watcher of changes; gives the status as it is. */
  watch(user: string, watcher: Watcher): Json {
    const all = this.#watchers.get(user) ?? new Set();
    this.#watchers.set(user, all.add(watcher));
    const status = this.statusOf(user);
    if (!this.#told.has(user)) this.#told.set(user, JSON.stringify(status));
    return status;
  }

  unwatch(user: string, watcher: Watcher): void {
    const all = this.#watchers.get(user);
    all?.delete(watcher);
    if (all?.size !== 0) return;
    this.#watchers.delete(user);
    this.#told.delete(user);
    this.#pending.get(user)?.();
    this.#pending.delete(user);
  }

  /** Something has changed with a user: it came, went, or said something else of itself. */
  changed(user: string): void {
    if (!this.#watchers.has(user)) return;
    this.#pending.get(user)?.();
    const delayMs = this.#sessionsOf(user).length === 0 ? graceMs : tellMs;
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
