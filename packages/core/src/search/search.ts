import {
  type ChannelName,
  channelNameFault,
  defined,
  formatCursor,
  type MessageFilter,
  refusal,
  type SearchHit,
  type SearchReply,
  type SearchWish,
} from '@nine-bells/wire';
import { filterOf } from '../channel/filters.js';
import type { LoggedMessage } from '../model/message.js';
import { matchPattern, type Pattern, parsePattern } from '../model/pattern.js';
import type { SearchLookup } from '../model/search.js';
import type { Clock } from '../ports/clock.js';
import type { SearchStore } from '../ports/stores.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';
import { fitOf } from './ranking.js';
import { queryOf, searchedText, wordsIn } from './words.js';

const defaultHits = 20;
/** Messages that are ranked, and those that are looked at for their time. */
const ranked = 300;
const lookedAt = 5_000;
/** Messages are ranked for this long in one turn, in milliseconds. Long ones take some milliseconds each. */
const turnMs = 4;
/** Searches at a time, of one instance, and those that wait. */
const atOnce = 2;
const maxWaiting = 100;
/** The longest rest after a search, in milliseconds. */
const maxRestMs = 1_000;
/** Channels of one search, and names that are read to find them. */
const maxChannels = 500;
const maxNames = 5_000;
const pageNames = 1_000;

export interface SearchHost {
  readonly clock: Clock;
  readonly rules: ChannelRules;
  readonly store: SearchStore;
}

/** Who searches. */
export interface Searcher {
  /** Its session: what that is not to get is not found. */
  readonly session?: string;
  /** Where it searches if it does not say; absent: everywhere. */
  readonly usual?: () => Promise<readonly ChannelName[]>;
  /**
   * Which messages of a channel it may read; `undefined`: all.
   *
   * @throws {ProblemError} if it may not read there
   */
  readonly mayRead: (match: RuleMatch) => Promise<readonly MessageFilter[] | undefined>;
}

/** Finds messages by their words, in channels whose rule has search and that the searcher may read. */
export class Search {
  readonly #host: SearchHost;
  #running = 0;
  readonly #waiting: (() => Promise<void>)[] = [];

  constructor(host: SearchHost) {
    this.#host = host;
  }

  /** @throws {ProblemError} `bad-value`, `bad-name`, `no-such-channel`, `not-allowed`, `too-large`, `busy`, `unavailable` */
  async find(wish: SearchWish, searcher: Searcher): Promise<SearchReply> {
    const query = queryOf(wish.words);
    const times = defined({ sinceMs: timeOf(wish.since, '/since'), untilMs: timeOf(wish.until, '/until') });
    const after = wish.after === undefined ? undefined : Number(wish.after);
    if (after !== undefined && !Number.isSafeInteger(after))
      throw refusal('bad-value', '`after` is the `next` of another search', { where: '/after' });
    // The application may be asked who may read where: others do not wait for that.
    const channels = await this.#channels(wish.in, searcher);
    if (channels?.size === 0) return { hits: [] };
    const { by, types, limit = defaultHits } = wish;
    const lookup: SearchLookup = {
      query,
      limit: ranked,
      lookedAt,
      ...times,
      ...defined({ by, types, after, channels: channels && [...channels.keys()] }),
    };
    return this.#inTurn(() => this.#look(lookup, { channels, limit, session: searcher.session }));
  }

  /**
   * A few at a time, each followed by a rest as long as it took: however many search, others are served in between.
   *
   * @throws {ProblemError} `busy`
   */
  #inTurn<T>(act: () => Promise<T>): Promise<T> {
    if (this.#waiting.length >= maxWaiting)
      throw refusal('busy', 'too many searches are under way', { retryAfterMs: 1_000 });
    return new Promise((resolve, reject) => {
      this.#waiting.push(() => act().then(resolve, reject));
      this.#next();
    });
  }

  #next(): void {
    if (this.#running >= atOnce) return;
    const next = this.#waiting.shift();
    if (next === undefined) return;
    const { clock } = this.#host;
    const fromMs = clock.monotonic();
    this.#running += 1;
    void next().then(() => {
      clock.setTimer(Math.min(maxRestMs, clock.monotonic() - fromMs), () => {
        this.#running -= 1;
        this.#next();
      });
    });
  }

  async #look(
    lookup: SearchLookup,
    {
      channels,
      limit,
      session,
    }: {
      readonly channels: ReadonlyMap<ChannelName, readonly MessageFilter[] | undefined> | undefined;
      readonly limit: number;
      readonly session: string | undefined;
    },
  ): Promise<SearchReply> {
    const { clock, store } = this.#host;
    const { query } = lookup;
    const { messages, next } = await store.search(lookup);
    const nowMs = clock.now();
    const found: { readonly hit: SearchHit; readonly score: number; readonly atMs: number }[] = [];
    let turnFromMs = clock.monotonic();
    for (const each of messages) {
      if (clock.monotonic() - turnFromMs >= turnMs) {
        await new Promise<void>((resolve) => clock.endOfTurn(resolve));
        turnFromMs = clock.monotonic();
      }
      const places = this.#host.rules.match(each.channel)?.rule.searched;
      const filters = channels?.get(each.channel);
      const isHidden = filters !== undefined && filterOf(undefined, filters)?.fits(each) === false;
      if (places === undefined || isHidden || (session !== undefined && !each.isFor(session))) continue;
      const text = searchedText(each.message.data, places);
      // As it stands: a revision may be newer than what was found.
      const fit = fitOf(text, wordsIn(text), query, nowMs - each.atMs);
      if (fit === undefined) continue;
      const { score, ...shown } = fit;
      found.push({ hit: hitOf(each, shown), score, atMs: each.atMs });
    }
    found.sort((a, b) => b.score - a.score || b.atMs - a.atMs);
    return {
      hits: found.slice(0, limit).map(({ hit }) => hit),
      ...(next === undefined ? {} : { next: String(next) }),
    };
  }

  /** Where it is searched, and what may be read there; `undefined`: everywhere. */
  async #channels(
    wished: readonly string[] | undefined,
    searcher: Searcher,
  ): Promise<ReadonlyMap<ChannelName, readonly MessageFilter[] | undefined> | undefined> {
    const { rules } = this.#host;
    if (wished === undefined && searcher.usual === undefined) return undefined;
    const allowed = new Map<ChannelName, readonly MessageFilter[] | undefined>();
    const add = async (match: RuleMatch, isNamed: boolean): Promise<void> => {
      if (allowed.has(match.channel) || match.rule.searched === undefined) return;
      if (allowed.size >= maxChannels)
        throw refusal('too-large', `at most ${maxChannels} channels are searched at once`, { where: '/in' });
      const answer = await searcher.mayRead(match).then(
        (filters) => ({ filters }),
        (error) => {
          if (isNamed) throw error;
        },
      );
      if (answer) allowed.set(match.channel, answer.filters);
    };
    /** Those that are not named one by one are left out where they may not be read. */
    const addQuietly = async (channel: ChannelName): Promise<void> => {
      const match = rules.match(channel);
      if (match) await add(match, false);
    };
    if (wished === undefined) for (const channel of (await searcher.usual?.()) ?? []) await addQuietly(channel);
    const looked = { names: 0 };
    for (const each of wished ?? []) {
      if (each.includes(':'))
        for (const channel of await this.#named(patternOf(each), looked)) await addQuietly(channel);
      else {
        const fault = channelNameFault(each);
        if (fault !== undefined) throw refusal('bad-name', fault, { where: '/in' });
        const match = rules.require(each as ChannelName);
        if (match.rule.searched === undefined)
          throw refusal('bad-value', `channels of the rule ${match.rule.pattern} are not searched`, { where: '/in' });
        await add(match, true);
      }
    }
    return allowed;
  }

  /**
   * The searched channels whose names a pattern matches.
   *
   * @param looked - how many names were looked at for all patterns of a search
   */
  async #named(pattern: Pattern, looked: { names: number }): Promise<readonly ChannelName[]> {
    const { store } = this.#host;
    const prefix = pattern.text.slice(0, pattern.text.indexOf(':'));
    const names: ChannelName[] = [];
    for (let after = ''; ; ) {
      const page = await store.searchedChannels(after, pageNames, prefix);
      for (const channel of page) if (matchPattern(pattern, channel) !== undefined) names.push(channel);
      if (page.length < pageNames) return names;
      looked.names += page.length;
      if (looked.names >= maxNames)
        throw refusal('too-large', `the patterns match among more than ${maxNames} channels`, { where: '/in' });
      after = page.at(-1) ?? '';
    }
  }
}

function patternOf(text: string): Pattern {
  try {
    return parsePattern(text);
  } catch (error) {
    throw refusal('bad-name', (error as Error).message, { where: '/in' });
  }
}

function timeOf(text: string | undefined, where: string): number | undefined {
  if (text === undefined) return undefined;
  const ms = Date.parse(text);
  if (Number.isNaN(ms)) throw refusal('bad-value', 'a time such as 2031-06-14T16:00:00Z is expected', { where });
  return ms;
}

function hitOf(
  { channel, cursor, place, message: { id, type, by, at } }: LoggedMessage,
  shown: Pick<SearchHit, 'text' | 'marks'>,
): SearchHit {
  const after = formatCursor({ ...place, number: place.number - 1 });
  return { channel, cursor, after, id, type, ...(by && { by }), at, ...shown };
}
