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
import type {
  ApiKeyInfo,
  Asked,
  AuditEntry,
  Ban,
  BanWish,
  BoardAnswer,
  BoardDraft,
  BoardInfo,
  ChannelInfo,
  Draft,
  Effect,
  ExampleUser,
  Explanation,
  Gathered,
  InstanceInfo,
  KnownUser,
  NoticeWish,
  Notified,
  Overview,
  Reading,
  RefusalKind,
  RemovalWish,
  SessionInfo,
  Trace,
  Traffic,
  WorkbenchWish,
} from './backendTypes.js';
import type {
  ArrivalDetail,
  ArrivalInfo,
  ArrivalState,
  DeliveryDetail,
  DeliveryInfo,
  DeliveryState,
  FeedEvent,
  FeedInfo,
  FeedOptions,
  FeedWish,
  ForwardedRequest,
  HookInfo,
  HookWish,
  IntakeInfo,
  IntakeTrial,
  IntakeTrialWish,
} from './webhookTypes.js';

export * from './backendTypes.js';
export * from './webhookTypes.js';

export type { Author, Cursor, Json, Marked, Member, Message, Notice, Problem, Published, ReadResult };

export interface BackendOptions {
  /** An API key. Without it the browser's cookie is used, as the console does. */
  readonly key?: string;
  /** How long an answer may take, in milliseconds. Default 10,000. */
  readonly timeoutMs?: number;
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

  /**
   * Sets entries of one board, or of several; `null` removes. With one entry alone it throws what refuses it; of several, each
   * has its own answer.
   */
  setEntries(board: BoardDraft): Promise<BoardAnswer>;
  setEntries(boards: readonly BoardDraft[]): Promise<readonly BoardAnswer[]>;
  setEntries(boards: BoardDraft | readonly BoardDraft[]): Promise<BoardAnswer | readonly BoardAnswer[]> {
    return this.#post('/v1/boards', boards);
  }

  /** A channel's board as it is now. */
  board(channel: string): Promise<BoardInfo> {
    return this.#get('/v1/boards', { channel });
  }

  /** Reads in a channel's record: the last messages, those before or those after a cursor. */
  read(channel: string, options: { after?: string; before?: string; limit?: number } = {}): Promise<Reading> {
    return this.#get('/v1/messages', { channel, ...options });
  }

  /** Channels by name, those after `after`, and with the text `find` in their names. */
  channels(
    options: { after?: string; limit?: number; find?: string } = {},
  ): Promise<{ channels: readonly ChannelInfo[]; more: boolean }> {
    return this.#get('/v1/channels', options);
  }

  /** One channel, whether or not there is anything in it yet. */
  async channel(channel: string): Promise<ChannelInfo> {
    const { channels } = await this.#get<{ channels: readonly [ChannelInfo] }>('/v1/channels', { channel });
    return channels[0];
  }

  /**
   * The latest sessions that are connected, the latest last: of a user, or with the text `find` in what identifies them.
   * Where there are more, the answer's `before` asks for those before.
   */
  sessions(
    options: { limit?: number; user?: string; find?: string; before?: string } = {},
  ): Promise<Gathered & { sessions: readonly SessionInfo[]; more: boolean; before?: string }> {
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

  /** What went through the service: the last hour by rule, the last minute by channel. */
  traffic(): Promise<Traffic> {
    return this.#get('/v1/traffic', {});
  }

  /** What was refused, by kind, the latest first: by all instances that answered. */
  refusals(options: { code?: string } = {}): Promise<{ refusals: readonly RefusalKind[] } & Gathered> {
    return this.#get('/v1/refusals', options);
  }

  overview(): Promise<Overview> {
    return this.#get('/v1/overview', {});
  }

  /**
   * Which rule decides whether a user may do something, on which facts.
   *
   * @param act - `enter`, `read`, `publish`, `hail`, `set` or `moderate`; or `direct`, `watch` or `notify`; or `call`
   * @param where - a channel; for `direct`, `watch` and `notify`, the user that it concerns; for `call`, what is called
   */
  explain(act: string, where: string, who: Asked): Promise<Explanation> {
    const place = act === 'call' ? { call: where } : userActs.has(act) ? { whom: where } : { channel: where };
    return this.#post('/v1/explain', { act, ...place, ...who });
  }

  /** A token for a made-up user, for trying things out; it stands in the audit log. */
  workbenchToken(wish: WorkbenchWish): Promise<{ token: string; expiresAt: string }> {
    return this.#post('/v1/workbench/tokens', wish);
  }

  /** A user to be made up who may do something in a channel, worked out from the access rule; or why there is none. */
  exampleUser(act: string, channel: string): Promise<ExampleUser | { why: string }> {
    return this.#post('/v1/workbench/example-user', { act, channel });
  }

  /** Bans a user or an address, from a channel or from the service. Connected clients are removed at once. */
  ban(wish: BanWish): Promise<Effect> {
    return this.#post('/v1/bans', wish);
  }

  /** Bans in force, the latest first: those before the ban `before`, and with the text `find` in what they say. */
  bans(
    options: { user?: string; channel?: string; find?: string; before?: string; limit?: number } = {},
  ): Promise<{ bans: readonly Ban[]; more: boolean }> {
    return this.#get('/v1/bans', options);
  }

  /** Ends a ban before its time. */
  unban(id: string, reason?: string): Promise<Effect> {
    return this.#delete(`/v1/bans/${encodeURIComponent(id)}`, { reason });
  }

  /** Ends a user's stay in a channel. */
  remove(wish: RemovalWish): Promise<Effect> {
    return this.#post('/v1/removals', wish);
  }

  /** Ends all sessions of a user and revokes tokens issued until now. */
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

  /** The audit log, or what of it is about a user, the latest first; those before `before`. */
  audit(
    options: { before?: number; limit?: number; user?: string } = {},
  ): Promise<{ entries: readonly AuditEntry[]; more: boolean }> {
    return this.#get('/v1/audit', options);
  }

  /** Makes an API key; `key` in the answer is its text, which cannot be read again. */
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
  observerToken(): Promise<{ token: string; expiresAt: string }> {
    return this.#post('/v1/observer-tokens');
  }

  /** Where other systems may say what has happened. */
  intakes(): Promise<{ intakes: readonly IntakeInfo[] }> {
    return this.#get('/v1/intakes', {});
  }

  /** What would become of an event. Publishes nothing. */
  tryIntake(name: string, wish: IntakeTrialWish): Promise<IntakeTrial> {
    return this.#post(`/v1/intakes/${encodeURIComponent(name)}/test`, wish);
  }

  /** What came in, the latest first; those before the number `before`. */
  arrivals(
    options: { intake?: string; state?: ArrivalState; before?: number; limit?: number } = {},
  ): Promise<{ arrivals: readonly ArrivalInfo[]; more: boolean }> {
    return this.#get('/v1/arrivals', options);
  }

  arrival(id: string): Promise<ArrivalDetail> {
    return this.#get(`/v1/arrivals/${encodeURIComponent(id)}`, {});
  }

  /** Runs an event again that has failed or was ignored, by the routes of now. */
  runAgain(arrival: string): Promise<ArrivalInfo> {
    return this.#post(`/v1/arrivals/${encodeURIComponent(arrival)}/again`);
  }

  /** Where events are sent to. */
  hooks(): Promise<{ hooks: readonly HookInfo[] }> {
    return this.#get('/v1/hooks', {});
  }

  /** Registers a hook, or replaces the one of this name; `secrets` in the answer sign what is sent. */
  addHook(wish: HookWish): Promise<HookInfo & { secrets: readonly string[] }> {
    return this.#post('/v1/hooks', wish);
  }

  /** Removes a hook that was registered, and its queue. */
  removeHook(name: string): Promise<{ name: string; removed: boolean }> {
    return this.#delete(`/v1/hooks/${encodeURIComponent(name)}`, {});
  }

  /** Sends nothing to a hook until it is resumed; events wait meanwhile. */
  pauseHook(name: string): Promise<HookInfo> {
    return this.#post(`/v1/hooks/${encodeURIComponent(name)}/pause`);
  }

  resumeHook(name: string): Promise<HookInfo> {
    return this.#post(`/v1/hooks/${encodeURIComponent(name)}/resume`);
  }

  /** What was sent to hooks and feeds, and what waits, the latest first; with `failed`, only what has failed at least once. */
  deliveries(
    options: { hook?: string; state?: DeliveryState; failed?: true; before?: number; limit?: number } = {},
  ): Promise<{ deliveries: readonly DeliveryInfo[]; more: boolean }> {
    const { failed, ...rest } = options;
    return this.#get('/v1/deliveries', { ...rest, failed: failed ? 'true' : undefined });
  }

  /** A delivery with its data and its attempts. */
  delivery(id: string): Promise<DeliveryDetail> {
    return this.#get(`/v1/deliveries/${encodeURIComponent(id)}`, {});
  }

  /** Sends deliveries again: these, or all of a hook since a time (RFC 3339). */
  resend(
    which: { ids: readonly string[] } | { hook: string; since: string; state?: 'dead' | 'delivered' },
  ): Promise<{ resent: number }> {
    return this.#post('/v1/deliveries/resend', which);
  }

  /**
   * Copies of what passes an intake, goes to a hook or is called: the requests behind the number `after`, as their receiver would get
   * them; without it, none, and the number from which to go on.
   */
  forwarded(
    name: string,
    options: { after?: number; waitS?: number } = {},
  ): Promise<{ after: number; requests: readonly ForwardedRequest[] }> {
    const { after, waitS = 5 } = options;
    return this.#get(`/v1/forward/${encodeURIComponent(name)}`, { after, wait: waitS }, waitS);
  }

  /** Says how a copy went: it stands with the attempts of the delivery. */
  reportForwarded(
    name: string,
    report: { id: string; status?: number; tookMs: number; answer?: string },
  ): Promise<{ id: string }> {
    return this.#post(`/v1/forward/${encodeURIComponent(name)}/report`, report);
  }

  /** Queues whose events are fetched. */
  feeds(): Promise<{ feeds: readonly FeedInfo[] }> {
    return this.#get('/v1/feeds', {});
  }

  addFeed(wish: FeedWish): Promise<FeedInfo> {
    return this.#post('/v1/feeds', wish);
  }

  removeFeed(name: string): Promise<{ name: string; removed: boolean }> {
    return this.#delete(`/v1/feeds/${encodeURIComponent(name)}`, {});
  }

  /** Gives events since a time (RFC 3339) again. */
  rewindFeed(name: string, since: string): Promise<{ again: number }> {
    return this.#post(`/v1/feeds/${encodeURIComponent(name)}/rewind`, { since });
  }

  /** Fetches the next events of a feed, and waits for some. Unless they are acknowledged in time, they come again. */
  fetchFeed(name: string, options: { most?: number; waitS?: number } = {}): Promise<{ events: readonly FeedEvent[] }> {
    const { most, waitS = 5 } = options;
    return this.#get(`/v1/feeds/${encodeURIComponent(name)}`, { most, wait: waitS }, waitS);
  }

  /** Ends events of a feed for good: they do not come again. */
  acknowledge(feed: string, ids: readonly string[]): Promise<{ acknowledged: number }> {
    return this.#post(`/v1/feeds/${encodeURIComponent(feed)}/ack`, { ids });
  }

  /**
   * The events of a feed, one after another. An event is acknowledged when you ask for the next one: if your program ends
   * before, it comes again. Failures of the connection are waited out; a refusal is thrown.
   *
   * @example
   * for await (const event of backend.feed('finishes')) await store(event.data);
   */
  async *feed<Data extends Json = Json>(
    name: string,
    options: FeedOptions = {},
  ): AsyncGenerator<FeedEvent<Data>, void> {
    const { most = 100, signal } = options;
    let handled: string[] = [];
    let acknowledging: Promise<void> | undefined;
    const acknowledge = async (): Promise<void> => {
      while (handled.length > 0) {
        const ids = handled;
        handled = [];
        await this.#patiently(() => this.acknowledge(name, ids), signal);
      }
      acknowledging = undefined;
    };
    while (!signal?.aborted) {
      const { events } = await this.#patiently(() => this.fetchFeed(name, { most }), signal);
      for (const event of events) {
        if (signal?.aborted) return;
        // What the events of a feed hold, its configuration says.
        yield event as FeedEvent<Data>;
        handled.push(event.id);
        // While one request is under way, what was handled meanwhile goes into the next.
        acknowledging ??= acknowledge();
      }
      await acknowledging;
    }
  }

  /** Tries again while the service is not there or cannot. */
  async #patiently<T>(call: () => Promise<T>, signal: AbortSignal | undefined): Promise<T> {
    for (let waitMs = 250; ; waitMs = Math.min(waitMs * 2, 10_000)) {
      try {
        return await call();
      } catch (error) {
        const isPassing = error instanceof BackendError && (error.status === undefined || error.status >= 429);
        if (!isPassing || signal?.aborted) throw error;
        await new Promise((resolve) => setTimeout(resolve, waitMs));
      }
    }
  }

  /** @param waitS - how long the service may wait before it answers, in seconds */
  #get<T>(path: string, query: Query, waitS = 0): Promise<T> {
    return this.#fetch(withQuery(path, query), { method: 'GET' }, waitS * 1000);
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

  async #fetch<T>(path: string, init: RequestInit, waitMs = 0): Promise<T> {
    const { key, timeoutMs = 10_000 } = this.#options;
    const headers = { ...init.headers, ...(key === undefined ? {} : { authorization: `Bearer ${key}` }) };
    let response: Response;
    let text: string;
    try {
      response = await fetch(this.#url + path, { ...init, headers, signal: AbortSignal.timeout(timeoutMs + waitMs) });
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
