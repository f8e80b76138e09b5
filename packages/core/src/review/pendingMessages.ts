import {
  type ChannelName,
  type Cursor,
  defined,
  formatCursor,
  type Json,
  type Place,
  type ProblemCode,
  ProblemError,
  parseCursor,
  refusal,
  type PendingMessage as Shown,
} from '@nine-bells/wire';
import type { ActiveBans } from '../access/activeBans.js';
import type { Hooks } from '../hooks/hooks.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Mentions } from '../mentions/mentions.js';
import { erasedAuthor } from '../model/erasure.js';
import { Frame } from '../model/frame.js';
import { copyOfPending } from '../model/hook.js';
import type { Actor } from '../model/moderation.js';
import {
  type PendingDraft,
  type PendingList,
  type PendingMessage,
  type PendingWish,
  pendingShown,
} from '../model/pending.js';
import type { ReviewAnswer } from '../model/review.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';
import { type Relay, userNewsTopic } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { LogReader, PendingStore } from '../ports/stores.js';
import { findMessage } from '../record/changes.js';
import type { Publisher } from '../record/publisher.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';

/** Most messages that may wait: of signed-in users, of guests, and of one user. */
export const maxPending = { users: 10_000, guests: 1_000, each: 100 } as const;
/** Most messages in a list for their author. */
const shownToAuthor = 100;
/** Interval of the search for approved messages that a stopped instance left behind, in milliseconds, and its batch size. */
const lookMs = 30_000;
const lookAt = 100;
const lookAtAny = 1_000;
/** Problems that pass: the message stays in the queue. */
const passing = ['unavailable', 'busy', 'draining', 'internal'] as const satisfies ProblemCode[];
const service: Actor = { kind: 'service', id: 'service' };

export interface PendingMessagesHost {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly wheel: TimerWheel;
  readonly store: PendingStore;
  readonly rules: ChannelRules;
  readonly logOf: (match: RuleMatch) => LogReader;
  readonly publisher: Pick<Publisher, 'append' | 'change' | 'replyingTo'>;
  readonly mentions: Pick<Mentions, 'check'>;
  readonly bans: Pick<ActiveBans, 'bans' | 'silenceOf'>;
  readonly hooks: Pick<Hooks, 'happened'>;
  readonly relay: Relay;
  readonly report: Report;
  /** Most characters of the messages that an author is given at once. */
  readonly listChars: number;
  /** Pushes a frame to all sessions here of a user. */
  push(user: string, frame: Frame): number;
}

/**
 * The moderators' queue. Messages of one author in one channel are published in order: while one waits, later ones wait behind
 * it and are published when it is decided.
 */
export class PendingMessages {
  readonly #host: PendingMessagesHost;
  /** Publishing under way, by channel and author. */
  readonly #goingOn = new Map<string, Promise<void>>();

  constructor(host: PendingMessagesHost) {
    this.#host = host;
  }

  /** Begins to search periodically for approved messages that a stopped instance left behind. */
  start(): void {
    void this.#lookAround();
  }

  knownUnder(...which: Parameters<PendingStore['knownUnder']>): ReturnType<PendingStore['knownUnder']> {
    return this.#host.store.knownUnder(...which);
  }

  /** Reports whether a pending message blocks the author's next ones in a channel. */
  async isHeldUp(channel: ChannelName, user: string): Promise<boolean> {
    return this.isOrdered(channel) && (await this.#host.store.hasPending(channel, user));
  }

  /**
   * Adds a message to the queue. Idempotent by its key.
   *
   * @throws {ProblemError} `busy` if too many wait; `unavailable`
   */
  async keep(draft: Omit<PendingDraft, 'id' | 'atMs'>): Promise<PendingMessage> {
    const { clock, ids, store, hooks } = this.#host;
    const { channel, by } = draft;
    const { message, repeated } = await store.keepPending(
      { ...draft, id: ids.moderation(), atMs: clock.now() },
      { all: by.guest ? maxPending.guests : maxPending.users, each: maxPending.each },
    );
    if (repeated) return message;
    const shown = this.#tell(message);
    if (!message.isCleared) {
      const { by: _, key: __, mentions: ___, ...bare } = shown;
      const copy = { of: copyOfPending(message.id), bareText: JSON.stringify({ ...bare, data: null }) };
      hooks.happened('pending', { ...shown } as unknown as Json, channel, copy);
    }
    // The earlier messages may have been decided in the meantime.
    if (message.isCleared) this.#goOn(channel, by.user).catch(this.#later);
    return message;
  }

  list(wish: PendingWish): Promise<PendingList> {
    return this.#host.store.pending(wish);
  }

  byId(id: string): Promise<PendingMessage | undefined> {
    return this.#host.store.pendingById(id);
  }

  /** Lists an author's waiting and refused messages, oldest first. */
  async of(user: string, channel?: ChannelName): Promise<readonly Shown[]> {
    const wish = { user, limit: shownToAuthor, chars: this.#host.listChars / 2, ...defined({ channel }) };
    const [waiting, refused] = await Promise.all([
      this.list({ ...wish, isWaiting: true }),
      this.list({ ...wish, isWaiting: false }),
    ]);
    const all = [...waiting.messages, ...refused.messages].sort((a, b) => a.number - b.number);
    return all.slice(-shownToAuthor).map((each) => pendingShown(each));
  }

  /**
   * Approves a message. It is published at once, unless earlier messages of its author wait. Idempotent.
   *
   * @returns the message, now published, refused (it can no longer be published), or waiting behind others
   * @throws {ProblemError} `bad-value` if no such message waits or was approved; `unavailable`, `busy`, `draining`: it is published
   *   later
   */
  async approve(id: string, by: Actor): Promise<Shown> {
    const { store, clock } = this.#host;
    const message = await store.clearPending(id, by, clock.now());
    if (message === undefined) return this.#published(id);
    const published = new Map<string, Cursor>();
    await this.#goOn(message.channel, message.by.user, published);
    const now = await store.pendingById(id);
    if (now !== undefined) return pendingShown(now);
    return pendingShown(message, { state: 'published', ...defined({ cursor: published.get(id) }) });
  }

  /** A message that was approved before, as it stands now. @throws {ProblemError} `bad-value`, `unavailable` */
  async #published(id: string): Promise<Shown> {
    const { store, rules, logOf } = this.#host;
    const released = await store.released(id);
    if (released === undefined) throw noneWaits();
    const { channel, place, of } = released;
    const { message, atMs } = await findMessage(logOf(rules.require(channel)), channel, of);
    const cursor = formatCursor(place);
    const { type, by = erasedAuthor, data, key, replyTo, mentions } = message;
    const at = new Date(atMs).toISOString();
    return { id, channel, state: 'published', by, at, type, data, cursor, ...defined({ key, replyTo, mentions }) };
  }

  /**
   * Refuses a message, and publishes the approved ones behind it.
   *
   * @param reason - told to the author
   * @throws {ProblemError} `bad-value` if no such message waits; `unavailable`
   */
  async reject(id: string, by: Actor, reason?: string): Promise<Shown> {
    const message = await this.#host.store.refusePending(id, { by, atMs: this.#host.clock.now(), reason });
    if (message === undefined) throw noneWaits();
    return this.#left(message, this.#tell(message));
  }

  /** An author takes back a message that waits. @throws {ProblemError} as `reject` */
  async takeBack(id: string, user: string): Promise<Shown> {
    const message = await this.#host.store.takeBackPending(id, user);
    if (message === undefined) throw noneWaits();
    return this.#left(message, this.#tell(message, { state: 'taken-back' }));
  }

  /** Messages that wait because the application did not answer, oldest first. */
  unanswered(after: number, limit: number): Promise<readonly PendingMessage[]> {
    return this.#host.store.unansweredPending(after, limit);
  }

  /**
   * Applies the application's late answer to a message that waits for it, and publishes what may be published now.
   *
   * @throws {ProblemError} `unavailable`
   */
  async answered({ id }: PendingMessage, { allow, hold = false, reason, data }: ReviewAnswer): Promise<void> {
    const { store, clock } = this.#host;
    const message =
      allow || hold
        ? await store.answerPending(id, { isCleared: !hold, reason: hold ? reason : undefined, data })
        : await store.refusePending(id, { by: service, atMs: clock.now(), reason });
    // `undefined`: a moderator, the author or another instance was first.
    if (message !== undefined) this.#left(message, this.#tell(message));
  }

  /** Called when any instance reports a change of a user's message. */
  hear(user: string, message: Shown): void {
    this.#host.push(user, new Frame(JSON.stringify({ on: 'pending', ...message }), true));
  }

  /** A message has left the queue: publishes the approved ones behind it. */
  #left({ channel, by }: PendingMessage, shown: Shown): Shown {
    this.#goOn(channel, by.user).catch(this.#later);
    return shown;
  }

  #tell(message: PendingMessage, now?: Parameters<typeof pendingShown>[1]): Shown {
    const shown = pendingShown(message, now);
    this.#host.relay.publish(userNewsTopic, { type: 'pending', user: message.by.user, message: shown });
    return shown;
  }

  /** Reports whether the channel's review keeps the order of each author's messages. */
  isOrdered(channel: ChannelName): boolean {
    return this.#host.rules.match(channel)?.rule.review?.order !== 'none';
  }

  /** Publishes an author's approved messages in a channel in order, up to the first undecided one where the rule keeps order. */
  #goOn(channel: ChannelName, user: string, published?: Map<string, Cursor>): Promise<void> {
    const key = JSON.stringify([channel, user]);
    const going = (this.#goingOn.get(key) ?? Promise.resolve())
      .catch(() => {})
      .then(() => this.#publishAll(channel, user, published));
    this.#goingOn.set(key, going);
    const over = (): void => {
      if (this.#goingOn.get(key) === going) this.#goingOn.delete(key);
    };
    going.then(over, over);
    return going;
  }

  async #publishAll(channel: ChannelName, user: string, published?: Map<string, Cursor>): Promise<void> {
    const { store, clock } = this.#host;
    for (;;) {
      const next = await store.nextPending(channel, user, !this.isOrdered(channel));
      if (next === undefined || !next.isCleared) return;
      try {
        const cursor = await this.#publish(next);
        published?.set(next.id, cursor);
        this.#tell(next, { state: 'published', cursor });
      } catch (error) {
        if (!(error instanceof ProblemError) || passing.some((code) => code === error.problem.code)) throw error;
        const { title, detail } = error.problem;
        const reason = detail === undefined ? title : `${title}: ${detail}`;
        const refused = await store.refusePending(next.id, { by: service, atMs: clock.now(), reason });
        // `undefined`: another instance has published it, or its author has taken it back.
        if (refused !== undefined) this.#tell(refused);
      }
    }
  }

  /** @throws {ProblemError} why it cannot be published any more; or `unavailable`, `busy`, `draining` */
  async #publish(message: PendingMessage): Promise<Cursor> {
    const { rules, logOf, publisher, mentions, bans } = this.#host;
    const { id, channel, by, type, data, key, clearedBy } = message;
    const match = rules.require(channel);
    if (match.rule.logbook.type !== 'kept') throw refusal('bad-value', 'the messages of this channel are not kept');
    // A moderator who lets it pass knows who it is.
    if (clearedBy === undefined && bans.bans(by.user, channel) !== undefined) throw refusal('banned');
    if (clearedBy === undefined && bans.silenceOf(by.user, channel) !== undefined) throw refusal('silenced');
    // With a session, contracts treat it as published by a client.
    const own = { channel, data, key, by, session: id, releases: id };
    if (message.revises !== undefined) {
      const place = placeOf(message.revises);
      const found = await findMessage(logOf(match), channel, place);
      const ifRevision = message.ifRevision && placeOf(message.ifRevision);
      return (await publisher.change(match, { ...own, place, ifRevision }, found)).cursor;
    }
    const replying = message.replyTo && (await publisher.replyingTo(match, placeOf(message.replyTo)));
    const { mentioning } = message.mentions === undefined ? {} : await mentions.check(match, message.mentions);
    const { logged } = await publisher.append(match, { ...own, type, ...defined({ replying, mentioning }) });
    return logged.cursor;
  }

  async #lookAround(): Promise<void> {
    try {
      const { store, rules } = this.#host;
      for (const { channel, user } of await store.clearedPending(lookAt)) await this.#goOn(channel, user);
      if (rules.all.some(({ review }) => review?.order === 'none'))
        for (const { channel, user } of await store.clearedPending(lookAtAny, true))
          if (!this.isOrdered(channel)) await this.#goOn(channel, user);
    } catch (error) {
      this.#later(error);
    }
    this.#host.wheel.after(lookMs, () => void this.#lookAround());
  }

  /** The periodic search tries again. */
  readonly #later = (error: unknown): void => this.#host.report(error, { event: 'approved-unpublished' });
}

function placeOf(cursor: Cursor): Place {
  return parseCursor(cursor) as Place;
}

function noneWaits(): ProblemError {
  return refusal('no-such-id', 'no message of this id waits');
}
