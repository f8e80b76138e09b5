import type { Encoding } from '@nine-bells/core';
import { cloudEventOf, type Message } from '@nine-bells/wire';
import { eventStreamEncoding } from './eventStreamEncoding.js';

/**
 * As `eventStreamEncoding`, with messages as CloudEvents 1.0 in structured mode: the subject is the channel, the type the
 * message's own.
 *
 * @param source - of all events of the service, a URI reference
 */
export function cloudEventEncoding(source: string): Encoding {
  return {
    encode(payload) {
      const text = Buffer.from(payload.buffer, payload.byteOffset, payload.length).toString();
      if (!text.startsWith('{"on":"message"')) return eventStreamEncoding.encode(payload);
      return Buffer.from(
        `event: message\ndata: ${JSON.stringify(cloudEventOf(JSON.parse(text) as Message, source))}\n\n`,
      );
    },
    join: (frames) => Buffer.concat(frames),
  };
}
