import {
  type ArrivalDraft,
  type Delivery,
  defaultHook,
  type Engine,
  type Hook,
  type HookAnswer,
  type HookCaller,
  type Intake,
} from '@nine-bells/core';
import type { Truth } from './faultyPorts.js';
import type { Random } from './random.js';
import type { VirtualClock } from './virtualClock.js';

const retry = { firstMs: 100, mostMs: 2_000 };
/** The clock may be set forward by days. */
const forEverMs = 10 * 365 * 86_400_000;
const patience = { giveUpMs: forEverMs, pauseMs: forEverMs, keepMs: forEverMs };
const base = { ...defaultHook, url: 'https://bureau.example/hook', retry, ...patience };

/** One hook hears of everything, one of kept channels in order, one in batches. */
export const hooks: readonly Hook[] = [
  { ...base, events: ['message', 'changed'], name: 'all', atOnce: 3 },
  { ...base, events: ['message', 'changed'], name: 'ordered', channels: ['kept/:n'], ordered: true },
  {
    ...base,
    events: ['message', 'changed'],
    name: 'batches',
    channels: ['kept/:n'],
    ordered: true,
    batch: { most: 5, withinMs: 200 },
  },
];

/** What comes in becomes a message of a kept channel; an event of an odd kind has no route. */
export const intakes: readonly Intake[] = [
  {
    name: 'buoy',
    body: 'json',
    drop: [],
    keepMs: forEverMs,
    routes: [
      {
        when: { at: '/kind', is: 'wind' },
        messages: [{ channel: 'kept/:n', with: { n: '/n' }, data: '/knots' }],
        notices: [],
        entries: [],
      },
    ],
  },
];

/** A receiver that takes its time, and fails at random. It remembers the events that it has taken, in order. */
export class SimulatedReceiver {
  readonly #clock: VirtualClock;
  readonly #random: Random;
  /** By hook and channel, the events in the order in which they were taken first. */
  readonly #taken = new Map<string, string[]>();
  faults = true;
  received = 0;

  constructor(clock: VirtualClock, random: Random) {
    this.#clock = clock;
    this.#random = random;
  }

  /** @param isAlive - whether the process that sends is still there */
  caller(isAlive: () => boolean): HookCaller {
    return {
      send: (hook, shaped) =>
        this.#receive(
          hook,
          shaped.map(({ delivery }) => delivery),
          isAlive,
        ),
    };
  }

  async #receive(hook: Hook, deliveries: readonly Delivery[], isAlive: () => boolean): Promise<HookAnswer> {
    await this.#pause();
    if (!isAlive()) await new Promise(() => {});
    const fails = this.faults && this.#random.chance(0.2);
    const isLost = this.faults && this.#random.chance(0.05);
    if (!fails) for (const { id, channel = '' } of deliveries) this.#take(`${hook.name} ${channel}`, id);
    await this.#pause();
    if (!isAlive()) await new Promise(() => {});
    // The event was taken, but the answer is lost.
    if (isLost) return { tookMs: 5, problem: 'no answer' };
    if (!fails) return { status: 200, tookMs: 5 };
    const status = this.#random.pick([400, 429, 500]);
    return { status, tookMs: 5, problem: `status ${status}`, ...(status === 429 ? { retryAfterMs: 300 } : {}) };
  }

  #take(key: string, id: string): void {
    this.received += 1;
    const taken = this.#taken.get(key) ?? [];
    if (!taken.includes(id)) taken.push(id);
    this.#taken.set(key, taken);
  }

  #pause(): Promise<void> {
    return new Promise((resolve) => void this.#clock.setTimer(this.#random.between(1, 40), resolve));
  }

  /**
   * Every message of a kept channel was taken for every hook, and where order is wished, in order.
   *
   * @throws {Error} saying which was not
   */
  check(truth: Truth, channels: readonly string[], inOrder: boolean): void {
    for (const { name, ordered } of hooks)
      for (const channel of channels) {
        const logged = truth.all(channel).map(({ id }) => id);
        const taken = this.#taken.get(`${name} ${channel}`) ?? [];
        const missing = logged.find((id) => !taken.includes(id));
        if (missing !== undefined) throw new Error(`${name}: ${missing} of ${channel} was never taken`);
        const known = taken.filter((id) => logged.includes(id));
        const late = known.findIndex((id, index) => id !== logged[index]);
        if (ordered && inOrder && late !== -1)
          throw new Error(`${name}: ${known[late]} of ${channel} came out of order`);
      }
  }
}

/** Another system that says what has happened, again and again until it is acknowledged. */
export class SimulatedSender {
  readonly #clock: VirtualClock;
  readonly #random: Random;
  readonly #engine: () => Engine | undefined;
  readonly #isAlive: (engine: Engine) => boolean;
  /** The arrivals that were acknowledged, by the sender's own event id. */
  readonly #acknowledged = new Map<string, string>();
  readonly #waiting = new Set<string>();
  #last = 0;

  /** @param engine - one that answers; where there are several, any of them */
  constructor(
    clock: VirtualClock,
    random: Random,
    engine: () => Engine | undefined,
    isAlive: (engine: Engine) => boolean = (each) => each === engine(),
  ) {
    this.#isAlive = isAlive;
    this.#clock = clock;
    this.#random = random;
    this.#engine = engine;
  }

  /** Posts an event, or one that it has posted before. */
  post(): void {
    const eventId = this.#random.chance(0.2) && this.#last > 0 ? `e${this.#last}` : `e${++this.#last}`;
    this.#waiting.add(eventId);
    void this.#post(eventId);
  }

  /** The service may have forgotten any event that it acknowledged. */
  restored(): void {
    this.#acknowledged.clear();
  }

  async #post(eventId: string): Promise<void> {
    const engine = this.#engine();
    const kind = Number(eventId.slice(1)) % 7 === 0 ? 'fog' : 'wind';
    const body = JSON.stringify({ kind, n: 1, knots: eventId });
    const draft: Omit<ArrivalDraft, 'heldUntilMs'> = {
      id: `${eventId}x${this.#random.between(0, 1_000_000)}`,
      intake: 'buoy',
      eventId,
      atMs: this.#clock.now(),
      method: 'POST',
      headers: {},
      body,
      bytes: body.length,
      hops: 0,
    };
    try {
      if (engine === undefined) throw new Error('nobody answers');
      // A process that has crashed does not answer.
      const { id } = await Promise.race([engine.intakes.arrive(draft), this.#timeout()]);
      // A process that has crashed meanwhile acknowledges nothing.
      if (!this.#isAlive(engine)) throw new Error('the connection is gone');
      const before = this.#acknowledged.get(eventId);
      if (before !== undefined && before !== id) throw new RangeError(`${eventId} was kept twice: ${before}, ${id}`);
      this.#acknowledged.set(eventId, id);
      this.#waiting.delete(eventId);
    } catch (error) {
      if (error instanceof RangeError) throw error;
      this.#clock.setTimer(this.#random.between(50, 500), () => void this.#post(eventId));
    }
  }

  #timeout(): Promise<never> {
    return new Promise((_, reject) => void this.#clock.setTimer(3_000, () => reject(new Error('no answer'))));
  }

  /**
   * Every event that was acknowledged became one message.
   *
   * @throws {Error} saying which did not
   */
  check(truth: Truth): void {
    for (const eventId of this.#waiting) throw new Error(`${eventId} was never acknowledged`);
    for (const [eventId, id] of this.#acknowledged) {
      const expected = Number(eventId.slice(1)) % 7 === 0 ? 0 : 1;
      const count = truth.withKey('kept/1', `${id}-m0`);
      if (count !== expected) throw new Error(`${eventId} became ${count} messages`);
    }
  }
}
