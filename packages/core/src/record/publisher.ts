import {
  type Author,
  type Changed,
  type ChannelName,
  defined,
  type Json,
  ProblemError,
  refusal,
} from '@nine-bells/wire';
import type { Contracts, Sender } from '../contracts/contracts.js';
import { Backlog } from '../lib/backlog.js';
import type { Counters } from '../model/counters.js';
import { erasedAuthor } from '../model/erasure.js';
import type { Hail } from '../model/hail.js';
import type { QueuedEvent } from '../model/hook.js';
import { countsAsUnread, type ThreadOf } from '../model/mark.js';
import type { Appended, Draft, LoggedMessage, OwnChange, OwnDraft, Place } from '../model/message.js';
import type { EngineOptions } from '../model/options.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';
import { channelTopic, growthTopic, type Relay, usersTopic } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { MessageStore } from '../ports/stores.js';
import { type RuleMatch, usersOf } from '../rules/channelRule.js';
import { replyingTo } from './replying.js';
import type { Traces } from './traces.js';

export interface PublisherHost {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly relay: Relay;
  readonly store: MessageStore;
  readonly report: Report;
  readonly counters: Counters;
  readonly traces: Traces;
  /** How long it took until a message had its place, in milliseconds. */
  readonly took: ((what: 'relay' | 'commit', ms: number) => void) | undefined;
  readonly hooks: MessageHooks;
  readonly contracts: Contracts;
  /** A direct channel has a new message. */
  readonly direct: (match: RuleMatch, by: Draft['by']) => void;
  /** A message that mentions users has its place. */
  readonly mentioned: (match: RuleMatch, logged: LoggedMessage, draft: Draft) => void;
  /** A channel whose messages are searched has grown. */
  readonly grown: (channel: ChannelName) => void;
  /** Called when a reply was committed or withdrawn, or may have been. */
  readonly answered: (of: ThreadOf) => void;
  /** A message was withdrawn; as it stood before. */
  readonly takenBack: (found: LoggedMessage) => void;
  /** The store may have withdrawn a message: it failed, and the outcome is unknown. */
  readonly mayBeTakenBack: (match: RuleMatch, found: LoggedMessage) => void;
}

/** Hooks that hear of messages. */
export interface MessageHooks {
  /** The hooks that hear of a message; `undefined`: none. `data` is what they look at. */
  wantingMessage(channel: ChannelName, type: string, data: () => Json): readonly string[] | undefined;
  queue(events: readonly QueuedEvent[]): Promise<void>;
  /** The same of a change of one. */
  wantingChange(channel: ChannelName, type: string, data: () => Json): readonly string[] | undefined;
  /** Events for these hooks were committed. */
  queued(hooks: readonly string[]): void;
}

/** Takes messages in: bounded, numbered by the keeper of the channel (database or relay), and announced. */
export class Publisher {
  readonly #host: PublisherHost;
  readonly #dataBytes: number;
  readonly #backlog: Backlog;
  #stopping = false;

  constructor(host: PublisherHost, { dataBytes, backlog }: Pick<EngineOptions, 'dataBytes' | 'backlog'>) {
    this.#host = host;
    this.#dataBytes = dataBytes;
    this.#backlog = new Backlog(backlog);
  }

  /** Messages that wait for the store or the relay. */
  get waiting(): number {
    return this.#backlog.messages;
  }

  /** Takes nothing more in, and resolves when all that was taken in has been decided. */
  stop(): Promise<void> {
    this.#stopping = true;
    return this.#backlog.whenEmpty();
  }

  /**
   * Gives a draft its place in the channel's order. Hot: once per publish.
   *
   * @throws {ProblemError} `bad-value` for a type that is the service's own; `no-such-type`, `not-allowed`, `bad-data` by the
   *   rule's contracts; `too-large`, `draining`, `busy` in this turn; as a
   *   rejection, what the store or the relay refuses
   */
  append(match: RuleMatch, own: OwnDraft): Promise<Appended> {
    if (own.type !== undefined && !countsAsUnread(own.type))
      throw refusal('bad-value', `messages of the type ${own.type} are the service's own notes`, { where: '/type' });
    const dataText = JSON.stringify(own.data);
    const bytes = this.#checkSize(match, dataText);
    if (match.hasContracts) this.#checkContract(match, own, bytes);
    return this.#append(match, own, dataText, bytes);
  }

  #append(match: RuleMatch, own: OwnDraft, dataText: string, bytes: number): Promise<Appended> {
    this.#checkTaking();
    const { clock, ids, hooks } = this.#host;
    const { channel, type = 'message' } = own;
    const isKept = match.rule.logbook.type === 'kept';
    const atMs = clock.now();
    const users = isKept ? usersOf(match) : undefined;
    const draft: Draft = {
      id: ids.message(atMs),
      type,
      key: own.key,
      owner: own.owner,
      by: own.by,
      issuedAtMs: own.issuedAtMs,
      atMs,
      dataText,
      except: own.except,
      begins: users,
      hooks: hooks.wantingMessage(channel, type, () => hookData(own, type)),
      hops: own.hops,
      ...own.replying,
      ...own.mentioning,
      releases: own.releases,
    };
    return this.#give(match, draft, bytes, users);
  }

  /** What a message to be published answers. @throws {ProblemError} as `replyingTo` */
  replyingTo(match: RuleMatch, place: Place): Promise<NonNullable<OwnDraft['replying']>> {
    // Only kept channels have replies.
    return replyingTo(match, this.#host.store, place);
  }

  /** @throws {ProblemError} `draining`, `busy` */
  #checkTaking(): void {
    if (this.#stopping)
      throw refusal('draining', 'publish again on another instance, or later', { retryAfterMs: 1000 });
    this.#checkLinked();
  }

  /** Has a draft given its place. Hot: once per publish. */
  #give(match: RuleMatch, draft: Draft, bytes: number, users: readonly string[] | undefined): Promise<Appended> {
    const { clock, relay, store } = this.#host;
    const { channel } = match;
    const { logbook } = match.rule;
    const isKept = logbook.type === 'kept';
    const startMs = clock.monotonic();
    this.#backlog.take(channel, bytes);
    let appended: Promise<Appended>;
    try {
      appended = isKept ? store.append(channel, draft) : relay.append(channel, draft, logbook.bounds);
    } catch (error) {
      // What is counted must be given back, whichever way it failed: a stop waits for it.
      this.#backlog.giveBack(channel, bytes);
      throw error;
    }
    // What the client sent is not held on to meanwhile, only what was made of it: very many may be under way.
    return appended.then(
      (done) => {
        this.#backlog.giveBack(channel, bytes);
        if (isKept) this.#announce(match.rule.searched !== undefined, draft, done, users);
        else if (draft.hooks !== undefined)
          return this.#queued(draft, done).then(() => this.#accepted(match, draft, done, startMs));
        return this.#accepted(match, draft, done, startMs);
      },
      (error: unknown) => {
        this.#backlog.giveBack(channel, bytes);
        // Followers of the thread look again.
        if (isUnknown(error)) this.#answered(channel, draft);
        throw error;
      },
    );
  }

  /**
   * Changes a message: a place in the channel's order of its own. What is told is the message as it stands then.
   *
   * @param found - the message, as it was read
   * @throws {ProblemError} as `append`; `no-such-message`, `withdrawn`, `conflict` as a rejection
   */
  change(match: RuleMatch, own: OwnChange, found: LoggedMessage): Promise<Changed> {
    const { data, reason, ifRevision, by, issuedAtMs, key, owner, releases } = own;
    const { id: messageId, type, key: messageKey, by: author } = found.message;
    const dataText = JSON.stringify(data ?? null);
    const bytes = this.#checkSize(match, dataText);
    if (data !== undefined && match.hasContracts)
      this.#checkContract(match, { ...own, data, type, ...defined({ by: by ?? author }) }, bytes);
    if (ifRevision && ifRevision.volume !== found.place.volume) throw staleRevision();
    this.#checkTaking();
    const { clock, ids, hooks } = this.#host;
    const atMs = clock.now();
    const withdraws = data === undefined;
    const { channel } = match;
    const shown = { channel, type, ...(author === undefined ? {} : { by: { ...author } }), data: data ?? null };
    const draft: Draft = {
      id: ids.message(atMs),
      type,
      key,
      // The keys of changes are apart from those of messages.
      owner: `~${owner ?? ''}`,
      by,
      issuedAtMs,
      atMs,
      dataText,
      // Who was not to get it has nothing to be taken back, and may be told.
      except: withdraws ? undefined : found.except,
      hooks: hooks.wantingChange(channel, type, () => shown as Json),
      releases,
      change: {
        of: {
          number: found.place.number,
          id: messageId,
          type,
          key: messageKey,
          by: author,
          atMs: found.atMs,
          reply: found.reply,
          mentions: found.message.mentions,
        },
        withdraws,
        reason,
        keeps: match.rule.keepsRevisions === true,
        ...(ifRevision === undefined ? {} : { ifRevision: ifRevision?.number ?? 0 }),
      },
    };
    return this.#give(match, draft, bytes, undefined).then(
      ({ logged, repeated }) => {
        if (withdraws) this.#host.takenBack(found);
        return { id: repeated ? logged.id : draft.id, cursor: logged.cursor, ...(repeated ? { repeated } : {}) };
      },
      (error: unknown) => {
        if (withdraws && isUnknown(error)) this.#host.mayBeTakenBack(match, found);
        throw error;
      },
    );
  }

  /**
   * Blanks the author of a message of a kept channel, or a note, and withdraws it if that is wished. As a change: all who have
   * it are told.
   *
   * @throws {ProblemError} `no-such-message`, `unavailable`
   */
  async blank(found: LoggedMessage, withdraws: boolean): Promise<void> {
    const { clock, ids, hooks, store } = this.#host;
    const { channel, message, atMs, except, place } = found;
    const { id, type, data, withdrawn, reason } = message;
    const isGone = withdraws || withdrawn === true;
    const nowMs = clock.now();
    const shown = { channel, type, by: { ...erasedAuthor }, data: isGone ? null : data };
    const draft: Draft = {
      id: ids.message(nowMs),
      type,
      owner: '~',
      atMs: nowMs,
      dataText: JSON.stringify(shown.data),
      except: isGone ? undefined : except,
      hooks: hooks.wantingChange(channel, type, () => shown as Json),
      change: {
        of: { number: place.number, id, type, by: erasedAuthor, atMs, reply: found.reply, mentions: message.mentions },
        withdraws: isGone,
        blanks: true,
        keeps: false,
        reason,
      },
    };
    const done = await store.append(channel, draft);
    this.#announce(true, draft, done, undefined);
    if (isGone) this.#host.takenBack(found);
    this.#answered(channel, draft);
    if (draft.hooks !== undefined) hooks.queued(draft.hooks);
  }

  /**
   * Queues a message of a recent channel for its hooks, before it is acknowledged. If that fails, the publisher tries again
   * with its key, and the message is queued then.
   */
  #queued({ id, change, hooks = [], hops }: Draft, { logged }: Appended): Promise<void> {
    const { channel, atMs, text } = logged;
    const event = { id, event: change ? 'changed' : 'message', atMs, channel, hops, dataText: text } as const;
    return this.#host.hooks.queue(hooks.map((hook) => ({ hook, ...event })));
  }

  #accepted(match: RuleMatch, draft: Draft, done: Appended, startMs: number): Appended {
    const { clock, took, traces, counters, direct, mentioned, hooks } = this.#host;
    const isKept = match.rule.logbook.type === 'kept';
    took?.(isKept ? 'commit' : 'relay', clock.monotonic() - startMs);
    if (draft.change === undefined) traces.accepted(done.logged, draft, done.repeated);
    this.#answered(match.channel, draft);
    if (done.repeated) return done;
    if (isKept && draft.hooks !== undefined) hooks.queued(draft.hooks);
    if (draft.change !== undefined) {
      counters.changes[draft.change.withdraws ? 'withdrawn' : 'revised'] += 1;
      return done;
    }
    counters.messagesIn += 1;
    if (match.rule.direct) direct(match, draft.by);
    if (draft.mentioned !== undefined) mentioned(match, done.logged, draft);
    return done;
  }

  /** Reports a reply, or the withdrawal of one, to the followers of its thread. */
  #answered(channel: ChannelName, { change, reply }: Draft): void {
    const thread = (change?.withdraws ? change.of.reply : reply)?.thread ?? 0;
    if (thread > 0) this.#host.answered({ channel, thread });
  }

  /** Notes in the logbook that a member has joined or left, where the rule wants it. */
  note(match: RuleMatch, type: 'joined' | 'left', by: Author): void {
    if (!match.rule.presence?.noted || this.#stopping) return;
    const { channel } = match;
    const noted = async (): Promise<Appended> => this.#append(match, { channel, type, by, data: null }, 'null', 4);
    noted().catch((error: unknown) => this.#host.report(error, { event: 'presence-note-failed', channel }));
  }

  /**
   * Carries a hail to the clients in its channel.
   *
   * @param session - that says it; absent: an application
   * @throws {ProblemError} `too-large`, `busy`; `no-such-type`, `bad-data`, `not-allowed` by the rule's contracts
   */
  hail(match: RuleMatch, hail: Hail, session?: string): void {
    const { type, by, data = null } = hail;
    const chars = this.#checkSize(match, JSON.stringify(data));
    if (match.hasContracts)
      this.#host.contracts.checkHail(match, type, { data, chars, where: '/data' }, senderOf({ by, session }));
    this.#checkLinked();
    this.#host.relay.publish(channelTopic(match.channel), hail);
  }

  /**
   * Checks what a message holds, without publishing it. Nothing is counted or reported.
   *
   * @throws {ProblemError} `too-large`; `no-such-type`, `bad-data`, `not-allowed` by the rule's contracts
   */
  check(match: RuleMatch, own: OwnDraft): void {
    const bytes = this.#checkSize(match, JSON.stringify(own.data));
    if (match.hasContracts && !match.rule.reportOnly) this.#checkContract(match, own, bytes);
  }

  /** As `check`, of a message that becomes an entry of the board. */
  checkEntryMessage(match: RuleMatch, own: OwnDraft): void {
    const bytes = this.#checkSize(match, JSON.stringify(own.data));
    if (match.hasContracts) this.#checkContract(match, own, bytes);
  }

  #checkContract(match: RuleMatch, own: OwnDraft, chars: number): void {
    const { type = 'message', data } = own;
    this.#host.contracts.checkMessage(match, type, { data, chars, where: '/data' }, senderOf(own));
  }

  /**
   * Cut off from the other instances there is no order to agree on.
   *
   * @throws {ProblemError} `busy`
   */
  #checkLinked(): void {
    if (this.#host.relay.isCut)
      throw refusal('busy', 'this instance is cut off from the others', { retryAfterMs: 1000 });
  }

  /** Announces a message that the database has numbered, to the clients in its channel and to unread counts. */
  #announce(
    maySearch: boolean,
    draft: Draft,
    { logged, repeated, counted }: Appended,
    users: readonly string[] | undefined,
  ): void {
    if (repeated) return;
    const { relay, grown } = this.#host;
    const { channel } = logged;
    if (maySearch) grown(channel);
    relay.announce(channel, [logged]);
    if (counted === undefined) return;
    if (draft.change !== undefined) {
      // What was withdrawn is unread no more.
      if (draft.change.withdraws) relay.publish(growthTopic(channel), { channel, counted, recount: true });
      return;
    }
    const by = draft.by === undefined || draft.by.guest ? {} : { by: draft.by.user };
    relay.publish(growthTopic(channel), { channel, counted, ...by });
    if (users !== undefined && logged.place.number === 1) relay.publish(usersTopic, { type: 'begun', users, channel });
  }

  /** The size of data, in bytes of JSON text. */
  #checkSize(match: RuleMatch, dataText: string): number {
    const limit = match.rule.dataBytes ?? this.#dataBytes;
    // A character has at most three bytes: most data is so far from the limit that counting is not needed.
    const bytes = dataText.length * 3 <= limit ? dataText.length : utf8Bytes(dataText);
    if (bytes > limit)
      throw refusal('too-large', `data has ${bytes} bytes, at most ${limit} are allowed here`, { where: '/data' });
    return bytes;
  }
}

function staleRevision(): Error {
  return refusal('conflict', 'the record of the channel has begun anew since', { where: '/ifRevision' });
}

function senderOf({ by, session }: Pick<OwnDraft, 'by' | 'session'>): Sender {
  return { from: session === undefined ? 'applications' : 'clients', user: by?.user, session };
}

/** What a hook's condition looks at: the message without its place, which it does not have yet. */
function hookData({ channel, by, data }: OwnDraft, type: string): Json {
  return { channel, type, ...(by === undefined ? {} : { by: { ...by } }), data } as Json;
}

const utf8 = new TextEncoder();

function utf8Bytes(text: string): number {
  return utf8.encode(text).length;
}

/** Tells whether a commit that failed may have been made. */
function isUnknown(error: unknown): boolean {
  return error instanceof ProblemError && error.code === 'unavailable';
}
