import type { Author, Cursor, Json, Message, Problem, Published, ReadResult } from '@nine-bells/wire';

export type { Author, Cursor, Json, Message, Problem, Published, ReadResult };

export interface BackendOptions {
  /** An API key. Without it the browser's cookie is used, as the console does. */
  readonly key?: string;
  /** How long an answer may take, in milliseconds. Default 10,000. */
  readonly timeoutMs?: number;
}

/** A message to publish. */
export interface Draft {
  readonly channel: string;
  readonly data: Json;
  /** Default `message`. */
  readonly type?: string;
  /** Publishing again with the same key publishes nothing. */
  readonly key?: string;
  /** The user to name as author. */
  readonly by?: Author;
  /** Sessions that are not to get it. */
  readonly except?: readonly string[];
}

export interface ChannelInfo {
  readonly channel: string;
  readonly pattern?: string;
  readonly about?: string;
  readonly logbook?: 'kept' | 'recent';
  /** Sessions that get its messages. */
  readonly entered: number;
  readonly cursor?: Cursor;
  readonly lastAt?: string;
}

export interface SessionInfo {
  readonly session: string;
  readonly user: string;
  readonly name?: string;
  readonly guest: boolean;
  readonly oversight: boolean;
  readonly transport: string;
  readonly remote?: string;
  readonly since: string;
  readonly channels: readonly string[];
  readonly waitingBytes: number;
}

export interface Overview {
  readonly name: string;
  readonly version: string;
  readonly instance: string;
  readonly startedAt: string;
  readonly at: string;
  readonly connections: number;
  readonly enteredChannels: number;
  readonly totals: { readonly messagesIn: number; readonly deliveries: number; readonly refusals: number };
  readonly memoryBytes: number;
}

/** Who, for an access question: made up, a guest, the holder of a token, or a session that is connected. */
export type Asked =
  | { readonly user: string; readonly roles?: readonly string[]; readonly claims?: Readonly<Record<string, Json>> }
  | { readonly guest: true }
  | { readonly token: string }
  | { readonly session: string };

/** An access rule weighed: what it asks, whether it holds, on which facts. */
export interface Weighed {
  readonly asks: string;
  readonly holds: boolean;
  readonly found?: string;
  readonly parts?: readonly Weighed[];
}

/** An access question answered in full. */
export interface Explanation {
  readonly act: string;
  readonly channel: string;
  readonly user: string;
  readonly allowed: boolean;
  /** What a client would be told. */
  readonly problem?: Problem;
  /** The channel rule that holds. */
  readonly rule?: { readonly pattern: string; readonly parameters: Readonly<Record<string, string>> };
  readonly others: readonly { readonly pattern: string; readonly why: string }[];
  readonly weighed?: Weighed;
}

export interface Reading extends ReadResult {
  /** Where the channel stands. */
  readonly cursor: Cursor;
}

/** The service refused, or was not there. */
export class BackendError extends Error {
  /** The HTTP status; absent if there was no answer. */
  readonly status: number | undefined;
  /** What the service said (RFC 9457); absent if there was no answer, or not from the service. */
  readonly problem: Problem | undefined;

  constructor(message: string, status?: number, problem?: Problem, options?: ErrorOptions) {
    super(message, options);
    this.name = 'BackendError';
    this.status = status;
    this.problem = problem;
  }
}

/**
 * The HTTP interface, for an application's server. Every method throws a `BackendError` if the service refuses or
 * cannot be reached.
 *
 * @example
 * const bells = new Backend('http://127.0.0.1:9119', { key: process.env.NINEBELLS_KEY });
 * await bells.publish({ channel: 'regatta/notices', data: { text: 'Start delayed by 20 minutes' } });
 */
export class Backend {
  readonly #url: string;
  readonly #options: BackendOptions;

  constructor(url: string, options: BackendOptions = {}) {
    this.#url = url.replace(/\/$/, '');
    this.#options = options;
  }

  /** Publishes one message; resolves when the channel's promise holds (kept: after the commit). */
  publish(draft: Draft): Promise<Published> {
    return this.#post('/v1/messages', draft);
  }

  /** Publishes several in this order. If one of them has a mistake, none is published. */
  publishAll(drafts: readonly Draft[]): Promise<readonly (Published | { readonly problem: Problem })[]> {
    return this.#post('/v1/messages', drafts);
  }

  /** Reads in a channel's record: the last messages, those before or those after a cursor. */
  read(channel: string, options: { after?: string; before?: string; limit?: number } = {}): Promise<Reading> {
    return this.#get('/v1/messages', { channel, ...options });
  }

  /** Channels by name, those after `after`. */
  channels(
    options: { after?: string; limit?: number } = {},
  ): Promise<{ channels: readonly ChannelInfo[]; more: boolean }> {
    return this.#get('/v1/channels', options);
  }

  /** One channel, whether or not there is anything in it yet. */
  async channel(channel: string): Promise<ChannelInfo> {
    const { channels } = await this.#get<{ channels: readonly [ChannelInfo] }>('/v1/channels', { channel });
    return channels[0];
  }

  /** Sessions that are connected, the latest last. */
  sessions(options: { limit?: number } = {}): Promise<{ sessions: readonly SessionInfo[]; more: boolean }> {
    return this.#get('/v1/sessions', options);
  }

  overview(): Promise<Overview> {
    return this.#get('/v1/overview', {});
  }

  /** Which rule decides whether somebody may `enter`, `read` or `publish` in a channel, on which facts. */
  explain(act: string, channel: string, who: Asked): Promise<Explanation> {
    return this.#post('/v1/explain', { act, channel, ...who });
  }

  /** A link that signs in to the console once. */
  signInLink(): Promise<{ url: string; validMs: number }> {
    return this.#post('/v1/sign-in-links');
  }

  /** A token with which to look into every channel over a line, unseen. */
  oversightToken(): Promise<{ token: string; expiresAt: string }> {
    return this.#post('/v1/oversight-tokens');
  }

  #get<T>(path: string, query: Readonly<Record<string, string | number | undefined>>): Promise<T> {
    const search = new URLSearchParams();
    for (const [name, value] of Object.entries(query)) if (value !== undefined) search.set(name, String(value));
    return this.#fetch(search.size === 0 ? path : `${path}?${search}`, { method: 'GET' });
  }

  #post<T>(path: string, body?: unknown): Promise<T> {
    return this.#fetch(path, {
      method: 'POST',
      ...(body === undefined ? {} : { body: JSON.stringify(body), headers: { 'content-type': 'application/json' } }),
    });
  }

  async #fetch<T>(path: string, init: RequestInit): Promise<T> {
    const { key, timeoutMs = 10_000 } = this.#options;
    const headers = { ...init.headers, ...(key === undefined ? {} : { authorization: `Bearer ${key}` }) };
    let response: Response;
    let text: string;
    try {
      response = await fetch(this.#url + path, { ...init, headers, signal: AbortSignal.timeout(timeoutMs) });
      text = await response.text();
    } catch (error) {
      const cause = (error as { cause?: Error }).cause ?? (error as Error);
      throw new BackendError(`the service at ${this.#url} cannot be reached: ${cause.message}`, undefined, undefined, {
        cause: error,
      });
    }
    let body: unknown;
    try {
      body = JSON.parse(text);
    } catch {
      throw new BackendError(
        `what answers at ${this.#url} is not Nine Bells (status ${response.status})`,
        response.status,
      );
    }
    if (response.ok) return body as T;
    const problem = body as Problem;
    throw new BackendError(`${problem.title}${problem.detail ? `: ${problem.detail}` : ''}`, response.status, problem);
  }
}
