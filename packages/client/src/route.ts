import { LINE_PATH, LINE_SUBPROTOCOL } from '@nine-bells/wire';
import { findSocketClass, type SocketClass, type SocketLike } from './socket.js';
import { heldBack, StreamSocket } from './streamSocket.js';
import type { LineOptions, Transport } from './types.js';

/** When a line over HTTP tries a WebSocket again, in milliseconds: the first time, and the longest wait. */
const tryAgain = { firstMs: 30_000, maxMs: 900_000 };

/**
 * How to reach the service: by WebSocket, and where that is blocked by a stream or by polls, until a WebSocket gets
 * through.
 */
export class Route {
  readonly #url: string;
  readonly #options: LineOptions;
  readonly #isFixed: boolean;
  #via: Transport;
  /** A WebSocket has got through before: if one does not, it is not because they are blocked. */
  #webSocketWorks: boolean;
  #tryAgainMs: number;
  #trying: ReturnType<typeof setTimeout> | undefined;

  constructor(url: string, options: LineOptions) {
    this.#url = lineUrl(url);
    this.#options = options;
    const { transport = options.WebSocket === undefined ? 'auto' : 'websocket' } = options;
    this.#isFixed = transport !== 'auto';
    this.#via = transport === 'auto' ? 'websocket' : transport;
    this.#webSocketWorks = this.#isFixed;
    this.#tryAgainMs = options.webSocketAgainMs ?? tryAgain.firstMs;
  }

  get via(): Transport {
    return this.#via;
  }

  /** Finds what the next socket is made of; it may have to be loaded. */
  async prepare(): Promise<() => SocketLike> {
    if (this.#via !== 'websocket') {
      const polls = this.#via === 'poll';
      return () => new StreamSocket(this.#url.replace(/^ws/, 'http'), { polls });
    }
    const socketClass = this.#options.WebSocket ?? (await findSocketClass());
    return () => new socketClass(this.#url, [LINE_SUBPROTOCOL]);
  }

  /** A frame came over the present transport. */
  heard(): void {
    if (this.#via === 'websocket') this.#webSocketWorks = true;
  }

  /**
   * Chooses another transport after a connection has ended; `false` to stay with the present one.
   *
   * A WebSocket on which nothing was ever heard may be blocked, opened or not, and a stream that shows nothing may be
   * held back: then the next transport is tried at once. Where that fails too, the service is not there, and the first
   * comes next.
   */
  change(wasOpen: boolean, code: number, reason: string): boolean {
    if (this.#isFixed) return false;
    if (this.#via === 'stream' && reason === heldBack) {
      this.#via = 'poll';
      return true;
    }
    // A service that closes with a code of its own was reached.
    if (wasOpen || code !== 1006) return false;
    if (this.#via === 'websocket' && !this.#webSocketWorks) {
      this.#via = 'stream';
      return true;
    }
    this.#via = 'websocket';
    return false;
  }

  /** Over HTTP: tries now and then whether a WebSocket gets through, and calls back when one does. */
  tryWebSocketLater(found: () => void): void {
    if (this.#isFixed || this.#via === 'websocket') return;
    const waitMs = this.#tryAgainMs * (1 + Math.random() / 4);
    this.#tryAgainMs = Math.min(this.#tryAgainMs * 2, tryAgain.maxMs);
    this.stopTrying();
    const trying = setTimeout(() => void this.#try(trying, found), waitMs);
    this.#trying = trying;
    // Node.js: the timer alone does not keep the process alive.
    (trying as { unref?(): void }).unref?.();
  }

  stopTrying(): void {
    clearTimeout(this.#trying);
    this.#trying = undefined;
  }

  async #try(trying: ReturnType<typeof setTimeout>, found: () => void): Promise<void> {
    const isMeant = (): boolean => this.#trying === trying;
    const socketClass: SocketClass | undefined =
      this.#options.WebSocket ?? (await findSocketClass().catch(() => undefined));
    if (socketClass === undefined || !isMeant()) return;
    const trial = new socketClass(this.#url, [LINE_SUBPROTOCOL]);
    trial.onerror = () => {};
    trial.onclose = () => isMeant() && this.tryWebSocketLater(found);
    trial.onopen = () => {
      trial.onclose = null;
      trial.close();
      if (!isMeant()) return;
      this.#via = 'websocket';
      found();
    };
  }
}

/** `http(s)://host/base` or `ws(s)://...` to the address of the line. */
function lineUrl(url: string): string {
  const parsed = new URL(url, (globalThis as { location?: { href: string } }).location?.href);
  parsed.protocol = parsed.protocol.replace(/^http/, 'ws');
  parsed.pathname = `${parsed.pathname.replace(/\/$/, '')}${LINE_PATH}`;
  parsed.search = '';
  parsed.hash = '';
  return parsed.href;
}
