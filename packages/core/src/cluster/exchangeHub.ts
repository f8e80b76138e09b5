import type { ChannelName } from '@nine-bells/wire';
import type { BoardApplied, BoardBounds, BoardChange, BoardSnapshot } from '../model/board.js';
import type { LogBounds, LogSlice, MessageLine, Place, ReadLimit } from '../model/message.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';
import { BoardTables } from '../record/boardTables.js';
import { RecentLogs, type SavedPiece } from '../record/recentLogs.js';
import { carriedLine, carriedMessages } from './carried.js';
import { type Beat, controlChannel, type Exchange, type ExchangeEars, type Placed, topics } from './exchange.js';

/** Leases that have been over for so long are forgotten, in milliseconds. */
const leaseForgottenMs = 60_000;

interface Held {
  readonly status: string;
  readonly endsMs: number;
}

/** An exchange in one process's memory, for the instances that this process links: each has a connection of its own. */
export class ExchangeHub {
  readonly #clock: Clock;
  /** The records; another one takes their place when they are lost. */
  logs: RecentLogs;
  /** The boards; likewise. */
  boards: BoardTables;
  readonly #members = new Set<HubExchange>();
  readonly #leases = new Map<string, Held>();
  readonly #claims = new Map<string, number>();

  /**
   * @param saved - the records of recent channels as they were at the last clean stop
   * @param maxChars - bound on all records together
   */
  constructor(clock: Clock, ids: Ids, saved: Iterable<SavedPiece> = [], maxChars?: number) {
    this.#clock = clock;
    this.logs = new RecentLogs(clock, ids, (channel) => this.#isWanted(channel), saved, maxChars);
    this.boards = new BoardTables(clock, ids, (channel) => this.#isWanted(channel));
  }

  join(): HubExchange {
    const member = new HubExchange(this);
    this.#members.add(member);
    return member;
  }

  close(member: HubExchange): void {
    this.#members.delete(member);
  }

  stop(): void {
    this.logs.stop();
    this.boards.stop();
  }

  append(channel: ChannelName, lines: readonly MessageLine[], bounds: LogBounds): readonly Placed[] {
    const carried: string[] = [];
    let first: Place | undefined;
    const placed = lines.map((line): Placed => {
      const { logged, repeated } = this.logs.append(channel, line, bounds);
      if (!repeated) {
        first ??= logged.place;
        carried.push(carriedLine(line));
      }
      return { place: logged.place, repeated, id: repeated ? logged.id : line.id };
    });
    if (first !== undefined) this.publish(topics.channel(channel), carriedMessages(first, carried));
    return placed;
  }

  changeBoard(channel: ChannelName, changes: readonly BoardChange[], bounds: BoardBounds): BoardApplied | undefined {
    const changed = this.boards.apply(channel, changes, bounds);
    if (changed?.word !== undefined) this.publish(topics.channel(channel), JSON.stringify(changed.word));
    return changed && { volume: changed.volume, outcomes: changed.outcomes };
  }

  restoreBoard(channel: ChannelName, changes: readonly BoardChange[]): void {
    this.boards.restore(channel, changes);
  }

  publish(topic: string, text: string): void {
    for (const member of this.#members) if (member.wants(topic)) member.tell(topic, text);
  }

  beat(instanceId: string, status: string, ttlMs: number): Beat {
    const now = this.#clock.monotonic();
    const before = this.#leases.get(instanceId);
    this.#leases.set(instanceId, { status, endsMs: now + ttlMs });
    for (const [each, { endsMs }] of this.#leases) if (now - endsMs > leaseForgottenMs) this.#leases.delete(each);
    return {
      held: before !== undefined && before.endsMs > now,
      leases: [...this.#leases].map(([each, held]) => ({
        instanceId: each,
        status: held.status,
        leftMs: held.endsMs - now,
      })),
    };
  }

  leave(instanceId: string): void {
    this.#leases.delete(instanceId);
  }

  claim(name: string, ttlMs: number): boolean {
    const now = this.#clock.monotonic();
    for (const [each, endsMs] of this.#claims) if (endsMs <= now) this.#claims.delete(each);
    if (this.#claims.has(name)) return false;
    this.#claims.set(name, now + ttlMs);
    return true;
  }

  #isWanted(channel: ChannelName): boolean {
    if (channel === controlChannel) return true;
    const topic = topics.channel(channel);
    for (const member of this.#members) if (member.wants(topic)) return true;
    return false;
  }
}

/** What one instance has of a hub. */
export class HubExchange implements Exchange {
  readonly #hub: ExchangeHub;
  readonly #topics = new Set<string>();
  #ears: ExchangeEars | undefined;

  constructor(hub: ExchangeHub) {
    this.#hub = hub;
  }

  wants(topic: string): boolean {
    return this.#topics.has(topic);
  }

  tell(topic: string, text: string): void {
    this.#ears?.heard(topic, text);
  }

  listen(ears: ExchangeEars): void {
    this.#ears = ears;
    ears.resumed();
  }

  async append(channel: ChannelName, lines: readonly MessageLine[], bounds: LogBounds): Promise<readonly Placed[]> {
    return this.#hub.append(channel, lines, bounds);
  }

  async head(channel: ChannelName): Promise<Place> {
    return this.#hub.logs.head(channel);
  }

  async heads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    return channels.map((channel) => this.#hub.logs.head(channel));
  }

  async since(channel: ChannelName, after: Place, limit: ReadLimit, _bounds: LogBounds): Promise<LogSlice> {
    return this.#hub.logs.since(channel, after, limit);
  }

  async before(channel: ChannelName, before: Place | undefined, limit: ReadLimit, _: LogBounds): Promise<LogSlice> {
    return this.#hub.logs.before(channel, before, limit);
  }

  async changeBoard(
    channel: ChannelName,
    changes: readonly BoardChange[],
    bounds: BoardBounds,
  ): Promise<BoardApplied | undefined> {
    return this.#hub.changeBoard(channel, changes, bounds);
  }

  async readBoard(channel: ChannelName): Promise<BoardSnapshot | undefined> {
    return this.#hub.boards.read(channel);
  }

  async boardPlaces(channels: readonly ChannelName[]): Promise<readonly (Place | undefined)[]> {
    return this.#hub.boards.places(channels);
  }

  async restoreBoard(channel: ChannelName, changes: readonly BoardChange[]): Promise<void> {
    this.#hub.restoreBoard(channel, changes);
  }

  publish(topic: string, text: string): void {
    this.#hub.publish(topic, text);
  }

  async subscribe(topic: string): Promise<void> {
    this.#topics.add(topic);
  }

  unsubscribe(topic: string): void {
    this.#topics.delete(topic);
  }

  async beat(instanceId: string, status: string, ttlMs: number): Promise<Beat> {
    return this.#hub.beat(instanceId, status, ttlMs);
  }

  async leave(instanceId: string): Promise<void> {
    this.#hub.leave(instanceId);
  }

  async claim(name: string, ttlMs: number): Promise<boolean> {
    return this.#hub.claim(name, ttlMs);
  }
}
