import type { Json } from '@nine-bells/wire';
import type { DrillUser, OutboundKind } from '../format/drill.js';
import type { FrameSource } from './frameQueue.js';

/** The service that a drill runs against. */
export interface Surroundings {
  readonly url: string;
  /** API key for application steps, if there is one. */
  readonly key: string | undefined;
  /**
   * Signs a token for a user, as the application would.
   *
   * @throws {Error} if there is no secret to sign with
   */
  tokenFor(user: string, about: DrillUser, forMs: number): Promise<string>;
  /** Stops and starts the service; absent unless the drill started it. */
  readonly control?: { stop(): Promise<void>; start(): Promise<void> };
  /** Receives the service's requests in place of the application and of receivers of hooks; absent where they go out. */
  readonly standIn?: StandIn | undefined;
}

/** A replacement for the application: receives the service's requests and answers them. */
export interface StandIn extends FrameSource {
  /** Sets the answer to requests of a kind that match `to`, from now on. */
  answer(kind: OutboundKind, answer: StandInAnswer, to?: Json): void;
}

export interface StandInAnswer {
  /** Body of the answer. */
  readonly with?: Json;
  /** HTTP status. Default 200. */
  readonly status?: number;
  /** Delay, in milliseconds. */
  readonly afterMs?: number;
}
