import { type ChannelLevel, type ChannelName, defined, type Level } from '@nine-bells/wire';
import { Frame } from '../model/frame.js';
import { levelShown } from '../model/level.js';
import type { Clock } from '../ports/clock.js';
import { type Relay, userNewsTopic } from '../ports/relay.js';
import type { LevelStore } from '../ports/stores.js';
import type { ChannelRules } from '../rules/channelRule.js';

export interface LevelsHost {
  readonly clock: Clock;
  readonly relay: Relay;
  readonly rules: ChannelRules;
  readonly store: LevelStore;
  /** Most channels for which one user sets a level. */
  readonly most: number;
  /** Pushes a frame to all sessions here of a user. */
  push(user: string, frame: Frame): number;
}

/** How much users want to hear of channels. While no user has said so, this costs nothing. */
export class Levels {
  readonly #host: LevelsHost;
  /** Whether any user has set one; `undefined`: not known. */
  #isUsed: boolean | undefined;

  constructor(host: LevelsHost) {
    this.#host = host;
  }

  /**
   * Sets how much a user wants to hear of a channel, or with `null` as if nothing were said. Idempotent.
   *
   * @param forMs - for how long, in milliseconds; absent: it stays
   * @throws {ProblemError} `no-such-channel`, `too-many-levels`, `unavailable`
   */
  async set(user: string, channel: ChannelName, level: Level | null, forMs?: number): Promise<void> {
    const { clock, relay, rules, store, most } = this.#host;
    rules.require(channel);
    const atMs = clock.now();
    const untilMs = forMs === undefined || level === null ? undefined : atMs + forMs;
    await store.setLevel({ user, channel, level, atMs, most, ...defined({ untilMs }) });
    this.#isUsed = true;
    relay.publish(userNewsTopic, { type: 'level', user, channel, level, ...defined({ untilMs }) });
  }

  /** What a user has set, by the names of channels. @throws {ProblemError} `unavailable` */
  async of(user: string): Promise<readonly ChannelLevel[]> {
    return (await this.#host.store.levels(user, this.#host.clock.now())).map(levelShown);
  }

  /**
   * Those of some users who want to hear of a channel at all, or of more than mentions.
   *
   * @throws {ProblemError} `unavailable`
   */
  async hearing(users: readonly string[], channel: ChannelName, isMention: boolean): Promise<readonly string[]> {
    if (users.length === 0 || !(await this.#hasAny())) return users;
    const { store, clock } = this.#host;
    const found = await store.levelsIn(channel, users, clock.now());
    const quiet = new Set(found.flatMap(({ user, level }) => (isLoud(level, isMention) ? [] : [user])));
    return users.filter((user) => !quiet.has(user));
  }

  /** A user has set a level, on whichever instance. */
  hear(
    user: string,
    { channel, level, untilMs }: { channel: ChannelName; level: Level | null; untilMs?: number },
  ): void {
    this.#isUsed = true;
    const shown = level === null ? { channel, level } : levelShown({ channel, level, ...defined({ untilMs }) });
    this.#host.push(user, new Frame(JSON.stringify({ on: 'level', ...shown }), true));
  }

  /** Changes may not have been heard. */
  lookAgain(): void {
    if (this.#isUsed === false) this.#isUsed = undefined;
  }

  async #hasAny(): Promise<boolean> {
    if (this.#isUsed === undefined) {
      const found = await this.#host.store.hasLevels();
      // A first one may have come meanwhile.
      this.#isUsed ||= found;
    }
    return this.#isUsed;
  }
}

function isLoud(level: Level, isMention: boolean): boolean {
  return level === 'everything' || (level === 'mentions' && isMention);
}
