import type { ChannelName, Json } from '@nine-bells/wire';
import type { BoardApplied, BoardBounds, BoardChange, BoardSnapshot } from '../model/board.js';
import type { ControlEntry } from '../model/control.js';
import type {
  InstanceAnswers,
  InstanceInfo,
  InstanceQuestion,
  InstanceStatus,
  InstanceWord,
} from '../model/instance.js';
import type { Growth } from '../model/mark.js';
import type { Appended, Draft, LogBounds, LoggedMessage, Place } from '../model/message.js';
import type { UserNews, UserWord } from '../model/notice.js';
import type { Signal } from '../model/signal.js';
import type { LogReader } from './stores.js';

declare const carries: unique symbol;

/** A topic of the relay. On it words are carried; any of them may be lost, and the next one says more. */
export type Topic<Word> = string & { readonly [carries]?: Word };

/** What the topics of channels begin with. */
export const channelPrefix = 'c/';

/** Signals of a channel, beside its messages. */
export function channelTopic(channel: ChannelName): Topic<Signal> {
  return `${channelPrefix}${channel}` as Topic<Signal>;
}

/** That a kept channel has grown. */
export function growthTopic(channel: ChannelName): Topic<Growth> {
  return `g/${channel}` as Topic<Growth>;
}

/** Words for the sessions of users, wherever they are connected. What they say is in the store, too. */
export const usersTopic = 'users' as Topic<UserWord>;

/** Words that instances of earlier versions would misread. They do not subscribe to this topic. */
export const userNewsTopic = 'user-news' as Topic<UserNews>;

/** Topics that all instances hear. */
export const commonTopics: ReadonlySet<string> = new Set([usersTopic, userNewsTopic]);

/** What the relay hands words of a topic to. */
export interface Subscriber<Word> {
  hear(word: Word): void;
  /** The messages of a channel, on its topic. They may come doubled, late or not at all, which their numbers show. */
  receive?(messages: readonly LoggedMessage[]): void;
}

/** Between instances: orders the messages of recent channels and carries all messages to every instance that wants them. */
export interface Relay {
  /**
   * Numbers a message of a recent channel, records it, and carries it to everyone who wants the channel.
   *
   * Calls for one channel take effect in the order made. A key that its author used in this channel before gives the
   * message published then.
   *
   * @throws {ProblemError} `busy` while nothing is carried; of a change `no-such-message`, `withdrawn`, `conflict`
   */
  append(channel: ChannelName, draft: Draft, bounds: LogBounds): Promise<Appended>;
  /** Carries messages that the store has numbered and committed. */
  announce(channel: ChannelName, messages: readonly LoggedMessage[]): void;
  /** Carries a word to all instances that subscribe to the topic. */
  publish<Word extends object>(topic: Topic<Word>, word: Word): void;
  /** Begins to hand over what is carried on a topic. A promise where it takes time until nothing is missed. */
  subscribe<Word extends object>(topic: Topic<Word>, subscriber: Subscriber<Word>): Promise<void> | undefined;
  unsubscribe(topic: string): void;
  /** The record of a recent channel. */
  readonly recent: LogReader;
  /** The boards of channels. */
  readonly boards: BoardKeeper;
  /** What must not be lost and is no channel's. */
  readonly control: ControlLog;
  /** Nothing is carried at present. */
  readonly isCut: boolean;
  /** The other instances; absent where there can be none. */
  readonly others?: Others;
}

/** Keeps the boards of channels: one order of changes for each, and the latest value of every entry. */
export interface BoardKeeper {
  /**
   * Makes changes, each by itself, and carries those that took effect to all who want the channel, as one `BoardWord`.
   * `undefined`: the board is not there, and must be (`BoardBounds`).
   *
   * Calls for one channel take effect in the order made.
   *
   * @throws {ProblemError} `busy` while nothing is carried
   */
  change(channel: ChannelName, changes: readonly BoardChange[], bounds: BoardBounds): Promise<BoardApplied | undefined>;
  /** A board as it is now; `undefined` if there is none. */
  read(channel: ChannelName): Promise<BoardSnapshot | undefined>;
  /** Where boards stand; `undefined` where there is none. */
  places(channels: readonly ChannelName[]): Promise<readonly (Place | undefined)[]>;
  /** Makes a board in a volume of its own with these entries, unless there is one. */
  restore(channel: ChannelName, changes: readonly BoardChange[]): Promise<void>;
}

/** Carries entries to all instances, this one included, in one order. */
export interface ControlLog {
  /** Resolves when this instance has been handed the entry. While nothing is carried, the others are handed it later. */
  append(entry: ControlEntry): Promise<void>;
  /**
   * Begins to hand over entries. An entry may come twice.
   *
   * @param lost - called when entries have been lost: what is in force must be read anew
   */
  follow(receive: (entry: ControlEntry) => void, lost: () => void): void;
  /** Resolves when nothing that is appended from now on will be missed. */
  ready(): Promise<void>;
  /**
   * Resolves when this instance has been handed everything that the others had appended before the call.
   *
   * @throws if the log could not be read
   */
  catchUp(): Promise<void>;
  /** Whether it could be read recently; if not, there may be bans that this instance does not know. */
  readonly isFresh: boolean;
}

/** The other instances of the service. */
export interface Others {
  /** This instance and its incarnation. */
  readonly self: string;
  /** Texts that have come in of the others, and of this one's own that come back. */
  readonly heard: number;
  /** Asks all others. */
  ask<T>(question: InstanceQuestion, withinMs: number): Promise<InstanceAnswers<T>>;
  tell(word: InstanceWord): void;
  /** All instances, this one included. */
  list(): readonly InstanceInfo[];
  /** Whether this is the first instance to claim a name within `ttlMs`. */
  claim(name: string, ttlMs: number): Promise<boolean>;
  follow(ears: OthersEars): void;
}

/** What an instance wants of the others. */
export interface OthersEars {
  answer(question: InstanceQuestion): Json | Promise<Json>;
  hear(from: string, word: InstanceWord): void;
  /** An instance has ended, or nothing was heard of it for as long as its lease. */
  gone(instanceId: string): void;
  /** Something may have been lost, or the others have taken this instance for dead. */
  resumed(): void;
  /** What this instance says of itself. */
  status(): InstanceStatus;
}
