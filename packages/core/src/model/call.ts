import type { ChannelName, Json } from '@nine-bells/wire';
import type { AccessRule, Identity, Parameters } from './access.js';
import type { IntakeEntry, IntakeMessage, IntakeNotice } from './intake.js';
import type { Rate } from './rate.js';

/** What clients may call, and who answers. */
export interface CallRule {
  readonly name: string;
  /** Who may call it. */
  readonly allow: AccessRule;
  /** The pattern of the channels that it is about; absent: it is about none. */
  readonly channel?: string;
  /** The application's URL, or a function in code. */
  readonly answerer: string | CallFunction;
  /** How long the answer may take, in milliseconds. */
  readonly withinMs: number;
  /** Largest data of a call, and of its answer, in bytes of JSON text. */
  readonly dataBytes: number;
  readonly answerBytes: number;
  /** Calls of one session. */
  readonly rate: Rate;
  /** Patterns of channels in which an answer may publish, beside the call's own. */
  readonly publishes: readonly string[];
}

export const defaultCall = {
  withinMs: 5_000,
  dataBytes: 16_384,
  answerBytes: 65_536,
  rate: { count: 20, perMs: 1_000 },
  publishes: [],
} as const satisfies Partial<CallRule>;

/** A call as the application sees it. */
export interface Call {
  /** Its own: a call that is repeated and asked again has another. */
  readonly id: string;
  readonly name: string;
  readonly channel?: ChannelName;
  readonly parameters: Parameters;
  readonly who: Identity;
  readonly session: string;
  /** The client's idempotency key: a call that comes again has the same. */
  readonly key?: string;
  readonly data: Json;
}

/** What the application answers. */
export interface CallAnswer {
  readonly data?: Json;
  /** Why it does not do what was asked, in words of its own. */
  readonly refuse?: CallRefusal;
  /** What is published before the client hears the answer, in this order. */
  readonly publish?: readonly CallPublication[];
}

export interface CallRefusal {
  readonly code: string;
  readonly text: string;
}

export type CallPublication =
  | { readonly message: IntakeMessage }
  | { readonly hail: { readonly channel: ChannelName; readonly type: string; readonly data?: Json } }
  | { readonly entry: IntakeEntry }
  | { readonly notice: IntakeNotice };

export type CallFunction = (call: Call) => CallAnswer | Promise<CallAnswer>;
