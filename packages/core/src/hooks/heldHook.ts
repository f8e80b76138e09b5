import { ProblemError } from '@nine-bells/wire';
import { Alarm } from '../lib/alarm.js';
import { backOffMs, chanceOf } from '../lib/backOff.js';
import { Breaker } from '../lib/breaker.js';
import { TokenBucket } from '../lib/tokenBucket.js';
import type { Delivery, DeliveryOutcome, Hook, HookAnswer, ShapedDelivery } from '../model/hook.js';
import type { Clock } from '../ports/clock.js';
import type { HookCaller } from '../ports/hookCaller.js';
import type { Report } from '../ports/report.js';
import type { HookStore } from '../ports/stores.js';
import { shapedDelivery } from './shapeDelivery.js';

/** Deliveries read at a time: at most so many, and so many characters. */
const readCount = 500;
const readChars = 4_194_304;
/** Attempts whose outcome is not committed yet; no more are made beyond. */
const maxUnsettled = 1_000;
/** Channels that may be held up at a time; beyond, nothing new is sent until some are not. */
const maxHeldUp = 1_000;
/** What an intake answers to an event that has gone round in a circle (RFC 5842, section 7.2). */
const circleStatus = 508;
/** How long to wait after the store has failed, in milliseconds. */
const storeAgainMs = 1_000;
/** A hook that has failed for so long is noted to fail, in milliseconds. */
const noteAfterMs = 30_000;

/** Totals of a hook on this instance. */
export interface HookCounts {
  delivered: number;
  failed: number;
  dead: number;
}

export interface HeldHookHost {
  readonly clock: Clock;
  readonly store: Pick<HookStore, 'due' | 'heldUp' | 'settle' | 'hookFails'>;
  readonly caller: HookCaller;
  readonly report: Report;
  /** Whether this instance still holds the hook. */
  readonly isHeld: () => boolean;
  readonly counts: HookCounts;
  /** The hook must not be sent to any more. */
  readonly pause: (hook: Hook, why: string) => void;
}

/**
 * Sends a hook's events: at its rate and concurrency, again and later what fails, one probe at a time while the receiver is
 * down, and in order per channel where wished. Only the instance that holds the hook does this.
 */
export class HeldHook {
  readonly hook: Hook;
  readonly #host: HeldHookHost;
  readonly #breaker = new Breaker();
  readonly #bucket: TokenBucket | undefined;
  /** Due and not under way, the oldest first. */
  #ready: Delivery[] = [];
  /** When there was something ready again, by a clock that never jumps. */
  #readySinceMs = 0;
  /** Deliveries that are ready, under way, or whose outcome is not committed. */
  readonly #known = new Set<number>();
  #underWay = 0;
  /** Channels of which an event is under way, where order is wished. */
  readonly #busy = new Set<string>();
  /** The number of the event that has failed and holds up its channel, by channel. */
  readonly #heldUp = new Map<string, number>();
  #outcomes: DeliveryOutcome[] = [];
  #unsettled = 0;
  #settling: Promise<void> | undefined;
  /** How many times outcomes were committed. */
  #settles = 0;
  #reading = false;
  /** Deliveries whose outcome was committed while a read was under way, which may have seen them as they were. */
  readonly #settledMeanwhile = new Set<number>();
  /** There may be more due in the store. */
  #isThereMore = true;
  #restUntilMs = 0;
  #failingSinceMs: number | undefined;
  /** That it fails stands in the store. */
  #isNoted: boolean;
  readonly #pumping: Alarm;
  readonly #reads: Alarm;
  #isStopped = false;
  /** Which channels are held up is known, or need not be. */
  #isOrderKnown: boolean;
  #onIdle: (() => void) | undefined;

  constructor(hook: Hook, host: HeldHookHost, failingSinceMs: number | undefined) {
    this.hook = hook;
    this.#host = host;
    this.#failingSinceMs = failingSinceMs;
    this.#isNoted = failingSinceMs !== undefined;
    this.#isOrderKnown = !hook.ordered;
    if (hook.rate !== undefined) this.#bucket = new TokenBucket(hook.rate, host.clock.monotonic());
    this.#pumping = new Alarm(host.clock, () => this.#pump());
    this.#reads = new Alarm(host.clock, () => this.wake());
    if (hook.ordered) void this.readHeldUp();
    else this.#pump();
  }

  /** The receiver is not answering: it is tried now and then. */
  get isDown(): boolean {
    return this.#breaker.isOpen;
  }

  /** There may be new events. */
  wake(): void {
    this.#isThereMore = true;
    this.#pump();
  }

  /** Looks in the store for what may have been missed: new events, and channels that another instance has let go. */
  lookAgain(): void {
    if (this.#heldUp.size > 0) void this.readHeldUp();
    else this.wake();
  }

  /** Sends nothing more, and resolves when what is under way has ended and is committed. */
  async stop(): Promise<void> {
    this.#isStopped = true;
    this.#pumping.cancel();
    this.#reads.cancel();
    this.#ready = [];
    if (this.#underWay > 0)
      await new Promise<void>((resolve) => {
        this.#onIdle = resolve;
      });
    await this.#settling;
  }

  /** Sends as much as may be sent now. */
  #pump(): void {
    while (!this.#isStopped && this.#underWay < this.hook.atOnce && this.#unsettled < maxUnsettled) {
      if (!this.#host.isHeld() || !this.#isOrderKnown) return;
      if (this.#ready.length === 0) {
        void this.#read();
        return;
      }
      const waitMs = this.#waitMs();
      if (waitMs > 0) {
        // What goes into the batch is still coming.
        void this.#read();
        this.#pumping.within(waitMs);
        return;
      }
      const batch = this.#next();
      if (batch.length === 0) {
        // All that is ready waits for what is under way in its channel.
        if (this.#known.size < 2 * readCount) void this.#read();
        return;
      }
      const suspendedMs = this.#breaker.ask(this.#host.clock.monotonic());
      if (suspendedMs > 0) {
        this.#putBack(batch);
        this.#pumping.within(suspendedMs);
        return;
      }
      const { rate } = this.hook;
      if (rate !== undefined) this.#bucket?.take(rate, this.#host.clock.monotonic());
      if (this.#ready.length < readCount / 4 && this.#isThereMore) void this.#read();
      void this.#send(batch);
    }
  }

  /** How long to wait before the next request, in milliseconds. */
  #waitMs(): number {
    const { clock } = this.#host;
    const nowMs = clock.monotonic();
    if (nowMs < this.#restUntilMs) return this.#restUntilMs - nowMs;
    const { batch, rate } = this.hook;
    if (rate !== undefined && this.#bucket?.isEmpty(rate, nowMs)) return Math.ceil(rate.perMs / rate.count);
    const [first] = this.#ready;
    if (batch === undefined || first === undefined || this.#ready.length >= batch.most || first.attempts > 0) return 0;
    return Math.max(0, this.#readySinceMs + batch.withinMs - nowMs);
  }

  /** Takes what goes into the next request. */
  #next(): readonly Delivery[] {
    const most = this.hook.batch?.most ?? 1;
    if (!this.hook.ordered) return this.#ready.splice(0, most);
    const next: Delivery[] = [];
    const passed = new Set<string>();
    this.#ready = this.#ready.filter((each) => {
      const { channel = '' } = each;
      if (next.length >= most || this.#busy.has(channel) || passed.has(channel)) return true;
      next.push(each);
      // Behind what has failed comes nothing before that is known to have succeeded.
      if (this.#heldUp.has(channel)) passed.add(channel);
      return false;
    });
    for (const { channel = '' } of next) this.#busy.add(channel);
    return next;
  }

  /** Undoes `#next`. */
  #putBack(batch: readonly Delivery[]): void {
    this.#ready.unshift(...batch);
    for (const { channel = '' } of batch) this.#busy.delete(channel);
  }

  async #send(batch: readonly Delivery[]): Promise<void> {
    this.#underWay += 1;
    const { shaped, unfit } = this.#shape(batch);
    if (shaped.length === 0) this.#breaker.takeBack();
    else {
      const answer = await this.#host.caller.send(this.hook, shaped);
      this.#heard(answer);
      this.#end(
        shaped.map(({ delivery }) => delivery),
        answer,
      );
    }
    this.#underWay -= 1;
    for (const { channel = '' } of batch) this.#busy.delete(channel);
    for (const { delivery, answer } of unfit) this.#end([delivery], answer);
    if (this.#underWay === 0) this.#onIdle?.();
    this.#pump();
  }

  /** Shapes what is sent. What cannot be shaped says nothing of the receiver. */
  #shape(batch: readonly Delivery[]): {
    readonly shaped: readonly ShapedDelivery[];
    readonly unfit: readonly { readonly delivery: Delivery; readonly answer: HookAnswer }[];
  } {
    const shaped: ShapedDelivery[] = [];
    const unfit: { delivery: Delivery; answer: HookAnswer }[] = [];
    for (const delivery of batch)
      try {
        shaped.push(shapedDelivery(this.hook, delivery));
      } catch (error) {
        unfit.push({ delivery, answer: { tookMs: 0, problem: `not sent: ${(error as Error).message}` } });
      }
    return { shaped, unfit };
  }

  #end(batch: readonly Delivery[], answer: HookAnswer): void {
    const { ordered } = this.hook;
    const ended = answer.problem !== undefined && ordered ? this.#firstOfChannels(batch) : batch;
    const outcomes = ended.map((each) => this.#outcomeOf(each, answer));
    if (ordered) this.#holdUp(ended, outcomes);
    this.#settle(outcomes);
  }

  /** The first of each channel. The others are sent after it, as if they had not been sent. */
  #firstOfChannels(batch: readonly Delivery[]): readonly Delivery[] {
    const first = new Map<string, Delivery>();
    for (const each of batch) {
      const { channel = '', number } = each;
      if (first.has(channel)) this.#known.delete(number);
      else first.set(channel, each);
    }
    return [...first.values()];
  }

  /** What failed holds up its channel until it is delivered or given up. */
  #holdUp(batch: readonly Delivery[], outcomes: readonly DeliveryOutcome[]): void {
    for (const [index, { state, number }] of outcomes.entries()) {
      const { channel = '' } = batch[index] as Delivery;
      if (state === 'waiting') {
        this.#heldUp.set(channel, number);
        // What follows is read again when its time has come.
        this.#ready = this.#ready.filter((each) => !this.#isBehind(each));
      } else if (this.#heldUp.get(channel) === number) {
        this.#heldUp.delete(channel);
        this.#isThereMore = true;
      }
    }
  }

  #isFresh(each: Delivery): boolean {
    return !this.#known.has(each.number) && !this.#settledMeanwhile.has(each.number) && !this.#isBehind(each);
  }

  /** Whether a delivery waits for another one of its channel. It is forgotten then. */
  #isBehind({ channel, number }: Delivery): boolean {
    const before = this.#heldUp.get(channel ?? '');
    if (before === undefined || before === number) return false;
    this.#known.delete(number);
    return true;
  }

  #outcomeOf({ number, hook, id, attempts, sinceMs }: Delivery, answer: HookAnswer): DeliveryOutcome {
    const { clock, counts } = this.#host;
    const atMs = clock.now();
    const tried = { number, attempts: attempts + 1, atMs, answer };
    if (answer.problem === undefined) {
      counts.delivered += 1;
      return { ...tried, state: 'delivered', dueAtMs: atMs };
    }
    counts.failed += 1;
    const { retry, giveUpMs } = this.hook;
    const chance = chanceOf(`${hook} ${id} ${attempts}`);
    const waitMs = Math.max(
      backOffMs(retry.firstMs, retry.mostMs, attempts + 1, chance),
      Math.min(answer.retryAfterMs ?? 0, retry.mostMs),
    );
    const dueAtMs = atMs + waitMs;
    // Another try would go round the circle again.
    const isCircle = answer.status === circleStatus;
    if (clock.settled() + waitMs < sinceMs + giveUpMs && !isCircle) return { ...tried, state: 'waiting', dueAtMs };
    counts.dead += 1;
    return { ...tried, state: 'dead', dueAtMs: atMs };
  }

  /** What an answer says of the receiver as a whole. */
  #heard({ status, problem, retryAfterMs }: HookAnswer): void {
    const { clock, pause } = this.#host;
    const nowMs = clock.monotonic();
    if (retryAfterMs !== undefined)
      this.#restUntilMs = Math.max(this.#restUntilMs, nowMs + Math.min(retryAfterMs, this.hook.retry.mostMs));
    if (problem === undefined) {
      this.#breaker.succeeded();
      this.#fails(undefined);
      return;
    }
    if (status === 410) {
      pause(this.hook, 'the receiver says that it is gone (410)');
      return;
    }
    // A receiver that refuses one event is there, and may take the next one.
    if (status === undefined || status >= 500 || status === 429) this.#breaker.failed(nowMs);
    else this.#breaker.succeeded();
    const sinceMs = this.#failingSinceMs ?? clock.now();
    this.#fails(sinceMs);
    if (clock.now() - sinceMs >= this.hook.pauseMs)
      pause(this.hook, `it has failed since ${new Date(sinceMs).toISOString()}: ${problem}`);
  }

  /** Notes since when the hook fails, once it has failed for a while: what fails now and then is not worth a commit. */
  #fails(sinceMs: number | undefined): void {
    const { clock, store, report } = this.#host;
    this.#failingSinceMs = sinceMs;
    const isLong = sinceMs !== undefined && clock.now() - sinceMs >= noteAfterMs;
    if (isLong === this.#isNoted || (sinceMs !== undefined && !isLong)) return;
    this.#isNoted = isLong;
    store
      .hookFails(this.hook.name, sinceMs ?? null)
      .catch((error: unknown) => report(error, { event: 'hook-state-unsaved', hook: this.hook.name }));
  }

  /** Commits outcomes; those that come meanwhile are committed together. */
  #settle(outcomes: readonly DeliveryOutcome[]): void {
    this.#outcomes.push(...outcomes);
    this.#unsettled += outcomes.length;
    this.#settling ??= this.#settleAll();
  }

  async #settleAll(): Promise<void> {
    await Promise.resolve();
    while (this.#outcomes.length > 0) {
      const outcomes = this.#outcomes;
      this.#outcomes = [];
      for (let isDone = false; !isDone; ) {
        try {
          await this.#host.store.settle(outcomes);
          isDone = true;
        } catch (error) {
          // Not committed, they are sent again by the instance that holds the hook next.
          if (this.#isStopped || !isPassing(error)) {
            this.#host.report(error, { event: 'hook-results-unsaved', hook: this.hook.name });
            isDone = true;
          } else await this.#rest();
        }
      }
      for (const { number } of outcomes) {
        this.#known.delete(number);
        if (this.#reading) this.#settledMeanwhile.add(number);
      }
      this.#settles += 1;
      this.#unsettled -= outcomes.length;
      this.#lookAgain(outcomes);
      this.#pump();
    }
    this.#settling = undefined;
  }

  /** What failed is due later. */
  #lookAgain(outcomes: readonly DeliveryOutcome[]): void {
    const dueMs = outcomes.flatMap(({ state, dueAtMs }) => (state === 'waiting' ? [dueAtMs] : []));
    if (dueMs.length > 0) this.#reads.within(Math.min(...dueMs) - this.#host.clock.now());
  }

  /** Reads which channels are held up: by what an instance before has left, and no more by what was given up. */
  async readHeldUp(): Promise<void> {
    const { store, clock } = this.#host;
    if (!this.hook.ordered || this.#isStopped) return;
    const settles = this.#settles;
    try {
      const found = new Map((await store.heldUp(this.hook.name)).map(({ channel, number }) => [channel, number]));
      // What was committed meanwhile may be missing in what was read.
      const isCurrent = settles === this.#settles;
      for (const [channel, number] of this.#heldUp)
        if (isCurrent && found.get(channel) !== number && !this.#known.has(number)) this.#heldUp.delete(channel);
      for (const [channel, number] of found)
        if (isCurrent && !this.#known.has(number)) this.#heldUp.set(channel, number);
    } catch {
      if (!this.#isStopped) clock.setTimer(storeAgainMs, () => void this.readHeldUp());
      return;
    }
    this.#isOrderKnown = true;
    this.wake();
  }

  /** The longest that a delivery may wait for its next attempt, in milliseconds. */
  get #horizonMs(): number {
    return this.hook.retry.mostMs * 1.25 + 1_000;
  }

  async #read(): Promise<void> {
    if (this.#reading || !this.#isThereMore) return;
    this.#reading = true;
    this.#settledMeanwhile.clear();
    this.#isThereMore = false;
    const { store, clock, report } = this.#host;
    try {
      const { deliveries, nextAtMs } = await store.due(this.hook.name, {
        nowMs: clock.now(),
        horizonMs: this.#horizonMs,
        count: this.#known.size + readCount,
        chars: readChars,
        heldUp: this.#heldUp.size > maxHeldUp ? 'all' : [...this.#heldUp.keys()],
      });
      const fresh = deliveries.filter((each) => this.#isFresh(each));
      for (const each of fresh) this.#known.add(each.number);
      if (this.#ready.length === 0) this.#readySinceMs = clock.monotonic();
      this.#ready.push(...fresh);
      if (fresh.length > 0 && nextAtMs === undefined) this.#isThereMore = true;
      if (nextAtMs !== undefined) this.#reads.within(nextAtMs - clock.now());
    } catch (error) {
      if (!isPassing(error)) report(error, { event: 'hook-deliveries-unread', hook: this.hook.name });
      this.#reads.within(storeAgainMs);
    }
    this.#reading = false;
    if (this.#ready.length > 0 || this.#isThereMore) this.#pump();
  }

  #rest(): Promise<void> {
    return new Promise((resolve) => void this.#host.clock.setTimer(storeAgainMs, resolve));
  }
}

function isPassing(error: unknown): boolean {
  return error instanceof ProblemError && error.code === 'unavailable';
}
