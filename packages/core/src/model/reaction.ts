import type { Author, ChannelName, Place, ReactionCounts, Reactor } from '@nine-bells/wire';

/** How users may react to messages of a channel. */
export interface ReactionRule {
  /** Most different words of one message. */
  readonly kinds: number;
  /** Most words of one user at one message. */
  readonly each: number;
  /** The only words there may be; absent: any. */
  readonly words?: readonly string[];
}

export const defaultReactions: ReactionRule = { kinds: 20, each: 5 };

/** A user reacts to a message, or takes that back. */
export interface Reaction {
  readonly channel: ChannelName;
  /** Of the message. */
  readonly place: Place;
  readonly by: Author;
  readonly word: string;
  readonly on: boolean;
  readonly atMs: number;
  readonly most: Pick<ReactionRule, 'kinds' | 'each'>;
}

/** Volume of the reactions of a channel that has no message yet. Whatever volume follows, nothing of it is known. */
export const noVolume = 'none';

/** How many have reacted to a message now. */
export interface Reacted {
  readonly number: number;
  readonly counts: ReactionCounts;
  /** The version of the channel's reactions at which it came to that: each change has the next one. */
  readonly version: number;
}

/** The same, for all who are in the channel. */
export interface ReactionWord extends Reacted {
  readonly channel: ChannelName;
  readonly reacted: true;
  /** The volume of the channel. */
  readonly volume: string;
}

/** Reactions to some messages of a channel. */
export interface ReactionSlice {
  /** The version at which they are so, or a little before. */
  readonly version: Place;
  readonly reacted: readonly Reacted[];
  /** The words of one user, by the numbers of messages. */
  readonly own: readonly (readonly [number: number, words: readonly string[]])[];
}

/** Some of those who have reacted to a message, by word, then by user. */
export interface ReactorsWish {
  readonly channel: ChannelName;
  readonly number: number;
  readonly word?: string | undefined;
  /** Those behind this one. */
  readonly after?: { readonly word: string; readonly user: string } | undefined;
  readonly limit: number;
}

export type { Reactor };
