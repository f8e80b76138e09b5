import { type CallAsker, type CallRule, defaultCall } from '@nine-bells/core';
import type { Truth } from './faultyPorts.js';
import { mac, type Random } from './random.js';
import type { VirtualClock } from './virtualClock.js';

/** A call about a kept channel, with whose answer a message is published there. */
export const calls: readonly CallRule[] = [
  { ...defaultCall, name: 'turn', allow: 'anyone', channel: 'kept/:n', answerer: 'https://application.example/turn' },
];

/** A call that a client has made. */
export interface SimulatedCall {
  readonly channel: string;
  readonly key: string;
  answered: boolean;
}

/** An application that takes its time to answer calls, and fails at random. */
export class SimulatedApplication {
  readonly #clock: VirtualClock;
  readonly #random: Random;
  faults = true;
  /** Keys of calls that were asked again while they were under way: the engine takes an error for a failure. */
  readonly askedTwice: string[] = [];

  constructor(clock: VirtualClock, random: Random) {
    this.#clock = clock;
    this.#random = random;
  }

  /** @param isAlive - whether the process that asks is still there */
  asker(isAlive: () => boolean): CallAsker {
    const underWay = new Set<string>();
    return {
      call: async (_, __, { key = '', channel = '', who }) => {
        const own = `${who.user} ${key}`;
        if (underWay.has(own)) this.askedTwice.push(own);
        underWay.add(own);
        await this.#pause();
        const fails = this.faults && this.#random.chance(0.15);
        await this.#pause();
        if (!isAlive()) await new Promise(() => {});
        underWay.delete(own);
        if (fails) throw new Error('the application fails');
        return { data: key, publish: [{ message: { channel: channel as never, data: { called: key } } }] };
      },
    };
  }

  #pause(): Promise<void> {
    return new Promise((resolve) => void this.#clock.setTimer(this.#random.between(1, 1_500), resolve));
  }
}

/**
 * Each call was answered in the end, and what came with its answer was published once.
 *
 * @throws {Error} saying which was not
 */
export function checkCalls(user: string, made: readonly SimulatedCall[], truth: Truth): void {
  for (const { channel, key, answered } of made) {
    if (!answered) throw new Error(`${user}: the call ${key} was never answered`);
    const count = truth.withKey(channel, `${mac(JSON.stringify(['turn', channel, user, key]))}:0`);
    if (count !== 1) throw new Error(`${user}: what came with the answer to ${key} was published ${count} times`);
  }
}
