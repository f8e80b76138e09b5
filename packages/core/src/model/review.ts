import type { ChannelName, Cursor, Json, Mentions } from '@nine-bells/wire';
import type { Identity, Parameters } from './access.js';

/** The application sees what clients publish before it is published. */
export interface ReviewRule {
  /** Whom to ask. */
  readonly ask: string;
  /** How long it may take, in milliseconds. */
  readonly withinMs: number;
  /** What becomes of a message without an answer. */
  readonly otherwise: 'refuse' | 'pass' | 'hold';
  /** `author`: messages of an author wait behind one that waits. Default `author`. */
  readonly order?: 'author' | 'none';
}

/** A message, or a revision of one, before it is published. */
export interface ReviewedMessage {
  readonly channel: ChannelName;
  readonly type: string;
  readonly data: Json;
  readonly key?: string | undefined;
  readonly replyTo?: Cursor | undefined;
  readonly mentions?: Mentions | undefined;
  /** The message that it would revise. */
  readonly revises?: Cursor | undefined;
  /** The revision that it must have then; `null`: it must be as it was published. */
  readonly ifRevision?: Cursor | null | undefined;
}

/** A question to the application about a message. */
export interface ReviewQuestion extends ReviewedMessage {
  readonly parameters: Parameters;
  readonly who: Identity;
}

/** What the application says. */
export interface ReviewAnswer {
  readonly allow: boolean;
  /** A moderator is to decide. */
  readonly hold?: boolean;
  /** Why not, or why not yet, in words for the author. */
  readonly reason?: string;
  /** What the message is to hold instead. */
  readonly data?: Json;
}
