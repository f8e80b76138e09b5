import type { ChannelName } from '../channelName.js';
import type { Cursor } from '../cursor.js';
import type { Json } from '../json.js';

/** An intake: an endpoint where another system posts events. */
export interface IntakeInfo {
  readonly name: string;
  /** Path of the intake, such as `/in/buoy`. */
  readonly path: string;
  readonly verify: 'none' | 'standard' | 'hmac' | 'bearer' | 'basic';
  readonly body: 'json' | 'form' | 'raw';
  /** JSON Pointers of members to remove from every body. */
  readonly drop: readonly string[];
  readonly routes: number;
  readonly keepMs: number;
  /** Totals of all instances, since they have started. */
  readonly arrived: number;
  readonly repeated: number;
  readonly refused: number;
  readonly failed: number;
  readonly done: number;
}

/** `ignored`: no route is for it. `failed`: it could not be shaped, or was refused; it can be run again. */
export type ArrivalState = 'waiting' | 'done' | 'ignored' | 'failed';

/** Outcome of an event. */
export interface Became {
  /** Index of the intake's route, from 0. */
  readonly route?: number;
  readonly messages?: readonly { readonly channel: string; readonly id: string; readonly cursor: Cursor }[];
  readonly notices?: readonly { readonly id: string; readonly users: number }[];
  readonly entries?: readonly { readonly channel: string; readonly entry: string; readonly version: Cursor }[];
}

/** An event that an intake received. */
export interface ArrivalInfo {
  readonly id: string;
  readonly number: number;
  readonly intake: string;
  readonly at: string;
  readonly method: string;
  /** Length of the body as it came. */
  readonly bytes: number;
  readonly state: ArrivalState;
  readonly tries: number;
  /** The sender's own id. */
  readonly eventId?: string;
  readonly became?: Became;
  readonly problem?: string;
  readonly ended?: string;
}

export interface ArrivalDetail extends ArrivalInfo {
  readonly headers: Readonly<Record<string, string>>;
  readonly body: Json;
  /** Set if `body` is base64 (RFC 4648), for binary bodies. */
  readonly isBase64?: boolean;
}

/** An event to try an intake with: a kept one, or a body. */
export interface IntakeTrialWish {
  readonly arrival?: string;
  readonly body?: Json;
  /** The body as text: where it is no JSON, or its signature is to be checked. */
  readonly text?: string;
  readonly headers?: Readonly<Record<string, string>>;
  readonly method?: string;
  /** Routes in place of those of the configuration: as JSON, or as the text of YAML. */
  readonly routes?: Json;
}

/** Results of an event. */
export interface IntakeResults {
  readonly messages?: readonly IntakeMessage[];
  readonly notices?: readonly IntakeNotice[];
  readonly entries?: readonly IntakeEntry[];
}

export interface IntakeMessage {
  readonly channel: ChannelName;
  readonly data: Json;
  readonly type?: string;
  readonly by?: string;
}

export interface IntakeNotice {
  readonly users?: readonly string[];
  readonly role?: string;
  readonly title: string;
  readonly data?: Json;
  readonly key?: string;
  readonly forMs?: number;
}

export interface IntakeEntry {
  readonly channel: ChannelName;
  readonly entry: string;
  readonly value: Json;
  readonly forMs?: number;
}

/** Outcome of a trial. */
export interface IntakeTrial {
  /** `valid`, or the fault of the signature; only for a body. */
  readonly verification?: string;
  readonly matched: boolean;
  readonly route?: number;
  readonly becomes?: IntakeResults;
  /** Reason why the route could not shape the event. */
  readonly problem?: string;
  /** The body without dropped members. */
  readonly body: Json;
}

/** Common members of hooks and feeds. */
interface QueueInfo {
  readonly name: string;
  readonly events: readonly string[];
  readonly channels?: readonly string[];
  readonly types?: readonly string[];
  readonly from: 'configuration' | 'http';
  readonly state: 'active' | 'failing' | 'paused' | 'full';
  readonly paused?: { readonly at: string; readonly why: string };
  readonly failingSince?: string;
  readonly waiting: number;
  /** Size of the waiting events' data, in bytes; estimated for more than 1,000 of them. */
  readonly waitingBytes: number;
  /** Events that were given up, and are kept. */
  readonly deadKept: number;
  /** Time of the oldest waiting event. */
  readonly oldest?: string;
}

/** A hook: a receiver of events. */
export interface HookInfo extends QueueInfo {
  readonly url: string;
  readonly order: 'channel' | 'none';
  readonly atOnce: number;
  /** Attempts, since the instances have started; events that were given up. */
  readonly delivered?: number;
  readonly failed?: number;
  readonly dead?: number;
}

/** A queue whose events are fetched. */
export interface FeedInfo extends QueueInfo {
  /** Lease of a fetched event, in milliseconds. */
  readonly leaseMs: number;
}

/** Selects events for a hook or a feed. The grammar is that of the configuration (docs/configuration.md). */
export interface QueueWish {
  readonly name: string;
  readonly events?: readonly string[];
  readonly channels?: readonly string[];
  readonly types?: readonly string[];
  readonly when?: Json;
  readonly data?: Json;
  readonly drop?: readonly string[];
  readonly keep?: string;
}

export interface HookWish extends QueueWish {
  readonly url: string;
  readonly secrets?: readonly string[];
  readonly order?: 'channel' | 'none';
  readonly atOnce?: number;
  readonly rate?: string;
  readonly batch?: { readonly most: number; readonly within?: string };
  readonly within?: string;
  readonly retry?: { readonly first?: string; readonly most?: string; readonly for?: string };
}

export interface FeedWish extends QueueWish {
  readonly lease?: string;
  readonly for?: string;
}

export type DeliveryState = 'waiting' | 'delivered' | 'dead';

/** An event on its way to a hook or a feed. */
export interface DeliveryInfo {
  /** HOOK_EVENT: the `webhook-id` of every attempt. */
  readonly id: string;
  readonly number: number;
  readonly hook: string;
  readonly event: string;
  readonly eventId: string;
  readonly channel?: string;
  readonly at: string;
  readonly state: DeliveryState;
  readonly attempts: number;
  /** Time of the next attempt. */
  readonly next?: string;
  readonly ended?: string;
  readonly status?: number;
  readonly problem?: string;
}

export interface DeliveryAttempt {
  readonly at: string;
  readonly tookMs: number;
  readonly status?: number;
  readonly problem?: string;
  /** The headers of the request, secrets masked. */
  readonly sent?: Readonly<Record<string, string>>;
  /** The beginning of the answer: 4 KiB. */
  readonly answer?: string;
}

export interface DeliveryDetail extends DeliveryInfo {
  readonly data: Json;
  /** The latest first. */
  readonly tried: readonly DeliveryAttempt[];
}

/** A request as its receiver would get it: a copy for a developer's own machine. */
export interface ForwardedRequest {
  readonly number: number;
  readonly id: string;
  /** Description, for people. */
  readonly what: string;
  readonly method: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly body: string;
  /** Set if `body` is base64 (RFC 4648), for binary bodies. */
  readonly isBase64?: boolean;
}

/** An event of a feed (CloudEvents 1.0). */
export interface FeedEvent<Data extends Json = Json> {
  readonly specversion: '1.0';
  readonly id: string;
  readonly source: string;
  readonly type: string;
  /** The channel, where it is about one. */
  readonly subject?: string;
  readonly time: string;
  readonly datacontenttype: 'application/json';
  readonly data: Data;
}
