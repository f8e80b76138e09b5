import type { Author, ChannelName } from '@nine-bells/wire';
import type { TimerWheel } from '../lib/timerWheel.js';
import { TokenBucket } from '../lib/tokenBucket.js';
import type { Rate } from '../model/rate.js';
import type { Clock } from '../ports/clock.js';
import type { LogReader } from '../ports/stores.js';
import type { RuleMatch } from '../rules/channelRule.js';

type Note = 'joined' | 'left';

export interface NotingHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly logOf: (match: RuleMatch) => LogReader;
  /** Whether who comes and goes in a channel is noted. */
  readonly isNoted: (match: RuleMatch) => boolean;
  /** Appends a note to the channel's record, and tells hooks. */
  readonly note: (match: RuleMatch, type: Note, by: Author) => void;
}

/** How long a member must have been there before it is noted, in milliseconds. */
const stayMs = 2_000;
/** The shortest time between two notes that a user has joined, in milliseconds. */
const everyMs = 60_000;
/** How many members are noted to have joined a channel; beyond it, neither that nor that they left. */
const perChannel: Rate = { count: 60, perMs: 60_000 };
/** For how long after its start an instance may not know who was there before, in milliseconds. */
const youngMs = 60_000;
/** How far back a note is looked for. */
const lookBack = { messages: 200, bytes: 1_000_000 };

/** What is known of a user in a channel. */
interface NotedMember {
  /** Cancels the note that the user has joined. */
  cancel: (() => void) | undefined;
  isNoted: boolean;
  /** When it was noted last, by a clock that never jumps. */
  notedAtMs: number;
}

/**
 * Notes in the record of a channel who has come and gone.
 *
 * Every client that may enter causes writes here, so they are bounded: a member is noted once it has stayed for a moment, at most
 * once a minute, and only so many per channel. A member that left is noted if it was noted when it joined.
 *
 * An instance that has just started does not know who was there when the one before it was killed. Then the record says
 * whether a member has come back: it is noted there that it came, and not that it left.
 */
export class Noting {
  readonly #host: NotingHost;
  readonly #startedMs: number;
  /** By channel and user. */
  readonly #noted = new Map<string, NotedMember>();
  readonly #rates = new Map<ChannelName, TokenBucket>();
  /** What is being noted of a channel: one after another, so that a member does not leave before it has come. */
  readonly #underWay = new Map<ChannelName, Promise<void>>();

  constructor(host: NotingHost) {
    this.#host = host;
    this.#startedMs = host.clock.monotonic();
  }

  /** @param isBack - the session has had a connection before */
  noted(match: RuleMatch, type: Note, by: Author, isBack: boolean): void {
    if (!this.#host.isNoted(match)) return;
    if (type === 'joined') this.#joined(match, by, isBack);
    else this.#left(match, by);
  }

  #joined(match: RuleMatch, by: Author, isBack: boolean): void {
    const { clock, wheel } = this.#host;
    const name = nameOf(match, by);
    const now = clock.monotonic();
    const noted = this.#noted.get(name) ?? { cancel: undefined, isNoted: false, notedAtMs: -everyMs };
    this.#noted.set(name, noted);
    if (noted.isNoted || noted.cancel !== undefined) return;
    noted.cancel = wheel.after(Math.max(stayMs, noted.notedAtMs + everyMs - now), () => {
      noted.cancel = undefined;
      const atMs = clock.monotonic();
      if (this.#rateOf(match.channel).take(perChannel, atMs) > 0) return;
      noted.isNoted = true;
      noted.notedAtMs = atMs;
      const isUnsure = isBack || atMs - this.#startedMs < youngMs;
      this.#inOrder(match, 'joined', by, isUnsure ? (last) => last !== 'joined' : undefined);
    });
  }

  #left(match: RuleMatch, by: Author): void {
    const name = nameOf(match, by);
    const noted = this.#noted.get(name);
    // It joined on another instance, or before this one began.
    if (noted === undefined) {
      this.#inOrder(match, 'left', by, (last) => last !== 'left');
      return;
    }
    noted.cancel?.();
    noted.cancel = undefined;
    if (noted.isNoted) this.#inOrder(match, 'left', by, undefined);
    noted.isNoted = false;
    this.#host.wheel.after(everyMs, () => {
      if (!noted.isNoted && noted.cancel === undefined && this.#noted.get(name) === noted) this.#noted.delete(name);
    });
  }

  /** @param isDue - told the last note of the user in the record, if there is one: whether it is to be noted */
  #inOrder(match: RuleMatch, type: Note, by: Author, isDue: ((last: Note | undefined) => boolean) | undefined): void {
    const { note } = this.#host;
    const before = this.#underWay.get(match.channel);
    if (isDue === undefined && before === undefined) {
      note(match, type, by);
      return;
    }
    const done = (before ?? Promise.resolve())
      .then(async () => {
        if (isDue === undefined || isDue(await this.#lastNote(match, by.user))) note(match, type, by);
      })
      .finally(() => {
        if (this.#underWay.get(match.channel) === done) this.#underWay.delete(match.channel);
      });
    this.#underWay.set(match.channel, done);
  }

  /** The latest note about a user, among the recent messages. */
  async #lastNote(match: RuleMatch, user: string): Promise<Note | undefined> {
    try {
      const { messages } = await this.#host.logOf(match).before(match.channel, undefined, lookBack);
      const last = messages.findLast(
        ({ message: { type, by } }) => (type === 'joined' || type === 'left') && by?.user === user,
      );
      return last?.message.type as Note | undefined;
    } catch {
      // Noted twice is better than not at all.
      return undefined;
    }
  }

  #rateOf(channel: ChannelName): TokenBucket {
    let bucket = this.#rates.get(channel);
    if (bucket === undefined) {
      bucket = new TokenBucket(perChannel, this.#host.clock.monotonic());
      this.#rates.set(channel, bucket);
      // Full again by then, unless it is used, and then made anew.
      this.#host.wheel.after(perChannel.perMs, () => this.#rates.delete(channel));
    }
    return bucket;
  }
}

function nameOf({ channel }: RuleMatch, { user }: Author): string {
  return `${channel} ${user}`;
}
