import { type LineLimits, problem, type ReplyFrame, type ReplyOf } from '@nine-bells/wire';
import { LineError } from './lineError.js';
import { utf8Bytes } from './sizes.js';

/** Members of a request, without its number. */
export type RequestMembers = Readonly<Record<string, unknown>>;

/** What becomes of the answer to a request. */
export interface Awaited {
  /** Sent again after a broken connection: safe for what has a key, only reads, or is the same when done again. */
  readonly repeatable: boolean;
  resolve(reply: ReplyFrame): void;
  reject(error: LineError): void;
}

/** What the requests need of their line. */
export interface RequestLine {
  /** Whether a request may be sent: hello has gone ahead. */
  ready(): boolean;
  send(text: string): void;
  /** An answer is due from now on. */
  waits(): void;
}

/** The requests of a line that have no answer yet. */
export class Requests {
  readonly #line: RequestLine;
  readonly #pending = new Map<number, Awaited & { readonly request: RequestMembers }>();
  #lastId = 0;
  /** What the service takes, once it is known. */
  limits: LineLimits | undefined;

  constructor(line: RequestLine) {
    this.#line = line;
  }

  get size(): number {
    return this.#pending.size;
  }

  /** A number for a request. */
  nextId(): number {
    this.#lastId += 1;
    return this.#lastId;
  }

  /** Awaits the answer to a request that the caller sends itself. Returns its number. */
  expect(awaited: Awaited): number {
    const id = this.nextId();
    this.#pending.set(id, { request: {}, ...awaited });
    return id;
  }

  /** Sends a request, now or behind the next hello. */
  send(request: RequestMembers, awaited: Awaited): void {
    const id = this.nextId();
    const text = JSON.stringify({ ...request, id });
    const max = this.limits?.frameBytes;
    if (max !== undefined && text.length * 3 > max && utf8Bytes(text) > max) {
      // The service would end the whole connection for it (RFC 6455, close code 1009).
      awaited.reject(LineError.from(problem('too-large', `a frame to this service has at most ${max} bytes`)));
      return;
    }
    this.#pending.set(id, { request, ...awaited });
    this.#line.waits();
    if (this.#line.ready()) this.#line.send(text);
  }

  /** Sends a request that may be sent twice, and resolves with its reply. */
  ask<V extends 'read' | 'remove' | 'inbox' | 'watch' | 'mark'>(
    request: RequestMembers & { readonly do: V },
  ): Promise<ReplyOf[V]> {
    return new Promise((resolve, reject) =>
      this.send(request, {
        repeatable: true,
        // The protocol gives each verb's own reply.
        resolve: ({ re: _, ...reply }) => resolve(reply as unknown as ReplyOf[V]),
        reject,
      }),
    );
  }

  /** Takes a reply. */
  reply(frame: ReplyFrame): void {
    const pending = this.#pending.get(frame.re);
    if (pending === undefined) return;
    this.#pending.delete(frame.re);
    if (frame.problem === undefined) pending.resolve(frame);
    else pending.reject(LineError.from(frame.problem));
  }

  /** Sends again what was under way when the last connection broke. */
  resend(): void {
    for (const [id, { request, repeatable }] of this.#pending)
      if (repeatable) this.#line.send(JSON.stringify({ ...request, id }));
  }

  /** The connection broke: requests that must not be sent twice are dropped. */
  interrupted(): void {
    for (const [id, pending] of this.#pending) if (!pending.repeatable) this.#pending.delete(id);
  }

  close(error: LineError): void {
    for (const pending of this.#pending.values()) pending.reject(error);
    this.#pending.clear();
  }
}
