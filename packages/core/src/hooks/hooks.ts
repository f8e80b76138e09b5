import { type ChannelName, type Json, refusal } from '@nine-bells/wire';
import { inPortions } from '../lib/portions.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Copy, Hook, HookEvent, HookFigures, HookState, QueuedEvent } from '../model/hook.js';
import type { HookWord } from '../model/instance.js';
import type { Clock } from '../ports/clock.js';
import type { HookCaller } from '../ports/hookCaller.js';
import type { Ids } from '../ports/ids.js';
import type { Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { DeliverySelection, HookStore } from '../ports/stores.js';
import { Feeds } from './feeds.js';
import { HeldHook, type HookCounts } from './heldHook.js';
import { HookBook } from './hookBook.js';

export interface HooksHost {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly store: HookStore;
  readonly report: Report;
  /** Absent: hooks are not sent by this process. */
  readonly caller: HookCaller | undefined;
  /** Reads a hook that was registered over HTTP; `undefined` if it may not be sent to any more. */
  readonly readHook: ((state: HookState) => Hook | undefined) | undefined;
  /** A hook was paused. */
  readonly paused: ((hook: Hook, why: string) => void) | undefined;
  /** This engine among all that hold hooks. */
  readonly self: string;
}

/** For how long a hook is held, and how often that is renewed, in milliseconds. */
const holdMs = 12_000;
const renewMs = 3_000;
/** An instance sends nothing in the last part of the time for which it holds a hook: clocks differ, in milliseconds. */
const marginMs = 2_000;
/** Interval between announcements of new events to other instances, in milliseconds. */
const tellMs = 50;
/** Prune interval for ended deliveries, in milliseconds. */
const tidyMs = 10_000;
/** Poll interval for changed hooks, in milliseconds. */
const lookMs = 30_000;
/** Maximum wait for answers on stopping, in milliseconds. */
const stopMs = 3_000;
/** Maximum number of attempts to queue an event, and the retry interval, in milliseconds. */
const queueTries = 30;
const queueAgainMs = 1_000;
/** Most events that wait for the store in memory. */
const maxWaiting = 10_000;

/** A hook as it stands. */
export interface HookInfo {
  readonly hook: Hook;
  readonly state: HookState | undefined;
  /** This instance sends it. */
  readonly isHeldHere: boolean;
  readonly isDown: boolean;
  /** So many events wait that new ones are not queued. */
  readonly isFull: boolean;
  /** Events that wait, as of half a minute ago at most. */
  readonly waiting: number;
  readonly counts: HookCounts | undefined;
}

/** Queues events for the hooks that subscribe to them. One instance sends the events of a hook. */
export class Hooks {
  readonly book = new HookBook();
  readonly feeds: Feeds;
  readonly #host: HooksHost;
  readonly #configured: readonly Hook[];
  #all = new Map<string, Hook>();
  #states = new Map<string, HookState>();
  readonly #held = new Map<string, HeldHook>();
  readonly #counts = new Map<string, HookCounts>();
  /** Until when the held hooks are, by a clock that never jumps. */
  #heldUntilMs = 0;
  /** Since when some hooks have had no holder, by a clock that never jumps. */
  #freeSinceMs: number | undefined;
  readonly #toTell = new Set<string>();
  #holding: Promise<void> | undefined;
  /** Events that the store could not take yet. */
  #waiting = 0;
  /** Sizes of the queues, at most half a minute old. */
  #figures: Readonly<Record<string, HookFigures>> = {};
  /** Hooks whose queues are full. */
  readonly #full = new Set<string>();
  #isStopped = false;
  #reading: Promise<void> | undefined;

  constructor(host: HooksHost, configured: readonly Hook[]) {
    this.#host = host;
    this.#configured = configured;
    this.feeds = new Feeds({ ...host, get: (name) => this.#all.get(name), changed: (name) => this.queued([name]) });
    this.#apply(configured);
    if (configured.length > 0 || host.readHook !== undefined) void this.#begin();
  }

  /** All hooks, by name. */
  get all(): readonly HookInfo[] {
    const hooks = [...this.#all.values()].sort((a, b) => (a.name < b.name ? -1 : 1));
    return hooks.map((hook) => ({
      hook,
      state: this.#states.get(hook.name),
      isHeldHere: this.#held.has(hook.name),
      isDown: this.#held.get(hook.name)?.isDown ?? false,
      isFull: this.#full.has(hook.name),
      waiting: this.#figures[hook.name]?.waiting ?? 0,
      counts: this.#counts.get(hook.name),
    }));
  }

  get(name: string): Hook | undefined {
    return this.#all.get(name);
  }

  isConfigured(name: string): boolean {
    return this.#configured.some((hook) => hook.name === name);
  }

  /** Names of the hooks that hear of a message; `undefined` if none does. Hot: once per message. */
  wantingMessage(channel: ChannelName, type: string, data: () => Json): readonly string[] | undefined {
    return this.book.isEmpty ? undefined : this.book.forMessage(channel, type, data);
  }

  /** Hooks that hear of a change of a message. */
  wantingChange(channel: ChannelName, type: string, data: () => Json): readonly string[] | undefined {
    return this.book.isEmpty ? undefined : this.book.forMessage(channel, type, data, 'changed');
  }

  /** Events were committed to the queues of these hooks. */
  queued(hooks: readonly string[]): void {
    for (const name of hooks) {
      const held = this.#held.get(name);
      if (held !== undefined) held.wake();
      else this.#tell(name);
      this.feeds.wake(name);
    }
  }

  /** Commits events to the queues of their hooks. */
  async queue(events: readonly QueuedEvent[]): Promise<void> {
    if (events.length === 0) return;
    await this.#host.store.queue(events);
    this.queued([...new Set(events.map(({ hook }) => hook))]);
  }

  /** The events of something that has happened, one for each hook that hears of it. */
  eventsOf(event: HookEvent, data: Json, channel?: ChannelName, copy?: Copy): readonly QueuedEvent[] {
    if (this.book.isEmpty) return [];
    const hooks = this.book.for(event, channel, data);
    if (hooks.length === 0) return [];
    const atMs = this.#host.clock.now();
    const shared = { id: this.#host.ids.message(atMs), event, atMs, channel, copy, dataText: JSON.stringify(data) };
    return hooks.map(({ name }) => ({ hook: name, ...shared }));
  }

  /** Queues an event without a caller that waits. Retries for a while if the store fails. */
  happened(event: HookEvent, data: Json, channel?: ChannelName, copy?: Copy): void {
    const events = this.eventsOf(event, data, channel, copy);
    if (events.length === 0) return;
    if (this.#waiting >= maxWaiting) {
      this.#host.report(new Error('too many events wait for the store'), { event: 'hook-event-failed', type: event });
      return;
    }
    this.#waiting += 1;
    void this.#queueWithin(events, queueTries).finally(() => {
      this.#waiting -= 1;
    });
  }

  async #queueWithin(events: readonly QueuedEvent[], tries: number): Promise<void> {
    for (let left = tries; ; left--)
      try {
        return await this.queue(events);
      } catch (error) {
        if (left <= 1 || this.#isStopped) {
          this.#host.report(error, { event: 'hook-event-failed', type: events[0]?.event });
          return;
        }
        await new Promise<void>((resolve) => void this.#host.clock.setTimer(queueAgainMs, resolve));
      }
  }

  /** Queues an event for the first member of a channel, or after the last one has left, as far as this instance knows. */
  async occupied(channel: ChannelName, is: boolean): Promise<void> {
    const event = is ? 'first-in' : 'last-out';
    if (this.book.inChannel('first-in', channel).length + this.book.inChannel('last-out', channel).length === 0) return;
    const events = this.eventsOf(event, { channel }, channel);
    await this.#host.store.queue(events, { channel, is });
    this.queued(events.map(({ hook }) => hook));
  }

  /**
   * Lets a paused hook go on.
   *
   * @throws {ProblemError} `no-such-hook`, `unavailable`
   */
  async resume(name: string): Promise<void> {
    this.require(name);
    await this.#host.store.pauseHook(name, null);
    await this.changed();
  }

  /**
   * Sends events again. Gives how many.
   *
   * @throws {ProblemError} `unavailable`
   */
  async resend(which: DeliverySelection): Promise<number> {
    const count = await this.#host.store.resend(which, this.#host.clock.now());
    this.queued('ids' in which ? [...new Set(which.ids.map(({ hook }) => hook))] : [which.hook]);
    return count;
  }

  /** @throws {ProblemError} `no-such-hook`, `unavailable` */
  async pause(name: string, why: string): Promise<void> {
    this.require(name);
    await this.#host.store.pauseHook(name, { atMs: this.#host.clock.now(), why });
    await this.changed();
  }

  /** @throws {ProblemError} `no-such-hook` */
  require(name: string): Hook {
    const hook = this.#all.get(name);
    if (hook === undefined) throw refusal('no-such-hook', `there is no hook ${JSON.stringify(name.slice(0, 60))}`);
    return hook;
  }

  /** Reloads the hooks after a change made here, and makes the other instances reload them. */
  async changed(): Promise<void> {
    this.#host.relay.others?.tell({ type: 'hooks-changed' });
    await this.readAgain();
  }

  /** Applies a message of another instance. */
  hear(word: HookWord): void {
    if (word.type === 'hooks-changed') void this.readAgain();
    else
      for (const name of word.hooks) {
        this.#held.get(name)?.wake();
        this.feeds.wake(name);
      }
  }

  /** Reads which hooks there are, and which are paused. */
  readAgain(): Promise<void> {
    this.#reading = (this.#reading ?? Promise.resolve()).then(() => this.#read());
    return this.#reading;
  }

  /** Sends nothing more, and lets others go on. */
  async stop(): Promise<void> {
    this.#isStopped = true;
    await this.#holding;
    const held = [...this.#held.keys()];
    const ended = Promise.all([...this.#held.values()].map((each) => each.stop()));
    await Promise.race([ended, new Promise<void>((resolve) => void this.#host.clock.setTimer(stopMs, resolve))]);
    this.#held.clear();
    if (held.length > 0 && !this.#isAlone) await this.#host.store.releaseHooks(this.#host.self, held).catch(() => {});
  }

  // ------------------------------------------------------------------------------------------------ inside

  /** No other process sends from these queues. */
  get #isAlone(): boolean {
    return this.#host.relay.others === undefined;
  }

  async #begin(): Promise<void> {
    await this.readAgain();
    this.#renewLater();
    this.#lookLater();
    this.#tidyLater();
  }

  #apply(registered: readonly Hook[]): void {
    const hooks = [...this.#configured, ...registered.filter(({ name }) => !this.isConfigured(name))];
    this.#all = new Map(hooks.map((hook) => [hook.name, hook]));
    this.book.set(hooks.filter(({ name }) => !this.#full.has(name)));
  }

  /** Queues that have grown beyond their bound take nothing more until there is room again. */
  async #lookForFull(): Promise<void> {
    const { store, report, paused } = this.#host;
    this.#figures = await store.hookFigures().catch(() => this.#figures);
    for (const hook of this.#all.values()) {
      const { waiting = 0, waitingBytes = 0 } = this.#figures[hook.name] ?? {};
      const fill = Math.max(waiting / hook.most, waitingBytes / hook.maxBytes);
      if (fill < 0.9) this.#full.delete(hook.name);
      else if (fill >= 1 && !this.#full.has(hook.name)) {
        this.#full.add(hook.name);
        const why = `${waiting} events of about ${waitingBytes} bytes wait: new ones are not queued until there is room`;
        report(new Error(why), { event: 'hook-queue-full', hook: hook.name });
        paused?.(hook, why);
      }
    }
  }

  async #read(): Promise<void> {
    const { store, report, readHook } = this.#host;
    if (this.#isStopped) return;
    let states: readonly HookState[];
    try {
      states = await store.hookStates();
    } catch (error) {
      report(error, { event: 'hooks-unread' });
      return;
    }
    this.#states = new Map(states.map((state) => [state.name, state]));
    await this.#lookForFull();
    const registered = states.filter(({ registered }) => registered !== undefined);
    this.#apply(registered.flatMap((state) => readHook?.(state) ?? []));
    // A hook that has changed begins anew, with what it is now.
    for (const [name, held] of this.#held)
      if (!this.#isSendable(name) || JSON.stringify(this.#all.get(name)) !== JSON.stringify(held.hook))
        this.#drop(name);
    await this.#hold();
  }

  #isSendable(name: string): boolean {
    const hook = this.#all.get(name);
    return hook !== undefined && hook.leaseMs === undefined && this.#states.get(name)?.paused === undefined;
  }

  #drop(name: string): void {
    const held = this.#held.get(name);
    this.#held.delete(name);
    void held?.stop();
  }

  /** Holds what no other instance holds. */
  #hold(): Promise<void> {
    this.#holding = (this.#holding ?? Promise.resolve()).then(() => this.#holdNow());
    return this.#holding;
  }

  async #holdNow(): Promise<void> {
    const { store, clock, self, caller, report } = this.#host;
    if (caller === undefined || this.#isStopped) return;
    const sendable = [...this.#all.keys()].filter((name) => this.#isSendable(name));
    if (sendable.length === 0 && this.#held.size === 0) return;
    const fromMs = clock.monotonic();
    let mine: readonly string[] = sendable;
    if (!this.#isAlone) {
      const nowMs = clock.now();
      const request = { holder: self, hooks: sendable, more: this.#moreHooks(sendable.length), nowMs };
      try {
        const { held, free } = await store.leaseHooks({ ...request, untilMs: nowMs + holdMs });
        mine = held;
        this.#freeSinceMs = free.length === 0 ? undefined : (this.#freeSinceMs ?? fromMs);
      } catch (error) {
        report(error, { event: 'hook-lease-failed' });
        return;
      }
    }
    this.#heldUntilMs = this.#isAlone ? Number.POSITIVE_INFINITY : fromMs + holdMs - marginMs;
    for (const name of this.#held.keys()) if (!mine.includes(name)) this.#drop(name);
    for (const name of mine) {
      const hook = this.#all.get(name);
      const held = this.#held.get(name);
      if (held !== undefined) held.lookAgain();
      else if (hook !== undefined && this.#isSendable(name)) this.#held.set(name, this.#heldHook(hook, caller));
    }
  }

  /**
   * Returns how many more hooks this instance may hold. It leaves their share to the others, unless they have not taken it: one of
   * them may be running without reaching the database.
   */
  #moreHooks(hooks: number): number {
    const { clock, relay } = this.#host;
    if (this.#freeSinceMs !== undefined && clock.monotonic() - this.#freeSinceMs > holdMs) return hooks;
    const share = Math.ceil(hooks / Math.max(1, relay.others?.list().length ?? 1));
    return Math.max(0, share - this.#held.size);
  }

  #heldHook(hook: Hook, caller: HookCaller): HeldHook {
    const counts = this.#counts.get(hook.name) ?? { delivered: 0, failed: 0, dead: 0 };
    this.#counts.set(hook.name, counts);
    const { clock, store, report } = this.#host;
    return new HeldHook(
      hook,
      {
        clock,
        store,
        caller,
        report,
        counts,
        isHeld: () => clock.monotonic() < this.#heldUntilMs,
        pause: (failing, why) => void this.#pauseFailing(failing, why),
      },
      this.#states.get(hook.name)?.failingSinceMs,
    );
  }

  async #pauseFailing(hook: Hook, why: string): Promise<void> {
    if (!this.#held.has(hook.name)) return;
    this.#drop(hook.name);
    try {
      await this.pause(hook.name, why);
      this.#host.paused?.(hook, why);
    } catch (error) {
      this.#host.report(error, { event: 'hook-pause-failed', hook: hook.name });
    }
  }

  /** Tells the instance that holds a hook that there is something new: several at a time. */
  #tell(name: string): void {
    if (this.#isAlone || this.#isStopped) return;
    const isFirst = this.#toTell.size === 0;
    this.#toTell.add(name);
    if (!isFirst) return;
    this.#host.wheel.after(tellMs, () => {
      const hooks = [...this.#toTell];
      this.#toTell.clear();
      this.#host.relay.others?.tell({ type: 'queued', hooks });
    });
  }

  /** Also wakes held hooks: a word of new events may have been lost. */
  #renewLater(): void {
    this.#host.wheel.after(renewMs, () => {
      void this.#hold().finally(() => {
        if (!this.#isStopped) this.#renewLater();
      });
    });
  }

  #lookLater(): void {
    this.#host.wheel.after(lookMs, () => {
      void this.readAgain().finally(() => {
        if (!this.#isStopped) this.#lookLater();
      });
    });
  }

  #tidyLater(): void {
    this.#host.wheel.after(tidyMs, () => {
      void this.#tidy().finally(() => {
        if (!this.#isStopped) this.#tidyLater();
      });
    });
  }

  async #tidy(): Promise<void> {
    const { clock, report } = this.#host;
    const failed = (error: unknown, { name }: Hook): void =>
      report(error, { event: 'delivery-prune-failed', hook: name });
    const own: Hook[] = [];
    for (const hook of this.#all.values())
      if (await this.#tidies(hook).catch((error: unknown) => failed(error, hook))) own.push(hook);
    await inPortions(own, { clock, isOver: () => this.#isStopped }, (hook) =>
      this.#tidyHook(hook).catch((error: unknown) => {
        failed(error, hook);
        return 0;
      }),
    );
  }

  /** Tells whether this instance tidies up after a hook: the one that sends to it, or for a feed, the first to claim it. */
  async #tidies({ name, leaseMs }: Hook): Promise<boolean> {
    if (this.#isAlone || this.#held.has(name)) return true;
    return leaseMs !== undefined && (await this.#host.relay.others?.claim(`tidy ${name}`, tidyMs - 1_000)) === true;
  }

  /** Gives up and forgets a portion of a hook's deliveries. Returns how many. */
  async #tidyHook({ name, giveUpMs, keepMs }: Hook): Promise<number> {
    const { store, clock } = this.#host;
    const nowMs = clock.settled();
    const { gaveUp, forgot } = await store.tidyHook(name, nowMs, nowMs - giveUpMs, nowMs - keepMs);
    const counts = this.#counts.get(name);
    if (counts !== undefined) counts.dead += gaveUp;
    if (gaveUp > 0) void this.#held.get(name)?.readHeldUp();
    return gaveUp + forgot;
  }
}
