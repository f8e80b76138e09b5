import type { ChannelName, Json } from '@nine-bells/wire';
import type { ControlEntry } from '../model/control.js';
import type {
  InstanceAnswers,
  InstanceInfo,
  InstanceQuestion,
  InstanceStatus,
  InstanceWord,
} from '../model/instance.js';
import type { Growth } from '../model/mark.js';
import type { Appended, Draft, LogBounds, LoggedMessage } from '../model/message.js';
import type { UserWord } from '../model/notice.js';
import type { Signal } from '../model/signal.js';
import type { LogReader } from './stores.js';

/** A channel that the relay hands messages and signals to. */
export interface Subscriber {
  readonly name: ChannelName;
  receive(messages: readonly LoggedMessage[]): void;
  hear(signal: Signal): void;
}

/** Between instances: orders the messages of recent channels and carries all messages to every instance that wants them. */
export interface Relay {
  /**
   * Numbers a message of a recent channel, records it, and carries it to everyone who wants the channel.
   *
   * Calls for one channel take effect in the order made. A key that its author used in this channel before gives the
   * message published then.
   *
   * @throws {ProblemError} `busy` while nothing is carried
   */
  append(channel: ChannelName, draft: Draft, bounds: LogBounds): Promise<Appended>;
  /** Carries messages that the store has numbered and committed. */
  announce(channel: ChannelName, messages: readonly LoggedMessage[]): void;
  /**
   * Begins to hand over a channel's messages and signals. Messages may come doubled, late or not at all: the
   * subscriber sees that by their numbers. A promise where it takes time until nothing is missed.
   */
  subscribe(subscriber: Subscriber): Promise<void> | undefined;
  unsubscribe(channel: ChannelName): void;
  /** Carries a signal to all subscribers of its channel. It may be lost. */
  cast(signal: Signal): void;
  /** The record of a recent channel. */
  readonly recent: LogReader;
  /** What must not be lost and is no channel's. */
  readonly control: ControlLog;
  /** Carries a word to whichever instances a user's sessions are connected to. It may be lost: the inbox keeps it. */
  tellUser(word: UserWord): void;
  followUsers(receive: (word: UserWord) => void): void;
  /** Carries that a kept channel has grown, to instances that want to know. It may be lost: a later one says more. */
  tellGrowth(growth: Growth): void;
  followGrowth(receive: (growth: Growth) => void): void;
  /** Where it takes time until nothing is missed, it gives a promise. */
  wantGrowth(channel: ChannelName): Promise<void> | undefined;
  unwantGrowth(channel: ChannelName): void;
  /** Nothing is carried at present. */
  readonly isCut: boolean;
  /** The other instances; absent where there can be none. */
  readonly others?: Others;
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
