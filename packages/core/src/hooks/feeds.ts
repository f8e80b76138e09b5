import { refusal } from '@nine-bells/wire';
import type { Delivery, Hook, ShapedDelivery } from '../model/hook.js';
import type { Clock } from '../ports/clock.js';
import type { HookStore } from '../ports/stores.js';
import { shapedDelivery } from './shapeDelivery.js';

/** Most characters of data given at a time, unless it is one event. */
const takeChars = 4_194_304;
/** How long a reader waits before it looks by itself, in milliseconds: a word of new events may be lost. */
const lookMs = 2_000;
/** Most readers that wait, of one instance. */
const maxReaders = 1_000;

export interface FeedsHost {
  readonly clock: Clock;
  readonly store: HookStore;
  readonly get: (name: string) => Hook | undefined;
  /** Something has changed in a queue: readers look again, on all instances. */
  readonly changed: (name: string) => void;
}

/** What a reader is given. */
export interface FeedTaken {
  readonly events: readonly ShapedDelivery[];
  /** Events that could not be shaped: they are given up, and can be sent again. */
  readonly unfit: readonly Delivery[];
}

/** Feeds: queues whose events are fetched and acknowledged. Readers of one feed share it: each event goes to one of them. */
export class Feeds {
  readonly #host: FeedsHost;
  /** Who waits for new events, by feed. */
  readonly #waiting = new Map<string, Set<() => void>>();
  #readers = 0;

  constructor(host: FeedsHost) {
    this.#host = host;
  }

  /** @throws {ProblemError} `no-such-hook` */
  require(name: string): Hook & { readonly leaseMs: number } {
    const hook = this.#host.get(name);
    if (hook?.leaseMs !== undefined) return { ...hook, leaseMs: hook.leaseMs };
    throw refusal('no-such-hook', `there is no feed ${JSON.stringify(name.slice(0, 60))}`);
  }

  /** There are new events. */
  wake(name: string): void {
    for (const wake of this.#waiting.get(name) ?? []) wake();
  }

  /**
   * Takes the next events, and waits for some if there are none.
   *
   * @param withinMs - how long to wait
   * @param signal - ends the wait
   * @throws {ProblemError} `no-such-hook`, `busy`, `unavailable`
   */
  async take(
    name: string,
    count: number,
    withinMs: number,
    signal?: { readonly aborted: boolean },
  ): Promise<FeedTaken> {
    const { clock } = this.#host;
    const endMs = clock.monotonic() + withinMs;
    for (;;) {
      const taken = await this.#takeNow(name, count);
      const leftMs = endMs - clock.monotonic();
      if (taken.events.length + taken.unfit.length > 0 || leftMs <= 0 || signal?.aborted) return taken;
      await this.#news(name, Math.min(leftMs, lookMs));
    }
  }

  /** Ends events for good. Gives how many were still waiting. */
  async acknowledge(name: string, ids: readonly string[]): Promise<number> {
    this.require(name);
    const count = await this.#host.store.acknowledge(name, ids, this.#host.clock.now());
    // Readers that have as many as they want unacknowledged get more.
    this.#host.changed(name);
    return count;
  }

  /** Waits until a reader has fewer than `most` events unacknowledged, or for a while. Gives those that it still has. */
  async room(name: string, ids: readonly string[], most: number): Promise<readonly string[]> {
    const left = await this.#host.store.unacknowledged(name, ids);
    if (left.length >= most) await this.#news(name, lookMs);
    return left;
  }

  /** Gives events back that were taken: others get them at once. */
  async giveBack(name: string, ids: readonly string[]): Promise<void> {
    if (ids.length === 0) return;
    await this.#host.store.giveBack(name, ids);
    this.#host.changed(name);
  }

  async #takeNow(name: string, count: number): Promise<FeedTaken> {
    const hook = this.require(name);
    const { clock, store } = this.#host;
    const nowMs = clock.now();
    const deliveries = await store.lease(name, {
      nowMs,
      untilMs: nowMs + hook.leaseMs,
      horizonMs: hook.leaseMs + 1_000,
      count,
      chars: takeChars,
    });
    const events: ShapedDelivery[] = [];
    const unfit: Delivery[] = [];
    for (const delivery of deliveries)
      try {
        events.push(shapedDelivery(hook, delivery));
      } catch (error) {
        unfit.push(delivery);
        const answer = { tookMs: 0, problem: `not given: ${(error as Error).message}` };
        const { number, attempts } = delivery;
        await store.settle([{ number, attempts, state: 'dead', atMs: nowMs, dueAtMs: nowMs, answer }]);
      }
    return { events, unfit };
  }

  #news(name: string, withinMs: number): Promise<void> {
    if (this.#readers >= maxReaders) throw refusal('busy', 'too many readers wait for feeds', { retryAfterMs: 5_000 });
    this.#readers += 1;
    const waiting = this.#waiting.get(name) ?? new Set();
    this.#waiting.set(name, waiting);
    return new Promise((resolve) => {
      const wake = (): void => {
        cancel();
        waiting.delete(wake);
        if (waiting.size === 0) this.#waiting.delete(name);
        this.#readers -= 1;
        resolve();
      };
      const cancel = this.#host.clock.setTimer(withinMs, wake);
      waiting.add(wake);
    });
  }
}
