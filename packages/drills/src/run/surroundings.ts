import type { DrillUser } from '../format/drill.js';

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
}
