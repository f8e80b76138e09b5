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
  joinTexts(texts) {
    const sizes = texts.map((text) => Buffer.byteLength(text));
    const joined = Buffer.allocUnsafe(sizes.reduce((sum, size) => sum + headBytes(size) + size, 0));
    let at = 0;
    for (const [index, text] of texts.entries()) {
      at = writeHead(joined, at, 0x81, sizes[index] as number);
      at += joined.write(text, at);
    }
    return joined;
  },
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
  const head = headBytes(payload.length);
  // Not from the pool: it is kept as long as the slowest recipient needs it.
  const frame = Buffer.allocUnsafeSlow(head + payload.length);
  writeHead(frame, 0, first, payload.length);
  frame.set(payload, head);
  return frame;
}

function headBytes(length: number): number {
  return length < 126 ? 2 : length < 65_536 ? 4 : 10;
}

/** Writes how a frame begins; where it goes on. */
function writeHead(buffer: Buffer, at: number, first: number, length: number): number {
  const head = headBytes(length);
  buffer[at] = first;
  if (head === 2) buffer[at + 1] = length;
  else if (head === 4) {
    buffer[at + 1] = 126;
    buffer.writeUInt16BE(length, at + 2);
  } else {
    buffer[at + 1] = 127;
    buffer.writeBigUInt64BE(BigInt(length), at + 2);
  }
  return at + head;
}
