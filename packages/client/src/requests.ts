import { type LineLimits, problem, type ReplyFrame, type ReplyOf } from '@nine-bells/wire';
import { LineError } from './lineError.js';
import { utf8Bytes } from './sizes.js';

/** Members of a request, without its id. */
export type RequestMembers = Readonly<Record<string, unknown>>;

/** Receives the reply to a request. */
export interface Awaited<V extends keyof ReplyOf> {
  /** True if the request may be sent again after a broken connection: it has a key, only reads, or is idempotent. */
  readonly repeatable: boolean;
  resolve(reply: ReplyOf[V]): void;
  reject(error: LineError): void;
}

/** The connection that carries the requests. */
export interface RequestsHost {
  /** True once requests may be sent. */
  readonly helloSent: boolean;
  send(text: string): void;
  /** Called when a reply is due. */
  expectAnswer(): void;
}

/** Verbs that only read, are idempotent, or have a key. */
type Repeatable =
  | 'call'
  | 'read'
  | 'revise'
  | 'withdraw'
  | 'revisions'
  | 'react'
  | 'reactors'
  | 'remove'
  | 'silence'
  | 'report'
  | 'inbox'
  | 'watch'
  | 'mark'
  | 'threads'
  | 'search'
  | 'level'
  | 'levels'
  | 'pending'
  | 'take-back'
  | 'block'
  | 'unblock'
  | 'accept'
  | 'invitations'
  | 'uninvite';

/** A request without a reply. */
interface Pending {
  readonly request: RequestMembers;
  readonly repeatable: boolean;
  resolve(reply: object): void;
  reject(error: LineError): void;
}

/** Sends the requests of a line, and matches replies to them. */
export class Requests {
  readonly #host: RequestsHost;
  readonly #pending = new Map<number, Pending>();
  #lastId = 0;
  /** Limits of the service, once known. */
  limits: LineLimits | undefined;

  constructor(host: RequestsHost) {
    this.#host = host;
  }

  get size(): number {
    return this.#pending.size;
  }

  /** Returns the id of the next request. */
  nextId(): number {
    this.#lastId += 1;
    return this.#lastId;
  }

  /** Waits for the reply to a request that the caller sends. Returns its id. */
  expect<V extends keyof ReplyOf>(_verb: V, awaited: Awaited<V>): number {
    const id = this.nextId();
    this.#await(id, {}, awaited);
    return id;
  }

  /** Sends a request, now or after the next hello. */
  send<V extends keyof ReplyOf>(request: RequestMembers & { readonly do: V }, awaited: Awaited<V>): void {
    const id = this.nextId();
    const text = JSON.stringify({ ...request, id });
    const max = this.limits?.frameBytes;
    if (max !== undefined && text.length * 3 > max && utf8Bytes(text) > max) {
      // The service would end the whole connection for it (RFC 6455, close code 1009).
      awaited.reject(LineError.from(problem('too-large', `a frame to this service has at most ${max} bytes`)));
      return;
    }
    this.#await(id, request, awaited);
    this.#host.expectAnswer();
    if (this.#host.helloSent) this.#host.send(text);
  }

  #await<V extends keyof ReplyOf>(
    id: number,
    request: RequestMembers,
    { repeatable, resolve, reject }: Awaited<V>,
  ): void {
    // The protocol gives each verb its own reply.
    this.#pending.set(id, { request, repeatable, resolve: (reply) => resolve(reply as ReplyOf[V]), reject });
  }

  /** Sends a request, again after a broken connection, and resolves with its reply. */
  ask<V extends Repeatable>(request: RequestMembers & { readonly do: V }): Promise<ReplyOf[V]> {
    return new Promise((resolve, reject) => this.send(request, { repeatable: true, resolve, reject }));
  }

  /** Sends a request, once, and resolves with its reply. */
  askOnce<V extends keyof ReplyOf>(request: RequestMembers & { readonly do: V }): Promise<ReplyOf[V]> {
    return new Promise((resolve, reject) => this.send(request, { repeatable: false, resolve, reject }));
  }

  /** Resolves or rejects the request of a reply. */
  reply(frame: ReplyFrame): void {
    const pending = this.#pending.get(frame.re);
    if (pending === undefined) return;
    this.#pending.delete(frame.re);
    const { re: _, ...reply } = frame;
    if (frame.problem === undefined) pending.resolve(reply);
    else pending.reject(LineError.from(frame.problem));
  }

  /** Sends again the requests that were in flight when the last connection broke. */
  resend(): void {
    for (const [id, { request, repeatable }] of this.#pending)
      if (repeatable)
        this.#host.send(JSON.stringify({ ...request, ...(request.do === 'call' && { again: true }), id }));
  }

  /** Drops requests that must not be sent twice, after the connection broke. */
  interrupted(): void {
    for (const [id, pending] of this.#pending) if (!pending.repeatable) this.#pending.delete(id);
  }

  close(error: LineError): void {
    for (const pending of this.#pending.values()) pending.reject(error);
    this.#pending.clear();
  }
}
