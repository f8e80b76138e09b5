import { type SocketLike, StreamSocket } from '@nine-bells/client/streamSocket';
import type { ClientNetwork, NetworkEars, NetworkMaker } from '@nine-bells/drills/client';

/** The subprotocol and the path of the line. */
const subprotocol = 'nine-bells.v1';
const linePath = '/line';
/** A close code that is no goodbye: the service keeps the session, as after a broken connection. */
const cutCode = 4999;

/** Connections of a browser, with simulated network faults. */
export const browserNetwork: NetworkMaker = (url, transport, ears) =>
  new BrowserNetwork(
    transport === 'websocket'
      ? (new WebSocket(`${url.replace(/^http/, 'ws')}${linePath}`, [subprotocol]) as unknown as SocketLike)
      : new StreamSocket(`${url}${linePath}`, { polls: transport === 'poll' }),
    ears,
  );

class BrowserNetwork implements ClientNetwork {
  delay = { least: 0, most: 0 };
  readonly #socket: SocketLike;
  readonly #ears: NetworkEars;
  /** When the last frame in each direction is delivered: frames keep their order. */
  #sentAtMs = 0;
  #heardAtMs = 0;
  #isPaused = false;
  #held: string[] = [];
  #isOver = false;

  constructor(socket: SocketLike, ears: NetworkEars) {
    this.#socket = socket;
    this.#ears = ears;
    socket.onopen = () => ears.opened();
    socket.onmessage = ({ data }: { data: string }) => {
      this.#heardAtMs = this.#later(this.#heardAtMs, () => (this.#isPaused ? this.#held.push(data) : ears.heard(data)));
    };
    socket.onclose = ({ code, reason }: { code: number; reason: string }) =>
      void this.#later(this.#heardAtMs, () => this.#over(code, reason));
  }

  send(text: string): void {
    this.#sentAtMs = this.#later(this.#sentAtMs, () => this.#socket.send(text));
  }

  pause(): void {
    this.#isPaused = true;
  }

  resume(): void {
    this.#isPaused = false;
    for (const text of this.#held.splice(0)) this.#ears.heard(text);
  }

  close(): void {
    this.resume();
    this.#socket.close(1000);
  }

  cut(): void {
    this.#socket.close(cutCode, 'cut');
    this.#over(1006, '');
  }

  #over(code: number, reason: string): void {
    if (this.#isOver) return;
    this.#isOver = true;
    this.#ears.ended(code, reason);
  }

  /** Acts after the delay, and not before `afterMs`. Returns when. */
  #later(afterMs: number, act: () => void): number {
    const { least, most } = this.delay;
    const now = performance.now();
    const atMs = Math.max(afterMs, now + least + Math.random() * (most - least));
    const unlessOver = (): void => {
      if (!this.#isOver) act();
    };
    if (atMs <= now) unlessOver();
    else setTimeout(unlessOver, atMs - now);
    return atMs;
  }
}
