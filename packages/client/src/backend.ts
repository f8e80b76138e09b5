import type {
  Author,
  Cursor,
  Json,
  Marked,
  Member,
  Message,
  Notice,
  Problem,
  Published,
  ReadResult,
} from '@nine-bells/wire';

export type { Author, Cursor, Json, Marked, Member, Message, Notice, Problem, Published, ReadResult };

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
  /** The instance that it is connected to. */
  readonly instance: string;
  readonly user: string;
  readonly name?: string;
  readonly guest: boolean;
  readonly oversight: boolean;
  readonly transport: string;
  readonly remote?: string;
  readonly since: string;
  readonly channels: readonly string[];
  readonly waitingBytes: number;
  /** How long the client took to answer the last ping; absent before the first answer. */
  readonly roundTripMs?: number;
}

/** Instances that did not answer in time, if there are any: what they know is missing. */
export interface Gathered {
  readonly missing?: readonly string[];
}

/** What was refused with one code at one door, since the instances have started. */
export interface RefusalKind {
  readonly code: string;
  /** The verb that was refused, `connect`, or a method and a path. */
  readonly act: string;
  readonly count: number;
  readonly firstAt: string;
  readonly lastAt: string;
  /** The latest ones, oldest first; none holds a token, a key or a secret. */
  readonly latest: readonly {
    readonly at: string;
    readonly detail?: string;
    readonly user?: string;
    readonly session?: string;
    readonly address?: string;
    readonly channel?: string;
    readonly origin?: string;
  }[];
}

/** How many users were notified. */
export interface Notified {
  readonly id: string;
  /** Users who have it in their inbox now. */
  readonly users: number;
  /** Users who were passed over by a condition. */
  readonly passedOver: number;
  /** Users who were not notified, because something failed on the way: notify them again. */
  readonly left?: readonly string[];
  readonly problem?: Problem;
}

/** One process of the service, as the one that was asked knows it. */
export interface InstanceInfo {
  readonly instance: string;
  /** The instance and its incarnation: a restarted one is another. */
  readonly holder: string;
  /** It is the one that was asked. */
  readonly isThis: boolean;
  readonly address?: string;
  readonly version?: string;
  readonly since: string;
  readonly connections: number;
  /** Channels that somebody there has entered. */
  readonly channels: number;
  /** Since it has started. */
  readonly messagesIn: number;
  readonly deliveries: number;
  readonly refusals: number;
  readonly messagesPerS: number;
  readonly deliveriesPerS: number;
  /** How late timers ran of late: what 99 of 100 stay below, in milliseconds. */
  readonly loopDelayMs?: number;
  /** How long the relay took to answer the last time, in milliseconds. */
  readonly relayMs?: number;
  /** How far the service's time is ahead of the machine's clock, in milliseconds. */
  readonly clockMs?: number;
  /** What is not as it should be with the instance, or with what it needs. */
  readonly warnings?: readonly string[];
  /** For how long its lease still holds, in milliseconds; of an instance alone 0. */
  readonly leaseMs: number;
  readonly draining: boolean;
}

/** The account of what became of a message, of all instances that answered. */
export interface Trace extends Gathered {
  readonly id: string;
  readonly channel: string;
  readonly cursor: Cursor;
  /** Where it was taken in; absent if that instance is not there any more. */
  readonly accepted?: {
    readonly instance: string;
    readonly at: string;
    readonly by?: Author;
    readonly key?: string;
    /** How long until it had its place, and was committed where the channel is kept, in milliseconds. */
    readonly placedAfterMs: number;
    /** It was published again under its key so many times. */
    readonly repeats: number;
  };
  /** Where it was handed to connections, in the order in which it came in there. */
  readonly instances: readonly {
    readonly instance: string;
    readonly at: string;
    readonly connections: number;
    /** Of those that are still there, how many have said that they have got it. */
    readonly confirmed: number;
  }[];
  /** In words. */
  readonly sentence: string;
  readonly user?: {
    readonly user: string;
    readonly sentence: string;
    readonly fates: readonly Fate[];
    /** More sessions of the user that had ended before the message, and have not come back. */
    readonly earlier: number;
  };
}

/** What became of a message for one session. */
export interface Fate {
  readonly session: string;
  readonly instance: string;
  /** Such as `got`, `recovered`, `left`, `too-slow`, `refused`. */
  readonly outcome: string;
  readonly at?: string;
  readonly recoveredAt?: string;
  readonly problem?: Problem;
  readonly sentence: string;
}

export interface Overview {
  readonly name: string;
  readonly version: string;
  readonly instance: string;
  readonly startedAt: string;
  readonly at: string;
  /** How many there are; the numbers below are of all of them together, but for the memory. */
  readonly instances: number;
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
  /** For acts in a channel. */
  readonly channel?: string;
  /** For acts that concern a user. */
  readonly whom?: string;
  readonly user: string;
  readonly allowed: boolean;
  /** What a client would be told. */
  readonly problem?: Problem;
  /** What keeps the user out, whatever the rules say. */
  readonly ban?: Ban;
  /** The channel rule that holds. */
  readonly rule?: { readonly pattern: string; readonly parameters: Readonly<Record<string, string>> };
  readonly others: readonly { readonly pattern: string; readonly why: string }[];
  readonly weighed?: Weighed;
}

/** An actor: a user (`user`), the holder of an API key (`key`), or the service itself (`service`). */
export interface Actor {
  /** The user's id. */
  readonly user?: string;
  /** The name of the user, or of the key. */
  readonly name?: string;
  /** The user is a guest. */
  readonly guest?: true;
  /** The id of the API key; beside `user`, the key with which an application acted in the user's name. */
  readonly key?: string;
  /** What part of the service acted. */
  readonly service?: string;
}

/** Somebody kept out of a channel, or of the service. */
export interface Ban {
  readonly id: string;
  readonly did: 'ban' | 'remove';
  readonly user?: string;
  readonly address?: string;
  /** Absent: of the whole service. */
  readonly channel?: string;
  readonly by: Actor;
  readonly at: string;
  /** When it ends by itself; absent: never. */
  readonly until?: string;
  readonly reason?: string;
}

/** Whom to keep out, and of what. */
export interface BanWish {
  /** A user, or else an address. */
  readonly user?: string;
  readonly address?: string;
  readonly channel?: string;
  /** Until it is lifted, if absent. */
  readonly forMs?: number;
  readonly reason?: string;
  /** The user in whose name it is done. */
  readonly by?: { readonly user: string; readonly name?: string };
}

export interface RemovalWish {
  readonly channel: string;
  readonly user: string;
  readonly reason?: string;
  /** How long the user may not come back. Default: not at all. */
  readonly banMs?: number;
  /** The user in whose name it is done. */
  readonly by?: { readonly user: string; readonly name?: string };
}

/** What was done, and how many sessions it reached at once. */
export interface Effect {
  readonly id: string;
  readonly did: string;
  /** Of a ban: the address or range in its canonical form. */
  readonly address?: string;
  readonly at: string;
  readonly until?: string;
  readonly sessions: number;
}

/** One line of the audit log. */
export interface AuditEntry {
  readonly number: number;
  readonly at: string;
  readonly did: string;
  readonly by: Actor;
  readonly user?: string;
  readonly address?: string;
  readonly channel?: string;
  readonly reason?: string;
  readonly until?: string;
  readonly about?: string;
}

export interface ApiKeyInfo {
  readonly id: string;
  readonly name: string;
  readonly rights: readonly string[];
  readonly createdAt: string;
  readonly expiresAt?: string;
  readonly lastUsedAt?: string;
  readonly revokedAt?: string;
}

/** Whom to notify, of what, and when not. One of `users`, `channel` (its members now) and `role` (as last seen). */
export interface NoticeWish {
  readonly users?: readonly string[];
  readonly channel?: string;
  readonly role?: string;
  readonly title: string;
  readonly data?: Json;
  /** Takes the place of the notice that has the same key. */
  readonly key?: string;
  /** How long it stays. Default: until it is done. */
  readonly forMs?: number;
  /** Only those who are connected and available now. */
  readonly ifAvailable?: boolean;
  /** Not those who have this channel in view. */
  readonly unlessLooking?: string;
  /** Those who are busy are told when they are not busy any more. */
  readonly holdWhileBusy?: boolean;
  /** If no session of a user was told in time, the service says so to whoever embeds it. */
  readonly reachWithinMs?: number;
}

/** A user as last seen. */
export interface KnownUser {
  readonly id: string;
  readonly name?: string;
  readonly roles: readonly string[];
  readonly seenAt: string;
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
  sessions(
    options: { limit?: number; user?: string } = {},
  ): Promise<Gathered & { sessions: readonly SessionInfo[]; more: boolean }> {
    return this.#get('/v1/sessions', options);
  }

  /** Who is in a channel that shows it, and how many. */
  members(
    channel: string,
    options: { limit?: number } = {},
  ): Promise<Gathered & { members: readonly Member[]; count: number; more: boolean }> {
    return this.#get('/v1/members', { channel, ...options });
  }

  /** The channels where a user is a member. */
  memberships(
    user: string,
  ): Promise<Gathered & { channels: readonly { channel: string; member: Member }[]; more: boolean }> {
    return this.#get('/v1/members', { user });
  }

  /** The instances of the service. */
  instances(): Promise<{ instances: readonly InstanceInfo[] }> {
    return this.#get('/v1/instances', {});
  }

  /** What became of a message; with `user`, whether and how that user got it. */
  trace(id: string, options: { user?: string } = {}): Promise<Trace> {
    return this.#get(`/v1/traces/${encodeURIComponent(id)}`, options);
  }

  /** What was refused, by kind, the latest first: by all instances that answered. */
  refusals(options: { code?: string } = {}): Promise<{ refusals: readonly RefusalKind[] } & Gathered> {
    return this.#get('/v1/refusals', options);
  }

  overview(): Promise<Overview> {
    return this.#get('/v1/overview', {});
  }

  /**
   * Which rule decides whether somebody may do something, on which facts.
   *
   * @param act - `enter`, `read`, `publish`, `hail`, `set` or `moderate`; or `direct`, `watch` or `notify`
   * @param where - a channel; for the latter three, the user that it concerns
   */
  explain(act: string, where: string, who: Asked): Promise<Explanation> {
    const place = userActs.has(act) ? { whom: where } : { channel: where };
    return this.#post('/v1/explain', { act, ...place, ...who });
  }

  /** Keeps a user or an address out, of a channel or of the service. Whoever is there goes at once. */
  ban(wish: BanWish): Promise<Effect> {
    return this.#post('/v1/bans', wish);
  }

  /** Bans in force, the latest first. */
  bans(
    options: { user?: string; channel?: string; limit?: number } = {},
  ): Promise<{ bans: readonly Ban[]; more: boolean }> {
    return this.#get('/v1/bans', options);
  }

  /** Ends a ban before its time. */
  liftBan(id: string, reason?: string): Promise<Effect> {
    return this.#delete(`/v1/bans/${encodeURIComponent(id)}`, { reason });
  }

  /** Ends a user's stay in a channel. */
  remove(wish: RemovalWish): Promise<Effect> {
    return this.#post('/v1/removals', wish);
  }

  /** Ends all sessions of a user; tokens issued until now are not taken any more. */
  signOut(user: string, reason?: string): Promise<Effect> {
    return this.#post('/v1/sign-outs', { user, reason });
  }

  /** Takes no token of a user any more that was issued until now. With a newer one it may come back at once. */
  revokeTokens(user: string, reason?: string): Promise<Effect> {
    return this.#post('/v1/token-revocations', { user, reason });
  }

  /** Puts a notice into inboxes, and tells those who are connected. */
  notify(wish: NoticeWish): Promise<Notified> {
    return this.#post('/v1/notices', wish);
  }

  /** What is in a user's inbox, oldest first; after `after`. */
  inbox(
    user: string,
    options: { after?: string; limit?: number } = {},
  ): Promise<{ notices: readonly Notice[]; more: boolean; unread: number; cursor: Cursor }> {
    return this.#get('/v1/notices', { user, ...options });
  }

  /** Takes notices out of a user's inbox: these, or all. */
  done(user: string, ids: readonly string[] | true): Promise<{ unread: number }> {
    return this.#post('/v1/notices/done', { user, done: ids });
  }

  /** What a user has not read, in each channel where it has a mark. */
  unread(user: string): Promise<{ unread: number; channels: readonly Marked[] }> {
    return this.#get('/v1/unread', { user });
  }

  /** How far users have read in a channel, by user id. */
  marks(
    channel: string,
    options: { limit?: number } = {},
  ): Promise<{ marks: readonly { user: string; cursor: Cursor }[]; more: boolean }> {
    return this.#get('/v1/marks', { channel, ...options });
  }

  /** Moves a user's mark in a kept channel forward; with `null` takes it away. */
  mark(user: string, channel: string, cursor: string | null): Promise<Marked> {
    return this.#post('/v1/marks', { user, channel, cursor });
  }

  /** A user as last seen. */
  user(user: string): Promise<KnownUser> {
    return this.#get('/v1/users', { user });
  }

  /** Ends the instance, after its clients had time to go elsewhere; by default as its configuration says. */
  drain(withinMs?: number): Promise<{ withinMs?: number; connections: number }> {
    return this.#post('/v1/drain', withinMs === undefined ? {} : { withinMs });
  }

  /** The audit log, the latest first; those before `before`. */
  audit(options: { before?: number; limit?: number } = {}): Promise<{ entries: readonly AuditEntry[]; more: boolean }> {
    return this.#get('/v1/audit', options);
  }

  /** Makes an API key; `key` in the answer is its text, which nobody can read again. */
  makeKey(wish: { name: string; rights: readonly string[]; forMs?: number }): Promise<ApiKeyInfo & { key: string }> {
    return this.#post('/v1/keys', wish);
  }

  /** All API keys, the latest first; those that are over too. */
  keys(): Promise<{ keys: readonly ApiKeyInfo[] }> {
    return this.#get('/v1/keys', {});
  }

  /** Ends an API key's life at once. */
  revokeKey(id: string): Promise<ApiKeyInfo> {
    return this.#delete(`/v1/keys/${encodeURIComponent(id)}`, {});
  }

  /** A link that signs in to the console once; with `looksOnly` to look, and no more. */
  signInLink(options: { looksOnly?: boolean } = {}): Promise<{ url: string; validMs: number }> {
    return this.#post('/v1/sign-in-links', options);
  }

  /** A token with which to look into every channel over a line, unseen. */
  oversightToken(): Promise<{ token: string; expiresAt: string }> {
    return this.#post('/v1/oversight-tokens');
  }

  #get<T>(path: string, query: Query): Promise<T> {
    return this.#fetch(withQuery(path, query), { method: 'GET' });
  }

  #delete<T>(path: string, query: Query): Promise<T> {
    return this.#fetch(withQuery(path, query), { method: 'DELETE' });
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

type Query = Readonly<Record<string, string | number | undefined>>;

function withQuery(path: string, query: Query): string {
  const search = new URLSearchParams();
  for (const [name, value] of Object.entries(query)) if (value !== undefined) search.set(name, String(value));
  return search.size === 0 ? path : `${path}?${search}`;
}

/** Acts that concern a user, not a channel. */
const userActs: ReadonlySet<string> = new Set(['direct', 'watch', 'notify']);
