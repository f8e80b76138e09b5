import type { ChannelName, Json } from '@nine-bells/wire';
import type { Rate } from './rate.js';
import type { Condition, Template } from './shape.js';

/** Events that tell what moderators do and see: names of reporters, their reasons, messages that are held. */
export const moderationEvents = [
  'ban',
  'unban',
  'remove',
  'silence',
  'end-silence',
  'reported',
  'pending',
  'sign-out',
  'revoke-tokens',
] as const;

/** Events that a hook can receive. Their CloudEvents types have the prefix `ninebells.`. */
export const hookEvents = [
  'message',
  'changed',
  'joined',
  'left',
  'unreached',
  ...moderationEvents,
  'intake-failed',
  'first-in',
  'last-out',
  'board',
] as const;
export type HookEvent = (typeof hookEvents)[number];

/** A receiver of events. */
export interface Hook {
  /** 1 to 40 of `a-z 0-9 -`. */
  readonly name: string;
  /** Empty for a feed, whose events are fetched. */
  readonly url: string;
  /** Lease of a fetched event, in milliseconds; feeds only. */
  readonly leaseMs?: number;
  readonly events: readonly HookEvent[];
  /** Patterns of channels, for events of channels; absent: all channels. */
  readonly channels?: readonly string[];
  /** Types of messages; absent: all but the service's own notes. */
  readonly types?: readonly string[];
  /** Condition on the data of the events. */
  readonly when?: Condition;
  /** Template of the sent `data`; absent = the data of the event. */
  readonly data?: Template;
  /** JSON Pointers of members to remove from the data first. */
  readonly drop?: readonly string[];
  /** Events of one channel are sent one after another; one that fails holds up the channel. */
  readonly ordered: boolean;
  /** Most requests under way. */
  readonly atOnce: number;
  readonly rate?: Rate;
  /** Several events in one request. */
  readonly batch?: HookBatch;
  /** Timeout of the receiver's answer, in milliseconds. */
  readonly withinMs: number;
  /** The wait after the first failure, and the longest, in milliseconds. */
  readonly retry: { readonly firstMs: number; readonly mostMs: number };
  /** For how long an event is tried, in milliseconds. */
  readonly giveUpMs: number;
  /** A hook that has failed for so long is paused, in milliseconds. */
  readonly pauseMs: number;
  /** Minimum interval between events of one board, in milliseconds. */
  readonly boardEveryMs: number;
  /** For how long deliveries are kept after their end, in milliseconds. */
  readonly keepMs: number;
  /** Maximum number of waiting events. Above it, new events are not queued for this hook, and the service reports that. */
  readonly most: number;
  /** Maximum size of the waiting events' data, in bytes; estimated for more than 1,000 of them. Above it as above `most`. */
  readonly maxBytes: number;
}

export interface HookBatch {
  readonly most: number;
  /** Maximum wait of the first event for more, in milliseconds. */
  readonly withinMs: number;
}

export const defaultHook = {
  events: ['message'],
  ordered: false,
  atOnce: 8,
  withinMs: 10_000,
  retry: { firstMs: 2_000, mostMs: 3_600_000 },
  giveUpMs: 3 * 86_400_000,
  pauseMs: 2 * 86_400_000,
  keepMs: 86_400_000,
  most: 1_000_000,
  maxBytes: 2 ** 30,
  boardEveryMs: 5_000,
} as const satisfies Partial<Hook>;

/** An event that waits for a hook. */
export interface QueuedEvent {
  readonly hook: string;
  /** Id of the event, the same for all hooks. With the hook, it identifies the delivery. */
  readonly id: string;
  readonly event: HookEvent;
  readonly atMs: number;
  readonly channel?: ChannelName | undefined;
  /** Through how many intakes it has come. */
  readonly hops?: number | undefined;
  /** The event's data as JSON text. */
  readonly dataText: string;
  /** Absent where the data copies no text of a user, or a message that is found by the event's id. */
  readonly copy?: Copy | undefined;
}

/** A copy of what a user wrote, in the data of an event. It goes when the original is withdrawn, taken back or erased. */
export interface Copy {
  /** The original, by `copyOfMessage` or `copyOfPending`. */
  readonly of: string;
  /** The event's data without it, as JSON text. */
  readonly bareText: string;
}

export function copyOfMessage(channel: ChannelName, number: number): string {
  return `message ${channel} ${number}`;
}

/** @param id - of a message in the moderators' queue */
export function copyOfPending(id: string): string {
  return `pending ${id}`;
}

/** `delivered`: the receiver has taken it. `dead`: it was given up. */
export type DeliveryState = 'waiting' | 'delivered' | 'dead';

/** An event on its way to a hook, as the store has it. */
export interface Delivery extends QueuedEvent {
  /** Rises in the order of commits. */
  readonly number: number;
  readonly attempts: number;
  /** Since when it is tried, in milliseconds since the epoch: since it happened, or was sent again by hand. */
  readonly sinceMs: number;
}

/** A delivery with the data that its hook sends, as JSON text. */
export interface ShapedDelivery {
  readonly delivery: Delivery;
  readonly dataText: string;
}

/** The id of a delivery, the same over all attempts (Standard Webhooks, `webhook-id`). */
export function deliveryId({ hook, id }: Pick<QueuedEvent, 'hook' | 'id'>): string {
  return `${hook}_${id}`;
}

/** Answer of a receiver, or the reason why there is none. */
export interface HookAnswer {
  /** Absent: there was no answer. */
  readonly status?: number;
  readonly tookMs: number;
  /** Reason of the failure, for people. */
  readonly problem?: string;
  /** Wait that the receiver requests, in milliseconds (`Retry-After`, RFC 9110, section 10.2.3). */
  readonly retryAfterMs?: number;
  /** Headers of the request, secrets masked, and the beginning of the answer. */
  readonly sent?: Readonly<Record<string, string>>;
  readonly text?: string;
}

/** Outcome of an attempt. */
export interface DeliveryOutcome {
  readonly number: number;
  readonly state: DeliveryState;
  readonly attempts: number;
  readonly atMs: number;
  /** Time of the next attempt, in milliseconds since the epoch. */
  readonly dueAtMs: number;
  readonly answer: HookAnswer;
}

/** State of a hook, shared by all instances. */
export interface HookState {
  readonly name: string;
  readonly failingSinceMs?: number;
  readonly paused?: HookPause;
  /** Definition of a hook registered over HTTP. */
  readonly registered?: RegisteredHook;
}

export interface HookPause {
  readonly atMs: number;
  readonly why: string;
}

export interface RegisteredHook {
  /** The hook as JSON. */
  readonly definition: Json;
  /** API key of the registration. The hook ends with the key. */
  readonly key: string;
  readonly secrets: readonly string[];
}

/** Counts of a hook's deliveries. */
export interface HookFigures {
  readonly waiting: number;
  /** Size of the waiting events' data, in bytes; estimated for more than 1,000 of them. */
  readonly waitingBytes: number;
  readonly dead: number;
  /** Time of the oldest waiting event, in milliseconds since the epoch. */
  readonly oldestMs?: number;
}

/** An attempt, for people. */
export interface DeliveryAttempt extends HookAnswer {
  readonly atMs: number;
}

/** A delivery, for people. */
export interface DeliveryRecord extends Delivery {
  readonly state: DeliveryState;
  /** Time of the next attempt, of a waiting delivery. */
  readonly dueAtMs?: number;
  readonly endedAtMs?: number;
  readonly status?: number;
  readonly problem?: string;
}

export interface DeliveryWish {
  readonly hook?: string | undefined;
  readonly state?: DeliveryState | undefined;
  /** Only those that have failed at least once. */
  readonly failed?: boolean | undefined;
  /** Those with a smaller number. */
  readonly before?: number | undefined;
  readonly limit: number;
}
