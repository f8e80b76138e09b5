import {
  type Cursor,
  defined,
  type Entered,
  isReply,
  type Json,
  type ReplyFrame,
  type ServerFrame,
  type Welcome,
} from '@nine-bells/wire';
import type { Span, Transport } from '../format/drill.js';
import { FrameQueue, type FrameSource, type Waiting } from './frameQueue.js';
import { withoutSecrets } from './secrets.js';

/** Callbacks of a connection. */
export interface NetworkEars {
  opened(): void;
  heard(text: string): void;
  /** The connection ended, from either side; `1006`: without a close frame. */
  ended(code: number, reason: string): void;
}

/** A connection that simulates network faults. */
export interface ClientNetwork {
  delay: Span;
  send(text: string): void;
  pause(): void;
  resume(): void;
  close(): void;
  cut(where?: 'in a frame'): void;
}
export type NetworkMaker = (url: string, transport: Transport, ears: NetworkEars) => ClientNetwork;

/** A frame sent or received by a client. */
export interface SeenFrame {
  /** Time since the drill began, in milliseconds. */
  readonly atMs: number;
  readonly direction: 'sent' | 'heard' | 'lost' | 'link';
  readonly text: string;
}

/** Maximum number of frames that a client remembers. */
const mostSeen = 500;
/** Twice the interval at which clients without a WebSocket send `pulse`, in milliseconds. */
const usualPulseMs = 20_000;

export interface ClientOptions {
  readonly name: string;
  readonly url: string;
  readonly transport: Transport;
  /** Gives a token for each hello; absent: a guest. */
  readonly token: (() => Promise<string>) | undefined;
  readonly network: NetworkMaker;
  /** Called with each frame that is sent or received. */
  readonly onSeen?: (frame: SeenFrame) => void;
  /** Time since the drill began, in milliseconds. */
  readonly now: () => number;
}

/** How a connection ended. */
export interface Ended {
  readonly code: number;
  readonly reason: string;
}

/** There was no connection, or it ended before the reply arrived. */
export class NoAnswer extends Error {}

/**
 * A client of a drill. It sends requests, queues pushes until a step takes them, and resumes its session and channels when
 * it reconnects, as the protocol asks of every client.
 */
export class DrillClient implements FrameSource {
  readonly name: string;
  /** Of the next connection. */
  transport: Transport;
  readonly seen: SeenFrame[] = [];
  readonly #options: ClientOptions;
  #network: ClientNetwork | undefined;
  #welcome: Welcome | undefined;
  #entered = new Map<string, Cursor>();
  #inbox: Cursor | undefined;
  #id = 0;
  readonly #pushes = new FrameQueue();
  readonly #replies = new Map<number, (reply: ReplyFrame | Ended) => void>();
  #ended: Ended | undefined;
  #delay: Span = { least: 0, most: 0 };
  #loses: 'replies' | 'pushes' | 'nothing' = 'nothing';
  #pulses: NodeJS.Timeout | undefined;

  constructor(options: ClientOptions) {
    this.name = options.name;
    this.transport = options.transport;
    this.#options = options;
  }

  /** Reply to the latest hello. */
  get welcome(): Welcome | undefined {
    return this.#welcome;
  }

  get isOpen(): boolean {
    return this.#network !== undefined;
  }

  /** How the last connection ended; absent while connected. */
  get ended(): Ended | undefined {
    return this.#ended;
  }

  get channels(): readonly string[] {
    return [...this.#entered.keys()];
  }

  /** Queued pushes, oldest first. */
  get waiting(): readonly Waiting[] {
    return this.#pushes.waiting;
  }

  take(taken: Waiting): void {
    this.#pushes.take(taken);
  }

  // -------------------------------------------------------------------------------------------- connection

  /** Connects and sends hello, with the session and cursors of an earlier connection. Returns the reply. */
  async connect(withinMs: number): Promise<ReplyFrame> {
    if (this.#network !== undefined) throw new NoAnswer('it is connected already');
    const token = await this.#options.token?.();
    this.#ended = undefined;
    const startMs = performance.now();
    await new Promise<void>((resolve, reject) => {
      // The service may accept the connection and never answer.
      const late = setTimeout(() => this.#network?.cut(), withinMs);
      const network: ClientNetwork = this.#options.network(this.#options.url, this.transport, {
        opened: () => {
          clearTimeout(late);
          resolve();
        },
        heard: (text) => this.#heard(network, text),
        ended: (code, reason) => {
          clearTimeout(late);
          this.#over(network, { code, reason });
          reject(new NoAnswer(`there is no connection to ${this.#options.url}: ${code} ${reason}`));
        },
      });
      network.delay = this.#delay;
      this.#network = network;
    });
    const before = this.#welcome;
    const channels = [...this.#entered];
    const reply = await this.request(
      'hello',
      defined({
        token,
        session: before?.session,
        secret: before?.secret,
        inbox: this.#inbox,
        enter: channels.length === 0 ? undefined : channels.map(([channel, after]) => ({ channel, after })),
      }) as Readonly<Record<string, Json>>,
      Math.max(1, withinMs - (performance.now() - startMs)),
    );
    if (reply.problem === undefined) await this.#welcomed(reply as unknown as Welcome, withinMs);
    return reply;
  }

  /** Queues missed messages as if they had been pushed. */
  async #welcomed(welcome: Welcome, withinMs: number): Promise<void> {
    this.#welcome = welcome;
    for (const notice of welcome.inbox?.notices ?? []) this.#pushes.push({ on: 'notice', ...notice } as never);
    this.#inbox = welcome.inbox?.cursor ?? this.#inbox;
    for (const each of welcome.entered) {
      if ('problem' in each) this.#entered.delete(each.channel);
      else await this.#catchUp(each, withinMs);
    }
    if (this.transport === 'websocket' || this.#pulses !== undefined) return;
    this.#pulses = setInterval(() => this.#say({ do: 'pulse' }), (welcome.pulseMs ?? usualPulseMs) / 2);
    // Browsers have numbers for timers.
    (this.#pulses as { unref?(): void }).unref?.();
  }

  async #catchUp(first: Entered, withinMs: number): Promise<void> {
    let entered = first;
    for (;;) {
      this.#entered.set(entered.channel, entered.cursor);
      if (entered.gap !== undefined) this.#pushes.push({ on: 'gap', ...entered.gap } as never);
      for (const message of entered.messages) this.#pushes.push({ on: 'message', ...message } as never);
      if (!entered.more) return;
      const next = await this.request('enter', { channel: entered.channel, after: entered.cursor }, withinMs);
      if (next.problem !== undefined) return;
      entered = next as unknown as Entered;
    }
  }

  cut(where?: 'in a frame'): void {
    this.#network?.cut(where);
  }

  close(): void {
    this.#network?.close();
  }

  pause(): void {
    this.#network?.pause();
  }

  resume(): void {
    this.#network?.resume();
  }

  set delay(span: Span) {
    this.#delay = span;
    if (this.#network !== undefined) this.#network.delay = span;
  }

  lose(what: 'replies' | 'pushes' | 'nothing'): void {
    this.#loses = what;
  }

  // ------------------------------------------------------------------------------------------------ frames

  /**
   * Sends a request and waits for its reply.
   *
   * @throws {NoAnswer} if there is no connection, it ends, or no reply arrives in time
   */
  request(verb: string, members: Readonly<Record<string, Json>>, withinMs: number): Promise<ReplyFrame> {
    const network = this.#network;
    if (network === undefined) return Promise.reject(new NoAnswer(`it is not connected${endText(this.#ended)}`));
    this.#id += 1;
    const id = this.#id;
    return new Promise((resolve, reject) => {
      const timer = setTimeout(() => {
        this.#replies.delete(id);
        reject(new NoAnswer(`no reply to ${verb} arrived within ${withinMs} ms`));
      }, withinMs);
      this.#replies.set(id, (answer) => {
        clearTimeout(timer);
        this.#replies.delete(id);
        if ('re' in answer) {
          this.#noteReply(verb, members, answer);
          resolve(answer);
        } else reject(new NoAnswer(`the connection ended before the reply to ${verb}${endText(answer)}`));
      });
      this.#say({ do: verb, id, ...members });
    });
  }

  /** Sends text unchanged. */
  send(text: string): void {
    if (this.#network === undefined) throw new NoAnswer(`it is not connected${endText(this.#ended)}`);
    this.#note('sent', text);
    this.#network.send(text);
  }

  until<T>(look: () => T | undefined, withinMs: number): Promise<T | undefined> {
    return this.#pushes.until(look, withinMs);
  }

  #say(request: object): void {
    const text = JSON.stringify(request);
    this.#note('sent', text);
    this.#network?.send(text);
  }

  #heard(network: ClientNetwork, text: string): void {
    if (network !== this.#network) return;
    let frame: ServerFrame;
    try {
      frame = JSON.parse(text) as ServerFrame;
    } catch {
      this.#note('heard', text);
      return;
    }
    const lost = this.#loses === (isReply(frame) ? 'replies' : 'pushes');
    this.#note(lost ? 'lost' : 'heard', text);
    if (lost) return;
    if (isReply(frame)) this.#replies.get(frame.re)?.(frame);
    else {
      if (frame.on === 'message') this.#entered.set(frame.channel, frame.cursor);
      else if (frame.on === 'removed') this.#entered.delete(frame.channel);
      else if (frame.on === 'notice') this.#inbox = frame.cursor;
      this.#pushes.push(frame as never);
    }
    this.#pushes.changed();
  }

  #noteReply(verb: string, members: Readonly<Record<string, Json>>, reply: ReplyFrame): void {
    if (reply.problem !== undefined) return;
    const channel = String(members.channel);
    if (verb === 'enter' && reply.more !== true) this.#entered.set(channel, (reply as unknown as Entered).cursor);
    else if (verb === 'leave') this.#entered.delete(channel);
  }

  #over(network: ClientNetwork, ended: Ended): void {
    if (network !== this.#network) return;
    this.#network = undefined;
    this.#ended = ended;
    clearInterval(this.#pulses);
    this.#pulses = undefined;
    this.#note('link', `the connection ended${endText(ended)}`);
    for (const settle of [...this.#replies.values()]) settle(ended);
    this.#pushes.changed();
  }

  #note(direction: SeenFrame['direction'], text: string): void {
    const frame = { atMs: this.#options.now(), direction, text: withoutSecrets(text) };
    this.seen.push(frame);
    this.#options.onSeen?.(frame);
    if (this.seen.length > mostSeen) this.seen.splice(0, mostSeen / 2);
  }
}

function endText(ended: Ended | undefined): string {
  if (ended === undefined) return '';
  return ended.reason === '' ? ` (${ended.code})` : ` (${ended.code}, ${ended.reason})`;
}
