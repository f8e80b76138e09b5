import type { SendQueue } from '../delivery/sendQueue.js';

/** A client that gets a channel's messages: a session on its present connection. */
export interface Recipient {
  readonly session: string;
  readonly user: string;
  /** Its connection has ended, perhaps while it was entering. */
  readonly gone: boolean;
  /** Frames that wait for its connection. */
  readonly queue: SendQueue;
}
