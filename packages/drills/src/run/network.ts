import { connect, type Socket } from 'node:net';
import { StreamSocket } from '@nine-bells/client/streamSocket';
import { closeCodes, LINE_PATH, LINE_SUBPROTOCOL } from '@nine-bells/wire';
import { WebSocket } from 'ws';
import type { Span, Transport } from '../format/drill.js';
import type { ClientNetwork, NetworkEars, NetworkMaker } from './client.js';

/** Returns a random number in [0, 1). */
export type Random = () => number;

/** Connections of Node.js. */
export function nodeNetwork(random: Random): NetworkMaker {
  return (url, transport, ears) => new Network(url, transport, ears, random);
}

/** A client's connection, with simulated network faults. */
class Network implements ClientNetwork {
  readonly #ears: NetworkEars;
  readonly #random: Random;
  readonly #socket: WebSocket | StreamSocket;
  /** The TCP socket of a WebSocket, for writing part of a frame. */
  #raw: Socket | undefined;
  #delay: Span = { least: 0, most: 0 };
  /** When the last frame in each direction is delivered (`performance.now`, ms): frames keep their order. */
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

  /** Stops reading until `resume`; frames over HTTP are held here. */
  pause(): void {
    this.#isPaused = true;
    if (this.#socket instanceof WebSocket) this.#socket.pause();
  }

  resume(): void {
    this.#isPaused = false;
    if (this.#socket instanceof WebSocket) this.#socket.resume();
    for (const text of this.#held.splice(0)) this.#ears.heard(text);
  }

  /** Closes the connection normally. */
  close(): void {
    this.resume();
    this.#socket.close(closeCodes.normal);
  }

  /** Breaks the connection without a close frame; `in a frame`: after half a frame. */
  cut(where: 'between frames' | 'in a frame' = 'between frames'): void {
    if (this.#isOver) return;
    if (where === 'in a frame') this.#raw?.write(halfAFrame);
    if (this.#socket instanceof WebSocket) this.#socket.terminate();
    else this.#socket.close();
    // Frames in transit are lost.
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
    // A `close` event follows; only a failed connect has its reason here.
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
    // Deliver frames that arrived before the end first.
    this.#later(this.#heardAtMs, () => {
      if (this.#isOver) return;
      this.#isOver = true;
      this.#ears.ended(code, reason);
    });
  }

  /** Schedules an action after the delay, no earlier than `afterMs`. Returns its time. */
  #later(afterMs: number, act: () => void): number {
    const { least, most } = this.#delay;
    const now = performance.now();
    const atMs = Math.max(afterMs, now + least + this.#random() * (most - least));
    if (atMs <= now) act();
    else setTimeout(act, atMs - now);
    return atMs;
  }
}

/** The header of a masked text frame of 100 bytes, and the first bytes of its payload (RFC 6455, section 5.2). */
const halfAFrame = Buffer.from([0x81, 0x80 | 100, 1, 2, 3, 4, ...Buffer.from('{"do":"pub')]);
