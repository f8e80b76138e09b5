import {
  type Appended,
  type BoardKeeper,
  type BoardWord,
  type Clock,
  type ControlLog,
  channelPrefix,
  commonTopics,
  type Draft,
  type Ids,
  type LogBounds,
  type LoggedMessage,
  type LogReader,
  type Place,
  type Relay,
  SoloRelay,
  type Subscriber,
  type Topic,
  usersTopic,
} from '@nine-bells/core';
import { type EveryStore, MemoryStore } from '@nine-bells/core/testing';
import { type ChannelName, type Message, ProblemError, refusal } from '@nine-bells/wire';
import { BoardTruth } from './boardTruth.js';
import type { Random } from './random.js';
import type { VirtualClock } from './virtualClock.js';
import type { WritersLock } from './writersLock.js';

/** Everything that was ever logged, in order, by channel and volume: what the promises are checked against. */
export class Truth {
  readonly boards = new BoardTruth();
  readonly #logs = new Map<string, LoggedMessage[]>();
  /** Number of messages logged so far, in all channels. */
  count = 0;
  /** By the id of each message or change: how many were logged up to it. */
  readonly #counts = new Map<string, number>();

  add(logged: LoggedMessage): void {
    const key = `${logged.message.channel} ${logged.place.volume}`;
    const log = this.#logs.get(key) ?? [];
    if (logged.place.number !== log.length + 1)
      throw new Error(`${key}: number ${logged.place.number} follows ${log.length}`);
    log.push(logged);
    this.count += 1;
    this.#counts.set(countedAs(logged.message.channel, logged.place), this.count);
    this.#logs.set(key, log);
  }

  log(channel: string, volume: string): readonly LoggedMessage[] {
    return this.#logs.get(`${channel} ${volume}`) ?? [];
  }

  /** Returns the messages of a channel in all volumes. */
  all(channel: string): readonly LoggedMessage[] {
    return [...this.#logs].flatMap(([name, log]) => (name.startsWith(`${channel} `) ? log : []));
  }

  /** Returns the number of messages logged up to one. */
  countAt(channel: string, place: Place): number {
    return this.#counts.get(countedAs(channel, place)) ?? 0;
  }

  /** Returns the number of messages logged when one was withdrawn; `undefined` if it was not withdrawn. */
  withdrawnAt(channel: string, { volume, number }: Place): number | undefined {
    const gone = this.log(channel, volume).find((each) => each.of === number && each.message.withdrawn);
    return gone === undefined ? undefined : this.countAt(channel, gone.place);
  }

  /** Keys of messages that overtook a waiting message of their author. */
  readonly overtaken: string[] = [];

  withKey(channel: string, key: string): number {
    let count = 0;
    for (const [name, log] of this.#logs)
      if (name.startsWith(`${channel} `))
        count += log.filter((each) => each.isMessage && each.message.key === key).length;
    return count;
  }

  /** Returns the number of times that a change was made, by the mark that it leaves in the text of its message. */
  changesWith(channel: string, mark: string): number {
    return this.all(channel).filter((each) => each.isChange && each.text.includes(`"${mark}"`)).length;
  }

  /** Returns the final state of a record's messages, by number. */
  standing(channel: string, volume: string): ReadonlyMap<number, Message> {
    const log = this.log(channel, volume);
    return new Map(log.map((each) => [each.of ?? each.place.number, each.message]));
  }
}

function countedAs(channel: string, { volume, number }: Place): string {
  return `${channel} ${volume}:${number}`;
}

/** Methods of the store that answer at once. */
const quick: ReadonlySet<keyof EveryStore> = new Set(['channels', 'done', 'meet', 'usersWith', 'user', 'audit']);

/**
 * A store that takes its time, commits in groups, sometimes fails, and says that it has committed only some time after
 * others could read it. Its connection may end during a commit: then it says that it failed, and may have committed. A crash
 * loses what was not committed and what was not said.
 */
export class SlowStore {
  readonly #clock: Clock;
  readonly #random: Random;
  readonly #truth: Truth;
  readonly #records: MemoryStore;
  #waiting: { channel: ChannelName; draft: Draft; resolve: (a: Appended) => void; reject: (e: Error) => void }[] = [];
  #committing = false;
  #epoch = 0;
  faults = true;

  readonly #lock: WritersLock | undefined;

  /**
   * @param records - what is committed, if other instances have it too
   * @param lock - under which all instances write to it
   */
  constructor(
    clock: Clock,
    random: Random,
    ids: Ids,
    truth: Truth,
    records = new MemoryStore(ids),
    lock: WritersLock | undefined = undefined,
  ) {
    this.#lock = lock;
    this.#clock = clock;
    this.#random = random;
    this.#truth = truth;
    this.#records = records;
  }

  /** The committed records, without delay. */
  get committed(): MemoryStore {
    return this.#records;
  }

  append(channel: ChannelName, draft: Draft): Promise<Appended> {
    return new Promise((resolve, reject) => {
      this.#waiting.push({ channel, draft, resolve, reject });
      if (!this.#committing) this.#commitSoon();
    });
  }

  /** All stores: each method answers after a pause, and `append` commits in groups. */
  get every(): EveryStore {
    return new Proxy<EveryStore>(this.#records, {
      get: (records, member) => {
        const name = member as keyof EveryStore;
        if (name === 'append') return this.append.bind(this);
        return async (...given: unknown[]) => {
          if (!quick.has(name)) await this.pause();
          return (records[name] as (...all: unknown[]) => Promise<unknown>).apply(records, given);
        };
      },
    });
  }

  /** Removes all but the last messages of a kept channel, as `Pruner` does: without a failure. */
  async pruneAllBut(count: number, channel: ChannelName): Promise<void> {
    const { number } = await this.#records.head(channel);
    await this.#records.prune(channel, number - count + 1, number);
  }

  /** The process ends without a word. What was committed stays. */
  crash(): void {
    this.#epoch += 1;
    this.#waiting = [];
    this.#committing = false;
  }

  /** Tells whether a message, once committed, overtakes a waiting message of its author. */
  async #overtakes(channel: ChannelName, { by, releases, change, id, key = id }: Draft): Promise<boolean> {
    if (!channel.startsWith('watched/') || by === undefined || change !== undefined) return false;
    const first = await this.#records.nextPending(channel, by.user);
    return (
      first !== undefined && first.id !== releases && first.key !== key && !(await this.#isKnown(channel, by.user, key))
    );
  }

  async #isKnown(channel: ChannelName, user: string, key: string): Promise<boolean> {
    const known = await this.#records.knownUnder(channel, { user, key, isChange: false });
    return known !== undefined && 'published' in known;
  }

  #commitSoon(): void {
    this.#committing = true;
    const epoch = this.#epoch;
    this.#clock.setTimer(this.#random.between(1, 60), () => void this.#commit(epoch));
  }

  async #commit(epoch: number): Promise<void> {
    if (epoch !== this.#epoch) return;
    const group = this.#waiting;
    this.#waiting = [];
    const isLocked = await this.#locked(epoch);
    if (epoch !== this.#epoch) return;
    const fails = !isLocked || (this.faults && this.#random.chance(0.03));
    // The connection ends during COMMIT: the rows are there, and no answer comes.
    const isUnknown = !fails && this.faults && this.#random.chance(0.02);
    const results: (Appended | ProblemError)[] = [];
    if (!fails)
      for (const { channel, draft } of group)
        try {
          const overtakes = await this.#overtakes(channel, draft);
          const appended = await this.#records.append(channel, draft);
          if (overtakes) this.#truth.overtaken.push(draft.key ?? draft.id);
          if (!appended.repeated) this.#truth.add(appended.logged);
          results.push(appended);
        } catch (error) {
          // A change that is refused.
          results.push(error as ProblemError);
        }
    this.#clock.setTimer(this.#random.between(0, 30), () => {
      if (epoch !== this.#epoch) return;
      for (const [index, { resolve, reject }] of group.entries()) {
        const result = results[index];
        if (fails || isUnknown || result === undefined)
          reject(refusal('unavailable', 'the database does not answer', { retryAfterMs: 50 }));
        else if (result instanceof ProblemError) reject(result);
        else resolve(result);
      }
      if (this.#waiting.length > 0) this.#commitSoon();
      else this.#committing = false;
    });
  }

  /** Begins a transaction and reads for a while in it; `false` if it was not to be had, or was lost in between. */
  async #locked(epoch: number): Promise<boolean> {
    if (this.#lock === undefined) return true;
    const transaction = await this.#lock.begin();
    if (transaction === undefined) return false;
    if (this.faults)
      // Some transactions are long, such that a process that stops in the middle of one is met in every batch of runs.
      await new Promise<void>((resolve) => void this.#clock.setTimer(this.#random.pick([0, 5, 20, 120]), resolve));
    const isWhole = !transaction.isBroken && epoch === this.#epoch;
    transaction.end();
    return isWhole;
  }

  /** The time that a read takes, or its failure. */
  pause(): Promise<void> {
    return new Promise((resolve, reject) =>
      this.#clock.setTimer(this.#random.between(0, 40), () =>
        this.faults && this.#random.chance(0.02)
          ? reject(refusal('unavailable', 'the disk does not answer'))
          : resolve(),
      ),
    );
  }
}

/** A relay that drops, doubles and delays what it carries to instances, and orders faithfully. */
export class FaultyRelay implements Relay {
  readonly recent: LogReader;
  readonly boards: BoardKeeper;
  readonly control: ControlLog;
  readonly #solo: SoloRelay;
  readonly #clock: VirtualClock;
  readonly #random: Random;
  readonly #truth: Truth;
  faults = true;

  constructor(clock: VirtualClock, random: Random, ids: Ids, truth: Truth) {
    this.#solo = new SoloRelay(clock, ids);
    this.#clock = clock;
    this.#random = random;
    this.#truth = truth;
    this.recent = this.#solo.recent;
    this.control = this.#solo.control;
    const solo = this.#solo.boards;
    this.boards = {
      change: (channel, changes, bounds) =>
        this.#slowly(async () => {
          const changed = await solo.change(channel, changes, bounds);
          // What is carried is part of the result, beyond its type.
          const { word } = (changed ?? {}) as { word?: BoardWord };
          if (word !== undefined) this.#truth.boards.add(channel, word.board, word.after, word.changes);
          return changed;
        }),
      read: (channel) => this.#slowly(() => solo.read(channel)),
      places: (channels) => this.#slowly(() => solo.places(channels)),
      restore: (channel, changes) =>
        this.#slowly(async () => {
          await solo.restore(channel, changes);
          const made = await solo.read(channel);
          if (made !== undefined) this.#truth.boards.restored(channel, made);
        }),
    };
  }

  async append(channel: ChannelName, draft: Draft, bounds: LogBounds): Promise<Appended> {
    const appended = await this.#solo.append(channel, draft, bounds);
    if (!appended.repeated) this.#truth.add(appended.logged);
    return appended;
  }

  /** The process is its own keeper of boards, but nothing relies on its being quick. */
  #slowly<T>(act: () => Promise<T>): Promise<T> {
    const delayMs = this.faults ? this.#random.between(0, 30) : 0;
    return new Promise((resolve, reject) => this.#clock.setTimer(delayMs, () => act().then(resolve, reject)));
  }

  announce(channel: ChannelName, messages: readonly LoggedMessage[]): void {
    this.#solo.announce(channel, messages);
  }

  subscribe<Word extends object>(topic: Topic<Word>, subscriber: Subscriber<Word>): undefined {
    if (commonTopics.has(topic)) {
      this.#solo.subscribe(topic, subscriber);
      return;
    }
    const receive = (messages: readonly LoggedMessage[]): void => {
      if (!this.faults || this.#random.chance(0.8)) {
        subscriber.receive?.(messages);
        return;
      }
      const fate = this.#random.between(0, 2);
      if (fate === 1) subscriber.receive?.(messages);
      if (fate > 0) this.#clock.setTimer(this.#random.between(1, 500), () => subscriber.receive?.(messages));
    };
    const hear = (word: Word): void => {
      if (!this.faults || !topic.startsWith(channelPrefix) || this.#random.chance(0.8)) subscriber.hear(word);
    };
    this.#solo.subscribe(topic, { receive, hear });
  }

  publish<Word extends object>(topic: Topic<Word>, word: Word): void {
    // User news is never dropped here: no later word repeats it. A real link reports its loss, and engines then look again.
    if (topic !== usersTopic || !this.faults || this.#random.chance(0.8)) this.#solo.publish(topic, word);
  }

  readonly isCut = false;

  unsubscribe(topic: string): void {
    this.#solo.unsubscribe(topic);
  }

  stop(): void {
    this.#solo.stop();
  }
}
