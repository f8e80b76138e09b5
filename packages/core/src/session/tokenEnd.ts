import { closeCodes, type Ending } from '@nine-bells/wire';
import type { SendQueue } from '../delivery/sendQueue.js';
import { Frame } from '../model/frame.js';
import type { SessionHost } from './host.js';

/** How long before its token ends a client is told, at most, in milliseconds. */
const expiringMs = 60_000;

/**
 * Tells the client that its token is about to end, and ends the connection with it.
 *
 * @param endsAtMs - in milliseconds since the epoch
 * @returns a function that stops it
 */
export function watchTokenEnd(
  { wheel, clock }: Pick<SessionHost, 'wheel' | 'clock'>,
  connection: { readonly queue: SendQueue; close(code: number, reason: string, ending: Ending): void },
  endsAtMs: number,
): () => void {
  const leftMs = endsAtMs - clock.now();
  const cancelWord = wheel.after(leftMs - Math.min(expiringMs, leftMs / 2), () => {
    const withinMs = Math.max(0, Math.floor(endsAtMs - clock.now()));
    connection.queue.reply(new Frame(`{"on":"expiring","withinMs":${withinMs}}`));
  });
  const cancelEnd = wheel.after(leftMs, () => connection.close(closeCodes.tokenEnded, 'token-ended', 'token-ended'));
  return () => {
    cancelWord();
    cancelEnd();
  };
}
