import type { ChannelRule, Engine, Reviewer } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { SlowStore, Truth } from './faultyPorts.js';
import type { Random } from './random.js';
import type { SimulatedClient } from './simulatedClient.js';
import type { VirtualClock } from './virtualClock.js';

export const watchedChannel = 'watched/1' as ChannelName;
const moderator = { kind: 'key', id: 'moderator' } as const;

export function watchedRule(allow: ChannelRule['allow']): ChannelRule {
  return {
    pattern: 'watched/:n',
    logbook: { type: 'kept' },
    allow,
    review: { ask: 'https://application.example/review', withinMs: 1_000, otherwise: 'refuse' },
  };
}

/** An application that reviews messages, and moderators who decide about those that it holds. */
export class SimulatedReview {
  readonly #clock: VirtualClock;
  readonly #random: Random;
  readonly #store: SlowStore;
  faults = true;
  /** Keys of messages whose refusal a moderator got confirmed. */
  readonly #rejected = new Set<string>();

  constructor(clock: VirtualClock, random: Random, store: SlowStore) {
    this.#clock = clock;
    this.#random = random;
    this.#store = store;
  }

  /** Answers by the message's key alone: refuses one in six, holds one in four. */
  get reviewer(): Reviewer {
    return {
      review: async (_, { key = '' }) => {
        await new Promise<void>((resolve) => void this.#clock.setTimer(this.#random.between(1, 1_200), resolve));
        if (this.faults && this.#random.chance(0.1)) throw new Error('the application fails');
        if (isRefused(key)) return { allow: false, reason: 'no' };
        return isHeld(key) ? { allow: false, hold: true } : { allow: true };
      },
    };
  }

  /** Lets a moderator decide about a waiting message; sometimes two at once. */
  act(engine: Engine | undefined): void {
    void this.#decideOne(engine);
    if (this.#random.chance(0.2)) void this.#decideOne(engine);
  }

  async #decideOne(engine: Engine | undefined, always = false): Promise<void> {
    const waiting = (await this.#store.committed.pending({ isWaiting: true, limit: 5, chars: 1_000_000 })).messages;
    if (engine === undefined || waiting.length === 0) return;
    const { id, key = '' } = this.#random.pick(waiting);
    const rejects = !always && this.#random.chance(0.4);
    const decided = rejects ? engine.pending.reject(id, moderator, 'no') : engine.pending.approve(id, moderator);
    await decided.then(
      ({ state }) => {
        if (state === 'refused') this.#rejected.add(key);
      },
      // The outcome is unknown, or another moderator was faster.
      () => {},
    );
  }

  /** Approves all messages that still wait. */
  async finish(engine: Engine): Promise<void> {
    for (let tries = 0; tries < 500; tries++) {
      const waiting = (await this.#store.committed.pending({ isWaiting: true, limit: 1, chars: 1_000_000 })).messages;
      if (waiting.length === 0) return;
      const decided = this.#decideOne(engine, true);
      await this.#clock.run(300);
      await Promise.race([decided, this.#clock.run(5_000)]);
    }
    throw new Error('messages wait that were let pass');
  }

  /** Checks that each held message was published once or refused, and that none overtook an earlier one of its author. */
  async check(clients: readonly SimulatedClient[], truth: Truth): Promise<number> {
    const [overtaken] = truth.overtaken;
    if (overtaken !== undefined) throw new Error(`${overtaken} was published before an earlier one of its author`);
    const refused = (await this.#store.committed.pending({ isWaiting: false, limit: 10_000, chars: 1_000_000 }))
      .messages;
    const keys = new Set([...this.#rejected, ...refused.map(({ key = '' }) => key)]);
    let held = 0;
    for (const { publishes, name } of clients)
      for (const { channel, key, pending, takenBack } of publishes) {
        if (channel !== watchedChannel) continue;
        const count = truth.withKey(channel, key);
        if (isRefused(key) && count > 0) throw new Error(`${name}: ${key} was refused, and is published`);
        if (pending === undefined) continue;
        held += 1;
        const isGone = keys.has(key) || takenBack === 'surely';
        if (count !== (isGone ? 0 : 1) && (takenBack !== 'perhaps' || count > 1))
          throw new Error(
            `${name}: ${key} waited, was ${isGone ? 'refused' : 'let pass'}, and is published ${count} times`,
          );
      }
    return held;
  }
}

function isRefused(key: string): boolean {
  return numberOf(key) % 6 === 1;
}

function isHeld(key: string): boolean {
  return numberOf(key) % 4 === 2;
}

function numberOf(key: string): number {
  return Number(/\d+$/.exec(key)?.[0] ?? 0);
}
