import { vi } from 'vitest';
import { connect, type LineOptions } from '../src/index.js';

/** A WebSocket whose other end is the test. */
export class FakeSocket {
  static readonly all: FakeSocket[] = [];
  readonly sent: Record<string, unknown>[] = [];
  onopen: (() => void) | null = null;
  onmessage: ((event: { data: string }) => void) | null = null;
  onclose: ((event: { code: number; reason: string }) => void) | null = null;
  onerror: (() => void) | null = null;
  closed = false;

  constructor(readonly url: string) {
    FakeSocket.all.push(this);
  }
  send(text: string): void {
    this.sent.push(JSON.parse(text));
  }
  close(): void {
    this.closed = true;
  }
  say(frame: object): void {
    this.onmessage?.({ data: JSON.stringify(frame) });
  }
  asked(verb: string): Record<string, unknown>[] {
    return this.sent.filter((frame) => frame.do === verb);
  }
  /** What a welcome says where a test does not say otherwise. */
  readonly greeting = {
    session: 's_1',
    secret: '1.x',
    user: 'pia',
    continued: false,
    instance: 'i1',
    pulseMs: 20_000,
    limits: { frameBytes: 1000, dataBytes: 500, channels: 200 },
    entered: [],
  };
  welcome(more: object = {}): void {
    this.onopen?.();
    this.say({ re: this.asked('hello').at(-1)?.id, ...this.greeting, ...more });
  }
}

/** A message of the chat, whose data is its number. */
export const message = (number: number, more: object = {}) => ({
  channel: 'race/3/chat',
  cursor: `v:${number}`,
  id: `m${number}`,
  type: 'message',
  at: '2031-06-14T12:00:00.000Z',
  data: number,
  ...more,
});

/** A line whose first connection is being made. */
export async function connected(options: LineOptions = {}) {
  const line = connect('http://regatta.example/base/', { WebSocket: FakeSocket as never, ...options });
  await vi.advanceTimersByTimeAsync(0);
  return line;
}

/** The latest connection. */
export const socket = (): FakeSocket => FakeSocket.all.at(-1) as FakeSocket;
