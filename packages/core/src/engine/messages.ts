import {
  type Author,
  type Changed,
  type ChannelName,
  defined,
  type Json,
  type Published,
  type ReactionCounts,
  type ReactionsOf,
  type ReactorsReply,
  type RevisionsReply,
  type Mentions as Wish,
} from '@nine-bells/wire';
import { type Boards, messagePlaces } from '../boards/boards.js';
import type { Channels } from '../channel/channels.js';
import type { Mentioning, Mentions } from '../mentions/mentions.js';
import type { LoggedMessage, LogSlice, OwnChange, OwnDraft, Place, ReadLimit } from '../model/message.js';
import type { MessageStore } from '../ports/stores.js';
import type { Reactions } from '../reactions/reactions.js';
import { findMessage, revisionsOf } from '../record/changes.js';
import type { Publisher } from '../record/publisher.js';
import type { ChannelRules } from '../rules/channelRule.js';

/** What an application publishes. */
export interface ApplicationDraft {
  readonly channel: ChannelName;
  readonly data: Json;
  /** Default `message`. */
  readonly type?: string;
  /** Idempotency key. */
  readonly key?: string;
  /** The application that publishes: each has idempotency keys of its own. */
  readonly owner?: string;
  /** The user to name as author; the message has none if absent. */
  readonly by?: Author;
  /** Sessions that do not get it. */
  readonly except?: readonly string[];
  /** Through how many intakes it has come. */
  readonly hops?: number;
  /** The message that it answers. */
  readonly replyTo?: Place;
  readonly mentions?: Wish;
}

/** What a draft answers and mentions. */
type About = Pick<OwnDraft, 'replying'> & Mentioning;

/** Messages, for applications. */
export class Messages {
  readonly #rules: ChannelRules;
  readonly #publisher: Publisher;
  readonly #channels: Channels;
  readonly #boards: Boards;
  readonly #store: Pick<MessageStore, 'revisions'>;
  readonly #reactions: Reactions;
  readonly #mentions: Mentions;

  constructor(
    rules: ChannelRules,
    publisher: Publisher,
    channels: Channels,
    boards: Boards,
    store: Pick<MessageStore, 'revisions'>,
    reactions: Reactions,
    mentions: Mentions,
  ) {
    this.#mentions = mentions;
    this.#reactions = reactions;
    this.#store = store;
    this.#boards = boards;
    this.#rules = rules;
    this.#publisher = publisher;
    this.#channels = channels;
  }

  /**
   * Publishes a message, or sets the entry of the board that it is by its type. Resolves when the channel's promise holds: with a kept logbook after the commit.
   *
   * @throws {ProblemError} `no-such-channel`, `no-such-type`, `not-allowed`, `bad-data`, `too-large`, `draining`, `busy`,
   *   `unavailable`
   */
  async publish(draft: ApplicationDraft): Promise<Published> {
    // In this turn, where nothing has to be read: what is under way when the service stops is decided.
    const isPlain = draft.replyTo === undefined && draft.mentions === undefined;
    return this.#publish(draft, isPlain ? {} : await this.#aboutOf(draft));
  }

  /** As `publish`, of several, in their order. */
  async publishAll(drafts: readonly ApplicationDraft[]): Promise<readonly PromiseSettledResult<Published>[]> {
    // What they answer and mention is found out first: so none is overtaken by another that has to wait for less.
    const arePlain = drafts.every(({ replyTo, mentions }) => replyTo === undefined && mentions === undefined);
    const about = arePlain ? [] : await Promise.allSettled(drafts.map((draft) => this.#aboutOf(draft)));
    return Promise.allSettled(
      drafts.map((draft, index) => {
        const found = about[index];
        return found?.status === 'rejected' ? Promise.reject(found.reason) : this.#publish(draft, found?.value ?? {});
      }),
    );
  }

  async #aboutOf({ channel, replyTo, mentions }: ApplicationDraft): Promise<About> {
    const match = this.#rules.require(channel);
    const replying = replyTo && (await this.#publisher.replyingTo(match, replyTo));
    return { ...(mentions && (await this.#mentions.check(match, mentions, true))), ...defined({ replying }) };
  }

  async #publish(draft: ApplicationDraft, { notMentioned, ...about }: About): Promise<Published> {
    const match = this.#rules.require(draft.channel);
    const { type, data, by } = draft;
    if (type !== undefined && this.#boards.isEntryType(match, type)) {
      this.#publisher.checkEntryMessage(match, draft);
      const entry = this.#boards.entryOf(match, type, data);
      return this.#boards.asPublished(
        await this.#boards.set(match, { entry, value: data }, defined({ user: by?.user }), messagePlaces),
      );
    }
    const { replyTo: _, mentions: __, ...own } = draft;
    const { logged, repeated } = await this.#publisher.append(match, { ...own, ...about });
    const { id, cursor } = logged;
    return { id, cursor, ...(repeated ? { repeated } : {}), ...defined({ notMentioned }) };
  }

  /**
   * Checks whether a draft could be published, without publishing it.
   *
   * @throws {ProblemError} `no-such-channel`, `too-large`, `no-such-type`, `not-allowed`, `bad-data`
   */
  check(draft: ApplicationDraft): void {
    this.#publisher.check(this.#rules.require(draft.channel), draft);
  }

  /**
   * Revises or withdraws a message, for an application: no access rule is asked.
   *
   * @throws {ProblemError} as `publish`; `no-such-message`, `withdrawn`, `conflict`
   */
  async change(own: OwnChange): Promise<Changed> {
    const match = this.#rules.require(own.channel);
    const found = await this.find(own.channel, own.place, own.message);
    return this.#publisher.change(match, own, found);
  }

  /**
   * What a message held before it was changed, where its rule keeps that.
   *
   * @param after - as in `MessageStore.revisions`
   * @throws {ProblemError} `no-such-channel`; `no-such-message`; `unavailable`
   */
  async revisions(channel: ChannelName, place: Place, after: number, limit: ReadLimit): Promise<RevisionsReply> {
    await this.find(channel, place);
    return revisionsOf(this.#store, channel, place, after, limit);
  }

  /**
   * Reacts to a message in a user's name, or takes that back. Gives how many have reacted then.
   *
   * @throws {ProblemError} `no-such-channel`; as `Reactions.react`
   */
  async react(channel: ChannelName, place: Place, by: Author, word: string, on: boolean): Promise<ReactionCounts> {
    return this.#reactions.react(this.#rules.require(channel), place, by, word, on);
  }

  /** Who has reacted to a message, in parts. */
  reactors(channel: ChannelName, place: Place, wish: Parameters<Reactions['reactors']>[2]): Promise<ReactorsReply> {
    return this.#reactions.reactors(this.#rules.require(channel), place, wish);
  }

  /** Reactions to messages that were read; `undefined` where the rule has none. */
  reactionsTo(channel: ChannelName, messages: readonly LoggedMessage[]): Promise<ReactionsOf | undefined> {
    return this.#reactions.to(this.#rules.require(channel), messages, undefined);
  }

  /**
   * A message of a channel, as it stands.
   *
   * @param id - which it must have
   * @throws {ProblemError} `no-such-channel`; `no-such-message`; `unavailable`
   */
  find(channel: ChannelName, place: Place, id?: string): Promise<LoggedMessage> {
    return findMessage(this.#channels.logOf(this.#rules.require(channel)), channel, place, id);
  }

  /**
   * Reads a channel's record: all messages, also those that some sessions do not get.
   *
   * @throws {ProblemError} `no-such-channel`
   */
  async read(channel: ChannelName, from: { after?: Place; before?: Place }, limit: ReadLimit): Promise<LogSlice> {
    const log = this.#channels.logOf(this.#rules.require(channel));
    return from.after === undefined ? log.before(channel, from.before, limit) : log.since(channel, from.after, limit);
  }
}
