import type { Json, PushKind, Verb } from '@nine-bells/wire';

/** The version of the drill format that this package reads. */
export const formatVersion = 1;

/** A drill: made-up users, their clients, and what they do and must see. */
export interface Drill {
  readonly file: string;
  readonly name: string;
  readonly about?: string;
  /** Path of the drill's configuration; `--config` overrides it. */
  readonly config?: string;
  /** Parameters with their default values. */
  readonly parameters: Readonly<Record<string, Json>>;
  readonly users: Readonly<Record<string, DrillUser>>;
  readonly clients: readonly ClientSpec[];
  /** Default time limit of a step's expectation, in milliseconds. */
  readonly withinMs: number;
  /** Empty if the drill has a load. */
  readonly steps: readonly Step[];
  readonly load?: Load;
}

export interface DrillUser {
  readonly name?: string;
  readonly roles?: readonly string[];
  readonly claims?: Readonly<Record<string, Json>>;
}

export const transports = ['websocket', 'stream', 'poll'] as const;
export type Transport = (typeof transports)[number];

/** A client, or a group of identical clients, and how it connects. */
export interface ClientSpec {
  readonly name: string;
  readonly line: number;
  /** Size of the group; absent: a single client without a number. */
  readonly times?: number;
  /** The user's id, which may contain references; absent: a guest, or the user of `token`. */
  readonly user?: string;
  readonly token?: string;
  /** Lifetime of its token, in milliseconds. */
  readonly tokenMs?: number;
  readonly transport: Transport;
  /** A step connects it, instead of the start of the drill. */
  readonly isLater: boolean;
}

/** Source of a step. */
export interface StepPlace {
  readonly file: string;
  readonly line: number;
  /** The step as written, on one line. */
  readonly text: string;
  readonly note?: string;
}

/** The clients that take a step: one of a group, all of it, or a random one. */
export interface Who {
  readonly client: string;
  readonly which: number | 'all' | 'any';
}

/** Expectations about the answer to a request. */
export interface Answer {
  /** Pattern that the reply must match. */
  readonly reply?: Json;
  /** Code of the problem that must refuse the request. */
  readonly refused?: string;
  /** Name by which later steps refer to the answer. */
  readonly as?: string;
  readonly withinMs?: number;
}

/** Sends a request of the protocol and waits for its reply. */
export interface ActStep extends StepPlace, Answer {
  readonly kind: 'act';
  readonly who: Who;
  readonly verb: Verb;
  readonly members: Readonly<Record<string, Json>>;
}
/** Sends text unchanged, whether or not it is a valid frame. */
export interface SendStep extends StepPlace {
  readonly kind: 'send';
  readonly who: Who;
  readonly frame: Json;
}
/** Kinds of requests that the service sends to the application. */
export type OutboundKind = keyof typeof outboundMembers;

/** Members of each kind, as in a step; the docs of access, moderation, calls and hooks say what they hold. */
export const outboundMembers = {
  ask: ['url', 'act', 'channel', 'whom', 'call', 'parameters', 'user', 'name', 'guest', 'roles', 'claims', 'message'],
  review: ['url', 'channel', 'parameters', 'user', 'name', 'guest', 'roles', 'message'],
  call: [
    ...['url', 'call', 'channel', 'parameters', 'user', 'name', 'guest', 'roles', 'claims', 'session', 'key', 'data'],
  ],
  delivery: ['url', 'hook', 'id', 'source', 'type', 'subject', 'time', 'data'],
} as const satisfies Readonly<Record<string, readonly string[]>>;

/** Sets the answers to requests of a kind from now on, in place of the application. */
export interface AnswersStep extends StepPlace {
  readonly kind: 'answers';
  readonly to: OutboundKind;
  /** Pattern of the requests that are answered so. */
  readonly pattern: Json;
  /** Body of the answer. */
  readonly with?: Json;
  /** HTTP status of the answer. Default 200. */
  readonly status?: number;
  /** Delay of the answer, in milliseconds. */
  readonly afterMs?: number;
}
/** Waits for pushes to arrive at a client, or for requests to the application, optionally in this order. */
export interface GetsStep extends StepPlace {
  readonly kind: 'gets';
  readonly who: Who | 'application';
  readonly expected: readonly Expected[];
  readonly isOrdered: boolean;
  readonly times: number;
  readonly as?: string;
  readonly withinMs?: number;
}
export interface Expected {
  readonly on: PushKind | OutboundKind;
  readonly pattern: Json;
}
/** Fails if a matching push has arrived, or arrives within `forMs`. */
export interface GetsNoStep extends StepPlace {
  readonly kind: 'gets no';
  readonly who: Who | 'application';
  readonly expected: Expected;
  readonly forMs: number;
}
/** Waits for the connection to end, optionally with a close code or reason. */
export interface EndsStep extends StepPlace {
  readonly kind: 'ends';
  readonly who: Who;
  readonly with?: number | string;
  readonly withinMs?: number;
}
/** Connects, or resumes the session after the connection ended. */
export interface ConnectStep extends StepPlace, Answer {
  readonly kind: 'connect';
  readonly who: Who;
}
/** A network fault of a client. */
export interface NetworkStep extends StepPlace {
  readonly kind: 'network';
  readonly who: Who;
  readonly what: NetworkEvent;
}
export type NetworkEvent =
  | { readonly type: 'cut' | 'cut in a frame' | 'close' | 'pause' | 'resume' }
  | { readonly type: 'offline'; readonly ms: Span }
  | { readonly type: 'delay'; readonly ms: Span }
  | { readonly type: 'lose'; readonly what: 'replies' | 'pushes' | 'nothing' };
/** A random length of time in milliseconds; `least` equals `most` if it is fixed. */
export interface Span {
  readonly least: number;
  readonly most: number;
}
/** A call of the HTTP interface. */
export interface CallStep extends StepPlace, Answer {
  readonly kind: 'call';
  readonly method: 'GET' | 'POST' | 'PUT' | 'PATCH' | 'DELETE';
  readonly path: string;
  readonly body?: Json;
  readonly status?: number;
  /** Repeats the request until the answer matches this pattern or the time limit passes. */
  readonly until?: Json;
  /** API key that replaces the run's own; `null`: none. */
  readonly key?: string | null;
}
export interface ServiceStep extends StepPlace {
  readonly kind: 'service';
  readonly what: 'restart' | 'stop' | 'start';
}
export interface WaitStep extends StepPlace {
  readonly kind: 'wait';
  readonly ms: Span;
}
/** Steps that run concurrently. */
export interface TogetherStep extends StepPlace {
  readonly kind: 'together';
  readonly steps: readonly Step[];
}
/** Steps that repeat: a number of times, or once for each value. */
export interface RepeatStep extends StepPlace {
  readonly kind: 'repeat';
  /** A count, a list of values, or a reference to a list. */
  readonly values: number | Json;
  /** Name of the current value, or of the round's number (from 1). */
  readonly as: string;
  readonly steps: readonly Step[];
}
/** Runs another drill with its own clients. */
export interface IncludeStep extends StepPlace {
  readonly kind: 'include';
  readonly drill: Drill;
  readonly with: Readonly<Record<string, Json>>;
}

export type Step =
  | ActStep
  | AnswersStep
  | SendStep
  | GetsStep
  | GetsNoStep
  | EndsStep
  | ConnectStep
  | NetworkStep
  | CallStep
  | ServiceStep
  | WaitStep
  | TogetherStep
  | RepeatStep
  | IncludeStep;

/** Acts of many clients over some time. */
export interface Load {
  readonly forMs: number;
  /** Clients that connect per second. */
  readonly connectPerS: number;
  /** Acts of each client once after connecting. */
  readonly first: readonly ActStep[];
  readonly acts: readonly LoadAct[];
  readonly must: readonly Threshold[];
}

/** An act that is done again and again. */
export type LoadAct = (
  | {
      /** Acts per second of all its clients together, at the beginning and at the end. */
      readonly rate: { readonly from: number; readonly to: number };
    }
  | {
      /** Each of its clients does it with a pause of this length, in milliseconds. */
      readonly pause: Span;
    }
) & { readonly step: ActStep | CallStep };

export const timed = ['delivery', 'reply', 'connect'] as const;
export const shares = { p50: 50, p90: 90, p95: 95, p99: 99, 'p99.9': 99.9, max: 100 } as const;
export const counted = ['lost', 'refused', 'failed', 'unanswered'] as const;

/** A limit that the load must keep. */
export type Threshold = StepPlace & { readonly kind: 'must' } & (
    | { readonly of: (typeof timed)[number]; readonly share: keyof typeof shares; readonly atMostMs: number }
    | { readonly of: (typeof counted)[number]; readonly atMost: number }
    | { readonly of: 'received'; readonly atLeastPerS: number }
  );
