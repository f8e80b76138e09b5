import type { ChannelName } from '@nine-bells/wire';
import type { BoardApplied, BoardBounds, BoardChange, BoardSnapshot } from '../model/board.js';
import type { LogBounds, LogSlice, MessageLine, Place, ReadLimit } from '../model/message.js';
import { channelTopic } from '../ports/relay.js';

/** What a message of a recent channel was given. */
export interface Placed {
  readonly place: Place;
  /** The key was known: `place` and `id` are of what was published first. */
  readonly repeated: boolean;
  readonly id: string;
}

/** A lease of an instance, as all see it. */
export interface Lease {
  /** The instance and its incarnation. */
  readonly instanceId: string;
  /** What the instanceId says of itself, as JSON text. */
  readonly status: string;
  /** For how long it still holds, in milliseconds; negative: for how long it has been over. */
  readonly leftMs: number;
}

export interface Beat {
  /** The previous lease still held: no instance can have taken this one for dead. */
  readonly held: boolean;
  readonly leases: readonly Lease[];
}

/** What the exchange tells its instance. */
export interface ExchangeEars {
  /** A text published on a subscribed topic, by any instance including this one. */
  heard(topic: string, text: string): void;
  /** From now on something may be lost, or nothing is carried at all. */
  broken(): void;
  /** It carries again. What was published meanwhile may be lost. */
  resumed(): void;
}

/**
 * The place where the instances of one service meet: it numbers and records the messages of recent channels, carries texts
 * on topics, and knows whose lease still holds.
 *
 * Texts of one topic arrive in the order in which they were published, or not at all. All calls reject when the place
 * cannot be reached.
 */
export interface Exchange {
  /**
   * Numbers messages of a recent channel, records them, and publishes them on the channel's topic, all in one step. Keys
   * that their authors used in this channel before give what was published then. A line that changes a message comes alone.
   *
   * @throws {ProblemError} of a change: `no-such-message`, `withdrawn`, `conflict`
   */
  append(channel: ChannelName, lines: readonly MessageLine[], bounds: LogBounds): Promise<readonly Placed[]>;
  head(channel: ChannelName): Promise<Place>;
  heads(channels: readonly ChannelName[]): Promise<readonly Place[]>;
  since(channel: ChannelName, after: Place, limit: ReadLimit, bounds: LogBounds): Promise<LogSlice>;
  before(channel: ChannelName, before: Place | undefined, limit: ReadLimit, bounds: LogBounds): Promise<LogSlice>;
  /**
   * Changes a board and publishes what took effect on the channel's topic, as a `BoardWord` in JSON, all in one step.
   * `undefined`: the board is not there, and must be.
   */
  changeBoard(
    channel: ChannelName,
    changes: readonly BoardChange[],
    bounds: BoardBounds,
  ): Promise<BoardApplied | undefined>;
  readBoard(channel: ChannelName): Promise<BoardSnapshot | undefined>;
  boardPlaces(channels: readonly ChannelName[]): Promise<readonly (Place | undefined)[]>;
  /** Makes a board with these entries, unless there is one. */
  restoreBoard(channel: ChannelName, changes: readonly BoardChange[]): Promise<void>;
  publish(topic: string, text: string): void;
  /** Resolves when nothing published later is missed. */
  subscribe(topic: string): Promise<void>;
  unsubscribe(topic: string): void;
  /** Takes or renews a lease. */
  beat(instanceId: string, status: string, ttlMs: number): Promise<Beat>;
  /** Gives a lease back. */
  leave(instanceId: string): Promise<void>;
  /** Whether this call is the first within `ttlMs` to claim a name. */
  claim(name: string, ttlMs: number): Promise<boolean>;
  listen(ears: ExchangeEars): void;
}

/** Topics, by what they carry. */
export const topics = {
  /** Messages of a channel, and what has no number there. */
  channel: channelTopic,
  /** Words to all instances. */
  all: 'all',
  /** Words to one instance. */
  instance: (instanceId: string): string => `i/${instanceId}`,
} as const;

/** The channel in whose record the control log is kept; no client can name it. */
export const controlChannel = '!control' as ChannelName;
export const controlBounds: LogBounds = { messages: 10_000, forMs: 86_400_000 };
