import { describe, expect, it } from 'vitest';
import * as library from 'ws';
import { webSocketEncoding } from '../src/index.js';

// Exported by the library, though not in its types.
const { Receiver } = library as unknown as { Receiver: new (options: object) => NodeJS.WritableStream };

describe('whole WebSocket frames', () => {
  it.each([0, 1, 125, 126, 127, 65_535, 65_536, 200_000])(
    'of %d bytes are read back by the library',
    async (length) => {
      const text = 'ü'.repeat(Math.floor(length / 2)) + 'x'.repeat(length % 2);
      const receiver = new Receiver({ isServer: false });
      const read = new Promise((resolve, reject) => {
        receiver.on('message', (data: Buffer, isBinary: boolean) => resolve([data.toString(), isBinary]));
        receiver.on('error', reject);
      });
      receiver.write(Buffer.from(webSocketEncoding.encode(new TextEncoder().encode(text))));
      expect(await read).toEqual([text, false]);
    },
  );
});
