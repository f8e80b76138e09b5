import { type ChannelName, defined, formatCursor } from '@nine-bells/wire';
import type { Digest, DigestChannel, DigestLine } from '@nine-bells/wire/http';
import type { Blocks } from '../blocks/blocks.js';
import type { Levels } from '../levels/levels.js';
import type { Marks } from '../marks/marks.js';
import type { BlockList } from '../model/block.js';
import { countsAsUnread, type MarkState } from '../model/mark.js';
import type { LoggedMessage, Place } from '../model/message.js';
import type { Clock } from '../ports/clock.js';
import type { Store } from '../ports/stores.js';
import { firstWords } from '../record/replying.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';
import type { Entrants } from './mayEnter.js';

/** Where the user has no mark, mentions count that are no older than this, in milliseconds. */
const withoutMarkMs = 30 * 86_400_000;
/** Messages of a channel that are looked at for its first lines, and their bound in characters. */
const lookedAt = 50;
const lookedAtChars = 65_536;

export interface DigestsHost {
  readonly clock: Clock;
  readonly rules: ChannelRules;
  readonly marks: Pick<Marks, 'unread'>;
  readonly levels: Pick<Levels, 'of'>;
  readonly blocks: Pick<Blocks, 'of'>;
  readonly entrants: Pick<Entrants, 'of'>;
  readonly store: Pick<Store, 'messages' | 'mentions'>;
}

export interface DigestWish {
  /** Only channels that have had a message since, in milliseconds since the epoch. */
  readonly sinceMs?: number;
  /** Most channels. */
  readonly limit: number;
  /** Most first lines, and most lines of mentions, of one channel. */
  readonly lines: number;
}

/** What is known of a channel that may be in the digest. */
interface Candidate {
  readonly channel: ChannelName;
  readonly state: MarkState | undefined;
  readonly mentions: readonly Mention[];
  /** The user wants to hear of all messages, and not of mentions alone. */
  readonly hearsAll: boolean;
}

interface Mention {
  readonly place: Place;
  readonly by?: string;
}

/** What users have missed, for mails that the application sends. */
export class Digests {
  readonly #host: DigestsHost;

  constructor(host: DigestsHost) {
    this.#host = host;
  }

  /**
   * What a user has missed, of the channels that it may enter: as the rules say for a user who is not connected.
   *
   * @throws {ProblemError} `unavailable`
   */
  async of(user: string, { sinceMs = 0, limit, lines }: DigestWish): Promise<Digest> {
    const { clock, store, rules, entrants, blocks } = this.#host;
    const nowMs = clock.now();
    const candidates = await this.#candidates(user, nowMs);
    const times = await store.mentions.lastAt(candidates.map(({ channel }) => channel));
    const fresh = candidates
      .map((candidate, index) => ({ candidate, atMs: times[index] ?? 0 }))
      .filter(({ atMs }) => atMs >= sinceMs)
      .sort((a, b) => b.atMs - a.atMs);
    const kept = await blocks.of(user);
    const channels: DigestChannel[] = [];
    let more = false;
    for (const { candidate, atMs } of fresh) {
      const match = rules.match(candidate.channel);
      if (match === undefined || (await entrants.of(match, [user], true)).length === 0) continue;
      more = channels.length >= limit;
      if (more) break;
      const found = await this.#channel(match, candidate, { user, kept, lines });
      if (found !== undefined) channels.push({ ...found, at: new Date(atMs).toISOString() });
    }
    const sum = (of: (each: DigestChannel) => number): number => channels.reduce((all, each) => all + of(each), 0);
    return {
      user,
      at: new Date(nowMs).toISOString(),
      unread: sum(({ unread = 0 }) => unread),
      mentions: sum(({ mentions }) => mentions),
      channels,
      more,
    };
  }

  /** The channels where something is unread that the user wants to hear of. */
  async #candidates(user: string, nowMs: number): Promise<readonly Candidate[]> {
    const { marks, levels, store } = this.#host;
    const set = new Map((await levels.of(user)).map(({ channel, level }) => [channel, level]));
    const states = new Map((await marks.unread(user)).map((each) => [each.channel, each]));
    const mentions = new Map<ChannelName, Mention[]>();
    for (const { channel, ...mention } of await store.mentions.mentions(user, nowMs - withoutMarkMs)) {
      const those = mentions.get(channel);
      if (those === undefined) mentions.set(channel, [mention]);
      else those.push(mention);
    }
    const candidates: Candidate[] = [];
    for (const channel of new Set([...states.keys(), ...mentions.keys()])) {
      const level = set.get(channel) ?? 'everything';
      const hearsAll = level === 'everything';
      const state = states.get(channel);
      const own = mentions.get(channel) ?? [];
      if (level !== 'nothing' && (own.length > 0 || (hearsAll && (state?.unread ?? 0) > 0)))
        candidates.push({ channel, state, mentions: own, hearsAll });
    }
    return candidates;
  }

  async #channel(
    { channel, rule }: RuleMatch,
    { state, mentions, hearsAll }: Candidate,
    { user, kept, lines }: { readonly user: string; readonly kept: BlockList; readonly lines: number },
  ): Promise<Omit<DigestChannel, 'at'> | undefined> {
    const isHidden = (by: string | undefined): boolean =>
      by !== undefined && !rule.marksBlocked && kept.hides(by, rule);
    const mentioning = mentions.filter(({ by }) => !isHidden(by));
    const unread = hearsAll ? state?.unread : undefined;
    if ((unread ?? 0) + mentioning.length === 0) return undefined;
    const found = new Map<number, DigestLine>();
    if (unread !== undefined && unread > 0 && state?.place !== undefined && lines > 0)
      for (const each of await this.#read(channel, state.place, lookedAt)) {
        const by = each.message.by?.user;
        if (found.size < lines && by !== user && !isHidden(by)) found.set(each.place.number, lineOf(each));
      }
    for (const { place } of mentioning.slice(0, lines)) {
      const [message] = await this.#read(channel, { ...place, number: place.number - 1 }, 1);
      if (message?.place.number === place.number) found.set(place.number, { ...lineOf(message), mention: true });
    }
    return {
      channel,
      ...defined({ unread, cursor: state?.place && formatCursor(state.place) }),
      mentions: mentioning.length,
      lines: [...found].sort(([a], [b]) => a - b).map(([, line]) => line),
    };
  }

  /** Messages behind a place that count, as they stand. */
  async #read(channel: ChannelName, place: Place, messages: number): Promise<readonly LoggedMessage[]> {
    const found = await this.#host.store.messages.since(channel, place, { messages, bytes: lookedAtChars });
    return found.messages.filter(
      (each) => each.isMessage && countsAsUnread(each.message.type) && !each.message.withdrawn,
    );
  }
}

function lineOf({ cursor, message: { at, by, data } }: LoggedMessage): DigestLine {
  return { cursor, at, ...defined({ by }), ...firstWords(data) };
}
