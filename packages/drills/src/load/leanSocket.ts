import { createHash, randomBytes, randomFillSync } from 'node:crypto';
import { connect, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';

/** What a lean socket tells. */
export interface LeanEars {
  opened(): void;
  /** A text frame: the bytes from `start` to `end`, which are overwritten afterwards. */
  text(bytes: Buffer, start: number, end: number): void;
  /** The connection has ended, or could not be opened. */
  closed(): void;
}

/** All sockets read into the same memory: each frame is dealt with before the next read. */
const shared = Buffer.allocUnsafe(256 * 1024);
/** Of RFC 6455, section 1.3. */
const acceptSuffix = '258EAFA5-E914-47DA-95CA-C5AB0DC85B11';
const opcodes = { continued: 0, text: 1, close: 8, ping: 9, pong: 10 } as const;
const maskPool = Buffer.allocUnsafe(4096);
let maskAt = maskPool.length;

/**
 * A WebSocket client (RFC 6455) that only does what a load needs: text frames, pings and closing. A library takes two to
 * three times as long for each frame, and then measures itself: a message to 1,000 clients is read 1,000 times.
 */
export class LeanSocket {
  readonly #ears: LeanEars;
  readonly #socket: Socket;
  readonly #key = randomBytes(16).toString('base64');
  /** The beginning of what has not come whole yet. */
  #rest: Buffer | undefined;
  /** Parts of a message in several frames. */
  #parts: Buffer[] = [];
  #isOpen = false;
  #isClosed = false;

  /** @param url - `http(s)://` */
  constructor(url: string, protocol: string, ears: LeanEars) {
    this.#ears = ears;
    const { hostname, port, pathname, protocol: scheme } = new URL(url);
    const isSecure = scheme === 'https:';
    const host = hostname.replace(/^\[|\]$/g, '');
    const options = {
      host,
      port: Number(port === '' ? (isSecure ? 443 : 80) : port),
      onread: {
        buffer: shared,
        callback: (count: number): boolean => {
          this.#read(count);
          return true;
        },
      },
    };
    this.#socket = isSecure ? connectTls({ ...options, servername: host }) : connect(options);
    this.#socket.setNoDelay(true);
    this.#socket.on('close', () => this.#end());
    // `close` follows.
    this.#socket.on('error', () => {});
    this.#socket.once(isSecure ? 'secureConnect' : 'connect', () =>
      this.#socket.write(
        `GET ${pathname} HTTP/1.1\r\nHost: ${hostname}:${options.port}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n` +
          `Sec-WebSocket-Key: ${this.#key}\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Protocol: ${protocol}\r\n\r\n`,
      ),
    );
  }

  get isOpen(): boolean {
    return this.#isOpen && !this.#isClosed;
  }

  send(text: string): void {
    if (this.isOpen) this.#socket.write(masked(opcodes.text, Buffer.from(text)));
  }

  /** Says goodbye, and does not wait long for the answer. */
  close(): void {
    if (this.isOpen) this.#socket.end(masked(opcodes.close, Buffer.from([0x03, 0xe8])));
    setTimeout(() => this.#socket.destroy(), 2_000).unref();
  }

  #end(): void {
    if (this.#isClosed) return;
    this.#isClosed = true;
    this.#ears.closed();
  }

  /** Hot. */
  #read(count: number): void {
    const rest = this.#rest;
    const bytes = rest === undefined ? shared : Buffer.concat([rest, shared.subarray(0, count)]);
    const end = rest === undefined ? count : bytes.length;
    const used = this.#isOpen ? this.#frames(bytes, 0, end) : this.#handshake(bytes, end);
    // What is kept must not lie in the memory that the next read overwrites.
    this.#rest = used === end ? undefined : Buffer.from(bytes.subarray(used, end));
  }

  /** Reads the answer to the handshake. Returns how far it has read. */
  #handshake(bytes: Buffer, end: number): number {
    const at = bytes.subarray(0, end).indexOf('\r\n\r\n');
    if (at < 0) return 0;
    const accept = createHash('sha1').update(`${this.#key}${acceptSuffix}`).digest('base64');
    const head = bytes.toString('latin1', 0, at);
    if (!/^HTTP\/1\.1 101 /.test(head) || !head.includes(accept)) {
      this.#socket.destroy();
      return end;
    }
    this.#isOpen = true;
    this.#ears.opened();
    return this.#frames(bytes, at + 4, end);
  }

  /** Deals with whole frames. Returns how far it has read. */
  #frames(bytes: Buffer, start: number, end: number): number {
    let at = start;
    while (end - at >= 2) {
      let length = (bytes[at + 1] as number) & 127;
      let from = at + 2;
      if (length === 126) {
        if (end - at < 4) break;
        length = bytes.readUInt16BE(at + 2);
        from = at + 4;
      } else if (length === 127) {
        if (end - at < 10) break;
        length = Number(bytes.readBigUInt64BE(at + 2));
        from = at + 10;
      }
      if (end - from < length) break;
      this.#frame(bytes[at] as number, bytes, from, from + length);
      at = from + length;
    }
    return at;
  }

  #frame(first: number, bytes: Buffer, from: number, to: number): void {
    const isLast = first >= 128;
    switch (first & 15) {
      case opcodes.text:
        if (isLast) this.#ears.text(bytes, from, to);
        else this.#parts = [Buffer.from(bytes.subarray(from, to))];
        break;
      case opcodes.continued: {
        this.#parts.push(Buffer.from(bytes.subarray(from, to)));
        if (!isLast) break;
        const whole = Buffer.concat(this.#parts.splice(0));
        this.#ears.text(whole, 0, whole.length);
        break;
      }
      case opcodes.ping:
        this.#socket.write(masked(opcodes.pong, bytes.subarray(from, to)));
        break;
      case opcodes.close:
        this.#socket.end(masked(opcodes.close, bytes.subarray(from, to)));
        break;
      default:
    }
  }
}

/** A client's frame is masked (RFC 6455, section 5.3). */
function masked(opcode: number, payload: Uint8Array): Buffer {
  const { length } = payload;
  const head = length < 126 ? 2 : length < 65_536 ? 4 : 10;
  const frame = Buffer.allocUnsafe(head + 4 + length);
  frame[0] = 0x80 | opcode;
  frame[1] = 0x80 | (head === 2 ? length : head === 4 ? 126 : 127);
  if (head === 4) frame.writeUInt16BE(length, 2);
  else if (head === 10) frame.writeBigUInt64BE(BigInt(length), 2);
  if (maskAt + 4 > maskPool.length) {
    randomFillSync(maskPool);
    maskAt = 0;
  }
  for (let index = 0; index < 4; index++) frame[head + index] = maskPool[maskAt + index] as number;
  maskAt += 4;
  for (let index = 0; index < length; index++)
    frame[head + 4 + index] = (payload[index] as number) ^ (frame[head + (index & 3)] as number);
  return frame;
}
