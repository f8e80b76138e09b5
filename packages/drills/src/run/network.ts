import { connect, type Socket } from 'node:net';
import { StreamSocket } from '@nine-bells/client/streamSocket';
import { closeCodes, LINE_PATH, LINE_SUBPROTOCOL } from '@nine-bells/wire';
import { WebSocket } from 'ws';
import type { Span, Transport } from '../format/drill.js';

/** What a connection tells whoever has it. */
export interface NetworkEars {
  opened(): void;
  heard(text: string): void;
  /** It has ended, whichever side ended it; `1006`: without a goodbye. */
  ended(code: number, reason: string): void;
}

/** A random number from 0 to below 1. */
export type Random = () => number;

/** One connection of a client, over a network as bad as the drill wants it. */
export class Network {
  readonly #ears: NetworkEars;
  readonly #random: Random;
  readonly #socket: WebSocket | StreamSocket;
  /** Of a WebSocket, to be cut where no client would. */
  #raw: Socket | undefined;
  #delay: Span = { least: 0, most: 0 };
  /** When what was sent and heard last gets through, in milliseconds of `performance.now`: nothing overtakes. */
  #sentAtMs = 0;
  #heardAtMs = 0;
  #isPaused = false;
  #held: string[] = [];
  #isOver = false;

  constructor(url: string, transport: Transport, ears: NetworkEars, random: Random) {
    this.#ears = ears;
    this.#random = random;
    if (transport === 'websocket') this.#socket = this.#webSocket(url);
    else this.#socket = this.#stream(url, transport === 'poll');
  }

  send(text: string): void {
    this.#sentAtMs = this.#later(this.#sentAtMs, () => {
      if (!this.#isOver) this.#socket.send(text);
    });
  }

  set delay(span: Span) {
    this.#delay = span;
  }

  /** Reads nothing until `resume`; what comes over HTTP is held here. */
  pause(): void {
    this.#isPaused = true;
    if (this.#socket instanceof WebSocket) this.#socket.pause();
  }

  resume(): void {
    this.#isPaused = false;
    if (this.#socket instanceof WebSocket) this.#socket.resume();
    for (const text of this.#held.splice(0)) this.#ears.heard(text);
  }

  /** Says goodbye. */
  close(): void {
    this.resume();
    this.#socket.close(closeCodes.normal);
  }

  /** Breaks it off without a word; `in a frame`: when half a frame is on its way. */
  cut(where: 'between frames' | 'in a frame' = 'between frames'): void {
    if (this.#isOver) return;
    if (where === 'in a frame') this.#raw?.write(halfAFrame);
    if (this.#socket instanceof WebSocket) this.#socket.terminate();
    else this.#socket.close();
    // What is on its way is lost.
    this.#isOver = true;
    this.#ears.ended(1006, '');
  }

  #webSocket(url: string): WebSocket {
    const socket = new WebSocket(`${url.replace(/^http/, 'ws')}${LINE_PATH}`, [LINE_SUBPROTOCOL], {
      ...(url.startsWith('https:')
        ? {}
        : {
            createConnection: ((options: { host?: string; port?: number }) => {
              this.#raw = connect({ host: options.host ?? 'localhost', port: Number(options.port) });
              return this.#raw;
            }) as never,
          }),
    });
    socket.on('open', () => this.#ears.opened());
    socket.on('message', (data) => this.#heard(data.toString()));
    socket.on('close', (code, reason) => this.#over(code, reason.toString()));
    // The close that follows says all there is to say, except why there was no connection at all.
    socket.on('error', (error) => this.#over(1006, error.message));
    return socket;
  }

  #stream(url: string, polls: boolean): StreamSocket {
    const socket = new StreamSocket(`${url}${LINE_PATH}`, { polls });
    socket.onopen = () => this.#ears.opened();
    socket.onmessage = ({ data }: { data: string }) => this.#heard(data);
    socket.onclose = ({ code, reason }: { code: number; reason: string }) => this.#over(code, reason);
    return socket;
  }

  #heard(text: string): void {
    this.#heardAtMs = this.#later(this.#heardAtMs, () => {
      if (this.#isOver) return;
      if (this.#isPaused) this.#held.push(text);
      else this.#ears.heard(text);
    });
  }

  #over(code: number, reason: string): void {
    if (this.#isOver) return;
    // What came before the end is heard before it.
    this.#later(this.#heardAtMs, () => {
      if (this.#isOver) return;
      this.#isOver = true;
      this.#ears.ended(code, reason);
    });
  }

  /** Does something after the delay, and not before what `afterMs` stands for. Gives when. */
  #later(afterMs: number, act: () => void): number {
    const { least, most } = this.#delay;
    const now = performance.now();
    const atMs = Math.max(afterMs, now + least + this.#random() * (most - least));
    if (atMs <= now) act();
    else setTimeout(act, atMs - now);
    return atMs;
  }
}

/** The head of a masked text frame of 100 bytes, and some of its bytes (RFC 6455, section 5.2). */
const halfAFrame = Buffer.from([0x81, 0x80 | 100, 1, 2, 3, 4, ...Buffer.from('{"do":"pub')]);
