import type { Encoding } from '@nine-bells/core';

/**
 * A whole unmasked text frame (RFC 6455, section 5.2): FIN and opcode 1, the length in 1, 3 or 9 bytes, the payload.
 * What a server sends is not masked (section 5.1).
 */
export const webSocketEncoding: Encoding = {
  encode(payload) {
    const length = payload.length;
    const head = length < 126 ? 2 : length < 65_536 ? 4 : 10;
    const frame = Buffer.allocUnsafeSlow(head + length);
    frame[0] = 0x81;
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
  },
  join: (frames) => Buffer.concat(frames),
};
