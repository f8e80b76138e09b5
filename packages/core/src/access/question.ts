import type { ChannelName, Json } from '@nine-bells/wire';
import type { Identity } from '../identity.js';
import type { Act } from './acts.js';

/** The values of the parameters of a channel's pattern. */
export type Parameters = Readonly<Record<string, string>>;

/** An access question: may `who` do `act` there? The same for a rule, for a function and for the application. */
export interface Question<P = Parameters> {
  readonly act: Act;
  /** For acts in a channel. */
  readonly channel?: ChannelName;
  /** For acts that concern a user: that user's id. It is also the parameter `:user`. */
  readonly whom?: string;
  readonly parameters: P;
  readonly who: Identity;
}

/** What a function or the application says to a question. */
export interface Answer {
  readonly allow: boolean;
  /** Shown to the client that is refused. */
  readonly reason?: string;
  /** What to show of the member, for whoever has entered. */
  readonly member?: Json;
  /**
   * How long the answer may be remembered, in milliseconds. When it runs out, whoever has entered on its strength is
   * asked about again. At most 24 h.
   */
  readonly rememberMs?: number;
}

/** Hands a question to the application. */
export interface Asker {
  /** @throws if there is no answer in time, or none that can be read; the message is for the operator */
  ask(url: string, question: Question): Promise<Answer>;
}

/** A rule in code. A promise that does not settle in time, or rejects, means no. */
export type AccessFunction<P = Parameters> = (question: Question<P>) => boolean | Answer | Promise<boolean | Answer>;
