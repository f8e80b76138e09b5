import type { ChannelName, Cursor, Json } from '@nine-bells/wire';
import type { IntakeResults } from '@nine-bells/wire/http';
import type { Condition, Template } from './shape.js';

/** A door through which another system says what has happened. */
export interface Intake {
  /** 1 to 40 of `a-z 0-9 -`; served at `/in/NAME`. */
  readonly name: string;
  readonly body: 'json' | 'form' | 'raw';
  /** JSON Pointers of what is taken out before the body is kept or used. */
  readonly drop: readonly string[];
  /** The first whose condition holds decides; or a function in code. */
  readonly routes: readonly Route[] | IntakeFunction;
  /** Retention of events after their end, in milliseconds. */
  readonly keepMs: number;
  /** Retention of the senders' event ids, which identify repeats, in milliseconds. Default: a week longer than events. */
  readonly keepIdsMs?: number;
}

/** Default retention of event ids after their events are pruned, in milliseconds: senders retry for some days. */
export const idsOutliveMs = 7 * 86_400_000;

/** What becomes of an event, decided in code. */
export type IntakeFunction = (event: IntakeEvent) => IntakeResults | Promise<IntakeResults>;

/** An event as an intake function sees it. */
export interface IntakeEvent {
  readonly id: string;
  readonly intake: string;
  readonly atMs: number;
  readonly method: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly body: Json;
}

export interface Route {
  /** Absent: it always holds. */
  readonly when?: Condition;
  readonly messages: readonly MessageTemplate[];
  readonly notices: readonly NoticeTemplate[];
  readonly entries: readonly EntryTemplate[];
}

/** A channel whose name may hold values: `weather/:station`. A value that is not named is the member of that name. */
interface ChannelTemplate {
  readonly channel: string;
  readonly with: Readonly<Record<string, Template>>;
}

export interface MessageTemplate extends ChannelTemplate {
  readonly type?: Template;
  /** Absent: the whole body. */
  readonly data?: Template;
  /** The user to name as author. */
  readonly by?: Template;
}

export interface NoticeTemplate {
  readonly users?: Template;
  readonly role?: Template;
  readonly title: Template;
  readonly data?: Template;
  readonly key?: Template;
  readonly forMs?: number;
}

export interface EntryTemplate extends ChannelTemplate {
  readonly entry: Template;
  /** Absent: the whole body. */
  readonly value?: Template;
  readonly forMs?: number;
}

export type { IntakeEntry, IntakeMessage, IntakeNotice, IntakeResults } from '@nine-bells/wire/http';

/** What came in, before it is kept. */
export interface ArrivalDraft {
  readonly id: string;
  readonly intake: string;
  /** The sender's own id of the event: one that comes again is kept once. */
  readonly eventId?: string | undefined;
  readonly atMs: number;
  readonly method: string;
  readonly headers: Readonly<Record<string, string>>;
  /** The body as text; of raw bodies that are not text, in base64. */
  readonly body: string;
  readonly isBase64?: boolean;
  /** Length of the body as it came, in bytes. */
  readonly bytes: number;
  /** Through how many intakes it has come before. */
  readonly hops: number;
  /** Until when others leave it to the instance that took it, in milliseconds since the epoch. */
  readonly heldUntilMs: number;
}

/** `waiting`: kept, and not published yet. `ignored`: no route is for it. `failed`: it could not be shaped, or was refused. */
export type ArrivalState = 'waiting' | 'done' | 'ignored' | 'failed';

export interface Arrival extends ArrivalDraft {
  readonly number: number;
  readonly state: ArrivalState;
  readonly tries: number;
  readonly became?: Became;
  readonly problem?: string;
  readonly endedAtMs?: number;
}

/** What has become of an event. */
export interface Became {
  /** Which route, from 0; absent: a function. */
  readonly route?: number;
  readonly messages?: readonly { readonly channel: ChannelName; readonly id: string; readonly cursor: Cursor }[];
  readonly notices?: readonly { readonly id: string; readonly users: number }[];
  readonly entries?: readonly { readonly channel: ChannelName; readonly entry: string; readonly version: Cursor }[];
}

/** How an arrival was dealt with. */
export interface ArrivalOutcome {
  readonly id: string;
  readonly state: ArrivalState;
  readonly atMs: number;
  readonly became?: Became | undefined;
  readonly problem?: string | undefined;
  /** When it is tried again, in milliseconds since the epoch; of those that wait. */
  readonly heldUntilMs?: number | undefined;
}

export interface ArrivalWish {
  readonly intake?: string | undefined;
  readonly state?: ArrivalState | undefined;
  /** Those with a smaller number. */
  readonly before?: number | undefined;
  readonly limit: number;
}
