import { type ChannelName, refusal } from '@nine-bells/wire';
import { BoundedMap } from '../lib/boundedMap.js';
import type { Clock } from '../ports/clock.js';
import type { Relay } from '../ports/relay.js';

/** Most users and channels of which it is remembered when they published last. */
const maxRemembered = 100_000;
/** When to try again at the earliest, where another instance has had the turn, in milliseconds. */
const minAgainMs = 1_000;

/** Lets users publish only now and then in a channel, whatever the number of their sessions and instances. */
export class SlowMode {
  readonly #clock: Clock;
  readonly #relay: Relay;
  /** The last turns of users in channels, until they are over. */
  readonly #turns = new BoundedMap<string, Turn>(maxRemembered);

  constructor(clock: Clock, relay: Relay) {
    this.#clock = clock;
    this.#relay = relay;
  }

  /**
   * Takes a user's turn in a channel. A promise where other instances must be asked.
   *
   * @param everyMs - once in how long
   * @param key - the message's idempotency key: with the key of the turn, it is the same message, tried again
   * @throws {ProblemError} `rate-limited`, with how long to wait; as a rejection, if it has to be waited for
   */
  take(user: string, channel: ChannelName, everyMs: number, key: string | undefined): void | Promise<void> {
    const name = `slow ${channel} ${user}`;
    const now = this.#clock.monotonic();
    const last = this.#turns.get(name);
    const waitMs = last === undefined ? 0 : Math.min(last.untilMs - now, everyMs);
    if (waitMs > 0) {
      if (key !== undefined && key === last?.key) return;
      throw tooSoon(everyMs, waitMs);
    }
    const turn: Turn = { untilMs: now + everyMs, key };
    this.#turns.set(name, turn);
    return this.#relay.others?.claim(name, everyMs).then(
      (isFirst) => {
        if (isFirst) return;
        this.#giveBack(name, turn);
        // How long it still lasts is known on another instance only.
        throw tooSoon(everyMs, Math.min(everyMs, Math.max(minAgainMs, everyMs / 10)));
      },
      (error: unknown) => {
        this.#giveBack(name, turn);
        throw error;
      },
    );
  }

  #giveBack(name: string, turn: Turn): void {
    if (this.#turns.get(name) === turn) this.#turns.delete(name);
  }
}

/** A turn that was taken: until when there is no other one, by a clock that never jumps. */
interface Turn {
  readonly untilMs: number;
  readonly key: string | undefined;
}

function tooSoon(everyMs: number, waitMs: number): Error {
  return refusal('rate-limited', `a message is taken once in ${everyMs / 1_000} s here`, {
    retryAfterMs: Math.ceil(waitMs),
  });
}
