import {
  type Beat,
  type BoardApplied,
  type BoardBounds,
  type BoardChange,
  type BoardSnapshot,
  type BoardWord,
  channelPrefix,
  controlChannel,
  type Exchange,
  type ExchangeEars,
  ExchangeHub,
  type HubExchange,
  type Ids,
  type LogBounds,
  LoggedMessage,
  type LogSlice,
  type MessageLine,
  type Place,
  type Placed,
  type ReadLimit,
  RecentLogs,
} from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Truth } from './faultyPorts.js';
import type { PausableClock } from './pausableClock.js';
import type { Random } from './random.js';
import type { VirtualClock } from './virtualClock.js';

/** A hub that keeps account of everything that was ever recorded in it, and loses some of it when told to. */
export class TrueHub extends ExchangeHub {
  readonly #truth: Truth;
  readonly #parts: readonly [clock: VirtualClock, ids: Ids];
  /** What was published under each key, and when: known on in a hub that takes over. */
  readonly #keys: Map<string, { readonly placed: Placed; readonly atMs: number }>;

  /** @param keys - those that a replica knew, when it took over from another hub */
  constructor(truth: Truth, clock: VirtualClock, ids: Ids, keys: TrueHub['known'] = new Map()) {
    super(clock, ids);
    this.#truth = truth;
    this.#parts = [clock, ids];
    this.#keys = new Map(keys);
  }

  get known(): ReadonlyMap<string, { readonly placed: Placed; readonly atMs: number }> {
    return this.#keys;
  }

  /** What a replica knows that is so far behind. Its records begin new volumes, since some of them may be lost. */
  replica(behindMs: number): TrueHub {
    const [clock, ids] = this.#parts;
    const latest = clock.monotonic() - behindMs;
    return new TrueHub(this.#truth, clock, ids, new Map([...this.#keys].filter(([, { atMs }]) => atMs <= latest)));
  }

  /** The record of one channel is gone, with its keys. */
  evict(channel: ChannelName): void {
    const [clock, ids] = this.#parts;
    let isIts = false;
    const left = [...this.logs.saved()].filter((each) => {
      if ('channel' in each) isIts = each.channel === channel;
      return !isIts;
    });
    this.logs.stop();
    this.logs = new RecentLogs(clock, ids, () => true, left);
    for (const key of [...this.#keys.keys()]) if (key.startsWith(`${channel}\n`)) this.#keys.delete(key);
  }

  override publish(topic: string, text: string): void {
    if (text.startsWith('{"board":')) {
      const { board, after, changes } = JSON.parse(text) as BoardWord;
      this.#truth.boards.add(topic.slice(channelPrefix.length), board, after, changes);
    }
    super.publish(topic, text);
  }

  override restoreBoard(channel: ChannelName, changes: readonly BoardChange[]): void {
    super.restoreBoard(channel, changes);
    const made = this.boards.read(channel);
    if (made !== undefined) this.#truth.boards.restored(channel, made);
  }

  override append(channel: ChannelName, lines: readonly MessageLine[], bounds: LogBounds): readonly Placed[] {
    const [clock] = this.#parts;
    const nameOf = ({ author, key }: MessageLine): string => `${channel}\n${author ?? ''}\n${key}`;
    const known = lines.map((line) => (line.key === undefined ? undefined : this.#keys.get(nameOf(line))?.placed));
    const fresh = lines.filter((_, index) => known[index] === undefined);
    const placed = fresh.length === 0 ? [] : [...super.append(channel, fresh, bounds)];
    for (const [index, each] of placed.entries()) {
      const line = fresh[index] as MessageLine;
      if (!each.repeated && channel !== controlChannel) this.#truth.add(new LoggedMessage(channel, each.place, line));
      if (line.key !== undefined)
        this.#keys.set(nameOf(line), { placed: { ...each, repeated: true }, atMs: clock.monotonic() });
    }
    return known.map((each) => each ?? (placed.shift() as Placed));
  }
}

/**
 * What an instance has of a hub, over a network that delays, loses and doubles what is carried, loses answers to calls that
 * were carried out, and is cut now and then, with or without either side being told.
 */
export class FaultyExchange implements Exchange {
  readonly #clock: VirtualClock;
  readonly #process: PausableClock;
  readonly #random: Random;
  readonly #topics = new Set<string>();
  readonly #lastAtMs = new Map<string, number>();
  #exchange: HubExchange;
  #hub: ExchangeHub;
  #ears: ExchangeEars | undefined;
  #isCut = false;
  faults = true;
  /** Texts that have arrived. */
  heard = 0;

  constructor(hub: ExchangeHub, clock: VirtualClock, process: PausableClock, random: Random) {
    this.#clock = clock;
    this.#process = process;
    this.#random = random;
    this.#hub = hub;
    this.#exchange = this.#open(hub);
  }

  get isCut(): boolean {
    return this.#isCut;
  }

  /** The exchange comes back empty, as another. */
  moveTo(hub: ExchangeHub): void {
    this.close();
    this.#hub = hub;
    this.#exchange = this.#open(hub);
    for (const topic of this.#topics) void this.#exchange.subscribe(topic);
  }

  /** Nothing passes any more; the instance is told, or finds out by itself. */
  cut(isTold: boolean): void {
    this.#isCut = true;
    if (isTold) this.#process.gate(() => this.#ears?.broken());
  }

  mend(isTold: boolean): void {
    this.#isCut = false;
    if (isTold) this.#process.gate(() => this.#ears?.resumed());
  }

  close(): void {
    this.#hub.close(this.#exchange);
  }

  listen(ears: ExchangeEars): void {
    this.#ears = ears;
    ears.resumed();
  }

  append(channel: ChannelName, lines: readonly MessageLine[], bounds: LogBounds): Promise<readonly Placed[]> {
    return this.#call(() => this.#exchange.append(channel, lines, bounds));
  }

  head(channel: ChannelName): Promise<Place> {
    return this.#call(() => this.#exchange.head(channel));
  }

  heads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    return this.#call(() => this.#exchange.heads(channels));
  }

  since(channel: ChannelName, after: Place, limit: ReadLimit, bounds: LogBounds): Promise<LogSlice> {
    return this.#call(() => this.#exchange.since(channel, after, limit, bounds));
  }

  before(channel: ChannelName, before: Place | undefined, limit: ReadLimit, bounds: LogBounds): Promise<LogSlice> {
    return this.#call(() => this.#exchange.before(channel, before, limit, bounds));
  }

  changeBoard(
    channel: ChannelName,
    changes: readonly BoardChange[],
    bounds: BoardBounds,
  ): Promise<BoardApplied | undefined> {
    return this.#call(() => this.#exchange.changeBoard(channel, changes, bounds));
  }

  readBoard(channel: ChannelName): Promise<BoardSnapshot | undefined> {
    return this.#call(() => this.#exchange.readBoard(channel));
  }

  boardPlaces(channels: readonly ChannelName[]): Promise<readonly (Place | undefined)[]> {
    return this.#call(() => this.#exchange.boardPlaces(channels));
  }

  restoreBoard(channel: ChannelName, changes: readonly BoardChange[]): Promise<void> {
    return this.#call(() => this.#exchange.restoreBoard(channel, changes));
  }

  publish(topic: string, text: string): void {
    this.#clock.setTimer(this.#random.between(0, 5), () => {
      if (!this.#isCut) this.#exchange.publish(topic, text);
    });
  }

  subscribe(topic: string): Promise<void> {
    this.#topics.add(topic);
    return this.#call(() => this.#exchange.subscribe(topic));
  }

  unsubscribe(topic: string): void {
    this.#topics.delete(topic);
    this.#exchange.unsubscribe(topic);
  }

  beat(instanceId: string, status: string, ttlMs: number): Promise<Beat> {
    return this.#call(() => this.#exchange.beat(instanceId, status, ttlMs));
  }

  leave(instanceId: string): Promise<void> {
    return this.#call(() => this.#exchange.leave(instanceId));
  }

  claim(name: string, ttlMs: number): Promise<boolean> {
    return this.#call(() => this.#exchange.claim(name, ttlMs));
  }

  #open(hub: ExchangeHub): HubExchange {
    const exchange = hub.join();
    exchange.listen({ heard: (topic, text) => this.#carry(topic, text), broken: () => {}, resumed: () => {} });
    return exchange;
  }

  /** Texts of one topic stay in order, those of several may overtake each other. */
  #carry(topic: string, text: string): void {
    const now = this.#clock.monotonic();
    if (this.faults && this.#random.chance(0.02)) return;
    const atMs = Math.max(this.#lastAtMs.get(topic) ?? 0, now + this.#random.between(0, 15));
    this.#lastAtMs.set(topic, atMs);
    const deliver = (): void => {
      if (this.#isCut) return;
      this.heard += 1;
      this.#process.gate(() => this.#ears?.heard(topic, text));
    };
    this.#clock.setTimer(atMs - now, deliver);
    if (this.faults && this.#random.chance(0.03)) this.#clock.setTimer(atMs - now, deliver);
  }

  #call<T>(act: () => Promise<T>): Promise<T> {
    return new Promise((resolve, reject) => {
      this.#clock.setTimer(this.#random.between(0, 6), () => {
        // Nobody hears of it: the instance stops waiting by itself.
        if (this.#isCut) return;
        act().then(
          (result) =>
            this.#clock.setTimer(this.#random.between(0, 6), () => {
              if (this.#isCut) return;
              if (this.faults && this.#random.chance(0.005))
                this.#process.gate(() => reject(new Error('the answer was lost')));
              else this.#process.gate(() => resolve(result));
            }),
          (error: unknown) => this.#process.gate(() => reject(error as Error)),
        );
      });
    });
  }
}
