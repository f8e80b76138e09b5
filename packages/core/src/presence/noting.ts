import type { Author, ChannelName } from '@nine-bells/wire';
import type { RuleMatch } from '../channel/channelRule.js';
import type { Clock, LogReader } from '../ports.js';

export interface NotingHost {
  readonly clock: Clock;
  readonly logOf: (match: RuleMatch) => LogReader;
  /** Appends a note to the channel's record. */
  readonly note: (match: RuleMatch, type: 'joined' | 'left', by: Author) => void;
}

/** For how long after its start an instance may not know who was there before, in milliseconds. */
const youngMs = 60_000;
/** How far back a note is looked for. */
const lookBack = { messages: 200, bytes: 1_000_000 };

/**
 * Notes in the record of a channel who has come and gone.
 *
 * An instance that has just started does not know who was there when the one before it was killed. Then the record says
 * whether a member has come back: it is noted there that it came, and not that it left.
 */
export class Noting {
  readonly #host: NotingHost;
  readonly #startedMs: number;
  /** What is being noted of a channel: one after another, so that a member does not leave before it has come. */
  readonly #underWay = new Map<ChannelName, Promise<void>>();

  constructor(host: NotingHost) {
    this.#host = host;
    this.#startedMs = host.clock.monotonic();
  }

  /** @param isBack - the session has had a connection before */
  noted(match: RuleMatch, type: 'joined' | 'left', by: Author, isBack: boolean): void {
    if (!match.rule.presence?.noted) return;
    const { clock, note } = this.#host;
    const isUnsure = type === 'joined' && (isBack || clock.monotonic() - this.#startedMs < youngMs);
    const before = this.#underWay.get(match.channel);
    if (!isUnsure && before === undefined) {
      note(match, type, by);
      return;
    }
    const done = (before ?? Promise.resolve())
      .then(async () => {
        if (!isUnsure || !(await this.#isThere(match, by.user))) note(match, type, by);
      })
      .finally(() => {
        if (this.#underWay.get(match.channel) === done) this.#underWay.delete(match.channel);
      });
    this.#underWay.set(match.channel, done);
  }

  /** Whether the last note of a user says that it has come. */
  async #isThere(match: RuleMatch, user: string): Promise<boolean> {
    try {
      const { messages } = await this.#host.logOf(match).before(match.channel, undefined, lookBack);
      const last = messages.findLast(
        ({ message: { type, by } }) => (type === 'joined' || type === 'left') && by?.user === user,
      );
      return last?.message.type === 'joined';
    } catch {
      // Noted twice is better than not at all.
      return false;
    }
  }
}
