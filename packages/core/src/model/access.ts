import {
  type Author,
  type ChannelAct,
  type ChannelName,
  type Cursor,
  channelActs,
  type Json,
  type MessageAct,
  type MessageFilter,
  messageActs,
  type UserAct,
  userActs,
} from '@nine-bells/wire';
import type { Pattern } from './pattern.js';

export { type ChannelAct, channelActs, type MessageAct, messageActs, type UserAct, userActs };

export function isMessageAct(act: Act): act is MessageAct {
  return (messageActs as readonly Act[]).includes(act);
}

/** An act that an access rule allows or refuses; `call`: to call what the configuration names (`calls`). */
export type Act = ChannelAct | UserAct | 'call';

export function isUserAct(act: Act): act is UserAct {
  return (userActs as readonly Act[]).includes(act);
}

/** Who a client is, as its token says, or as the service says of a guest. */
export interface Identity {
  /** From the token's `sub`; of guests, made by the service and beginning with `guest:`. */
  readonly user: string;
  readonly name?: string;
  readonly guest: boolean;
  readonly roles: readonly string[];
  /** All claims of the token. */
  readonly claims: Readonly<Record<string, Json>>;
  /** Access rules that the token brings along. */
  readonly grants?: readonly Grant[];
  /** When the token was issued, in milliseconds since the epoch; absent if it does not say. */
  readonly issuedAt?: number;
  /** When the token ends, in milliseconds since the epoch; absent if it does not. */
  readonly endsAt?: number;
  /** An operator who sees every channel, is shown nowhere, and may not publish. */
  readonly observer?: true;
  /** A made-up user of the workbench: the id under which the operator who made it up is signed out. */
  readonly workbench?: string;
}

/** One access rule that a token brings along: who may what in the channels that match. */
export interface Grant {
  readonly pattern: Pattern;
  readonly allow: Allow;
  /** In the channels that match, the user gets only these messages, whatever lets it in. */
  readonly only?: MessageFilter;
}

/**
 * Who may do something: plain data, without a language of its own, or a function of the program that embeds the engine.
 *
 * A value such as `:boat` stands for the channel pattern's parameter of that name; any other value for itself.
 */
export type AccessRule<P = Parameters> =
  | (typeof accessWords)[number]
  /** Users with this role. */
  | { readonly role: string }
  /** This user. */
  | { readonly user: string }
  /** Users whose claim is this value. */
  | { readonly claim: string; readonly is: string }
  /** Users whose claim is this value, or a list that contains it. */
  | { readonly claim: string; readonly holds: string }
  /** The users that the value names, as the last segment of a direct channel does. */
  | { readonly among: string }
  /** Of acts about a message: the user whose message it is, for so long after it was published; without bound, always. */
  | { readonly author: { readonly withinMs?: number } }
  /** Users who have accepted an invitation to the channel as this. */
  | InvitedRule
  | { readonly all: readonly AccessRule<P>[] }
  | { readonly any: readonly AccessRule<P>[] }
  | { readonly not: AccessRule<P> }
  | AskRule
  | AccessFunction<P>;

/** Users that the application allows, asked at this URL. */
export interface AskRule {
  readonly ask: string;
}

/** Users who have accepted an invitation to the channel, with this role. */
export interface InvitedRule {
  readonly invited: string;
}

/**
 * `token-allows`: users whose token brings access rules that allow the act; `invited`: users who have accepted an invitation to
 * the channel.
 */
export const accessWords = ['anyone', 'signed-in', 'nobody', 'token-allows', 'invited'] as const;

/** Access rules by act. What is not said is refused; `read` is as `enter` where it is not said. */
export type Allow<P = Parameters> = Readonly<Partial<Record<Act, AccessRule<P>>>>;

/** The values of the parameters of a channel's pattern. */
export type Parameters = Readonly<Record<string, string>>;

/** What of a message an access rule can look at. */
export interface MessageFacts {
  readonly cursor: Cursor;
  readonly id?: string;
  readonly type?: string;
  /** Absent: an application published it, and named no author. */
  readonly by?: Author;
  /** When it was taken in, and how long ago that is, in milliseconds. */
  readonly atMs: number;
  readonly ageMs: number;
}

/** An access question: may `who` do `act` there? The same for a rule, for a function and for the application. */
export interface Question<P = Parameters> {
  readonly act: Act;
  /** For acts in a channel. */
  readonly channel?: ChannelName;
  /** For acts that concern a user: that user's id. It is also the parameter `:user`. */
  readonly whom?: string;
  /** The name of what is called. */
  readonly call?: string;
  /** For acts about a message. */
  readonly message?: MessageFacts;
  readonly parameters: P;
  readonly who: Identity;
}

/** What a function or the application says to a question. */
export interface Answer {
  readonly allow: boolean;
  /** Shown to the client that is refused. */
  readonly reason?: string;
  /** Data to show of the member to others in the channel. */
  readonly member?: Json;
  /**
   * How long the answer may be remembered, in milliseconds. When it expires, a client that entered on it is
   * asked about again. At most 24 h.
   */
  readonly rememberMs?: number;
}

/** A rule in code. A promise that does not settle in time, or rejects, means no. */
export type AccessFunction<P = Parameters> = (question: Question<P>) => boolean | Answer | Promise<boolean | Answer>;
