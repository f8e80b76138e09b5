// A WebSocket client that does as little as possible, for the benchmarks' child processes.
import { createHash, randomBytes } from 'node:crypto';
import { connect } from 'node:net';

/**
 * Opens a connection. `onFrame` gets the text of each text frame.
 *
 * @returns {Promise<{ send(text: string): void, destroy(): void, socket: import('node:net').Socket }>}
 */
export function openRaw({ port, path = '/line', protocol, onFrame, onClose }) {
  return new Promise((resolve, reject) => {
    const socket = connect(port, '127.0.0.1');
    const key = randomBytes(16).toString('base64');
    const accept = createHash('sha1').update(`${key}258EAFA5-E914-47DA-95CA-C5AB0DC85B11`).digest('base64');
    let buffered = Buffer.alloc(0);
    let isOpen = false;
    socket.on('error', reject);
    socket.on('close', () => onClose?.());
    socket.setNoDelay(true);
    socket.write(
      `GET ${path} HTTP/1.1\r\nHost: 127.0.0.1:${port}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n` +
        `Sec-WebSocket-Key: ${key}\r\nSec-WebSocket-Version: 13\r\n` +
        `${protocol === undefined ? '' : `Sec-WebSocket-Protocol: ${protocol}\r\n`}\r\n`,
    );
    socket.on('data', (data) => {
      buffered = buffered.length === 0 ? data : Buffer.concat([buffered, data]);
      if (!isOpen) {
        const end = buffered.indexOf('\r\n\r\n');
        if (end === -1) return;
        if (!buffered.includes(accept)) return reject(new Error(`no upgrade: ${buffered.toString().slice(0, 200)}`));
        buffered = buffered.subarray(end + 4);
        isOpen = true;
        resolve({ socket, send: (text) => socket.write(masked(text)), destroy: () => socket.destroy() });
      }
      buffered = takeFrames(buffered, onFrame);
    });
  });
}

/** Whole frames are handed over, the rest is given back (RFC 6455, section 5.2; a server's frames are not masked). */
function takeFrames(buffer, onFrame) {
  let at = 0;
  while (buffer.length - at >= 2) {
    let length = buffer[at + 1] & 127;
    let head = 2;
    if (length === 126) {
      if (buffer.length - at < 4) break;
      length = buffer.readUInt16BE(at + 2);
      head = 4;
    } else if (length === 127) {
      if (buffer.length - at < 10) break;
      length = Number(buffer.readBigUInt64BE(at + 2));
      head = 10;
    }
    if (buffer.length - at < head + length) break;
    if ((buffer[at] & 15) === 1) onFrame?.(buffer.toString('utf8', at + head, at + head + length));
    at += head + length;
  }
  return at === 0 ? buffer : buffer.subarray(at);
}

/** A client's text frame (RFC 6455, section 5.3); a mask of zeros is a mask too. */
export function masked(text) {
  const payload = Buffer.from(text);
  const { length } = payload;
  const head =
    length < 126 ? Buffer.from([0x81, 0x80 | length]) : Buffer.from([0x81, 0x80 | 126, length >> 8, length & 255]);
  return Buffer.concat([head, Buffer.alloc(4), payload]);
}
