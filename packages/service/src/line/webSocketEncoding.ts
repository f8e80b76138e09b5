import { constants, deflateRawSync } from 'node:zlib';
import type { Encoding } from '@nine-bells/core';

/** What ends a message that was flushed, and is not sent (RFC 7692, section 7.2.1). */
const tailBytes = 4;

/**
 * A whole unmasked text frame (RFC 6455, section 5.2): FIN and opcode 1, the length in 1, 3 or 9 bytes, the payload.
 * What a server sends is not masked (section 5.1).
 */
export const webSocketEncoding: Encoding = {
  encode: (payload) => frameOf(0x81, payload),
  join: (frames) => Buffer.concat(frames),
};

/**
 * As `webSocketEncoding`, with payloads above a size compressed (RFC 7692). Each message is compressed for itself, without
 * what came before: so its bytes are the same for all connections, made once, and no connection needs a memory of its own.
 *
 * @param aboveBytes - smaller payloads are sent as they are
 */
export function deflatingEncoding(aboveBytes: number): Encoding {
  return {
    encode(payload) {
      if (payload.length <= aboveBytes) return frameOf(0x81, payload);
      const deflated = deflateRawSync(payload, { finishFlush: constants.Z_SYNC_FLUSH });
      // The first reserved bit says that it is compressed (section 7.2.1).
      return frameOf(0xc1, deflated.subarray(0, deflated.length - tailBytes));
    },
    join: (frames) => Buffer.concat(frames),
  };
}

function frameOf(first: number, payload: Uint8Array): Buffer {
  const { length } = payload;
  const head = length < 126 ? 2 : length < 65_536 ? 4 : 10;
  const frame = Buffer.allocUnsafeSlow(head + length);
  frame[0] = first;
  if (head === 2) frame[1] = length;
  else if (head === 4) {
    frame[1] = 126;
    frame.writeUInt16BE(length, 2);
  } else {
    frame[1] = 127;
    frame.writeBigUInt64BE(BigInt(length), 2);
  }
  frame.set(payload, head);
  return frame;
}
