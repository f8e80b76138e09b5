import { closeCodes, type Problem, problem } from '@nine-bells/wire';
import type { SocketLike } from './socket.js';

export type { SocketLike };

/** How long the first bytes of a stream may take before something on the way is taken to hold it back, in milliseconds. */
const firstBytesMs = 5_000;
/** How often an array of requests is sent before the connection is given up. */
const tries = 3;
/** Most requests in one array. */
const requestsAtOnce = 100;
const utf8 = new TextEncoder();

/** What a stream that is held back is ended with, so that the line polls instead. */
export const heldBack = 'the stream is held back on its way';

interface Goodbye {
  readonly code: number;
  readonly reason: string;
}

/**
 * A connection over HTTP, in the shape of a WebSocket: requests go out in numbered arrays, what the service says comes on a
 * stream, or in answers to polls.
 */
export class StreamSocket implements SocketLike {
  onopen: ((event: never) => void) | null = null;
  onmessage: ((event: never) => void) | null = null;
  onclose: ((event: never) => void) | null = null;
  onerror: ((event: never) => void) | null = null;
  readonly #sessions: string;
  readonly #polls: boolean;
  readonly #abort = new AbortController();
  #session: string | undefined;
  #secret = '';
  #saidHello = false;
  #waiting: string[] = [];
  #number = 0;
  /** What the service takes as one frame, as it said. */
  #frameBytes = 65_536;
  #sending = false;
  #closed = false;
  #saidGoodbye = false;

  /** @param url - of the line, `http(s)://.../line` */
  constructor(url: string, { polls = false }: { readonly polls?: boolean } = {}) {
    this.#sessions = `${url}/sessions`;
    this.#polls = polls;
    queueMicrotask(() => this.onopen?.(undefined as never));
  }

  send(text: string): void {
    if (this.#closed) return;
    if (this.#saidHello) {
      this.#waiting.push(text);
      void this.#sendWaiting();
    } else {
      this.#saidHello = true;
      void this.#hello(text);
    }
  }

  /** Closes the socket. With code 1000 it also tries to send the service a goodbye, even after the stream broke. */
  close(code?: number): void {
    const isGoodbye = code === closeCodes.normal && this.#session !== undefined && !this.#saidGoodbye;
    if (this.#closed && !isGoodbye) return;
    this.#closed = true;
    this.#saidGoodbye = isGoodbye;
    if (!isGoodbye) {
      this.#abort.abort();
      return;
    }
    // The stream ends after the goodbye, not before: one that breaks is not a goodbye.
    void this.#fetch(this.#path(''), { method: 'DELETE', keepalive: true })
      .catch(() => {})
      .finally(() => this.#abort.abort());
  }

  async #hello(text: string): Promise<void> {
    const { id } = JSON.parse(text) as { id: number };
    let answer: Response;
    let body: unknown;
    try {
      answer = await this.#fetch(this.#sessions, { method: 'POST', body: text }, true);
      body = await answer.json();
    } catch {
      this.#end({ code: 1006, reason: '' });
      return;
    }
    if (this.#closed) return;
    if (!answer.ok) {
      const refused = body as Problem;
      this.#hear(JSON.stringify({ re: id, problem: refused }));
      this.#end({ code: refusalCodes[refused.code] ?? closeCodes.policy, reason: refused.code });
      return;
    }
    const welcome = body as {
      session: string;
      secret: string;
      pulseMs: number;
      limits?: { frameBytes?: number };
    };
    this.#session = welcome.session;
    this.#secret = welcome.secret;
    this.#frameBytes = welcome.limits?.frameBytes ?? this.#frameBytes;
    this.#hear(JSON.stringify({ ...welcome, re: id }));
    void (this.#polls ? this.#poll() : this.#listen(welcome.pulseMs));
    void this.#sendWaiting();
  }

  /** Sends what waits, one array at a time. An array may be sent twice: its number counts once. */
  async #sendWaiting(): Promise<void> {
    if (this.#sending || this.#session === undefined) return;
    this.#sending = true;
    let most = requestsAtOnce;
    while (this.#waiting.length > 0 && !this.#closed) {
      const count = this.#fitting(most);
      const requests = this.#waiting.slice(0, count);
      const outcome = await this.#sendArray(`{"number":${this.#number + 1},"requests":[${requests.join()}]}`);
      if (outcome === 'too-large' && count > 1) {
        // Something on the way takes less than the service.
        most = Math.ceil(count / 2);
        continue;
      }
      if (outcome === 'failed') {
        this.#end({ code: 1006, reason: '' });
        return;
      }
      this.#waiting.splice(0, count);
      if (outcome === 'taken') this.#number += 1;
      else this.#refuse(requests[0] as string);
      most = requestsAtOnce;
    }
    this.#sending = false;
  }

  /** How many of those that wait go into one array: the service takes as many bytes as four frames may have. */
  #fitting(most: number): number {
    let bytes = 0;
    let count = 0;
    for (const text of this.#waiting.slice(0, most)) {
      bytes += utf8.encode(text).length + 1;
      if (count > 0 && bytes > this.#frameBytes * 3) break;
      count += 1;
    }
    return count;
  }

  /** One request that is too large even by itself: asking again would only be refused again. */
  #refuse(request: string): void {
    const { id } = JSON.parse(request) as { id?: number };
    const refused = problem('too-large', 'something on the way to the service does not take so large a request');
    if (id !== undefined) this.#hear(JSON.stringify({ re: id, problem: refused }));
  }

  async #sendArray(body: string): Promise<'taken' | 'too-large' | 'failed'> {
    for (let attempt = 0; attempt < tries && !this.#closed; attempt++) {
      try {
        const { ok, status } = await this.#fetch(this.#path('/frames'), { method: 'POST', body });
        if (ok) return 'taken';
        if (status === 413) return 'too-large';
        // Asking again would only be refused again.
        if (status < 500) return 'failed';
      } catch {
        await new Promise((resolve) => setTimeout(resolve, 200 * 2 ** attempt));
      }
    }
    return 'failed';
  }

  async #listen(pulseMs: number): Promise<void> {
    // Sooner than the line would give up, which hears nothing either.
    const late = setTimeout(() => this.#end({ code: 1006, reason: heldBack }), Math.min(firstBytesMs, pulseMs));
    try {
      const { ok, body } = await this.#fetch(this.#path('/stream'), { headers: { accept: 'text/event-stream' } });
      if (!ok || body === null) throw new Error('the stream was refused');
      const reader = body.getReader();
      const decoder = new TextDecoder();
      let text = '';
      for (;;) {
        const { done, value } = await reader.read();
        if (done) break;
        clearTimeout(late);
        text += decoder.decode(value, { stream: true });
        // Events are divided by an empty line (HTML, section 9.2).
        const events = text.split('\n\n');
        text = events.pop() ?? '';
        for (const event of events) this.#event(event);
      }
      this.#end({ code: 1006, reason: '' });
    } catch {
      this.#end({ code: 1006, reason: '' });
    } finally {
      clearTimeout(late);
    }
  }

  #event(text: string): void {
    let kind = '';
    let data = '';
    for (const line of text.split('\n'))
      if (line.startsWith('event: ')) kind = line.slice(7);
      else if (line.startsWith('data: ')) data = line.slice(6);
    if (kind === 'close') this.#end(JSON.parse(data));
    else if (kind !== 'open' && data !== '') this.#hear(data);
  }

  async #poll(): Promise<void> {
    let got = 0;
    try {
      while (!this.#closed) {
        const headers = { accept: 'application/json', 'last-event-id': String(got) };
        const answer = await this.#pollOnce(headers);
        got = answer.number;
        for (const frame of answer.frames) this.#hear(JSON.stringify(frame));
        if (answer.close !== undefined) this.#end(answer.close);
      }
    } catch {
      this.#end({ code: 1006, reason: '' });
    }
  }

  /** An answer that got lost is given again. */
  async #pollOnce(headers: Record<string, string>): Promise<Answer> {
    for (let attempt = 1; ; attempt++) {
      try {
        const response = await this.#fetch(this.#path('/stream'), { headers });
        if (!response.ok) throw new Refused();
        return (await response.json()) as Answer;
      } catch (error) {
        if (error instanceof Refused || attempt >= tries || this.#closed) throw error;
        await new Promise((resolve) => setTimeout(resolve, 200 * attempt));
      }
    }
  }

  #path(rest: string): string {
    return `${this.#sessions}/${encodeURIComponent(this.#session ?? '')}${rest}`;
  }

  #fetch(url: string, init: RequestInit, isHello = false): Promise<Response> {
    return fetch(url, {
      ...init,
      cache: 'no-store',
      ...(init.keepalive ? {} : { signal: this.#abort.signal }),
      headers: {
        ...(init.headers as Record<string, string>),
        ...(isHello ? {} : { authorization: `Bearer ${this.#secret}` }),
        ...(init.body === undefined ? {} : { 'content-type': 'application/json' }),
      },
    });
  }

  #hear(data: string): void {
    if (!this.#closed) this.onmessage?.({ data } as never);
  }

  #end(goodbye: Goodbye): void {
    if (this.#closed) return;
    this.#closed = true;
    this.#abort.abort();
    this.onclose?.(goodbye as never);
  }
}

interface Answer {
  readonly number: number;
  readonly frames: readonly object[];
  readonly close?: Goodbye;
}

/** The service knows the session no more. */
class Refused extends Error {}

/** With what a WebSocket would have been closed for the same. */
const refusalCodes: Readonly<Record<string, number>> = {
  'token-ended': closeCodes.tokenEnded,
  banned: closeCodes.signedOut,
  draining: closeCodes.drain,
  busy: closeCodes.tryLater,
  'too-many-connections': closeCodes.tryLater,
};
