import type { ChannelName, Json } from '@nine-bells/wire';
import type { InstanceInfo, InstanceQuestion, InstanceStatus, InstanceWord } from '../model/instance.js';
import type { Appended, Draft, LogBounds, LoggedMessage } from '../model/message.js';
import type { Signal } from '../model/signal.js';
import type { Clock } from '../ports/clock.js';
import {
  type BoardKeeper,
  type ControlLog,
  channelPrefix,
  commonTopics,
  type Others,
  type OthersEars,
  type Relay,
  type Subscriber,
  type Topic,
} from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { LogReader } from '../ports/stores.js';
import { AppendQueue } from './appendQueue.js';
import { carriedLine, carriedMessages, readCarried } from './carried.js';
import { ControlFeed } from './controlFeed.js';
import { controlChannel, type Exchange, type Lease, topics } from './exchange.js';
import { InstanceQuestions } from './instanceQuestions.js';
import { cutOff, isRefusal } from './refusals.js';

export interface SharedRelayOptions {
  /** This instance's name; two may have the same. */
  readonly instance: string;
  /** Makes an incarnation: 1 to 16 of `a-z0-9`. */
  readonly incarnation: () => string;
  /** The bounds of a recent channel, by its rule. */
  readonly boundsOf: (channel: ChannelName) => LogBounds;
  readonly report: Report;
  /** How often the lease is renewed. Default 1 s. */
  readonly beatMs?: number;
  /** How long an instance that is not heard of is taken to live. Default 4 s. */
  readonly leaseMs?: number;
  /** How long a call may take before nothing is taken to be carried any more. Default 2 s. */
  readonly callMs?: number;
}

/** Most instances that are remembered not to be there any more. */
const maxGone = 1_000;
/** What is said on the topics `all` and of an instance. */
type Envelope = { readonly from: string } & (
  | { readonly on: string; readonly said: object }
  | { readonly word: InstanceWord }
  | { readonly ask: number; readonly question: InstanceQuestion }
  | { readonly re: number; readonly instance: string; readonly answer: Json }
  | { readonly bye: true }
  | { readonly came: true }
);

interface Known {
  status: InstanceStatus;
  leftMs: number;
  /** When its lease was last seen to hold. */
  aliveAtMs: number;
}

/** The relay of a service that is several instances, which meet at an exchange. */
export class SharedRelay implements Relay {
  readonly recent: LogReader;
  readonly boards: BoardKeeper;
  readonly control: ControlLog;
  readonly others: Others;
  readonly #exchange: Exchange;
  readonly #clock: Clock;
  readonly #options: Required<SharedRelayOptions>;
  #self: string;
  #linked = false;
  /** That the relay cannot be reached was reported, and it has not been reached since. */
  #isTold = false;
  #heardTexts = 0;
  #linkedSinceMs = 0;
  /** Something may have been lost since the last time the ears were told so. */
  #mustResume = false;
  /** When the lease was taken or renewed the last time, as far as is known. */
  #heldAtMs: number | undefined;
  /** When it was first asked for in the name of this incarnation, whether or not an answer came. */
  #triedAtMs: number | undefined;
  #stopped = false;
  #relayMs: number | undefined;
  #cancelBeat: (() => void) | undefined;
  #beating = false;
  readonly #subscribers = new Map<string, Subscriber<never>>();
  readonly #appends: AppendQueue;
  readonly #questions: InstanceQuestions;
  readonly #control: ControlFeed;
  #announced = new Map<ChannelName, LoggedMessage[]>();
  readonly #known = new Map<string, Known>();
  /** Instances that have ended: what still comes of them is old. */
  readonly #gone = new Set<string>();
  /** Topics of the instances whose subscription has failed. */
  readonly #unheard = new Set<string>();
  /** Those that were heard though no lease of theirs was seen, and when, last; they may have gone without a word that came. */
  readonly #strangers = new Map<string, number>();
  #ears: OthersEars | undefined;
  constructor(exchange: Exchange, clock: Clock, options: SharedRelayOptions) {
    this.#exchange = exchange;
    this.#clock = clock;
    this.#options = { beatMs: 1_000, leaseMs: 4_000, callMs: 2_000, ...options };
    this.#self = this.#newSelf();
    const { boundsOf } = this.#options;
    const reading = <T>(call: () => Promise<T>): Promise<T> => this.#within(call());
    this.recent = {
      head: (channel) => reading(() => exchange.head(channel)),
      heads: (channels) => reading(() => exchange.heads(channels)),
      since: (channel, after, limit) => reading(() => exchange.since(channel, after, limit, boundsOf(channel))),
      before: (channel, before, limit) => reading(() => exchange.before(channel, before, limit, boundsOf(channel))),
    };
    this.boards = {
      change: (channel, changes, bounds) =>
        this.#linked ? reading(() => exchange.changeBoard(channel, changes, bounds)) : Promise.reject(cutOff()),
      read: (channel) => reading(() => exchange.readBoard(channel)),
      places: (channels) => reading(() => exchange.boardPlaces(channels)),
      restore: (channel, changes) => reading(() => exchange.restoreBoard(channel, changes)),
    };
    this.#appends = new AppendQueue(clock, (channel, lines, bounds) =>
      this.#within(exchange.append(channel, lines, bounds)),
    );
    this.#control = new ControlFeed({
      clock,
      exchange,
      isLinked: () => this.#linked,
      self: () => this.#self,
      within: (call) => this.#within(call),
      failed: (error) => this.#failed(error),
    });
    this.control = this.#control;
    this.#questions = new InstanceQuestions({
      clock,
      others: () => this.#otherNames(),
      isLinked: () => this.#linked,
      hasGone: (instanceId) => this.#gone.has(instanceId),
      say: (ask, question) => this.#say(topics.all, { ask, question }),
    });
    const relay = this;
    this.others = {
      get self() {
        return relay.#self;
      },
      get heard() {
        return relay.#heardTexts;
      },
      ask: <T>(question: InstanceQuestion, withinMs: number) => this.#questions.ask<T>(question, withinMs),
      tell: (word) => this.#say(topics.all, { word }),
      list: () => this.#list(),
      claim: (name, ttlMs) => exchange.claim(name, ttlMs),
      follow: (ears) => {
        this.#ears = ears;
      },
    };
    exchange.listen({
      heard: (topic, text) => {
        try {
          this.#heard(topic, text);
        } catch (error) {
          // Other programs may write there: an unreadable text is skipped, and does not end the instance.
          this.#options.report(error, { event: 'relay-message-unreadable', topic });
        }
      },
      broken: () => this.#broke(),
      resumed: () => {
        this.#mustResume = true;
        void this.#beat();
      },
    });
    for (const topic of [topics.all, topics.channel(controlChannel), topics.instance(this.#self)]) this.#follow(topic);
    void this.#beat();
  }

  get isCut(): boolean {
    return !this.#linked;
  }

  // ------------------------------------------------------------------------------------------- messages

  append(channel: ChannelName, draft: Draft, bounds: LogBounds): Promise<Appended> {
    return this.#linked ? this.#appends.append(channel, draft, bounds) : Promise.reject(cutOff());
  }

  announce(channel: ChannelName, messages: readonly LoggedMessage[]): void {
    if (this.#announced.size === 0) this.#clock.endOfTurn(() => this.#announceAll());
    const waiting = this.#announced.get(channel);
    if (waiting === undefined) this.#announced.set(channel, [...messages]);
    else waiting.push(...messages);
  }

  #announceAll(): void {
    const announced = this.#announced;
    this.#announced = new Map();
    if (!this.#linked) return;
    for (const [channel, messages] of announced) {
      messages.sort((a, b) => a.place.number - b.place.number);
      for (let from = 0, to = 1; from < messages.length; to++) {
        const first = messages[from] as LoggedMessage;
        const next = messages[to];
        if (next !== undefined && next.place.number === first.place.number + to - from) continue;
        const lines = messages.slice(from, to).map(carriedLine);
        this.#exchange.publish(topics.channel(channel), carriedMessages(first.place, lines));
        from = to;
      }
    }
  }

  // ---------------------------------------------------------------------------------------------- words

  subscribe<Word extends object>(topic: Topic<Word>, subscriber: Subscriber<Word>): Promise<void> | undefined {
    this.#subscribers.set(topic, subscriber);
    // Messages to users share the topic that all instances subscribe to.
    return commonTopics.has(topic) ? undefined : this.#within(this.#exchange.subscribe(topic));
  }

  unsubscribe(topic: string): void {
    this.#subscribers.delete(topic);
    if (!commonTopics.has(topic)) this.#exchange.unsubscribe(topic);
  }

  publish<Word extends object>(topic: Topic<Word>, word: Word): void {
    if (topic.startsWith(channelPrefix)) {
      // It comes back over the exchange, in one order with the messages.
      if (this.#linked) this.#exchange.publish(topic, JSON.stringify(word));
      return;
    }
    // The sessions that are here do not need the relay.
    this.#hearer<Word>(topic)?.hear(word);
    this.#say(commonTopics.has(topic) ? topics.all : topic, { on: topic, said: word });
  }

  #hearer<Word>(topic: string): Subscriber<Word> | undefined {
    return this.#subscribers.get(topic) as Subscriber<Word> | undefined;
  }

  #heard(topic: string, text: string): void {
    this.#heardTexts += 1;
    if (topic.startsWith(channelPrefix)) this.#heardChannel(topic, text);
    else this.#heardEnvelope(JSON.parse(text) as Envelope);
  }

  #heardChannel(topic: string, text: string): void {
    const channel = topic.slice(channelPrefix.length) as ChannelName;
    if (channel === controlChannel) {
      this.#control.heard(text);
      return;
    }
    const subscriber = this.#hearer<Signal>(topic);
    if (subscriber === undefined) return;
    if (text.startsWith('{')) {
      const signal = JSON.parse(text) as Signal;
      if (!('table' in signal) || this.#hears(signal.table)) subscriber.hear(signal);
    } else subscriber.receive?.(readCarried(channel, text) ?? []);
  }

  #heardEnvelope(envelope: Envelope): void {
    const { from } = envelope;
    if (from === this.#self || !this.#hears(from)) return;
    if ('said' in envelope) this.#hearer(envelope.on)?.hear(envelope.said);
    else if ('word' in envelope) this.#ears?.hear(from, envelope.word);
    else if ('bye' in envelope) this.#forget(from);
    else if ('came' in envelope) void this.#beat();
    else if ('question' in envelope) void this.#answer(envelope.ask, envelope.question, from);
    else
      this.#questions.answered(envelope.re, { instance: envelope.instance, instanceId: from, answer: envelope.answer });
  }

  /** Whether it is heard what an instance says: not, once it is taken to have gone. */
  #hears(instanceId: string): boolean {
    if (this.#gone.has(instanceId)) return false;
    if (instanceId !== this.#self && !this.#known.has(instanceId))
      this.#strangers.set(instanceId, this.#clock.monotonic());
    return true;
  }

  #say(topic: string, said: object): void {
    if (this.#linked) this.#exchange.publish(topic, JSON.stringify({ from: this.#self, ...said }));
  }

  // ------------------------------------------------------------------------------------------ questions

  async #answer(re: number, question: InstanceQuestion, from: string): Promise<void> {
    try {
      const answer = (await this.#ears?.answer(question)) ?? null;
      this.#say(topics.instance(from), { re, instance: this.#options.instance, answer });
    } catch (error) {
      this.#options.report(error, { event: 'instance-question-failed', ask: question.type });
    }
  }

  // ----------------------------------------------------------------------------------- leases and life

  /** The other instances, with their names. */
  #otherNames(): ReadonlyMap<string, string> {
    const names = new Map([...this.#known].map(([instanceId, { status }]) => [instanceId, status.instance]));
    names.delete(this.#self);
    return names;
  }

  #list(): readonly InstanceInfo[] {
    const all: InstanceInfo[] = [];
    const status = this.#ears?.status();
    for (const [instanceId, known] of this.#known) {
      const isThis = instanceId === this.#self;
      const shown = isThis && status !== undefined ? this.#statusOf(status) : known.status;
      all.push({ instanceId, isThis, leaseMs: Math.round(known.leftMs), ...shown });
    }
    return all.sort((a, b) => (a.instance < b.instance ? -1 : 1));
  }

  #statusOf(status: InstanceStatus): InstanceStatus {
    return { ...status, ...(this.#relayMs === undefined ? {} : { relayMs: Math.round(this.#relayMs * 100) / 100 }) };
  }

  #newSelf(): string {
    return `${this.#options.instance}.${this.#options.incarnation()}`;
  }

  /** Hears a topic of the instances; what fails is tried again with the next beat that gets through. */
  #follow(topic: string): void {
    const isAgain = this.#unheard.delete(topic);
    this.#within(this.#exchange.subscribe(topic)).then(
      () => {
        // What was said there meanwhile is lost.
        if (isAgain) this.#mustResume = true;
      },
      (error: unknown) => {
        // It may have become another meanwhile, which has a topic of its own.
        if (!topic.startsWith(topics.instance('')) || topic === topics.instance(this.#self)) this.#unheard.add(topic);
        this.#failed(error);
      },
    );
  }

  #broke(): void {
    this.#linked = false;
  }

  /** A call failed: nothing is taken to be carried until a lease is renewed. */
  #failed(error: unknown): void {
    // That the exchange is not open yet is no failure.
    const isBeginning = this.#heldAtMs === undefined && isRefusal(error);
    if (!this.#isTold && !isBeginning) {
      this.#isTold = true;
      this.#options.report(error, { event: 'relay-unreachable' });
    }
    this.#broke();
  }

  async #beat(): Promise<void> {
    if (this.#stopped || this.#beating) return;
    this.#cancelBeat?.();
    if (this.#ears === undefined) {
      // Who has nothing to say of itself yet is not there yet.
      this.#cancelBeat = this.#clock.setTimer(0, () => void this.#beat());
      return;
    }
    this.#beating = true;
    const startMs = this.#clock.monotonic();
    try {
      await this.#renew();
      await this.#control.read();
    } catch (error) {
      this.#failed(error);
    }
    this.#beating = false;
    if (this.#stopped) return;
    const tookMs = this.#clock.monotonic() - startMs;
    this.#cancelBeat = this.#clock.setTimer(Math.max(0, this.#options.beatMs - tookMs), () => void this.#beat());
  }

  async #renew(): Promise<void> {
    const { leaseMs } = this.#options;
    const atMs = this.#clock.monotonic();
    const shown = JSON.stringify(this.#statusOf((this.#ears as OthersEars).status()));
    const self = this.#self;
    this.#triedAtMs ??= atMs;
    const { held, leases } = await this.#within(this.#exchange.beat(self, shown, leaseMs));
    if (this.#stopped) return;
    const now = this.#clock.monotonic();
    this.#relayMs = now - atMs;
    const wasLinked = this.#linked;
    if (!wasLinked) this.#linkedSinceMs = now;
    this.#linked = true;
    this.#isTold = false;
    const wasAlive = this.#heldAtMs !== undefined;
    // An answer that was lost may have been the one that said so, also that to the first call of all: what counts is how
    // long it was unsure.
    const isSame = (held || !wasAlive) && atMs - (this.#heldAtMs ?? this.#triedAtMs ?? atMs) <= leaseMs;
    this.#heldAtMs = atMs;
    for (const topic of [...this.#unheard]) this.#follow(topic);
    this.#look(leases, now);
    if (!wasAlive) this.#say(topics.all, { came: true });
    if (!isSame) this.#becomeAnother();
    if (!wasLinked || this.#mustResume || !isSame) this.#resume();
  }

  /** The others have taken this instance for dead, or may have: what they believed of it is over, and said anew. */
  #becomeAnother(): void {
    const before = this.#self;
    this.#self = this.#newSelf();
    this.#exchange.unsubscribe(topics.instance(before));
    this.#unheard.delete(topics.instance(before));
    this.#follow(topics.instance(this.#self));
    this.#known.delete(before);
    this.#gone.add(before);
    this.#heldAtMs = undefined;
    this.#triedAtMs = undefined;
    this.#exchange.leave(before).catch((error: unknown) => this.#failed(error));
    this.#exchange.publish(topics.all, JSON.stringify({ from: before, bye: true }));
    void this.#renew().catch((error: unknown) => this.#failed(error));
  }

  #resume(): void {
    this.#mustResume = false;
    this.#control.resume();
    this.#ears?.resumed();
  }

  #look(leases: readonly Lease[], now: number): void {
    for (const { instanceId, status, leftMs } of leases) {
      const known = this.#known.get(instanceId);
      if (this.#gone.has(instanceId) || (known === undefined && leftMs <= 0)) continue;
      this.#known.set(instanceId, {
        status: JSON.parse(status) as InstanceStatus,
        leftMs,
        aliveAtMs: leftMs > 0 ? now : (known?.aliveAtMs ?? now),
      });
      this.#strangers.delete(instanceId);
    }
    // While the exchange was away no instance could renew its lease: each has the time of one lease to do so.
    const sinceMs = now - this.#linkedSinceMs;
    for (const [instanceId, { aliveAtMs }] of this.#known)
      if (instanceId !== this.#self && aliveAtMs < now && sinceMs > this.#options.leaseMs) this.#forget(instanceId);
    for (const [instanceId, heardAtMs] of this.#strangers)
      if (now - heardAtMs > this.#options.leaseMs && sinceMs > this.#options.leaseMs) this.#forget(instanceId);
  }

  #forget(instanceId: string): void {
    this.#known.delete(instanceId);
    this.#strangers.delete(instanceId);
    if (this.#gone.has(instanceId)) return;
    this.#gone.add(instanceId);
    if (this.#gone.size > maxGone)
      for (const oldest of this.#gone) {
        this.#gone.delete(oldest);
        break;
      }
    this.#questions.gone(instanceId);
    this.#ears?.gone(instanceId);
  }

  /** Says goodbye. */
  async stop(): Promise<void> {
    this.#cancelBeat?.();
    this.#say(topics.all, { bye: true });
    this.#stopped = true;
    await this.#within(this.#exchange.leave(this.#self)).catch(() => {});
    this.#linked = false;
  }

  /** A call that takes too long has failed, whatever becomes of it. */
  #within<T>(call: Promise<T>): Promise<T> {
    return new Promise((resolve, reject) => {
      const cancel = this.#clock.setTimer(this.#options.callMs, () => {
        const late = new Error(`the relay has not answered within ${this.#options.callMs} ms`);
        this.#failed(late);
        reject(late);
      });
      call.then(resolve, reject).finally(cancel);
    });
  }
}
