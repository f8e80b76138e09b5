import type { Author, ChannelName, Cursor, Ending, FilteredMessage, MessageFilter, Problem } from '@nine-bells/wire';

/** What an instance that took a message in knows of it. */
export interface Accepted {
  readonly id: string;
  readonly channel: ChannelName;
  readonly cursor: Cursor;
  readonly by?: Author;
  readonly key?: string;
  /** In milliseconds since the epoch. */
  readonly atMs: number;
  /** How long until it had its place, and was committed where the channel is kept, in milliseconds. */
  readonly placedAfterMs: number;
  /** It was published again under its key so many times. */
  readonly repeats: number;
}

/** What an instance that has handed a message to its connections knows of it. */
export interface Handed {
  readonly channel: ChannelName;
  readonly cursor: Cursor;
  /** When it came in there, in milliseconds since the epoch. */
  readonly atMs: number;
  /** Connections that it was handed to. */
  readonly connections: number;
  /** Of those that are still there, how many have said that they have got it. */
  readonly confirmed: number;
}

/** Something that concerned a session's stay in a channel. */
export type StayEvent = {
  readonly session: string;
  readonly user: string;
  readonly name?: string | undefined;
  readonly channel: ChannelName;
  readonly atMs: number;
} & (
  | {
      /** It was given what came after `from`, up to `upTo`; and unless there was more, everything from then on. */
      readonly type: 'entered' | 'given';
      readonly volume: string;
      readonly from: number;
      /** Where it had been; what came after that, up to `from`, was not in the record any more. */
      readonly gapAfter?: number | undefined;
      readonly upTo: number;
      /** It came back with a cursor. */
      readonly returned: boolean;
      /** It gets only messages that all of these let through. */
      readonly filters?: readonly MessageFilter[];
      /** The last of these is whom its user keeps away. */
      readonly hides?: true;
    }
  | {
      readonly type: 'ended';
      /** `left`: the channel only; `removed`: from it; `not-allowed` by its new token; else how the connection ended. */
      readonly why: Ending | 'removed' | 'not-allowed';
      readonly volume: string;
      /** The last message that it was handed. */
      readonly upTo: number;
      /** The last message that it had said it has got. */
      readonly got?: number | undefined;
      readonly detail?: string | undefined;
    }
  | { readonly type: 'refused'; readonly problem: Problem }
);

/** What one instance knows of a message. */
export interface TraceHere {
  readonly accepted?: Accepted;
  readonly handed?: Handed;
  /** What filters look at, of a message that an instance has handed on. */
  readonly message?: FilteredBy;
}

/** What filters look at. */
export type FilteredBy = FilteredMessage;

/** What one instance knows of a user's stays in a channel, oldest first. */
export interface StaysHere {
  readonly events: readonly StayEvent[];
  /** The user's sessions that are connected there now. */
  readonly sessions: readonly {
    readonly session: string;
    readonly name?: string;
    readonly workbench?: true;
    /** It has entered the channel. */
    readonly isIn: boolean;
    /** The last message there that it has said it has got. */
    readonly got?: Cursor;
    /** Why it may not enter, if it may not. */
    readonly refused?: Problem;
  }[];
}

/** What became of a message for one session. */
export interface Fate {
  readonly session: string;
  readonly instance: string;
  /** It is connected, and of a made-up user of the workbench. */
  readonly workbench?: true;
  readonly outcome:
    | 'got'
    | 'handed'
    | 'recovered'
    | 'gap'
    | 'not-for-it'
    | 'filtered'
    | 'blocked'
    | 'left'
    | 'lost'
    | 'too-slow'
    | 'removed'
    | 'refused'
    | 'not-entered';
  /** When, in milliseconds since the epoch. */
  readonly atMs?: number;
  /** When it was recovered after it had been missed. */
  readonly recoveredAtMs?: number;
  readonly problem?: Problem;
  readonly sentence: string;
}

/** The account of what became of one message, of all instances that answered. */
export interface Trace {
  readonly id: string;
  readonly channel: ChannelName;
  readonly cursor: Cursor;
  readonly accepted?: Accepted & { readonly instance: string };
  readonly instances: readonly (Handed & { readonly instance: string })[];
  readonly missing: readonly string[];
  /** In words. */
  readonly sentence: string;
  /** What became of it for one user. */
  readonly user?: {
    readonly user: string;
    readonly fates: readonly Fate[];
    /** More sessions of the user that had ended before the message, and have not come back. */
    readonly earlier: number;
    readonly sentence: string;
  };
}
