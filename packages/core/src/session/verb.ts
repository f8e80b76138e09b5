import type { ChannelName, Request, RequestOf, Verb } from '@nine-bells/wire';
import type { ChannelAct, UserAct } from '../model/access.js';
import type { Allowed, LiveSession } from './liveSession.js';
import type { SessionRate } from './rates.js';

/** What every verb says of itself. */
interface VerbBase {
  /** How many requests one counts for (`EngineOptions.requests`): by what it costs the service. */
  readonly cost: number;
  /** A rate of its own that it is charged to besides. */
  readonly rate?: SessionRate;
}

/** A verb about a channel: the act is decided before `handle` is called, with what was decided. */
export interface ChannelVerb<R> extends VerbBase {
  readonly act: ChannelAct;
  /** Runs before the decision. @throws {ProblemError} for clients that may not use the verb at all */
  readonly check?: (session: LiveSession, request: R) => void;
  /** Decides the act; `LiveSession.allowed` by default. */
  readonly decide?: (session: LiveSession, channel: ChannelName, request: R) => Allowed | Promise<Allowed>;
  handle(session: LiveSession, request: R, allowed: Allowed): void | Promise<void>;
}

/** A verb about another user: `handle` lets the session's watches decide. */
export interface UserVerb<R> extends VerbBase {
  readonly act: UserAct;
  handle(session: LiveSession, request: R): void | Promise<void>;
}

/** A verb about the client's own session and user: no access rule decides it. */
export interface OwnVerb<R> extends VerbBase {
  readonly act: 'own';
  handle(session: LiveSession, request: R): void | Promise<void>;
}

/** The verbs that a session answers; `hello` begins one, and is the connection's. */
export type SessionVerb = Exclude<Verb, 'hello'>;

type DefinitionOf<R> = ChannelVerb<R> | UserVerb<R> | OwnVerb<R>;

/** One definition for each verb of the protocol: the compiler sees to it that none is missing. */
export type VerbTable = { readonly [V in SessionVerb]: DefinitionOf<RequestOf<V>> };

export type SessionRequest = Exclude<Request, { readonly do: 'hello' }>;
