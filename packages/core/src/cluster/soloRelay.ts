import type { ChannelName } from '@nine-bells/wire';
import type { ControlEntry } from '../model/control.js';
import type { Appended, Draft, LogBounds, LoggedMessage } from '../model/message.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';
import {
  type BoardKeeper,
  type ControlLog,
  channelTopic,
  type Relay,
  type Subscriber,
  type Topic,
} from '../ports/relay.js';
import type { LogReader } from '../ports/stores.js';
import { BoardTables } from '../record/boardTables.js';
import { RecentLogs, type SavedPiece } from '../record/recentLogs.js';

/** The relay of a service that is one process: orders recent channels in memory and hands over in the same turn. */
export class SoloRelay implements Relay {
  readonly recent: LogReader;
  readonly boards: BoardKeeper;
  readonly control: ControlLog;
  readonly isCut = false;
  readonly #logs: RecentLogs;
  readonly #boards: BoardTables;
  readonly #subscribers = new Map<string, Subscriber<never>>();

  /**
   * @param saved - the records of recent channels as they were at the last clean stop
   * @param maxChars - bound on all records together
   */
  constructor(clock: Clock, ids: Ids, saved: Iterable<SavedPiece> = [], maxChars?: number) {
    const isWanted = (channel: ChannelName): boolean => this.#subscribers.has(channelTopic(channel));
    this.#logs = new RecentLogs(clock, ids, isWanted, saved, maxChars);
    const boards = new BoardTables(clock, ids, isWanted);
    this.#boards = boards;
    this.boards = {
      change: async (channel, changes, bounds) => {
        const changed = boards.apply(channel, changes, bounds);
        if (changed?.word !== undefined) this.publish(channelTopic(channel), changed.word);
        return changed;
      },
      read: async (channel) => boards.read(channel),
      places: async (channels) => boards.places(channels),
      restore: async (channel, changes) => boards.restore(channel, changes),
    };
    let receive: (entry: ControlEntry) => void = () => {};
    this.control = {
      append: async (entry) => receive(entry),
      follow: (receiver) => {
        receive = receiver;
      },
      ready: async () => {},
      catchUp: async () => {},
      isFresh: true,
    };
    const logs = this.#logs;
    this.recent = {
      head: async (channel) => logs.head(channel),
      heads: async (channels) => channels.map((channel) => logs.head(channel)),
      since: async (channel, after, limit) => logs.since(channel, after, limit),
      before: async (channel, before, limit) => logs.before(channel, before, limit),
    };
  }

  append(channel: ChannelName, draft: Draft, bounds: LogBounds): Promise<Appended> {
    let appended: Appended;
    try {
      appended = this.#logs.append(channel, draft, bounds);
    } catch (error) {
      // A change that is refused.
      return Promise.reject(error);
    }
    if (!appended.repeated) this.announce(channel, [appended.logged]);
    return Promise.resolve(appended);
  }

  announce(channel: ChannelName, messages: readonly LoggedMessage[]): void {
    this.#subscribers.get(channelTopic(channel))?.receive?.(messages);
  }

  publish<Word extends object>(topic: Topic<Word>, word: Word): void {
    (this.#subscribers.get(topic) as Subscriber<Word> | undefined)?.hear(word);
  }

  subscribe<Word extends object>(topic: Topic<Word>, subscriber: Subscriber<Word>): undefined {
    this.#subscribers.set(topic, subscriber);
  }

  unsubscribe(topic: string): void {
    this.#subscribers.delete(topic);
  }

  /** About how much memory all records take, in characters. */
  get chars(): number {
    return this.#logs.chars;
  }

  /** The records of recent channels, to be taken up after a restart. */
  saved(): Iterable<SavedPiece> {
    return this.#logs.saved();
  }

  /** Ends its timer. */
  stop(): void {
    this.#logs.stop();
    this.#boards.stop();
  }
}
