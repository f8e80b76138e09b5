import { WebSocket } from 'ws';
import { until } from './until.js';

/** A WebSocket to the line without the SDK, to say what a sound client would not. */
export class RawLine {
  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  readonly frames: any[] = [];
  readonly socket: WebSocket;
  closedWith: { code: number; reason: string } | undefined;

  private constructor(socket: WebSocket) {
    this.socket = socket;
    socket.on('message', (data) => this.frames.push(JSON.parse(data.toString())));
    socket.on('close', (code, reason) => {
      this.closedWith = { code, reason: reason.toString() };
    });
    socket.on('error', () => {});
  }

  static async open(url: string, options: { protocols?: string[]; origin?: string } = {}): Promise<RawLine> {
    const { protocols = ['nine-bells.v1'], ...more } = options;
    const line = new RawLine(new WebSocket(`${url.replace('http', 'ws')}/line`, protocols, more));
    await until(() => line.socket.readyState === WebSocket.OPEN || line.closedWith);
    return line;
  }

  send(frame: object | string): void {
    this.socket.send(typeof frame === 'string' ? frame : JSON.stringify(frame));
  }

  /** Says hello and waits for the welcome. */
  async hello(more: object = {}): Promise<RawLine> {
    this.send({ do: 'hello', id: 1, ...more });
    await this.reply(1);
    return this;
  }

  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  reply(id: number): Promise<any> {
    return until(() => this.frames.find((frame) => frame.re === id));
  }

  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  push(on: string): Promise<any> {
    return until(() => this.frames.find((frame) => frame.on === on));
  }

  closed(): Promise<{ code: number; reason: string }> {
    return until(() => this.closedWith);
  }
}
