import { type IncomingMessage, type Server, STATUS_CODES } from 'node:http';
import type { Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import { TLSSocket } from 'node:tls';
import { type Batch, type Connection, canonicalAddress, type Encoding, type Engine } from '@nine-bells/core';
import { closeCodes, LINE_PATH, LINE_SUBPROTOCOL, type ProblemCode } from '@nine-bells/wire';
import proxyAddr from 'proxy-addr';
import { type WebSocket, WebSocketServer } from 'ws';
import { type NativeLink, NativeLinks } from './nativeLinks.js';
import { descriptorOf, type Handle, handleOf, type TestedWriter } from './nativeWriter.js';
import { mayOpen } from './origins.js';
import { deflatingEncoding, webSocketEncoding } from './webSocketEncoding.js';

export interface WebSocketLineOptions {
  /** Origins whose pages may open a line; all if absent. Programs that send no `Origin` are not meant. */
  readonly origins: readonly string[] | undefined;
  /** Proxies whose word for the client's address is taken (`X-Forwarded-For`). */
  readonly trustedProxies: readonly string[];
  /** Compresses frames above so many bytes, for clients that can (RFC 7692); never if absent. */
  readonly compressAbove: number | undefined;
  /** Writes to plain sockets; their streams do if absent. */
  readonly writer?: TestedWriter | undefined;
}

/** The state in which a WebSocket takes frames (`readyState`). */
const OPEN = 1;
/** How long a client may take to answer a goodbye, in milliseconds. */
const goodbyeMs = 3_000;

/** The endpoint for WebSockets (RFC 6455) at `/line` of an HTTP server. */
export class WebSocketLine {
  readonly #engine: Engine;
  readonly #options: WebSocketLineOptions;
  readonly #server: WebSocketServer;
  /** Those to which goodbye was said, until they have ended. */
  readonly #closing = new Set<WebSocket>();
  readonly #plain: Kind;
  readonly #deflating: Kind;
  readonly #isTrusted: (address: string, hop: number) => boolean;

  constructor(http: Server, engine: Engine, options: WebSocketLineOptions) {
    this.#engine = engine;
    this.#options = options;
    const { compressAbove, writer } = options;
    this.#plain = kindOf(webSocketEncoding, this.#closing, writer);
    this.#deflating =
      compressAbove === undefined ? this.#plain : kindOf(deflatingEncoding(compressAbove), this.#closing, writer);
    this.#isTrusted = proxyAddr.compile([...options.trustedProxies]);
    this.#server = new WebSocketServer({
      noServer: true,
      // Those that are being closed are known, and the engine has the others.
      clientTracking: false,
      // Without a memory over messages, on either side: each connection would have one of its own.
      perMessageDeflate:
        compressAbove === undefined
          ? false
          : { serverNoContextTakeover: true, clientNoContextTakeover: true, concurrencyLimit: 4 },
      maxPayload: engine.options.frameBytes,
      handleProtocols: (offered) => (offered.has(LINE_SUBPROTOCOL) ? LINE_SUBPROTOCOL : false),
    });
    http.on('upgrade', (request, socket, head) => this.#upgrade(request, socket, head));
  }

  /** Ends what is still open. */
  close(): void {
    for (const webSocket of this.#closing) webSocket.terminate();
    this.#server.close();
  }

  #upgrade(request: IncomingMessage, socket: Duplex, head: Buffer): void {
    socket.on('error', ignore);
    const path = (request.url ?? '').split('?', 1)[0];
    if (path !== LINE_PATH) {
      socket.end(`HTTP/1.1 404 ${STATUS_CODES[404]}\r\nConnection: close\r\nContent-Length: 0\r\n\r\n`);
      return;
    }
    this.#server.handleUpgrade(request, socket, head, (webSocket) => {
      webSocket.on('error', ignore);
      // The library listens from here on.
      socket.off('error', ignore);
      const refusal = this.#refusal(request, webSocket);
      if (refusal !== undefined) {
        const { origin } = request.headers;
        this.#engine.refusals.add({ code: refusal, act: 'connect', address: this.#addressOf(request), origin });
        sayGoodbye(webSocket, this.#closing, closeCodes.policy, refusal);
      } else {
        // The only extension that is ever agreed on.
        const kind = webSocket.extensions === '' ? this.#plain : this.#deflating;
        new WebSocketLink(this.#engine, webSocket, socket as Socket, kind, {
          remote: this.#addressOf(request),
          origin: request.headers.origin,
        });
      }
    });
  }

  /** Where the client is, as far as those can be believed who say so. */
  #addressOf(request: IncomingMessage): string {
    return canonicalAddress(proxyAddr(request, this.#isTrusted) ?? '');
  }

  /** Why a connection is refused. The handshake is completed first: a browser cannot read a refused one. */
  #refusal(request: IncomingMessage, webSocket: WebSocket): ProblemCode | undefined {
    const { origin, host } = request.headers;
    if (!mayOpen(origin, host, this.#options.origins)) return 'bad-origin';
    const offered = request.headers['sec-websocket-protocol'];
    // Command-line tools often offer no subprotocol; a client that offers others speaks another protocol.
    return offered !== undefined && webSocket.protocol !== LINE_SUBPROTOCOL ? 'bad-value' : undefined;
  }
}

/** How one kind of WebSocket is written to. */
interface Kind {
  readonly encoding: Encoding;
  readonly bulk: NativeLinks | undefined;
  /** Those of all kinds to which goodbye was said. */
  readonly closing: Set<WebSocket>;
}

function kindOf(encoding: Encoding, closing: Set<WebSocket>, writer: TestedWriter | undefined): Kind {
  return { encoding, closing, bulk: writer === undefined ? undefined : new NativeLinks(writer, encoding) };
}

/**
 * One WebSocket. The library reads it, answers pings and closes; pushes and replies are written to the socket directly,
 * as whole frames that are shared between connections. Both write whole frames, so they cannot tear each other's.
 */
class WebSocketLink implements NativeLink {
  readonly transport = 'websocket';
  readonly remote: string;
  readonly origin: string | undefined;
  readonly #kind: Kind;
  readonly #webSocket: WebSocket;
  readonly #socket: Socket;
  /** Of a plain socket that the native writer may write to. */
  readonly #handle: Handle | undefined;
  readonly #fd: number;
  readonly #connection: Connection;

  constructor(
    engine: Engine,
    webSocket: WebSocket,
    socket: Socket,
    kind: Kind,
    { remote, origin }: { readonly remote: string; readonly origin: string | undefined },
  ) {
    this.#kind = kind;
    this.#webSocket = webSocket;
    this.#socket = socket;
    // What goes through TLS is not written to the descriptor.
    this.#handle = kind.bulk === undefined || socket instanceof TLSSocket ? undefined : (handleOf(socket) ?? undefined);
    this.#fd = descriptorOf(this.#handle);
    this.remote = remote;
    this.origin = origin;
    socket.setNoDelay(true);
    this.#connection = engine.connect(this);
    (webSocket as Linked)[linkOf] = this;
    webSocket.on('message', heard);
    webSocket.on('pong', alive);
    webSocket.on('close', closed);
  }

  get encoding(): Encoding {
    return this.#kind.encoding;
  }

  get bulk(): NativeLinks | undefined {
    return this.#fd < 0 ? undefined : this.#kind.bulk;
  }

  /** Hot: once per connection and turn. */
  get descriptor(): number {
    // A socket that is destroyed loses its handle in the moment in which its descriptor is closed.
    return handleOf(this.#socket) === this.#handle && this.#webSocket.readyState === OPEN ? this.#fd : -1;
  }

  get connection(): Connection {
    return this.#connection;
  }

  get waitingBytes(): number {
    return this.#socket.writableLength;
  }

  get unsentBytes(): number | undefined {
    return handleOf(this.#socket)?.writeQueueSize;
  }

  /** Hot: once per connection and turn. */
  write(batch: Batch): void {
    if (this.#webSocket.readyState !== OPEN) return;
    this.#writeToStream(batch.joined(this.encoding));
  }

  writeRest(bytes: Uint8Array, from: number): void {
    this.#writeToStream(from === 0 ? bytes : bytes.subarray(from));
  }

  #writeToStream(bytes: Uint8Array): void {
    const socket = this.#socket;
    socket.write(bytes);
    // What the system took at once is gone; else the queue hears when it is.
    if (socket.writableLength > 0)
      socket.write(nothing, () => socket.writableLength === 0 && this.#connection.drained());
  }

  ping(): void {
    if (this.#webSocket.readyState === OPEN) this.#webSocket.ping();
  }

  pause(): void {
    this.#webSocket.pause();
  }

  resume(): void {
    this.#webSocket.resume();
  }

  close(code: number, reason: string): void {
    // A client that is being ignored must still be heard saying goodbye.
    this.#webSocket.resume();
    sayGoodbye(this.#webSocket, this.#kind.closing, code, reason);
  }
}

/** Says goodbye; a client that does not answer in time is cut off. */
function sayGoodbye(webSocket: WebSocket, closing: Set<WebSocket>, code: number, reason: string): void {
  closing.add(webSocket);
  webSocket.once('close', () => closing.delete(webSocket));
  webSocket.close(code, reason);
  setTimeout(() => webSocket.terminate(), goodbyeMs).unref();
}

/** The listeners are the same functions for all WebSockets: there are very many of these. */
const linkOf = Symbol('link');
type Linked = WebSocket & { [linkOf]: WebSocketLink };

function heard(this: WebSocket, data: Buffer, isBinary: boolean): void {
  const { connection } = (this as Linked)[linkOf];
  if (isBinary) connection.close(closeCodes.unsupportedData, 'frames are text', 'refused');
  else connection.receive(data.toString('utf8'));
}

function alive(this: WebSocket): void {
  (this as Linked)[linkOf].connection.alive();
}

function closed(this: WebSocket, code: number): void {
  (this as Linked)[linkOf].connection.closed(code);
}

const nothing = Buffer.alloc(0);

function ignore(): void {
  // The close event follows and says all there is to say.
}
