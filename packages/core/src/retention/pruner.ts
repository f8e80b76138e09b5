import { type ChannelName, defined, refusal } from '@nine-bells/wire';
import { BoundedMap } from '../lib/boundedMap.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Counters } from '../model/counters.js';
import type { Actor } from '../model/moderation.js';
import { keyMemory } from '../model/options.js';
import {
  type Hold,
  type KeptRange,
  type RecordKind,
  type RecordRetention,
  type Retention,
  type RetentionSurvey,
  recordKinds,
  type StaleRange,
} from '../model/retention.js';
import type { Clock } from '../ports/clock.js';
import type { Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { RetentionStore } from '../ports/stores.js';
import type { ChannelRules } from '../rules/channelRule.js';

export interface PrunerHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly store: RetentionStore;
  readonly rules: ChannelRules;
  readonly report: Report;
  readonly counters: Counters;
}

/** How often it is looked for what is to go, in milliseconds. */
const roundMs = 60_000;
/** Channels read at once. */
const pageChannels = 200;
/** Messages, or records, removed at once. */
const portion = 500;
/** Least rest between two reads or portions, in milliseconds. */
const minRestMs = 20;
/** Least rest after a read or a portion, as a multiple of its duration. */
const readRest = 4;
/**
 * Rest after each row removed, in milliseconds: about 300 rows a second, so that few commits have to wait for a portion. It is
 * shorter where all that is stale would take longer than `maxRunMs`.
 */
const rowRestMs = 3;
const maxRunMs = 3_600_000;
/** Longest rest, in milliseconds. */
const maxRestMs = 5_000;
/** Messages that a channel loses before the next one has its turn. */
const turnMessages = 10_000;
/** Messages whose bytes are summed up in one read, and in one by which the place of a bound is found. */
const summedAtOnce = 10_000;
const steppedAtOnce = 200;
/** Channels of a survey that are named; the others are counted. */
const namedChannels = 1_000;
/** Channels whose bytes are remembered. */
const maxSums = 100_000;

/** The bytes of a range of messages. */
interface Sum {
  readonly from: number;
  readonly upTo: number;
  readonly bytes: number;
}

/**
 * Prunes kept logbooks by the bounds of their channel rules, and forgets old records: in small portions with rests between.
 * One instance at a time does it.
 */
export class Pruner {
  readonly #host: PrunerHost;
  readonly #records: RecordRetention;
  readonly #hasBounds: boolean;
  readonly #sums = new BoundedMap<ChannelName, Sum>(maxSums);
  #running: Promise<void> | undefined;
  #stopped = false;
  #lateMs = 0;
  #warnedAtMs = Number.NEGATIVE_INFINITY;
  /** Ends the rest between two portions. */
  #wake: (() => void) | undefined;

  constructor(host: PrunerHost, records: RecordRetention) {
    this.#host = host;
    this.#records = records;
    this.#hasBounds = host.rules.all.some((rule) => boundsOf(rule) !== undefined);
  }

  start(): void {
    this.#host.wheel.after(roundMs, () => {
      if (this.#stopped) return;
      void this.#round().finally(() => this.start());
    });
  }

  /** Prunes nothing more. Resolves when the portion under way is done. */
  async stop(): Promise<void> {
    this.#stopped = true;
    this.#wake?.();
    await this.#running;
  }

  /** Whether something is being pruned here. */
  get isRunning(): boolean {
    return this.#running !== undefined;
  }

  /** How much longer than its rule says the oldest message was kept that this instance found last, in milliseconds. */
  get lateMs(): number {
    return this.#lateMs;
  }

  /** Prunes all that is to go now. One run at a time; never rejects. */
  run(): Promise<void> {
    this.#running ??= this.#prune(async () => true).finally(() => {
      this.#running = undefined;
    });
    return this.#running;
  }

  /** What would go if it were pruned now. Nothing is changed. */
  async survey(): Promise<RetentionSurvey> {
    const channels: StaleRange[] = [];
    const held: ChannelName[] = [];
    const total = { channels: 0, messages: 0 };
    for await (const { range, pattern, bounds } of this.#bounded()) {
      const first = await this.#firstToStay(range, bounds);
      const messages = first - range.oldest;
      if (messages <= 0) continue;
      const { channel, head, oldestAtMs } = range;
      if (range.held) {
        if (held.length < namedChannels) held.push(channel);
        continue;
      }
      total.channels += 1;
      total.messages += messages;
      const upTo = { volume: head.volume, number: first - 1 };
      if (channels.length < namedChannels)
        channels.push({ channel, pattern, messages, upTo, ...(oldestAtMs === undefined ? {} : { oldestAtMs }) });
    }
    const records = {} as Record<RecordKind, number>;
    for (const kind of recordKinds) records[kind] = await this.#host.store.forgettable(kind, this.#before(kind));
    return { channels, total, held, records };
  }

  /**
   * Exempts a channel from pruning until that is ended. Idempotent: gives the exemption that stands.
   *
   * @throws {ProblemError} `no-such-channel`; `bad-value` if its rule keeps nothing; `unavailable`
   */
  async hold(channel: ChannelName, by: Actor, reason?: string): Promise<Hold> {
    const hold = this.#holdOf(channel, by, reason);
    return (await this.#host.store.hold(hold)) ?? hold;
  }

  /**
   * Ends the exemption of a channel, and gives it.
   *
   * @throws {ProblemError} `no-such-channel`; `bad-value` if it is not exempted; `unavailable`
   */
  async endHold(channel: ChannelName, by: Actor, reason?: string): Promise<Hold> {
    const ended = await this.#host.store.hold(this.#holdOf(channel, by, reason), 'end');
    if (ended === undefined) throw refusal('bad-value', 'the channel is not exempted from pruning');
    return ended;
  }

  #holdOf(channel: ChannelName, by: Actor, reason: string | undefined): Hold {
    const { rule } = this.#host.rules.require(channel);
    if (rule.logbook.type !== 'kept')
      throw refusal('bad-value', `channels of the rule ${rule.pattern} are not kept`, { where: '/channel' });
    return { channel, by, atMs: this.#host.clock.now(), ...defined({ reason }) };
  }

  async #round(): Promise<void> {
    if (!(await this.#isOurs())) {
      this.#lateMs = 0;
      return;
    }
    this.#running ??= this.#prune(() => this.#isOurs()).finally(() => {
      this.#running = undefined;
    });
    await this.#running;
  }

  /** One of the instances prunes: the first to claim it. */
  async #isOurs(): Promise<boolean> {
    const { relay, report } = this.#host;
    try {
      return relay.others === undefined || (await relay.others.claim('retention', roundMs * 0.9));
    } catch (error) {
      report(error, { event: 'prune-lease-failed' });
      return false;
    }
  }

  /**
   * Passes over all channels until nothing is left to prune. In one pass a channel loses at most `turnMessages`, so that none waits
   * for a large one.
   *
   * @param goesOn - asked before each further pass
   */
  async #prune(goesOn: () => Promise<boolean>): Promise<void> {
    const { report, clock } = this.#host;
    const begunMs = clock.monotonic();
    try {
      for (let stale = 0, isLast = false; !isLast && !this.#stopped; ) {
        const pass = await this.#pass(stale);
        stale = pass.stale;
        isLast = !pass.hasMore || !(await goesOn());
        if (pass.hasMore && clock.monotonic() - begunMs > maxRunMs) this.#warn();
      }
    } catch (error) {
      report(error, { event: 'prune-failed' });
    }
  }

  /** @param stale - messages that were to go when the last pass began */
  async #pass(stale: number): Promise<{ readonly stale: number; readonly hasMore: boolean }> {
    let found = 0;
    let hasMore = false;
    let lateMs = 0;
    for await (const { range, bounds } of this.#bounded()) {
      if (range.held) continue;
      try {
        const first = await this.#firstToStay(range, bounds);
        const count = first - range.oldest;
        found += count;
        const left = await this.#pruneChannel(range, first, maxRunMs / Math.max(stale, found));
        hasMore ||= left > 0;
        if (left > 0) lateMs = Math.max(lateMs, this.#latenessOf(range, bounds));
      } catch (error) {
        this.#host.report(error, { event: 'channel-prune-failed', channel: range.channel });
      }
    }
    this.#lateMs = lateMs;
    for (const kind of recordKinds) await this.#forget(kind);
    return { stale: found, hasMore };
  }

  /**
   * Prunes a channel until its turn is over.
   *
   * @param mostRestMs - longest rest after a row, in milliseconds
   * @returns how many messages are left to prune
   */
  async #pruneChannel({ channel, oldest: begin }: KeptRange, first: number, mostRestMs: number): Promise<number> {
    const { store, counters } = this.#host;
    const end = Math.min(first, begin + turnMessages);
    let oldest = begin;
    while (oldest < end && !this.#stopped) {
      const pruned = await this.#rested(
        () => store.prune(channel, end, portion),
        ({ messages }) => messages * Math.min(rowRestMs, mostRestMs),
      );
      // It was exempted meanwhile, or another instance was faster.
      if (pruned.oldest <= oldest) return 0;
      oldest = pruned.oldest;
      counters.pruned.messages += pruned.messages;
    }
    return first - oldest;
  }

  async #forget(kind: RecordKind): Promise<void> {
    const { store, counters } = this.#host;
    for (let count = portion; count >= portion && !this.#stopped; ) {
      count = await this.#rested(
        () => store.forget(kind, this.#before(kind), portion),
        (forgot) => forgot * rowRestMs,
      );
      counters.pruned[kind] += count;
    }
  }

  /** Time that the oldest message of a channel has been kept beyond its rule, in milliseconds. */
  #latenessOf({ oldestAtMs }: KeptRange, { forMs }: Retention): number {
    if (oldestAtMs === undefined || forMs === undefined) return 0;
    return Math.max(0, this.#host.clock.settled() - oldestAtMs - Math.max(forMs, keyMemory.ms));
  }

  #warn(): void {
    const { clock, report } = this.#host;
    if (clock.monotonic() - this.#warnedAtMs < maxRunMs) return;
    this.#warnedAtMs = clock.monotonic();
    report(new Error('more messages become stale than are pruned'), {
      event: 'retention-exceeded',
      lateS: Math.round(this.#lateMs / 1_000),
    });
  }

  #before(kind: RecordKind): number {
    return this.#host.clock.settled() - this.#records[kind];
  }

  /** Kept channels whose rule has bounds. */
  async *#bounded(): AsyncGenerator<{ range: KeptRange; pattern: string; bounds: Retention }> {
    if (!this.#hasBounds) return;
    const { store, rules } = this.#host;
    for (let after = ''; !this.#stopped; ) {
      const ranges = await this.#rested(() => store.keptRanges(after, pageChannels));
      for (const range of ranges) {
        const rule = rules.match(range.channel)?.rule;
        const bounds = rule && boundsOf(rule);
        if (rule !== undefined && bounds !== undefined && range.oldest <= range.head.number)
          yield { range, pattern: rule.pattern, bounds };
      }
      if (ranges.length < pageChannels) return;
      after = (ranges.at(-1) as KeptRange).channel;
    }
  }

  /** The number of the first message that stays; one beyond the head if none does. */
  async #firstToStay(range: KeptRange, { forMs, messages, bytes }: Retention): Promise<number> {
    const { store, clock } = this.#host;
    const { channel, head, oldestAtMs } = range;
    let first = range.oldest;
    if (messages !== undefined) first = Math.max(first, head.number - messages + 1);
    if (forMs !== undefined) {
      const atMs = clock.settled() - forMs;
      if (oldestAtMs !== undefined && oldestAtMs < atMs) first = Math.max(first, await store.firstSince(channel, atMs));
    }
    if (bytes !== undefined) first = await this.#firstWithin(bytes, { ...range, oldest: first });
    if (first <= range.oldest) return range.oldest;
    // So long a key is known, and a client that was away for a moment comes back without a gap.
    return Math.min(first, await store.firstSince(channel, clock.settled() - keyMemory.ms));
  }

  /** The number from which on messages have at most so many bytes together. */
  async #firstWithin(bytes: number, { channel, oldest, head }: KeptRange): Promise<number> {
    const { store } = this.#host;
    const known = this.#sums.get(channel);
    let sum =
      known !== undefined && known.upTo <= head.number ? { ...known } : { from: oldest, upTo: oldest - 1, bytes: 0 };
    while (sum.upTo < head.number) {
      const [from, upTo] = [sum.upTo + 1, Math.min(head.number, sum.upTo + summedAtOnce)];
      const more = await this.#rested(() => store.bytesOf(channel, from, upTo));
      sum = { ...sum, upTo, bytes: sum.bytes + more };
    }
    const without = async (before: number): Promise<Sum> => {
      const less = before <= sum.from ? 0 : await store.bytesOf(channel, sum.from, before - 1);
      return { ...sum, from: Math.max(sum.from, before), bytes: sum.bytes - less };
    };
    sum = await without(oldest);
    while (sum.bytes > bytes && sum.from <= sum.upTo) {
      let shortest = Math.min(sum.upTo + 1, sum.from + steppedAtOnce);
      let shorter = await without(shortest);
      // In the last step, it is halved until it is known which message is the first that stays.
      for (let from = sum.from + 1; shorter.bytes <= bytes && from < shortest; ) {
        const middle = Math.floor((from + shortest) / 2);
        const tried = await without(middle);
        if (tried.bytes > bytes) from = middle + 1;
        else [shortest, shorter] = [middle, tried];
      }
      sum = shorter;
    }
    this.#sums.set(channel, sum);
    return Math.max(oldest, sum.from);
  }

  /** Does something, and rests: for several times as long as it took, and at least for as long as `leastMs` says. */
  async #rested<T>(act: () => Promise<T>, leastMs: (done: T) => number = () => 0): Promise<T> {
    const { clock } = this.#host;
    const begunMs = clock.monotonic();
    const done = await act();
    const proportionalMs = readRest * (clock.monotonic() - begunMs);
    const restMs = Math.min(maxRestMs, Math.max(minRestMs, proportionalMs, leastMs(done)));
    if (!this.#stopped)
      await new Promise<void>((resolve) => {
        const cancel = clock.setTimer(restMs, resolve);
        this.#wake = () => {
          cancel();
          resolve();
        };
      });
    return done;
  }
}

function boundsOf({
  logbook,
}: {
  readonly logbook: { readonly type: string; readonly retention?: Retention };
}): Retention | undefined {
  return logbook.type === 'kept' ? logbook.retention : undefined;
}
