import type { SendQueue } from '../delivery/sendQueue.js';
import type { BlockList } from '../model/block.js';

/** A client that gets a channel's messages: a session on its present connection. */
export interface Recipient {
  readonly session: string;
  readonly user: string;
  /** Whom its user keeps away, where that is known. */
  readonly blocks: BlockList | undefined;
  /** Its connection has ended, perhaps while it was entering. */
  readonly gone: boolean;
  /** Frames that wait for its connection. */
  readonly queue: SendQueue;
}
