import type { ServerResponse } from 'node:http';
import { type Batch, type Connection, type Encoding, type Engine, Frame, type Link } from '@nine-bells/core';
import { closeCodes } from '@nine-bells/wire';
import { eventStreamEncoding } from './eventStreamEncoding.js';
import { handleOf } from './nativeWriter.js';

/** How a connection over HTTP was ended from this side. */
export interface Goodbye {
  readonly code: number;
  readonly reason: string;
}

/** How long a session may be without a stream or a poll before it is taken for lost, in milliseconds. */
const unattendedMs = 30_000;
/** How long a poll waits for something to tell, in milliseconds. */
const pollMs = 25_000;
/** Time for the client's goodbye after its stream has ended, in milliseconds. */
const lateGoodbyeMs = 1_000;
/** How long a client may take to take its goodbye, in milliseconds. */
const goodbyeMs = 3_000;

/** What is common to connections over HTTP: a response that is written to, if there is one now. */
abstract class HttpLink implements Link {
  abstract readonly transport: string;
  readonly remote: string;
  readonly origin: string | undefined;
  readonly encoding: Encoding = eventStreamEncoding;
  readonly oneWay: boolean = false;
  /** There from the moment in which it says hello. */
  protected connection!: Connection;
  readonly #engine: Engine;
  protected goodbye: Goodbye | undefined;
  #resume: (() => void) | undefined;
  #paused: Promise<void> | undefined;

  constructor(engine: Engine, remote: string, origin: string | undefined) {
    this.#engine = engine;
    this.remote = remote;
    this.origin = origin;
  }

  /** Says hello, if the address may connect. */
  protected connect(request: object): void {
    this.connection = this.#engine.connect(this);
    if (this.goodbye === undefined) this.connection.receive(JSON.stringify({ ...request, do: 'hello', id: 1 }));
  }

  abstract readonly waitingBytes: number;
  get unsentBytes(): number | undefined {
    const socket = this.open?.socket;
    return socket ? handleOf(socket)?.writeQueueSize : undefined;
  }

  abstract write(batch: Batch): void;
  protected abstract ended(goodbye: Goodbye): void;
  /** The response that is being written, if there is one. */
  protected abstract readonly open: ServerResponse | undefined;

  /** Takes a frame of the client. Resolves when more may be taken. */
  async receive(frame: object): Promise<void> {
    this.connection.receive(JSON.stringify(frame));
    await this.#paused;
  }

  /** An HTTP client has no pong: its requests are its sign of life. */
  ping(): void {}

  pause(): void {
    this.#paused ??= new Promise((resolve) => {
      this.#resume = resolve;
    });
  }

  resume(): void {
    this.#paused = undefined;
    this.#resume?.();
  }

  close(code: number, reason: string): void {
    if (this.goodbye !== undefined) return;
    this.goodbye = { code, reason };
    this.resume();
    this.ended(this.goodbye);
    const response = this.open;
    // One that does not read would else hold what waits for it for ever.
    if (response !== undefined) setTimeout(() => response.writableFinished || response.destroy(), goodbyeMs).unref();
  }

  /** The client is gone without a word. */
  protected lost(): void {
    if (this.goodbye !== undefined) return;
    this.goodbye = { code: closeCodes.goingAway, reason: 'the client is gone' };
    this.resume();
    this.connection.closed(1006);
  }
}

/** Answers with an event stream that nothing between here and the client may hold back. */
export function beginStream(response: ServerResponse): void {
  response.writeHead(200, {
    'Content-Type': 'text/event-stream; charset=utf-8',
    'Cache-Control': 'no-store, no-transform',
    // For nginx, which else gathers what it passes on.
    'X-Accel-Buffering': 'no',
  });
  response.flushHeaders();
  response.socket?.setNoDelay(true);
  response.socket?.setKeepAlive(true, 20_000);
}

function goodbyeEvent(goodbye: Goodbye): string {
  return `event: close\ndata: ${JSON.stringify(goodbye)}\n\n`;
}

/**
 * A session over HTTP: requests come in numbered arrays, replies and pushes go out in their order, on a stream or, where
 * networks hold streams back, in answers to polls.
 */
export class SessionLink extends HttpLink {
  transport = 'stream';
  #frames: Frame[] = [];
  #welcome: ((answer: object | Goodbye) => void) | undefined;
  #stream: ServerResponse | undefined;
  #poll: ServerResponse | undefined;
  /** The poll that was answered last. */
  #answering: ServerResponse | undefined;
  #pollTimer: NodeJS.Timeout | undefined;
  /** The last answer to a poll, until the client has said that it has it. */
  #answered = { number: 0, text: '' };
  #unattended: NodeJS.Timeout | undefined;
  #took = 0;
  #taking: Promise<void> = Promise.resolve();
  /** Called when nothing can come of the session over this connection any more. */
  whenEnded: () => void = () => {};

  protected get open(): ServerResponse | undefined {
    return this.#stream ?? this.#answering;
  }

  get waitingBytes(): number {
    if (this.#welcome !== undefined || this.#poll !== undefined) return 0;
    // Between two polls nothing can be written; the last answer is held until the client has said that it has it.
    return this.#stream === undefined ? 1 + this.#answered.text.length : this.#stream.writableLength;
  }

  /** Says hello; resolves with the reply, or with why there is none. */
  hello(request: object): Promise<object | Goodbye> {
    const answer = new Promise<object | Goodbye>((resolve) => {
      this.#welcome = resolve;
    });
    this.connect(request);
    this.#attendedBy();
    return answer;
  }

  write(batch: Batch): void {
    if (this.#welcome !== undefined) {
      // A hello that takes long (a token's keys are being fetched) is not the first thing that is said.
      const frames = [...this.#frames, ...batch.frames()];
      const reply = frames.findIndex(({ text }) => text.startsWith('{"re":1,'));
      this.#frames = frames.filter((_, index) => index !== reply);
      if (reply === -1) return;
      this.#welcome(JSON.parse((frames[reply] as Frame).text));
      this.#welcome = undefined;
    } else if (this.#poll !== undefined) this.#answerPoll(batch.frames());
    else this.#stream?.write(batch.joined(eventStreamEncoding), this.#written);
  }

  /** Sends all frames over this response from now on; it replaces the previous stream. */
  stream(response: ServerResponse): void {
    this.transport = 'stream';
    this.#stream?.end();
    this.#stream = response;
    beginStream(response);
    // The first bytes show the client that nothing on the way holds them back.
    response.write('event: open\ndata: {}\n\n', this.#written);
    response.on('close', () => {
      if (this.#stream !== response) return;
      if (this.goodbye !== undefined) {
        this.lost();
        return;
      }
      // A page that is left ends its stream, and says goodbye over another connection.
      this.#stream = undefined;
      this.#attendedBy(undefined, lateGoodbyeMs);
    });
    this.#attendedBy(response);
    if (this.goodbye !== undefined) {
      response.end(goodbyeEvent(this.goodbye));
      return;
    }
    for (const frame of this.#frames.splice(0)) response.write(frame.encoded(eventStreamEncoding));
    this.connection.drained();
  }

  /** Answers with what waits, at the latest after a while. `got` is the number of the answer that the client has. */
  poll(response: ServerResponse, got: number): void {
    this.transport = 'poll';
    this.connection.alive();
    if (got < this.#answered.number) {
      // The last answer got lost on its way.
      response.setHeader('Content-Type', 'application/json').end(this.#answered.text);
      return;
    }
    this.#answered.text = '';
    this.#poll?.end();
    this.#poll = response;
    this.#attendedBy(response);
    response.on('close', () => {
      if (this.#poll !== response) return;
      this.#poll = undefined;
      this.#attendedBy();
    });
    this.#pollTimer = setTimeout(() => this.#poll === response && this.#answerPoll([]), pollMs);
    if (this.#frames.length > 0 || this.goodbye !== undefined) this.#answerPoll([]);
    else this.connection.drained();
  }

  /** Takes an array of requests once, whatever its number of tries; `false` if one before it is missing. */
  async take(number: number, requests: readonly object[]): Promise<boolean> {
    if (number <= this.#took) return true;
    if (number !== this.#took + 1) return false;
    this.#took = number;
    // One array after the other, also where the client does not wait for its answer.
    const taken = this.#taking.then(async () => {
      for (const request of requests) await this.receive(request);
    });
    this.#taking = taken;
    await taken;
    return true;
  }

  /** The client says goodbye. */
  leave(): void {
    this.connection.closed(closeCodes.normal);
    this.close(closeCodes.normal, 'left');
    this.lost();
    this.whenEnded();
  }

  protected ended(goodbye: Goodbye): void {
    if (this.#welcome !== undefined) {
      this.#welcome(goodbye);
      this.#welcome = undefined;
    }
    this.#stream?.end(goodbyeEvent(goodbye));
    if (this.#poll !== undefined) this.#answerPoll([]);
    this.#attendedBy();
  }

  protected override lost(): void {
    super.lost();
    if (this.#answering?.writableFinished === false) this.#answering.destroy();
    clearTimeout(this.#unattended);
    clearTimeout(this.#pollTimer);
    this.whenEnded();
  }

  #answerPoll(frames: readonly Frame[]): void {
    clearTimeout(this.#pollTimer);
    const response = this.#poll;
    this.#poll = undefined;
    const texts = [...this.#frames.splice(0), ...frames].map(({ text }) => text);
    const number = this.#answered.number + 1;
    const end = this.goodbye === undefined ? '' : `,"close":${JSON.stringify(this.goodbye)}`;
    this.#answered = { number, text: `{"number":${number},"frames":[${texts.join()}]${end}}` };
    response?.setHeader('Content-Type', 'application/json').setHeader('Cache-Control', 'no-store');
    response?.end(this.#answered.text);
    this.#answering = response;
    this.#attendedBy();
  }

  /** Ends the session unless the client polls or streams again within the timeout, in milliseconds. */
  #attendedBy(response?: ServerResponse, timeoutMs = unattendedMs): void {
    clearTimeout(this.#unattended);
    if (response !== undefined) return;
    this.#unattended = setTimeout(() => {
      this.lost();
      this.whenEnded();
    }, timeoutMs);
    this.#unattended.unref();
  }

  readonly #written = (): void => {
    if (this.#stream?.writableLength === 0) this.connection.drained();
  };
}

/** A push that says how far the client has a channel: a name and a cursor hold nothing that JSON would escape. */
const placed = /^\{"on":"(message|change|gap|passed)","channel":"([^"]+)",(?:"after":"[^"]+",)?"cursor":"([^"]+)"/;

/** A client that only listens: an event per push, with an `id` from which it can go on. */
export class ListenLink extends HttpLink {
  readonly transport = 'listen';
  override readonly oneWay = true;
  readonly #response: ServerResponse;
  /** How far the client has each channel, in the order of the request. */
  readonly #cursors: Map<string, string>;
  readonly #wish: object;
  readonly #encoding: Encoding;
  #begun = false;
  #answer: (refusal: object | undefined) => void = () => {};

  constructor(
    engine: Engine,
    remote: string,
    origin: string | undefined,
    { response, cursors, wish, encoding }: Listening,
  ) {
    super(engine, remote, origin);
    this.#response = response;
    this.#cursors = new Map(cursors);
    this.#wish = wish;
    this.#encoding = encoding;
    response.on('close', () => this.lost());
  }

  protected get open(): ServerResponse {
    return this.#response;
  }

  get waitingBytes(): number {
    return this.#begun ? this.#response.writableLength : 0;
  }

  /** Enters; resolves when the stream has begun, or with why it has not: a problem, or a goodbye. */
  begin(request: object): Promise<object | undefined> {
    return new Promise((resolve) => {
      this.#answer = resolve;
      this.connect(request);
    });
  }

  write(batch: Batch): void {
    const response = this.#response;
    response.cork();
    for (const frame of batch.frames())
      if (frame.text.startsWith('{"re":')) this.#reply(JSON.parse(frame.text));
      else if (this.#begun) this.#push(frame);
    // An empty write before the head is written would write one.
    if (this.#begun) response.write('', this.#written);
    response.uncork();
  }

  protected ended(goodbye: Goodbye): void {
    if (this.#begun) this.#response.end(goodbyeEvent(goodbye));
    else this.#answer(goodbye);
  }

  #reply(reply: { problem?: object; entered?: readonly Entering[] } & Partial<Entering>): void {
    if (this.#begun) {
      if (reply.channel !== undefined) this.#entered(reply as Entering);
      return;
    }
    const refused = reply.problem ?? reply.entered?.find((_, __, all) => all.every(({ problem }) => problem))?.problem;
    if (refused !== undefined) {
      this.#answer(refused);
      this.connection.close(closeCodes.normal, 'nothing to listen to', 'refused');
      return;
    }
    this.#begun = true;
    beginStream(this.#response);
    this.#answer(undefined);
    for (const entered of reply.entered ?? []) this.#entered(entered);
  }

  /** What the client has missed, and from where on it is live. */
  #entered({ channel, problem, cursor, messages, changes = [], more, gap }: Entering): void {
    if (problem !== undefined) {
      this.#push(new Frame(JSON.stringify({ on: 'problem', channel, ...problem })));
      return;
    }
    if (gap !== undefined) this.#push(new Frame(JSON.stringify({ on: 'gap', ...gap })));
    // What was changed meanwhile comes first, and does not move the place: the messages before it are still to come.
    for (const message of changes) {
      const frame = new Frame(JSON.stringify({ on: 'change', channel, cursor: message.revision, message }));
      this.#response.write(frame.encoded(this.#encoding));
    }
    for (const message of messages) this.#push(new Frame(JSON.stringify({ on: 'message', ...message })));
    this.#cursors.set(channel, cursor);
    this.#response.write(`id: ${this.#place}\nevent: entered\ndata: ${JSON.stringify({ channel, cursor, more })}\n\n`);
    // Not live yet: the next part is asked for when this one is on its way.
    if (more) setImmediate(() => void this.receive({ do: 'enter', id: 2, channel, after: cursor, ...this.#wish }));
  }

  /** The place is each client's own, what follows is shared. */
  #push(frame: Frame): void {
    const [, , channel, cursor] = placed.exec(frame.text) ?? [];
    if (channel !== undefined && cursor !== undefined) {
      this.#cursors.set(channel, cursor);
      this.#response.write(`id: ${this.#place}\n`);
    }
    this.#response.write(frame.encoded(this.#encoding));
  }

  get #place(): string {
    return [...this.#cursors.values()].join(' ');
  }

  readonly #written = (): void => {
    if (this.#response.writableLength === 0) this.connection.drained();
  };
}

/** What a stream that only listens is made of. */
export interface Listening {
  readonly response: ServerResponse;
  /** Where to begin in each channel. */
  readonly cursors: ReadonlyMap<string, string>;
  /** How the channels are entered. */
  readonly wish: object;
  readonly encoding: Encoding;
}

interface Entering {
  readonly channel: string;
  readonly problem?: object;
  readonly cursor: string;
  readonly messages: readonly object[];
  readonly changes?: readonly { readonly revision?: string }[];
  readonly more: boolean;
  readonly gap?: object;
}
