import type {
  Author,
  Block,
  BlockKind,
  Changed,
  ChannelRulesInfo,
  Cursor,
  InvitationsReply,
  Invited,
  Json,
  Level,
  LevelsReply,
  Marked,
  Member,
  Message,
  Notice,
  PendingMessage,
  Problem,
  Published,
  ReactorsReply,
  ReactResult,
  ReadResult,
  Reported,
  RevisionsReply,
  SearchReply,
  SearchWish,
  ThreadInfo,
  Uninvited,
} from '@nine-bells/wire';
import { defined } from '@nine-bells/wire';
import type {
  Admission,
  AnswerOf,
  ApiKeyInfo,
  ArrivalDetail,
  ArrivalInfo,
  ArrivalState,
  Asked,
  AuditEntry,
  Ban,
  BanWish,
  BoardAnswer,
  BoardDraft,
  BoardInfo,
  BodyOf,
  ChannelInfo,
  DeliveryDetail,
  DeliveryInfo,
  DeliveryState,
  Digest,
  Draft,
  Effect,
  ErasureInfo,
  ErasureWish,
  ExampleUser,
  Explanation,
  FeedEvent,
  FeedInfo,
  FeedWish,
  ForwardedRequest,
  Gathered,
  Hold,
  HoldWish,
  HookInfo,
  HookWish,
  HttpName,
  InstanceInfo,
  IntakeInfo,
  IntakeTrial,
  IntakeTrialWish,
  InvitationWish,
  KnownUser,
  MessageReport,
  NoticeWish,
  Notified,
  NumberedPending,
  Overview,
  ParamsOf,
  PersonInfo,
  Pruning,
  QueryOf,
  ReactionWish,
  Reading,
  RefusalKind,
  RemovalWish,
  ReportWish,
  RevisionWish,
  SearchProgress,
  SessionInfo,
  Silence,
  SilenceWish,
  Trace,
  Traffic,
  WithdrawalWish,
  WorkbenchWish,
} from '@nine-bells/wire/http';
import type {
  AnyChannels,
  AnyDraft,
  ChannelContracts,
  ChannelOf,
  DataOf,
  DefaultType,
  Known,
  MessageOf,
} from './contracts.js';

export type * from '@nine-bells/wire/http';
export type * from './contracts.js';

export type { Author, Block, BlockKind, Cursor, Json, Marked, Member, Message, Notice, Problem, Published, ReadResult };

/** Selects a page of a list. */
export interface PageOptions {
  /** `next` of an earlier answer; absent: the first page. */
  readonly after?: string;
  /** Maximum number of items. Each list has its own default and maximum. */
  readonly limit?: number;
}

/** A page of a list: `next` requests the next one, and is absent from the last. */
type PageOf<T> = T & { readonly next?: string };

export interface FeedOptions {
  /** Maximum number of events per fetch. Default 100. */
  readonly most?: number;
  /** Ends the reading. */
  readonly signal?: AbortSignal;
}

export interface BackendOptions {
  /** An API key. Without it the browser's cookie is used, as the console does. */
  readonly key?: string;
  /** Timeout of an answer, in milliseconds. Default 10,000. */
  readonly timeoutMs?: number;
}

/** The service refused, or was not there. */
export class BackendError extends Error {
  /** The HTTP status; absent if there was no answer. */
  readonly status: number | undefined;
  /** The service's problem (RFC 9457); absent without an answer from the service. */
  readonly problem: Problem | undefined;

  constructor(message: string, status?: number, problem?: Problem, options?: ErrorOptions) {
    super(message, options);
    this.name = 'BackendError';
    this.status = status;
    this.problem = problem;
  }
}

/**
 * The HTTP interface, for an application's server. With a type that `ninebells types` has written (`new Backend<Regatta>(...)`)
 * the compiler knows what each channel takes. Every method throws a `BackendError` if the service refuses or
 * cannot be reached.
 *
 * @example
 * const bells = new Backend('http://127.0.0.1:9119', { key: process.env.NINEBELLS_KEY });
 * await bells.publish({ channel: 'regatta/notices', data: { text: 'Start delayed by 20 minutes' } });
 */
export class Backend<C extends ChannelContracts = AnyChannels> {
  readonly #url: string;
  readonly #options: BackendOptions;

  constructor(url: string, options: BackendOptions = {}) {
    this.#url = url.replace(/\/$/, '');
    this.#options = options;
  }

  /** Publishes one message; resolves when the channel's promise holds (kept: after the commit). */
  publish<
    const Name extends string,
    Type extends ChannelOf<C, Name>['applications'] = DefaultType<ChannelOf<C, Name>['applications']>,
  >(draft: Draft<Name & Known<C, Name>, DataOf<ChannelOf<C, Name>, Type>, Type>): Promise<Published> {
    return this.#ask('POST /v1/messages', { body: draft as Draft }) as Promise<Published>;
  }

  /** Replaces what a message holds. */
  revise(wish: RevisionWish): Promise<Changed> {
    return this.#ask('POST /v1/revisions', { body: wish });
  }

  /** Takes a message back: what it held is gone. */
  withdraw(wish: WithdrawalWish): Promise<Changed> {
    return this.#ask('POST /v1/withdrawals', { body: wish });
  }

  /** Returns earlier contents of a message, if its rule keeps them, oldest first. */
  revisions(channel: string, cursor: string, options: PageOptions = {}): Promise<RevisionsReply> {
    return this.#ask('GET /v1/revisions', { query: { channel, cursor, ...options } });
  }

  /** Publishes several in this order. If one of them has a mistake, none is published. */
  publishAll(drafts: readonly AnyDraft<C>[]): Promise<readonly (Published | { readonly problem: Problem })[]> {
    return this.#ask('POST /v1/messages', { body: drafts as readonly Draft[] }) as Promise<never>;
  }

  /**
   * Sets entries of one board, or of several; `null` removes. With one entry alone it throws what refuses it; of several, each
   * has its own answer.
   */
  setEntries<const Name extends string>(
    board: BoardDraft<Name & Known<C, Name>, ChannelOf<C, Name>['board']>,
  ): Promise<BoardAnswer>;
  setEntries(boards: readonly BoardDraft[]): Promise<readonly BoardAnswer[]>;
  setEntries(boards: BoardDraft | readonly BoardDraft[]): Promise<BoardAnswer | readonly BoardAnswer[]> {
    return this.#ask('POST /v1/boards', { body: boards });
  }

  /** A channel's board as it is now. */
  board(channel: string): Promise<BoardInfo> {
    return this.#ask('GET /v1/boards', { query: { channel } });
  }

  /** Reads in a channel's record: the last messages, those before or those after a cursor. */
  read<const Name extends string>(
    channel: Name & Known<C, Name>,
    options: { after?: string; before?: string; thread?: string; limit?: number } = {},
  ): Promise<Omit<Reading, 'messages'> & { readonly messages: readonly MessageOf<ChannelOf<C, Name>>[] }> {
    return this.#ask('GET /v1/messages', { query: { channel, ...options } }) as Promise<never>;
  }

  /** Lists channels by name, or those with the text `find` in their names. */
  channels(options: PageOptions & { find?: string } = {}): Promise<PageOf<{ channels: readonly ChannelInfo[] }>> {
    return this.#ask('GET /v1/channels', { query: options });
  }

  /** One channel, whether or not there is anything in it yet. */
  async channel(channel: string): Promise<ChannelInfo> {
    const { channels } = await this.#ask('GET /v1/channels', { query: { channel } });
    return channels[0] as ChannelInfo;
  }

  /**
   * Lists connected sessions: of a user, or with the text `find` in their user, name, address or client. The first page has the
   * latest ones; within a page, the latest is last.
   */
  sessions(
    options: PageOptions & { user?: string; find?: string } = {},
  ): Promise<PageOf<Gathered & { sessions: readonly SessionInfo[] }>> {
    return this.#ask('GET /v1/sessions', { query: options });
  }

  /** Returns members of a channel by time of entering, and their number. */
  members(
    channel: string,
    options: PageOptions = {},
  ): Promise<PageOf<Gathered & { members: readonly Member[]; count: number }>> {
    return this.#ask('GET /v1/members', { query: { channel, ...options } }) as Promise<never>;
  }

  /** Returns the channels where a user is a member, by name. */
  memberships(
    user: string,
    options: PageOptions = {},
  ): Promise<PageOf<Gathered & { channels: readonly { channel: string; member: Member }[] }>> {
    return this.#ask('GET /v1/members', { query: { user, ...options } }) as Promise<never>;
  }

  /** The instances of the service. */
  instances(): Promise<{ instances: readonly InstanceInfo[] }> {
    return this.#ask('GET /v1/instances');
  }

  /** Traces a message; with `user`, also the deliveries to that user. */
  trace(id: string, options: { user?: string } = {}): Promise<Trace> {
    return this.#ask('GET /v1/traces/:id', { params: { id }, query: options });
  }

  /** Returns the traffic of the last hour by rule, and of the last minute by channel. */
  traffic(): Promise<Traffic> {
    return this.#ask('GET /v1/traffic');
  }

  /** Lists refusals by kind, latest first, of all instances that answered. */
  refusals(options: { code?: string } = {}): Promise<{ refusals: readonly RefusalKind[] } & Gathered> {
    return this.#ask('GET /v1/refusals', { query: options });
  }

  /** Reacts to a message in a user's name, or takes that back. Idempotent. */
  react(wish: ReactionWish): Promise<ReactResult> {
    return this.#ask('POST /v1/reactions', { body: wish });
  }

  /** Lists reactions to a message by word, then by user; `after` = `next` requests the next page. */
  reactors(
    channel: string,
    cursor: string,
    options: { readonly word?: string; readonly after?: string; readonly limit?: number } = {},
  ): Promise<ReactorsReply> {
    return this.#ask('GET /v1/reactions', { query: { channel, cursor, ...options } });
  }

  /** Begins to erase a user; `erasure` returns the progress. Idempotent while in progress. */
  erase(wish: ErasureWish): Promise<ErasureInfo> {
    return this.#ask('POST /v1/erasures', { body: wish });
  }

  erasure(id: string): Promise<ErasureInfo> {
    return this.#ask('GET /v1/erasures/:id', { params: { id } });
  }

  /** The last erasures, the latest first. */
  erasures(options: { readonly limit?: number } = {}): Promise<{ erasures: readonly ErasureInfo[] }> {
    return this.#ask('GET /v1/erasures', { query: options });
  }

  /** Some of what is kept about a user: the first part has its records and sessions, each part some messages; go on with `next`. */
  person(user: string, options: { readonly after?: string; readonly limit?: number } = {}): Promise<PersonInfo> {
    return this.#ask('GET /v1/persons', { query: { user, ...options } });
  }

  /** The channel rules that the key may read: what they keep, carry and allow, with their contracts. */
  rules(): Promise<ChannelRulesInfo> {
    return this.#ask('GET /v1/rules');
  }

  /** The HTTP interface of the service, as OpenAPI 3.1. */
  openApi(): Promise<Readonly<Record<string, Json>>> {
    return this.#fetch('/openapi.json', { method: 'GET' });
  }

  /** The line and the channels that the key may read, as AsyncAPI 3.0. */
  asyncApi(): Promise<Readonly<Record<string, Json>>> {
    return this.#fetch('/asyncapi.json', { method: 'GET' });
  }

  overview(): Promise<Overview> {
    return this.#ask('GET /v1/overview');
  }

  /**
   * Which rule decides whether a user may do something, on which facts.
   *
   * @param act - `enter`, `read`, `publish`, `revise`, `withdraw`, `revisions`, `hail`, `set` or `moderate`; or `direct`, `watch` or `notify`; or `call`
   * @param where - a channel; for `direct`, `watch` and `notify`, the user that it concerns; for `call`, what is called
   */
  explain(act: string, where: string, who: Asked): Promise<Explanation> {
    const place = act === 'call' ? { call: where } : userActs.has(act) ? { whom: where } : { channel: where };
    return this.#ask('POST /v1/explain', { body: { act, ...place, ...who } });
  }

  /** Makes a token for a made-up user, for tests. Recorded in the audit log. */
  workbenchToken(wish: WorkbenchWish): Promise<{ token: string; expiresAt: string }> {
    return this.#ask('POST /v1/workbench/tokens', { body: wish });
  }

  /** A user to be made up who may do something in a channel, worked out from the access rule; or why there is none. */
  exampleUser(act: string, channel: string): Promise<ExampleUser | { why: string }> {
    return this.#ask('POST /v1/workbench/example-user', { body: { act, channel } });
  }

  /** Bans a user or an address, from a channel or from the service. Connected clients are removed at once. */
  ban(wish: BanWish): Promise<Effect> {
    return this.#ask('POST /v1/bans', { body: wish });
  }

  /** Lists bans in force, latest first; with `find`, those with this text in a user id, address, channel or reason. */
  bans(
    options: PageOptions & { user?: string; channel?: string; find?: string } = {},
  ): Promise<PageOf<{ bans: readonly Ban[] }>> {
    return this.#ask('GET /v1/bans', { query: options });
  }

  /** Ends a ban before its time. */
  unban(id: string, reason?: string): Promise<Effect> {
    return this.#ask('DELETE /v1/bans/:id', { params: { id }, query: { reason } });
  }

  /** Prunes kept logbooks and old records now, and reports what it pruned; with `dryRun`, only reports. */
  prune(options: { dryRun?: boolean } = {}): Promise<Pruning> {
    return this.#ask('POST /v1/prune', { body: options });
  }

  /** Lists channels that are exempted from pruning, by name. */
  holds(options: PageOptions = {}): Promise<PageOf<{ holds: readonly Hold[] }>> {
    return this.#ask('GET /v1/holds', { query: options });
  }

  /** Exempts a channel from pruning, until that is ended. */
  hold(wish: HoldWish): Promise<Hold> {
    return this.#ask('POST /v1/holds', { body: wish });
  }

  /** Ends the exemption of a channel from pruning. */
  endHold(channel: string, reason?: string): Promise<Hold> {
    return this.#ask('DELETE /v1/holds', { query: { channel, reason } });
  }

  /** Ends a user's stay in a channel. */
  remove(wish: RemovalWish): Promise<Effect> {
    return this.#ask('POST /v1/removals', { body: wish });
  }

  /** Lets a user read and not write, in a channel or in the whole service. */
  silence(wish: SilenceWish): Promise<Effect> {
    return this.#ask('POST /v1/silences', { body: wish });
  }

  /** Silences in force, the latest first. */
  silences(
    options: PageOptions & { user?: string; channel?: string } = {},
  ): Promise<PageOf<{ silences: readonly Silence[] }>> {
    return this.#ask('GET /v1/silences', { query: options });
  }

  /** Ends a silence before its time. */
  endSilence(id: string, reason?: string): Promise<Effect> {
    return this.#ask('DELETE /v1/silences/:id', { params: { id }, query: { reason } });
  }

  /** Reports a message to the moderators, in the name of a user. */
  report(wish: ReportWish): Promise<Reported> {
    return this.#ask('POST /v1/reports', { body: wish });
  }

  /** Lists reported messages: open ones oldest first, or ended ones latest first. */
  reports(
    options: PageOptions & { state?: 'open' | 'ended'; channel?: string } = {},
  ): Promise<PageOf<{ reports: readonly MessageReport[] }>> {
    return this.#ask('GET /v1/reports', { query: options });
  }

  /** Ends a report: something was done, or nothing is to be done. */
  endReport(id: string, options: { note?: string; by?: { user: string; name?: string } } = {}): Promise<MessageReport> {
    return this.#ask('POST /v1/reports/:id/end', { params: { id }, body: options });
  }

  /** Lists messages that wait for a moderator (oldest first) or were refused (latest first). */
  pending(
    options: PageOptions & { state?: 'waiting' | 'refused'; channel?: string; user?: string } = {},
  ): Promise<PageOf<{ pending: readonly NumberedPending[] }>> {
    return this.#ask('GET /v1/pending', { query: options });
  }

  /** Approves a waiting message. It is published at once, or after the earlier messages of its author are decided. */
  approve(id: string, options: { by?: { user: string; name?: string } } = {}): Promise<PendingMessage> {
    return this.#ask('POST /v1/pending/:id/approve', { params: { id }, body: options });
  }

  /** Rejects a waiting message; its author gets the reason. */
  reject(id: string, options: { reason?: string; by?: { user: string; name?: string } } = {}): Promise<PendingMessage> {
    return this.#ask('POST /v1/pending/:id/reject', { params: { id }, body: options });
  }

  /** Ends all sessions of a user and revokes tokens issued until now. */
  signOut(user: string, reason?: string): Promise<Effect> {
    return this.#ask('POST /v1/sign-outs', { body: { user, ...defined({ reason }) } });
  }

  /** Revokes all tokens of a user issued until now. The user may reconnect at once with a newer one. */
  revokeTokens(user: string, reason?: string): Promise<Effect> {
    return this.#ask('POST /v1/token-revocations', { body: { user, ...defined({ reason }) } });
  }

  /** Puts a notice into inboxes, and tells those who are connected. */
  notify(wish: NoticeWish): Promise<Notified> {
    return this.#ask('POST /v1/notices', { body: wish });
  }

  /** Lists a user's inbox, oldest first, behind `after`. */
  inbox(
    user: string,
    options: PageOptions = {},
  ): Promise<{ notices: readonly Notice[]; more: boolean; unread: number; cursor: Cursor }> {
    return this.#ask('GET /v1/notices', { query: { user, ...options } });
  }

  /** Takes notices out of a user's inbox: these, or all. */
  done(user: string, ids: readonly string[] | true): Promise<{ unread: number }> {
    return this.#ask('POST /v1/notices/done', { body: { user, done: ids } });
  }

  /** Lists unread counts of a user, in each channel with a read mark. */
  unread(user: string): Promise<{ unread: number; channels: readonly Marked[] }> {
    return this.#ask('GET /v1/unread', { query: { user } });
  }

  /** Lists a user's threads, the one with the latest reply first. */
  threads(
    user: string,
    options: { channel?: string; limit?: number } = {},
  ): Promise<{ threads: readonly ThreadInfo[] }> {
    return this.#ask('GET /v1/threads', { query: { user, ...options } });
  }

  /** Lists the read marks of a channel, by user id. */
  marks(
    channel: string,
    options: PageOptions = {},
  ): Promise<PageOf<{ marks: readonly { user: string; cursor: Cursor }[] }>> {
    return this.#ask('GET /v1/marks', { query: { channel, ...options } });
  }

  /** Moves a user's mark in a kept channel forward; with `null` takes it away. */
  mark(user: string, channel: string, cursor: string | null): Promise<Marked> {
    return this.#ask('POST /v1/marks', { body: { user, channel, cursor } });
  }

  /** Makes an invitation into a channel. Its code is in no later answer. */
  invite(wish: InvitationWish): Promise<Invited> {
    return this.#ask('POST /v1/invitations', { body: wish });
  }

  /** The invitations into a channel, the latest first. */
  invitations(channel: string, options: PageOptions = {}): Promise<InvitationsReply> {
    return this.#ask('GET /v1/invitations', { query: { channel, ...options } });
  }

  /** Ends an invitation; with `admitted`, those who have accepted it are no longer let in. */
  endInvitation(id: string, options: { admitted?: boolean; by?: Author } = {}): Promise<Uninvited> {
    return this.#ask('POST /v1/invitations/:id/end', { params: { id }, body: options });
  }

  /** Lists users admitted to a channel by an invitation, by user id. */
  admissions(channel: string, options: PageOptions = {}): Promise<PageOf<{ admissions: readonly Admission[] }>> {
    return this.#ask('GET /v1/admissions', { query: { channel, ...options } });
  }

  /** Ends a user's admission to a channel. */
  endAdmission(channel: string, user: string, options: { by?: Author } = {}): Promise<{ ended: boolean }> {
    return this.#ask('POST /v1/admissions/end', { body: { channel, user, ...options } });
  }

  /** Finds messages by their words, the best first, in channels whose rule has `search`. */
  search(words: string, options: Omit<SearchWish, 'words'> = {}): Promise<SearchReply> {
    const { in: where, by, types, limit, ...times } = options;
    const query = { words, in: where?.join(), by: by?.join(), type: types?.join(), limit, ...times };
    return this.#ask('GET /v1/search', { query: defined(query) as QueryOf<'GET /v1/search'> });
  }

  /** Returns the progress of the search index. */
  searchProgress(): Promise<SearchProgress> {
    return this.#ask('GET /v1/search/progress', {});
  }

  /** Lists a user's notification levels. */
  levels(user: string): Promise<LevelsReply> {
    return this.#ask('GET /v1/levels', { query: { user } });
  }

  /** Sets a user's notification level for a channel; `null` removes it. Idempotent. */
  setLevel(user: string, channel: string, level: Level | null, options: { forMs?: number } = {}): Promise<LevelsReply> {
    return this.#ask('POST /v1/levels', { body: { user, channel, level, ...options } });
  }

  /** Returns what a user has missed: counts, mentions and first lines, for an email that you send. */
  digest(user: string, options: { since?: string; limit?: number; lines?: number } = {}): Promise<Digest> {
    const { lines, ...others } = options;
    const query = { user, ...others, ...(lines === undefined ? {} : { lines: String(lines) }) };
    return this.#ask('GET /v1/digest', { query });
  }

  /** Lists users that a user has blocked or muted. */
  blocks(user: string): Promise<{ blocks: readonly Block[] }> {
    return this.#ask('GET /v1/blocks', { query: { user } });
  }

  /** Blocks or mutes a user for another, or with `null` no longer. Idempotent. */
  block(user: string, other: string, as: BlockKind | null = 'blocked'): Promise<{ blocks: readonly Block[] }> {
    return this.#ask('POST /v1/blocks', { body: { user, blocks: other, as } });
  }

  /** A user as last seen. */
  user(user: string): Promise<KnownUser> {
    return this.#ask('GET /v1/users', { query: { user } });
  }

  /** Ends the instance, after its clients had time to go elsewhere; by default as its configuration says. */
  drain(withinMs?: number): Promise<{ withinMs?: number; connections: number }> {
    return this.#ask('POST /v1/drain', { body: withinMs === undefined ? {} : { withinMs } });
  }

  /** Lists entries of the audit log, or those about a user, latest first. */
  audit(options: PageOptions & { user?: string } = {}): Promise<PageOf<{ entries: readonly AuditEntry[] }>> {
    return this.#ask('GET /v1/audit', { query: options });
  }

  /** Makes an API key; `key` in the answer is its text, which cannot be read again. */
  makeKey(wish: { name: string; rights: readonly string[]; forMs?: number }): Promise<ApiKeyInfo & { key: string }> {
    return this.#ask('POST /v1/keys', { body: wish });
  }

  /** All API keys, the latest first; those that are over too. */
  keys(): Promise<{ keys: readonly ApiKeyInfo[] }> {
    return this.#ask('GET /v1/keys');
  }

  /** Ends an API key's life at once. */
  revokeKey(id: string): Promise<ApiKeyInfo> {
    return this.#ask('DELETE /v1/keys/:id', { params: { id } });
  }

  /** Makes a link that signs in to the console once; with `looksOnly`, for looking only. */
  signInLink(options: { looksOnly?: boolean } = {}): Promise<{ url: string; validMs: number }> {
    return this.#ask('POST /v1/sign-in-links', { body: options });
  }

  /** Makes a token that reads every channel over a line, unseen. */
  observerToken(): Promise<{ token: string; expiresAt: string }> {
    return this.#ask('POST /v1/observer-tokens');
  }

  /** Lists intakes: endpoints where other systems post events. */
  intakes(): Promise<{ intakes: readonly IntakeInfo[] }> {
    return this.#ask('GET /v1/intakes');
  }

  /** Shows what an intake would make of an event. Publishes nothing. */
  tryIntake(name: string, wish: IntakeTrialWish): Promise<IntakeTrial> {
    return this.#ask('POST /v1/intakes/:name/test', { params: { name }, body: wish });
  }

  /** Lists arrivals, latest first. */
  arrivals(
    options: PageOptions & { intake?: string; state?: ArrivalState } = {},
  ): Promise<PageOf<{ arrivals: readonly ArrivalInfo[] }>> {
    return this.#ask('GET /v1/arrivals', { query: options });
  }

  arrival(id: string): Promise<ArrivalDetail> {
    return this.#ask('GET /v1/arrivals/:id', { params: { id } });
  }

  /** Runs an event again that has failed or was ignored, by the routes of now. */
  runAgain(arrival: string): Promise<ArrivalInfo> {
    return this.#ask('POST /v1/arrivals/:id/again', { params: { id: arrival } });
  }

  /** Lists hooks. */
  hooks(): Promise<{ hooks: readonly HookInfo[] }> {
    return this.#ask('GET /v1/hooks');
  }

  /** Registers a hook, or replaces the one of this name. `secrets` in the answer sign its requests. */
  addHook(wish: HookWish): Promise<HookInfo & { secrets: readonly string[] }> {
    return this.#ask('POST /v1/hooks', { body: wish });
  }

  /** Removes a hook that was registered, and its queue. */
  removeHook(name: string): Promise<{ name: string; removed: boolean }> {
    return this.#ask('DELETE /v1/hooks/:name', { params: { name } });
  }

  /** Sends nothing to a hook until it is resumed; events wait meanwhile. */
  pauseHook(name: string): Promise<HookInfo> {
    return this.#ask('POST /v1/hooks/:name/pause', { params: { name } }) as Promise<HookInfo>;
  }

  resumeHook(name: string): Promise<HookInfo> {
    return this.#ask('POST /v1/hooks/:name/resume', { params: { name } }) as Promise<HookInfo>;
  }

  /** Lists deliveries to hooks and feeds, latest first; with `failed`, only those that have failed at least once. */
  deliveries(
    options: PageOptions & { hook?: string; state?: DeliveryState; failed?: true } = {},
  ): Promise<PageOf<{ deliveries: readonly DeliveryInfo[] }>> {
    const { failed, ...rest } = options;
    return this.#ask('GET /v1/deliveries', { query: { ...rest, failed: failed ? 'true' : undefined } });
  }

  /** A delivery with its data and its attempts. */
  delivery(id: string): Promise<DeliveryDetail> {
    return this.#ask('GET /v1/deliveries/:id', { params: { id } });
  }

  /** Sends deliveries again: these, or all of a hook since a time (RFC 3339). */
  resend(
    which: { ids: readonly string[] } | { hook: string; since: string; state?: 'dead' | 'delivered' },
  ): Promise<{ resent: number }> {
    return this.#ask('POST /v1/deliveries/resend', { body: which });
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
    return this.#ask('GET /v1/forward/:name', {
      params: { name },
      query: { ...defined({ after }), wait: waitS },
      waitS,
    });
  }

  /** Reports the outcome of a copy, which the delivery lists among its attempts. */
  reportForwarded(
    name: string,
    report: { id: string; status?: number; tookMs: number; answer?: string },
  ): Promise<{ id: string }> {
    return this.#ask('POST /v1/forward/:name/report', { params: { name }, body: report });
  }

  /** Queues whose events are fetched. */
  feeds(): Promise<{ feeds: readonly FeedInfo[] }> {
    return this.#ask('GET /v1/feeds');
  }

  addFeed(wish: FeedWish): Promise<FeedInfo> {
    return this.#ask('POST /v1/feeds', { body: wish });
  }

  removeFeed(name: string): Promise<{ name: string; removed: boolean }> {
    return this.#ask('DELETE /v1/feeds/:name', { params: { name } });
  }

  /** Gives events since a time (RFC 3339) again. */
  rewindFeed(name: string, since: string): Promise<{ again: number }> {
    return this.#ask('POST /v1/feeds/:name/rewind', { params: { name }, body: { since } });
  }

  /** Fetches the next events of a feed, and waits for some. Unless they are acknowledged in time, they come again. */
  fetchFeed(name: string, options: { most?: number; waitS?: number } = {}): Promise<{ events: readonly FeedEvent[] }> {
    const { most, waitS = 5 } = options;
    return this.#ask('GET /v1/feeds/:name', { params: { name }, query: { ...defined({ most }), wait: waitS }, waitS });
  }

  /** Acknowledges events of a feed, so that they are not delivered again. */
  acknowledge(feed: string, ids: readonly string[]): Promise<{ acknowledged: number }> {
    return this.#ask('POST /v1/feeds/:name/ack', { params: { name: feed }, body: { ids } });
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

  /** Sends a request as the interface has it, and gives what it answers. */
  #ask<K extends HttpName>(name: K, { params, query, body, waitS = 0 }: Asking<K> = {}): Promise<AnswerOf<K>> {
    const [method = '', path = ''] = name.split(' ');
    const place = path.replace(/:(\w+)/, (_, each: string) => encodeURIComponent((params as Parameters)?.[each] ?? ''));
    return this.#fetch(
      withQuery(place, query ?? {}),
      {
        method,
        ...(body === undefined ? {} : { body: JSON.stringify(body), headers: { 'content-type': 'application/json' } }),
      },
      waitS * 1000,
    );
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

/** Parts of a request; undefined members of the query are omitted. */
interface Asking<K extends HttpName> {
  readonly params?: ParamsOf<K>;
  readonly query?: { readonly [Name in keyof QueryOf<K>]: QueryOf<K>[Name] | undefined };
  readonly body?: BodyOf<K>;
  /** Maximum wait of the service before its answer, in seconds. */
  readonly waitS?: number;
}

type Parameters = Readonly<Record<string, string>> | undefined;

function withQuery(path: string, query: object): string {
  const search = new URLSearchParams();
  for (const [name, value] of Object.entries(query)) if (value !== undefined) search.set(name, String(value));
  return search.size === 0 ? path : `${path}?${search}`;
}

/** Acts that concern a user, not a channel. */
const userActs: ReadonlySet<string> = new Set(['direct', 'watch', 'notify']);
