import type { ChannelName } from '@nine-bells/wire';
import type { SearchProgress } from '@nine-bells/wire/http';
import type { TimerWheel } from '../lib/timerWheel.js';
import { countsAsUnread } from '../model/mark.js';
import type { LoggedMessage } from '../model/message.js';
import type { SearchEntry } from '../model/search.js';
import type { Clock } from '../ports/clock.js';
import type { Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { Store } from '../ports/stores.js';
import type { ChannelRules } from '../rules/channelRule.js';
import { searchedText, wordsIn } from './words.js';

/** What was published is found after so long, in milliseconds. */
const soonMs = 300;
/** How often it is looked for what is not searchable yet, in milliseconds. */
const roundMs = 60_000;
/** When to try again what has failed, in milliseconds. */
const againMs = 1_000;
/** Channels of one read; messages of one commit, at first and at most, and characters of these. */
const pageChannels = 200;
const firstPortion = 50;
const maxPortion = 500;
const portionChars = 4_194_304;
/** Target duration of a commit, in milliseconds: other commits wait for it. */
const commitMs = 4;
/** Where there is much to be done, it rests after each commit for so many times what that took: publishing goes before. */
const restTimes = 25;
const maxRestMs = 2_000;
/** Messages that are no longer searched, removed at once. */
const removedAtOnce = 500;

export interface IndexerHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly rules: ChannelRules;
  readonly store: Pick<Store, 'messages' | 'search'>;
  readonly report: Report;
}

/**
 * Makes messages searchable, a moment after they were published, and those that were there before: in small commits with rests
 * between, channel by channel, in the order of its numbers.
 */
export class Indexer {
  readonly #host: IndexerHost;
  readonly #isUsed: boolean;
  /** Channels that have messages which are not searchable yet. */
  readonly #behind = new Set<ChannelName>();
  /** Messages of the next commit. */
  #portionSize = firstPortion;
  #working: Promise<void> | undefined;
  #stopped = false;
  #wake: (() => void) | undefined;

  constructor(host: IndexerHost) {
    this.#host = host;
    this.#isUsed = host.rules.all.some(({ searched }) => searched !== undefined);
  }

  /** Begins to look after what was there before. */
  start(): void {
    this.#host.wheel.after(againMs, () => void this.#round());
  }

  /** Does nothing more. Resolves when the commit under way is done. */
  async stop(): Promise<void> {
    this.#stopped = true;
    this.#wake?.();
    await this.#working;
  }

  /** A channel whose rule has search has grown. Hot: once per message there. */
  grown(channel: ChannelName): void {
    if (this.#behind.has(channel) || this.#stopped) return;
    this.#behind.add(channel);
    if (this.#behind.size === 1) this.#host.wheel.after(soonMs, () => this.#work());
  }

  /** How much of what is searched can be found. Reads all channels. @throws {ProblemError} `unavailable` */
  async progress(): Promise<SearchProgress> {
    const sum = { channels: 0, messages: 0, ready: 0 };
    for await (const { head, ready } of this.#searched()) {
      sum.channels += 1;
      sum.messages += head;
      sum.ready += Math.min(ready, head);
    }
    return sum;
  }

  async #round(): Promise<void> {
    if (this.#stopped) return;
    const { relay, report, wheel } = this.#host;
    try {
      if (relay.others === undefined || (await relay.others.claim('search', roundMs * 0.9))) {
        if (this.#isUsed)
          for await (const { channel, head, ready } of this.#searched()) if (ready < head) this.grown(channel);
        await this.#removeOthers();
      }
    } catch (error) {
      report(error, { event: 'index-unread' });
    }
    if (!this.#stopped) wheel.after(roundMs, () => void this.#round());
  }

  /** The channels that are searched, with how far. */
  async *#searched(): AsyncGenerator<{ channel: ChannelName; head: number; ready: number }> {
    const { rules, store } = this.#host;
    for (let after = ''; ; ) {
      const page = await store.messages.channels(after, pageChannels);
      const some = page.filter(({ channel }) => rules.match(channel)?.rule.searched !== undefined);
      const ready = some.length === 0 ? [] : await store.search.searchable(some.map(({ channel }) => channel));
      for (const [index, { channel, head }] of some.entries())
        yield { channel, head: head.number, ready: ready[index] ?? 0 };
      if (page.length < pageChannels) return;
      after = page.at(-1)?.channel ?? '';
    }
  }

  /** What is searchable of channels that no longer are. */
  async #removeOthers(): Promise<void> {
    const { rules, store } = this.#host;
    for (let after = ''; ; ) {
      const page = await store.search.searchedChannels(after, pageChannels);
      for (const channel of page) {
        if (rules.match(channel)?.rule.searched !== undefined) continue;
        while (!this.#stopped && (await store.search.unindex(channel, removedAtOnce)) > 0)
          await this.#rest(againMs / 10);
      }
      if (page.length < pageChannels || this.#stopped) return;
      after = page.at(-1) ?? '';
    }
  }

  #work(): void {
    this.#working ??= this.#indexAll().finally(() => {
      this.#working = undefined;
    });
  }

  async #indexAll(): Promise<void> {
    const { report, wheel } = this.#host;
    while (this.#behind.size > 0 && !this.#stopped) {
      // One portion of each, in turn: a long channel does not keep the others waiting.
      for (const channel of [...this.#behind]) {
        this.#behind.delete(channel);
        try {
          const more = await this.#portion(channel);
          if (more) this.#behind.add(channel);
        } catch (error) {
          report(error, { event: 'index-failed', channel });
          wheel.after(againMs, () => this.grown(channel));
        }
        if (this.#stopped) return;
      }
    }
  }

  /** Makes the next messages of a channel searchable. Gives whether there are more. */
  async #portion(channel: ChannelName): Promise<boolean> {
    const { store, rules, clock } = this.#host;
    const places = rules.match(channel)?.rule.searched;
    if (places === undefined) return false;
    const [ready = 0] = await store.search.searchable([channel]);
    const { messages, more, head } = await store.messages.since(
      channel,
      { volume: (await store.messages.head(channel)).volume, number: ready },
      { messages: this.#portionSize, bytes: portionChars },
    );
    const last = messages.at(-1)?.place.number ?? head.number;
    if (last <= ready) return false;
    const entries = new Map<number, SearchEntry>();
    for (const each of messages) {
      const entry = entryOf(each, places);
      if (entry !== undefined) entries.set(entry.number, entry);
    }
    const fromMs = clock.monotonic();
    await store.search.index(channel, { from: ready, upTo: last }, [...entries.values()]);
    const tookMs = clock.monotonic() - fromMs;
    if (tookMs > commitMs) this.#portionSize = Math.max(firstPortion, this.#portionSize >> 1);
    else if (tookMs < commitMs / 2) this.#portionSize = Math.min(maxPortion, this.#portionSize * 2);
    if (more) await this.#rest(Math.min(maxRestMs, tookMs * restTimes));
    return more;
  }

  #rest(ms: number): Promise<void> {
    if (this.#stopped) return Promise.resolve();
    return new Promise((resolve) => {
      this.#wake = resolve;
      void this.#host.clock.setTimer(ms, resolve);
    });
  }
}

/** What is found of a message, or of one that was changed; `undefined`: nothing was ever. */
function entryOf(each: LoggedMessage, places: readonly string[]): SearchEntry | undefined {
  if (each.isVoid) return undefined;
  const { type, by, at, data, withdrawn } = each.message;
  if (!countsAsUnread(type)) return undefined;
  const words = withdrawn ? [] : wordsIn(searchedText(data, places)).map(({ word }) => word);
  const number = each.of ?? each.place.number;
  return { number, words, type, atMs: Date.parse(at), ...(by && { by: by.user }) };
}
