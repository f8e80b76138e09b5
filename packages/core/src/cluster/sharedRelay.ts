import { type ChannelName, type Json, refusal } from '@nine-bells/wire';
import type { ControlEntry } from '../model/control.js';
import type {
  InstanceAnswers,
  InstanceInfo,
  InstanceQuestion,
  InstanceStatus,
  InstanceWord,
} from '../model/instance.js';
import type { Growth } from '../model/mark.js';
import {
  type Appended,
  type Draft,
  type LogBounds,
  LoggedMessage,
  type LogSlice,
  lineOf,
  type MessageLine,
  type Place,
} from '../model/message.js';
import type { UserWord } from '../model/notice.js';
import type { Signal } from '../model/signal.js';
import type { Clock } from '../ports/clock.js';
import type { ControlLog, Others, OthersEars, Relay, Subscriber } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { LogReader } from '../ports/stores.js';
import { carriedLine, carriedMessages, readCarried } from './carried.js';
import { controlBounds, controlChannel, type Exchange, type Lease, type Placed, topics } from './exchange.js';

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

/** Most messages of one call, and their size in characters. */
const batchMessages = 500;
const batchChars = 1_000_000;
/** How long the control log may be unread before no new client is let in, in milliseconds. */
const controlFreshMs = 5_000;
/** Most instances that are remembered not to be there any more. */
const maxGone = 1_000;
/** When to try again what was refused because nothing is carried, in milliseconds. */
const retryAfterMs = 1_000;

interface Waiting {
  readonly draft: Draft;
  readonly line: MessageLine;
  readonly resolve: (appended: Appended) => void;
  readonly reject: (error: Error) => void;
}

/** What waits to be appended to a channel. One call is under way at a time, so that order is kept through its retries. */
interface Appending {
  readonly bounds: LogBounds;
  waiting: Waiting[];
  isUnderWay: boolean;
  isScheduled: boolean;
}

interface Asked {
  readonly open: Set<string>;
  readonly answers: { instance: string; instanceId: string; answer: Json }[];
  done(): void;
}

/** What is said on the topics `all` and of an instance. */
type Envelope = { readonly from: string } & (
  | { readonly user: UserWord }
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
  readonly #subscribers = new Map<ChannelName, Subscriber>();
  readonly #appending = new Map<ChannelName, Appending>();
  #scheduled: [ChannelName, Appending][] = [];
  #announced = new Map<ChannelName, LoggedMessage[]>();
  #hearUsers: (word: UserWord) => void = () => {};
  #hearGrowth: (growth: Growth) => void = () => {};
  readonly #known = new Map<string, Known>();
  /** Instances that have ended: what still comes of them is old. */
  readonly #gone = new Set<string>();
  /** Topics of the instances whose subscription has failed. */
  readonly #unheard = new Set<string>();
  /** Those that were heard though no lease of theirs was seen, and when, last; they may have gone without a word that came. */
  readonly #strangers = new Map<string, number>();
  readonly #asked = new Map<number, Asked>();
  #lastAsked = 0;
  #ears: OthersEars | undefined;
  // The control log.
  #receiveControl: (entry: ControlEntry) => void = () => {};
  #controlLost: () => void = () => {};
  #controlPlace: Place | undefined;
  #controlReadAtMs = Number.NEGATIVE_INFINITY;
  #readingControl: Promise<void> | undefined;
  #unsaid: ControlEntry[] = [];
  readonly #controlWaiters: (() => void)[] = [];

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
    const relay = this;
    this.control = {
      append: (entry) => this.#appendControl(entry),
      follow: (receive, lost) => {
        this.#receiveControl = receive;
        this.#controlLost = lost;
      },
      ready: () => this.#controlReady(),
      get isFresh() {
        return clock.monotonic() - relay.#controlReadAtMs < controlFreshMs;
      },
    };
    this.others = {
      get self() {
        return relay.#self;
      },
      get heard() {
        return relay.#heardTexts;
      },
      ask: <T>(question: InstanceQuestion, withinMs: number) => this.#ask<T>(question, withinMs),
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
          this.#options.report(error, { what: 'what came over the relay could not be read', topic });
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
    if (!this.#linked) return Promise.reject(cutOff());
    return new Promise((resolve, reject) => {
      let appending = this.#appending.get(channel);
      if (appending === undefined) {
        appending = { bounds, waiting: [], isUnderWay: false, isScheduled: false };
        this.#appending.set(channel, appending);
      }
      appending.waiting.push({ draft, line: lineOf(draft), resolve, reject });
      if (appending.isScheduled || appending.isUnderWay) return;
      appending.isScheduled = true;
      if (this.#scheduled.push([channel, appending]) === 1) this.#clock.endOfTurn(() => this.#appendScheduled());
    });
  }

  announce(channel: ChannelName, messages: readonly LoggedMessage[]): void {
    if (this.#announced.size === 0) this.#clock.endOfTurn(() => this.#announceAll());
    const waiting = this.#announced.get(channel);
    if (waiting === undefined) this.#announced.set(channel, [...messages]);
    else waiting.push(...messages);
  }

  subscribe(subscriber: Subscriber): Promise<void> {
    this.#subscribers.set(subscriber.name, subscriber);
    return this.#within(this.#exchange.subscribe(topics.channel(subscriber.name)));
  }

  unsubscribe(channel: ChannelName): void {
    this.#subscribers.delete(channel);
    this.#exchange.unsubscribe(topics.channel(channel));
  }

  cast(signal: Signal): void {
    if (this.#linked) this.#exchange.publish(topics.channel(signal.channel), JSON.stringify(signal));
  }

  #appendScheduled(): void {
    const scheduled = this.#scheduled;
    this.#scheduled = [];
    for (const [channel, appending] of scheduled) {
      appending.isScheduled = false;
      void this.#appendNext(channel, appending);
    }
  }

  async #appendNext(channel: ChannelName, appending: Appending): Promise<void> {
    const group = cut(appending.waiting);
    appending.waiting = appending.waiting.slice(group.length);
    appending.isUnderWay = true;
    try {
      const lines = group.map(({ line }) => line);
      const placed = await this.#within(this.#exchange.append(channel, lines, appending.bounds));
      for (const [index, each] of group.entries()) each.resolve(appendedOf(channel, each, placed[index] as Placed));
    } catch (error) {
      const refused = isRefusal(error) ? error : cutOff(error);
      for (const each of group) each.reject(refused as Error);
    }
    appending.isUnderWay = false;
    if (appending.waiting.length > 0) void this.#appendNext(channel, appending);
    else this.#appending.delete(channel);
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

  tellUser(word: UserWord): void {
    // The sessions that are here do not need the relay.
    this.#hearUsers(word);
    this.#say(topics.all, { user: word });
  }

  followUsers(receive: (word: UserWord) => void): void {
    this.#hearUsers = receive;
  }

  tellGrowth(growth: Growth): void {
    this.#hearGrowth(growth);
    if (this.#linked) {
      const { channel } = growth;
      this.#exchange.publish(topics.growth(channel), JSON.stringify({ from: this.#self, growth }));
    }
  }

  followGrowth(receive: (growth: Growth) => void): void {
    this.#hearGrowth = receive;
  }

  wantGrowth(channel: ChannelName): Promise<void> {
    return this.#within(this.#exchange.subscribe(topics.growth(channel)));
  }

  unwantGrowth(channel: ChannelName): void {
    this.#exchange.unsubscribe(topics.growth(channel));
  }

  #heard(topic: string, text: string): void {
    this.#heardTexts += 1;
    if (topic.startsWith('c/')) this.#heardChannel(topic.slice(2) as ChannelName, text);
    else if (topic.startsWith('g/')) {
      const { from, growth } = JSON.parse(text) as { from: string; growth: Growth };
      if (from !== this.#self) this.#hearGrowth(growth);
    } else this.#heardEnvelope(JSON.parse(text) as Envelope);
  }

  #heardChannel(channel: ChannelName, text: string): void {
    if (channel === controlChannel) {
      this.#heardControl(text);
      return;
    }
    const subscriber = this.#subscribers.get(channel);
    if (subscriber === undefined) return;
    if (text.startsWith('{')) {
      const signal = JSON.parse(text) as Signal;
      if (!('table' in signal) || this.#hears(signal.table)) subscriber.hear(signal);
    } else subscriber.receive(readCarried(channel, text) ?? []);
  }

  #heardEnvelope(envelope: Envelope): void {
    const { from } = envelope;
    if (from === this.#self || !this.#hears(from)) return;
    if ('user' in envelope) this.#hearUsers(envelope.user);
    else if ('word' in envelope) this.#ears?.hear(from, envelope.word);
    else if ('bye' in envelope) this.#forget(from);
    else if ('came' in envelope) void this.#beat();
    else if ('question' in envelope) void this.#answer(envelope.ask, envelope.question, from);
    else this.#answered(envelope.re, { instance: envelope.instance, instanceId: from, answer: envelope.answer });
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

  #ask<T>(question: InstanceQuestion, withinMs: number): Promise<InstanceAnswers<T>> {
    const all = [...this.#known].filter(([each]) => each !== this.#self);
    if (all.length === 0) return Promise.resolve({ answers: [], missing: [] });
    const nameOf = (each: string): string => this.#known.get(each)?.status.instance ?? each;
    if (!this.#linked) return Promise.resolve({ answers: [], missing: all.map(([each]) => nameOf(each)) });
    const id = ++this.#lastAsked;
    return new Promise((resolve) => {
      const asked: Asked = {
        open: new Set(all.map(([each]) => each)),
        answers: [],
        done: () => {
          cancel();
          this.#asked.delete(id);
          resolve({
            answers: asked.answers.filter(
              (each) => !this.#gone.has(each.instanceId),
            ) as unknown as InstanceAnswers<T>['answers'],
            missing: [...asked.open].map(nameOf),
          });
        },
      };
      const cancel = this.#clock.setTimer(withinMs, () => asked.done());
      this.#asked.set(id, asked);
      this.#say(topics.all, { ask: id, question });
    });
  }

  async #answer(re: number, question: InstanceQuestion, from: string): Promise<void> {
    try {
      const answer = (await this.#ears?.answer(question)) ?? null;
      this.#say(topics.instance(from), { re, instance: this.#options.instance, answer });
    } catch (error) {
      this.#options.report(error, { what: 'a question of another instance could not be answered', ask: question.type });
    }
  }

  #answered(re: number, answer: Asked['answers'][number]): void {
    const asked = this.#asked.get(re);
    if (asked === undefined) return;
    // One that has come meanwhile answers too.
    asked.answers.push(answer);
    asked.open.delete(answer.instanceId);
    if (asked.open.size === 0) asked.done();
  }

  // -------------------------------------------------------------------------------------------- control

  async #controlReady(): Promise<void> {
    if (this.#controlPlace !== undefined) return;
    await new Promise<void>((resolve) => void this.#controlWaiters.push(resolve));
  }

  /** The others are told as soon as there is a way; here it takes effect in any case. */
  async #appendControl(entry: ControlEntry): Promise<void> {
    const at = this.#controlPlace;
    try {
      const placed = await this.#writeControl(entry);
      if (at === undefined || !this.#hasControl(placed)) await this.#readControl();
      if (!this.#hasControl(placed)) this.#receiveControl(entry);
    } catch {
      this.#unsaid.push(entry);
      this.#receiveControl(entry);
    }
  }

  async #writeControl(entry: ControlEntry): Promise<Place> {
    if (!this.#linked) throw cutOff();
    const atMs = this.#clock.now();
    const id = `${this.#self}-${atMs}`;
    const tail = JSON.stringify({ id, data: entry }).slice(1);
    const [placed] = await this.#within(this.#exchange.append(controlChannel, [{ id, atMs, tail }], controlBounds));
    return (placed as Placed).place;
  }

  #hasControl(place: Place): boolean {
    return this.#controlPlace?.volume === place.volume && this.#controlPlace.number >= place.number;
  }

  #heardControl(text: string): void {
    for (const each of readCarried(controlChannel, text) ?? []) {
      if (this.#controlPlace === undefined || this.#hasControl(each.place)) continue;
      if (each.place.volume !== this.#controlPlace.volume || each.place.number !== this.#controlPlace.number + 1) {
        void this.#readControl();
        return;
      }
      this.#takeControl(each);
    }
  }

  #takeControl(each: LoggedMessage): void {
    this.#controlPlace = each.place;
    this.#receiveControl(each.message.data as unknown as ControlEntry);
  }

  #readControl(): Promise<void> {
    this.#readingControl ??= this.#readControlNow()
      .catch((error: unknown) => this.#failed(error))
      .finally(() => {
        this.#readingControl = undefined;
      });
    return this.#readingControl;
  }

  async #readControlNow(): Promise<void> {
    const exchange = this.#exchange;
    if (this.#controlPlace === undefined) {
      this.#controlPlace = await this.#within(exchange.head(controlChannel));
      for (const tell of this.#controlWaiters.splice(0)) tell();
    }
    for (let more = true; more; ) {
      const after: Place = this.#controlPlace;
      const limit = { messages: 1_000, bytes: 10_000_000 };
      const slice: LogSlice = await this.#within(exchange.since(controlChannel, after, limit, controlBounds));
      // What was heard while this was read is not taken twice.
      for (const each of slice.messages) if (!this.#hasControl(each.place)) this.#takeControl(each);
      if (slice.gap !== undefined) {
        if (slice.messages.length === 0) this.#controlPlace = slice.head;
        this.#controlLost();
      }
      more = slice.more;
    }
    this.#controlReadAtMs = this.#clock.monotonic();
  }

  // ----------------------------------------------------------------------------------- leases and life

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
      this.#options.report(error, { what: 'the relay cannot be reached' });
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
      await this.#readControl();
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
    for (const entry of this.#unsaid.splice(0))
      this.#writeControl(entry).catch(() => {
        this.#unsaid.push(entry);
      });
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
    for (const asked of [...this.#asked.values()])
      if (asked.open.delete(instanceId) && asked.open.size === 0) asked.done();
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

/** As many of those that wait as one call takes. */
function cut(waiting: readonly Waiting[]): readonly Waiting[] {
  let chars = 0;
  for (const [index, { line }] of waiting.entries()) {
    chars += line.tail.length;
    if (index === batchMessages || (chars > batchChars && index > 0)) return waiting.slice(0, index);
  }
  return waiting;
}

function appendedOf(channel: ChannelName, { draft }: Waiting, { place, repeated, id }: Placed): Appended {
  return { logged: new LoggedMessage(channel, place, repeated ? { ...draft, id } : draft), repeated };
}

function cutOff(cause?: unknown): Error {
  const refused = refusal('busy', 'the relay between the instances cannot be reached; try again, with the same key', {
    retryAfterMs,
  });
  refused.cause = cause;
  return refused;
}

function isRefusal(error: unknown): boolean {
  return error instanceof Error && error.name === 'ProblemError';
}
