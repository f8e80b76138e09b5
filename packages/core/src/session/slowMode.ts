import { type ChannelName, refusal } from '@nine-bells/wire';
import { BoundedMap } from '../lib/boundedMap.js';
import type { Clock } from '../ports/clock.js';
import type { Relay } from '../ports/relay.js';

/** Most users and channels of which it is remembered when they published last. */
const maxRemembered = 100_000;

/** Lets users publish only now and then in a channel, whatever the number of their sessions and instances. */
export class SlowMode {
  readonly #clock: Clock;
  readonly #relay: Relay;
  /** Until when a user may not publish in a channel again, by a clock that never jumps. */
  readonly #untilMs = new BoundedMap<string, number>(maxRemembered);

  constructor(clock: Clock, relay: Relay) {
    this.#clock = clock;
    this.#relay = relay;
  }

  /**
   * Takes a user's turn in a channel. A promise where other instances must be asked.
   *
   * @param everyMs - once in how long
   * @throws {ProblemError} `rate-limited`, with how long to wait; as a rejection, if it has to be waited for
   */
  take(user: string, channel: ChannelName, everyMs: number): void | Promise<void> {
    const name = `slow ${channel} ${user}`;
    const now = this.#clock.monotonic();
    const waitMs = Math.min((this.#untilMs.get(name) ?? 0) - now, everyMs);
    if (waitMs > 0) throw tooSoon(everyMs, waitMs);
    this.#untilMs.set(name, now + everyMs);
    const { others } = this.#relay;
    if (others === undefined) return;
    return others.claim(name, everyMs).then((isFirst) => {
      // Since when is known there only: at the latest it is over then.
      if (!isFirst) throw tooSoon(everyMs, everyMs);
    });
  }
}

function tooSoon(everyMs: number, waitMs: number): Error {
  return refusal('rate-limited', `a message is taken once in ${everyMs / 1_000} s here`, {
    retryAfterMs: Math.ceil(waitMs),
  });
}
