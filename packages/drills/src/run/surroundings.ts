import type { DrillUser } from '../format/drill.js';

/** The service that a drill runs against. */
export interface Surroundings {
  readonly url: string;
  /** An API key for calls of the application, if there is one. */
  readonly key: string | undefined;
  /**
   * A token for a user, as the application would sign it.
   *
   * @throws {Error} if there is nothing to sign with
   */
  tokenFor(user: string, about: DrillUser, forMs: number): Promise<string>;
  /** Stops and starts the service; absent where the drill has not started it. */
  readonly control?: { stop(): Promise<void>; start(): Promise<void> };
}
