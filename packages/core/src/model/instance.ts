import type { ChannelName, Json } from '@nine-bells/wire';
import type { SessionsWish } from './info.js';
import type { ModerationAction } from './moderation.js';

/** What an instance says of itself to the others, once a second. */
export interface InstanceStatus {
  /** Its name, as configured; for people. */
  readonly instance: string;
  readonly address?: string;
  readonly version?: string;
  /** Format of what it shares with the others (`instanceFormat`); absent: 1. */
  readonly format?: number;
  readonly sinceMs: number;
  readonly connections: number;
  /** Channels that a client there has entered. */
  readonly channels: number;
  /** Since it has started. */
  readonly messagesIn: number;
  readonly deliveries: number;
  readonly refusals: number;
  /** In each second of the last few. */
  readonly messagesPerS: number;
  readonly deliveriesPerS: number;
  /** p99 event-loop delay over the last seconds, in milliseconds. */
  readonly loopDelayMs?: number;
  /** How long the relay took to answer the last time, in milliseconds. */
  readonly relayMs?: number;
  readonly draining: boolean;
  /** How far the service's time is ahead of the machine's clock, in milliseconds. */
  readonly clockMs?: number;
  /** What is not as it should be, for people. */
  readonly warnings?: readonly string[];
  /** How it writes frames to plain sockets. */
  readonly writer?: 'native' | 'streams';
}

/** An instance, as another sees it. */
export interface InstanceInfo extends InstanceStatus {
  /** The instance and its incarnation: a restarted instance has another id. */
  readonly instanceId: string;
  /** It is the one that was asked. */
  readonly isThis: boolean;
  /** For how long its lease still holds, in milliseconds; negative: for how long it has been over. */
  readonly leaseMs: number;
}

/** A question to all instances. */
export type InstanceQuestion =
  | { readonly type: 'table'; readonly channel: ChannelName }
  | { readonly type: 'memberships'; readonly user: string }
  | ({ readonly type: 'sessions' } & SessionsWish)
  | { readonly type: 'visitor'; readonly session: string }
  | { readonly type: 'entrants'; readonly channel: ChannelName }
  | { readonly type: 'channels'; readonly after: string; readonly limit: number; readonly find?: string }
  | { readonly type: 'activity'; readonly users: readonly string[]; readonly channel?: ChannelName }
  | { readonly type: 'concerned'; readonly action: ModerationAction }
  | { readonly type: 'refusals' }
  | { readonly type: 'traffic' }
  | { readonly type: 'trace'; readonly id: string }
  | { readonly type: 'call'; readonly key: string }
  | { readonly type: 'call-copies'; readonly name: string; readonly after: number }
  | { readonly type: 'webhooks' }
  | { readonly type: 'stays'; readonly user: string; readonly channel: ChannelName };

/** What instances have answered. */
export interface InstanceAnswers<T = Json> {
  readonly answers: readonly { readonly instance: string; readonly instanceId: string; readonly answer: T }[];
  /** The names of those that did not answer in time. */
  readonly missing: readonly string[];
}

/** A word to the other instances. It may be lost. */
export type InstanceWord =
  /** Users whose status is watched on the sending instance: the others tell it when that status changes. */
  | { readonly type: 'watching'; readonly users: readonly string[] }
  | { readonly type: 'status'; readonly user: string; readonly status: Json; readonly left?: boolean }
  /** A notice has reached a session of its user. */
  | { readonly type: 'reached'; readonly user: string; readonly id: string }
  | HookWord;

/** Hooks were registered, removed, paused or resumed; or there are new events for some. */
export type HookWord =
  | { readonly type: 'hooks-changed' }
  | { readonly type: 'queued'; readonly hooks: readonly string[] };
