import type { Json, PushKind, Verb } from '@nine-bells/wire';

/** The version of the format that this reads. */
export const formatVersion = 1;

/** A drill: made-up users, their clients, and what they do and must see. */
export interface Drill {
  readonly file: string;
  readonly name: string;
  readonly about?: string;
  /** The configuration that it is meant for, as a path; a command's `--config` comes first. */
  readonly config?: string;
  /** Parameters and what they are if nothing else is given. */
  readonly parameters: Readonly<Record<string, Json>>;
  readonly users: Readonly<Record<string, DrillUser>>;
  readonly clients: readonly ClientSpec[];
  /** How long is waited for what is expected where a step does not say, in milliseconds. */
  readonly withinMs: number;
  readonly steps: readonly Step[];
}

export interface DrillUser {
  readonly name?: string;
  readonly roles?: readonly string[];
  readonly claims?: Readonly<Record<string, Json>>;
}

export const transports = ['websocket', 'stream', 'poll'] as const;
export type Transport = (typeof transports)[number];

/** How a client, or each of a number of like ones, is connected. */
export interface ClientSpec {
  readonly name: string;
  readonly line: number;
  /** How many of it there are; absent: one, which has no number. */
  readonly times?: number;
  /** The user's id, maybe with references; absent: a guest, or whoever the token names. */
  readonly user?: string;
  readonly token?: string;
  /** How long its token is good, in milliseconds. */
  readonly tokenMs?: number;
  readonly transport: Transport;
  /** Connected by a step, not at the start. */
  readonly isLater: boolean;
}

/** Where a step stands. */
export interface StepPlace {
  readonly file: string;
  readonly line: number;
  /** As it is written, on one line. */
  readonly text: string;
  readonly note?: string;
}

/** Whose step it is: a client, one of several like ones, all of them, or any. */
export interface Who {
  readonly client: string;
  readonly which: number | 'all' | 'any';
}

/** What must come back for a call. */
export interface Answer {
  /** A pattern for the reply. */
  readonly reply?: Json;
  /** The code of the problem that it is refused with. */
  readonly refused?: string;
  /** The name under which later steps know what came. */
  readonly as?: string;
  readonly withinMs?: number;
}

/** A client says a verb of the protocol, and awaits its reply. */
export interface ActStep extends StepPlace, Answer {
  readonly kind: 'act';
  readonly who: Who;
  readonly verb: Verb;
  readonly members: Readonly<Record<string, Json>>;
}
/** A client sends a text as it is, maybe one that is no frame. */
export interface SendStep extends StepPlace {
  readonly kind: 'send';
  readonly who: Who;
  readonly frame: Json;
}
/** Frames must come at a client: each once, in any order or in this one. */
export interface GetsStep extends StepPlace {
  readonly kind: 'gets';
  readonly who: Who;
  readonly expected: readonly Expected[];
  readonly isOrdered: boolean;
  readonly times: number;
  readonly as?: string;
  readonly withinMs?: number;
}
export interface Expected {
  readonly on: PushKind;
  readonly pattern: Json;
}
/** No such frame may have come, nor come for a while. */
export interface GetsNoStep extends StepPlace {
  readonly kind: 'gets no';
  readonly who: Who;
  readonly expected: Expected;
  readonly forMs: number;
}
/** The connection itself must end, with a close code or its reason. */
export interface EndsStep extends StepPlace {
  readonly kind: 'ends';
  readonly who: Who;
  readonly with?: number | string;
  readonly withinMs?: number;
}
/** Connects, or says hello again after it was cut. */
export interface ConnectStep extends StepPlace, Answer {
  readonly kind: 'connect';
  readonly who: Who;
}
/** What happens to a client's network. */
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
/** From so many milliseconds to so many; equal, if it is not random. */
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
  /** Asked again until the answer matches, or the time is up. */
  readonly until?: Json;
  /** Another key than that of the run; null: none. */
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
/** Steps at the same time. */
export interface TogetherStep extends StepPlace {
  readonly kind: 'together';
  readonly steps: readonly Step[];
}
/** Steps again and again: a number of times, or for each of some values. */
export interface RepeatStep extends StepPlace {
  readonly kind: 'repeat';
  readonly values: number | readonly Json[];
  /** What the number of the round from 1, or the value, is called. */
  readonly as: string;
  readonly steps: readonly Step[];
}
/** The steps of another drill, with clients of its own. */
export interface IncludeStep extends StepPlace {
  readonly kind: 'include';
  readonly drill: Drill;
  readonly with: Readonly<Record<string, Json>>;
}

export type Step =
  | ActStep
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
