import { type Engine, erasedAuthor } from '@nine-bells/core';
import {
  type ChannelName,
  type Cursor,
  defined,
  type Entered,
  type EnterRefused,
  filterFits,
  formatCursor,
  type Gap,
  isPush,
  isReply,
  type Json,
  type Message,
  type MessageFilter,
  type PassedPush,
  type Place,
  parseCursor,
  type ReplyFrame,
  readServerFrame,
  type ThreadInfo,
  type ThreadsPush,
  type Welcome,
} from '@nine-bells/wire';
import { BlockView } from './blockView.js';
import type { SetValue } from './boardTruth.js';
import { BoardView } from './boardView.js';
import type { Truth } from './faultyPorts.js';
import { MemberList } from './memberList.js';
import type { Random } from './random.js';
import { ReactionView } from './reactionView.js';
import type { SimulatedCall } from './simulatedApplication.js';
import { type FarEnd, type Reached, type Sabotage, SimulatedLink } from './simulatedNetwork.js';
import type { VirtualClock } from './virtualClock.js';

/** What a client has seen of a channel without interruption: from a place on, and what it was told is missing. */
export interface Stretch {
  readonly channel: ChannelName;
  readonly from: Place;
  readonly seen: Message[];
  /** What the client wants of it; absent: everything. */
  readonly filter: MessageFilter | undefined;
  /** Where to go on: of the last message, or as the last reply said. */
  cursor: Cursor;
}

/** The client that is mentioned now and then. */
export const mentionedClient = 'client-1';

interface Publish {
  readonly channel: ChannelName;
  readonly key: string;
  readonly echo: boolean;
  /** What it answers. */
  readonly replyTo?: Cursor;
  /** It mentions a client (`mentionedClient`). */
  readonly mentions?: boolean;
  acknowledged: boolean;
  /** It was not taken: what it answers was withdrawn, or pruned; or the application said no. */
  isRefused?: boolean;
  /** Its id in the moderators' queue. */
  pending?: string;
  /** Whether its author has taken it back. */
  takenBack?: 'perhaps' | 'surely';
}

/** A change of a message, which leaves a mark in it. */
interface Change {
  readonly channel: ChannelName;
  readonly mark: string;
  readonly request: object;
  /** It was made, or can be made no more. */
  ended: boolean;
}

/** Refusals after which the same is tried again. */
const notNow: ReadonlySet<string> = new Set(['unavailable', 'busy', 'rate-limited', 'review-failed']);
/** Why a message cannot be changed any more. */
const tooLate: ReadonlySet<string> = new Set(['withdrawn', 'conflict', 'no-such-message']);
const notNowCalled: ReadonlySet<string> = new Set([...notNow, 'call-failed']);

/**
 * A client that behaves as the protocol asks, with a record of everything it saw. It throws as soon as the service
 * breaks a promise that a single client can see: order, no hole, no double.
 */
export class SimulatedClient implements FarEnd {
  readonly name: string;
  readonly publishes: Publish[] = [];
  readonly calls: SimulatedCall[] = [];
  readonly changes: Change[] = [];
  readonly stretches: Stretch[] = [];
  readonly gaps: Gap[] = [];
  /** Who is in the channels, by what it was told. */
  readonly members = new Map<ChannelName, MemberList>();
  /** The client's copies of boards. */
  readonly boards = new Map<ChannelName, BoardView>();
  /** How users have reacted, by what it was told. */
  readonly reactions = new Map<ChannelName, ReactionView>();
  /** Whom it keeps away. */
  readonly blocks: BlockView;
  /** Changes of boards that were acknowledged. */
  acknowledgedSets = 0;
  readonly #sets = new Map<number, { channel: ChannelName; entry: string; value: SetValue | null }>();
  /** What it wishes of boards: the same each time that it enters a channel. */
  readonly #boardWish: { readonly pace?: number; readonly echo?: boolean };
  /** What it wants of messages: the same each time that it enters a channel. */
  readonly #filters: Readonly<Record<string, MessageFilter | undefined>>;
  readonly #takingBack = new Map<number, Publish>();
  /** Whether it follows its threads; their latest state, by channel and first message. */
  readonly followsThreads: boolean;
  readonly threads = new Map<string, ThreadInfo>();
  #threadsAsked = 0;
  /** Publishes that must be refused, since they do not fit their contract. */
  readonly #misfits = new Set<number>();
  readonly #truth: Truth | undefined;
  /** Whether words of other instances may have passed one by. */
  readonly #mayMiss: () => boolean;
  session: string | undefined;
  /** Every session it has been; what `echo: false` kept from it. */
  readonly sessions = new Set<string>();
  readonly #clock: VirtualClock;
  readonly #random: Random;
  readonly #engine: () => Reached | undefined;
  readonly #sabotage: Sabotage | undefined;
  readonly #note: (what: () => string) => void;
  /** How often the service has cut it off as too slow. */
  cutOff = 0;
  #isErased = false;
  readonly #entered = new Map<ChannelName, Stretch>();
  readonly #wishes = new Map<number, { channel: ChannelName; stretch?: Stretch; isLive?: boolean }>();
  readonly #waiting = new Map<number, Publish>();
  readonly #called = new Map<number, SimulatedCall>();
  readonly #changing = new Map<number, Change>();
  #secret: string | undefined;
  #link: SimulatedLink | undefined;
  #open = false;
  #welcomed = false;
  #nextId = 1;
  #away = false;
  #calm = false;

  constructor(
    name: string,
    clock: VirtualClock,
    random: Random,
    engine: () => Reached | undefined,
    sabotage?: Sabotage,
    note: (what: () => string) => void = () => {},
    truth?: Truth,
    mayMiss: () => boolean = () => false,
  ) {
    this.#mayMiss = mayMiss;
    this.blocks = new BlockView(() => truth?.count ?? 0);
    this.#truth = truth;
    this.#boardWish = random.pick([{}, {}, { pace: 500 }, { echo: false }, { pace: 300, echo: false }]);
    const filter = (): MessageFilter | undefined =>
      random.pick<MessageFilter | undefined>([
        undefined,
        undefined,
        { by: ['client-0', 'client-1', 'client-2'] },
        { where: { '/odd': true } },
      ]);
    this.followsThreads = random.chance(0.4);
    this.#filters = { 'kept/2': filter(), 'recent/1': filter(), 'short/1': filter() };
    this.#note = (what) => note(() => `${name}: ${what()}`);
    this.#sabotage = sabotage;
    this.name = name;
    this.#clock = clock;
    this.#random = random;
    this.#engine = engine;
  }

  /** The engine that it is connected to. */
  get reached(): Engine | undefined {
    return this.#link?.reached;
  }

  get isOpen(): boolean {
    return this.#welcomed;
  }

  get channels(): readonly ChannelName[] {
    return [...this.#entered.keys()];
  }

  connect(): void {
    if (this.#open || this.#isErased) return;
    this.#open = true;
    this.#away = false;
    const far: FarEnd = {
      frame: (text) => link === this.#link && this.frame(text),
      closed: (code) => link === this.#link && this.closed(code),
    };
    const link: SimulatedLink = new SimulatedLink(this.#clock, this.#random, far, this.#sabotage);
    this.#link = link;
    link.calm = this.#calm;
    link.open(this.#engine);
    const enter = [...this.#entered.values()].map((stretch) => ({
      channel: stretch.channel,
      after: stretch.cursor,
      ...this.#wishIn(stretch.channel),
    }));
    const session = this.#secret === undefined ? {} : { session: this.session, secret: this.#secret };
    this.#send({ do: 'hello', id: this.#nextId++, token: this.name, ...session, enter });
    // Requests may be sent behind hello without waiting for its reply.
    for (const each of this.publishes)
      if (!each.acknowledged && !each.isRefused && each.pending === undefined) this.#sendPublish(each);
    if (this.followsThreads) {
      this.#threadsAsked = this.#nextId++;
      this.#send({ do: 'threads', id: this.#threadsAsked, limit: 1_000, follow: true });
    }
    for (const each of this.calls) if (!each.answered) this.#sendCall(each, true);
    for (const each of this.changes) if (!each.ended) this.#sendChange(each);
  }

  /** From now on it reads as fast as it is told. */
  calmDown(): void {
    this.#calm = true;
    if (this.#link !== undefined) this.#link.calm = true;
  }

  cut(): void {
    this.#note(() => 'the connection is cut');
    this.#link?.cut();
  }

  /** Its user is being erased: once its connection has ended, its token is worth nothing. */
  erase(): void {
    this.#isErased = true;
    if (!this.#open) this.#entered.clear();
  }

  /** Leaves cleanly and comes back only when told to. */
  goAway(): void {
    this.#away = true;
    this.#link?.leave();
    this.closed(1000);
    this.#secret = undefined;
  }

  enter(channel: ChannelName, last?: number): void {
    const asked = [...this.#wishes.values()].some((wish) => wish.channel === channel);
    if (!this.#welcomed || asked || this.#entered.has(channel)) return;
    const id = this.#nextId++;
    this.#wishes.set(id, { channel });
    this.#send({ do: 'enter', id, channel, ...defined({ last }), ...this.#wishIn(channel) });
  }

  /** Sets or removes an entry of a board that it sees, or enters one of these channels: its own entry, one that all set, or one that only one may have. */
  set(channels: readonly ChannelName[]): void {
    const random = this.#random;
    const entered = [...this.boards].filter(([name]) => this.#entered.has(name));
    if (!this.#welcomed) return;
    if (entered.length === 0) {
      this.enter(random.pick(channels));
      return;
    }
    const [channel, board] = random.pick(entered);
    const id = this.#nextId++;
    const entry = random.pick([
      this.name,
      this.name,
      'shared/1',
      'shared/2',
      'seat/1',
      `brief/${random.between(1, 3)}`,
    ]);
    const { volume, number } = board.place;
    const condition = !entry.startsWith('seat')
      ? undefined
      : random.pick<SetValue['if']>([{ absent: true }, { unchangedSince: number, volume }]);
    const ifVersion =
      condition === undefined ? {} : { ifVersion: 'absent' in condition ? null : `${volume}:${number}` };
    const whileHere = entry === this.name && random.chance(0.5);
    const value: SetValue | null = random.chance(0.15)
      ? null
      : { by: this.name, n: id, ...defined({ if: condition, held: whileHere ? this.session : undefined }) };
    this.#sets.set(id, { channel, entry, value });
    const forMs = entry.startsWith('brief') ? { forMs: random.between(1, 3_000) } : {};
    this.#send({ do: 'set', id, channel, entry, value, ...ifVersion, ...forMs, ...(whileHere ? { whileHere } : {}) });
  }

  #wishIn(channel: ChannelName): object {
    if (channel.startsWith('board/')) return this.#boardWish;
    return defined({ filter: this.#filters[channel], reactions: this.reactions.get(channel)?.version });
  }

  /** Publishes what the channel's contract does not take. */
  misfit(channel: ChannelName): void {
    if (!this.#welcomed) return;
    const id = this.#nextId++;
    this.#misfits.add(id);
    this.#send({ do: 'publish', id, channel, data: { misfit: true } });
  }

  leave(channel: ChannelName): void {
    this.#entered.delete(channel);
    this.reactions.delete(channel);
    this.boards.delete(channel);
    this.#send({ do: 'leave', id: this.#nextId++, channel });
  }

  publish(channel: ChannelName, echo: boolean): void {
    const mentions = channel.startsWith('kept/') && this.publishes.length % 4 === 0;
    const each = { channel, key: `${this.name}-${this.publishes.length}`, echo, mentions, acknowledged: false };
    this.publishes.push(each);
    if (this.#open) this.#sendPublish(each);
  }

  /** Answers one of the last messages that it has seen in a channel with replies. */
  reply(): void {
    const seen = [...this.#entered.values()].flatMap((stretch) => stretch.seen.slice(-6));
    const some = seen.filter(({ channel, by }) => channel.startsWith('kept/') && by !== undefined);
    if (!this.#open || some.length === 0) return;
    const { channel, cursor } = this.#random.pick(some);
    const each = {
      channel,
      key: `${this.name}-${this.publishes.length}`,
      echo: true,
      replyTo: cursor,
      acknowledged: false,
    };
    this.publishes.push(each);
    this.#sendPublish(each);
  }

  /** Revises or withdraws one of the last messages that it has seen in a channel. */
  change(): void {
    const random = this.#random;
    const seen = [...this.#entered.values()].flatMap((stretch) => stretch.seen.slice(-6));
    if (!this.#open || seen.length === 0) return;
    const { channel, cursor, revision, data } = random.pick(seen);
    const mark = `change-${this.name}-${this.changes.length}`;
    const about = { channel, cursor, key: mark, ...(random.chance(0.3) ? { ifRevision: revision ?? null } : {}) };
    const odd = (data as { odd?: boolean } | null)?.odd;
    const request = random.chance(0.3)
      ? { do: 'withdraw', ...about, ...(channel.startsWith('watched/') ? {} : { reason: mark }) }
      : { do: 'revise', ...about, data: { mark, ...defined({ odd }) } };
    const change = { channel, mark, request, ended: false };
    this.changes.push(change);
    this.#sendChange(change);
  }

  /** Reacts to some of the last messages that it has seen, or takes that back. */
  react(): void {
    const random = this.#random;
    const seen = [...this.#entered.values()].flatMap((stretch) => stretch.seen.slice(-6));
    const some = seen.filter(({ channel }) => channel.startsWith('kept/'));
    if (!this.#welcomed || some.length === 0) return;
    for (let left = random.between(1, 5); left > 0; left--) {
      const { channel, cursor } = random.pick(some);
      const word = random.pick(['aye', 'bravo', 'alas']);
      this.#send({ do: 'react', id: this.#nextId++, channel, cursor, word, on: random.chance(0.7) });
    }
  }

  /** Blocks or mutes another client, or hears it again. */
  block(others: readonly SimulatedClient[]): void {
    const names = others.flatMap(({ name }) => (name === this.name ? [] : [name]));
    if (this.#welcomed && names.length > 0) this.#send(this.blocks.request(this.#nextId++, names, this.#random));
  }

  call(channel: ChannelName): void {
    const each = { channel, key: `call-${this.calls.length}`, answered: false };
    this.calls.push(each);
    if (this.#open) this.#sendCall(each, false);
  }

  // -------------------------------------------------------------------------------------- what comes back

  frame(text: string): void {
    this.#note(() => `<- ${text.slice(0, 200)}`);
    const frame = readServerFrame(text);
    if (isReply(frame)) this.#reply(frame);
    else if (isPush(frame, 'message')) this.#message(frame);
    else if (isPush(frame, 'change')) this.#changed(frame.message, frame.cursor, true);
    // One that was left meanwhile may still be told of.
    else if (isPush(frame, 'gap') && this.#entered.has(frame.channel)) this.#gap(frame);
    else if (isPush(frame, 'gap')) return;
    else if (isPush(frame, 'passed')) this.#passed(frame);
    else if (isPush(frame, 'members')) this.members.get(frame.channel)?.hear(frame);
    else if (isPush(frame, 'reactions')) this.reactions.get(frame.channel)?.pushed(frame);
    else if (isPush(frame, 'threads')) this.#threadNews(frame.threads, frame.left);
    else if (isPush(frame, 'board')) this.boards.get(frame.channel)?.hear(frame);
    else if (isPush(frame, 'problem') && !(this.#isErased && frame.code === 'token-ended'))
      throw new Error(`${this.name}: ${text}`);
  }

  closed(code: number): void {
    this.#note(() => `closed with ${code}`);
    if (code === 4900) this.cutOff += 1;
    this.#open = false;
    this.#welcomed = false;
    this.#link = undefined;
    this.#wishes.clear();
    this.#waiting.clear();
    this.#called.clear();
    this.#changing.clear();
    this.blocks.closed();
    this.#misfits.clear();
    this.#sets.clear();
    this.boards.clear();
    if (this.#isErased) this.#entered.clear();
    if (!this.#away) this.#clock.setTimer(this.#random.between(0, 2000), () => !this.#away && this.connect());
  }

  #reply(frame: ReplyFrame): void {
    if ('session' in frame) {
      this.#welcome(frame as unknown as Welcome);
      return;
    }
    if (this.#isErased && frame.problem?.code === 'token-ended') return;
    const publish = this.#waiting.get(frame.re);
    if (publish !== undefined) {
      this.#waiting.delete(frame.re);
      if (frame.problem === undefined) publish.acknowledged = true;
      else if (publish.replyTo !== undefined && tooLate.has(frame.problem.code)) publish.isRefused = true;
      else if (frame.problem.code === 'review-refused') publish.isRefused = true;
      else if (frame.problem.code === 'pending') this.#waits(publish, frame.problem.pending as string);
      else if (notNow.has(frame.problem.code))
        this.#clock.setTimer(50, () => this.#welcomed && this.#sendPublish(publish));
      else throw new Error(`${this.name}: ${JSON.stringify(frame)}`);
      return;
    }
    if (frame.re === this.#threadsAsked) {
      if (frame.problem !== undefined) this.cut();
      else this.#threadNews(frame.threads as ThreadInfo[], []);
      return;
    }
    const takenBack = this.#takingBack.get(frame.re);
    if (takenBack !== undefined) {
      // A refused request is not repeated: the message was decided before.
      if (frame.problem === undefined) takenBack.takenBack = 'surely';
      return;
    }
    if (this.#misfits.delete(frame.re)) {
      const { code = '' } = frame.problem ?? {};
      if (code !== 'bad-data' && !notNow.has(code)) throw new Error(`${this.name}: taken: ${JSON.stringify(frame)}`);
      return;
    }
    if (this.blocks.answered(frame.re, frame.problem?.code)) return;
    if (this.#setAnswered(frame) || this.#callAnswered(frame) || this.#changeAnswered(frame)) return;
    const wish = this.#wishes.get(frame.re);
    if (wish === undefined) return;
    this.#wishes.delete(frame.re);
    // Left, and perhaps entered anew, while this was on its way.
    if (wish.stretch !== undefined && this.#entered.get(wish.channel) !== wish.stretch) return;
    if (frame.problem === undefined) this.#enteredIn(frame as unknown as Entered, wish.stretch?.cursor, wish.isLive);
    else this.#enterRefused({ channel: wish.channel, problem: frame.problem }, wish.isLive);
  }

  /** Checks that an acknowledged change, or a later one of the same entry, is in the board's order. */
  #setAnswered(frame: ReplyFrame): boolean {
    const set = this.#sets.get(frame.re);
    if (set === undefined) return false;
    this.#sets.delete(frame.re);
    if (frame.problem !== undefined) {
      if (notNow.has(frame.problem.code) || frame.problem.code === 'conflict' || frame.problem.code === 'not-allowed')
        return true;
      throw new Error(`${this.name}: ${JSON.stringify(frame)}`);
    }
    this.acknowledgedSets += 1;
    const { channel, entry, value } = set;
    const place = parseCursor(String(frame.version)) as Place;
    const record = this.#truth?.boards.recordAt(channel, place.volume, place.number);
    const isThere = record?.entry === entry && (entry !== this.name || isAtLeast(record.value, value));
    // Removing what is not there changes nothing, and has no number of its own; it may have replaced a value on its way.
    const isGone = this.#truth?.boards.at(channel, place.volume, place.number).has(entry) === false;
    if (!isThere && !isGone && value !== null && this.#truth !== undefined)
      throw new Error(`${this.name}: ${channel}: ${JSON.stringify(set)} was acknowledged at ${frame.version}`);
    return true;
  }

  #callAnswered(frame: ReplyFrame): boolean {
    const call = this.#called.get(frame.re);
    if (call === undefined) return false;
    this.#called.delete(frame.re);
    if (frame.problem === undefined && frame.data === call.key) call.answered = true;
    else if (notNowCalled.has(frame.problem?.code ?? ''))
      this.#clock.setTimer(200, () => this.#welcomed && !call.answered && this.#sendCall(call, true));
    else throw new Error(`${this.name}: ${call.key}: ${JSON.stringify(frame)}`);
    return true;
  }

  #changeAnswered(frame: ReplyFrame): boolean {
    const change = this.#changing.get(frame.re);
    if (change === undefined) return false;
    this.#changing.delete(frame.re);
    const { code = '' } = frame.problem ?? {};
    if (code === '' || tooLate.has(code) || code === 'pending' || code === 'review-refused') change.ended = true;
    else if (notNow.has(code))
      this.#clock.setTimer(50, () => this.#welcomed && !change.ended && this.#sendChange(change));
    else throw new Error(`${this.name}: ${JSON.stringify(frame)}`);
    return true;
  }

  #welcome(welcome: Welcome): void {
    this.session = welcome.session;
    this.sessions.add(welcome.session);
    this.#secret = welcome.secret;
    this.#welcomed = true;
    this.blocks.welcomed(welcome.blocks ?? [], this.#mayMiss());
    for (const each of welcome.entered) {
      // Left while hello was on its way: the leave follows behind it.
      if (!this.#entered.has(each.channel)) continue;
      if ('problem' in each) this.#enterRefused(each);
      else this.#enteredIn(each, this.#entered.get(each.channel)?.cursor);
    }
  }

  #enterRefused({ channel, problem }: EnterRefused, isLive = false): void {
    if (problem.code !== 'unavailable') throw new Error(`${this.name}: ${channel} ${problem.code}`);
    const stretch = this.#entered.get(channel);
    if (stretch !== undefined) this.#clock.setTimer(100, () => this.#enterAgain(stretch, isLive));
  }

  /** @param isLive - what is pushed meanwhile comes with the reply, too */
  #enterAgain(stretch: Stretch, isLive = false): void {
    if (!this.#welcomed || this.#entered.get(stretch.channel) !== stretch) return;
    const id = this.#nextId++;
    this.#wishes.set(id, { channel: stretch.channel, stretch, isLive });
    const { channel, cursor: after } = stretch;
    this.#send({ do: 'enter', id, channel, after, ...this.#wishIn(channel) });
  }

  #enteredIn(entered: Entered, after: Cursor | undefined, isLive = false): void {
    if (entered.board !== undefined && this.#truth !== undefined) {
      const { channel, board } = entered;
      const echo = this.#boardWish.echo !== false;
      this.boards.set(channel, new BoardView(channel, this.name, this.#truth.boards, echo, board));
    }
    let hasMore = false;
    if (entered.reactions !== undefined) {
      const view = this.reactions.get(entered.channel) ?? new ReactionView();
      this.reactions.set(entered.channel, view);
      hasMore = view.entered(entered.reactions);
    }
    if (entered.members !== undefined) this.members.set(entered.channel, new MemberList(entered));
    if (entered.gap !== undefined) this.#gap(entered.gap);
    else if (after === undefined) {
      const first = entered.messages[0];
      const from = parseCursor(first?.cursor ?? entered.cursor) as Place;
      this.#begin(entered.channel, first === undefined ? from : { ...from, number: from.number - 1 });
    }
    const isNew = (cursor: Cursor): boolean => {
      const { number = 0 } = parseCursor(this.#entered.get(entered.channel)?.cursor ?? '') ?? {};
      return !isLive || (parseCursor(cursor) as Place).number > number;
    };
    for (const each of entered.changes ?? [])
      if (isNew(each.revision as Cursor)) this.#changed(each, each.revision as Cursor, false);
    for (const each of entered.messages) if (isNew(each.cursor)) this.#message(each);
    const stretch = this.#entered.get(entered.channel);
    if (stretch !== undefined) stretch.cursor = entered.cursor;
    if ((entered.more || hasMore) && stretch !== undefined) this.#enterAgain(stretch, !entered.more);
  }

  #gap(gap: Gap): void {
    this.gaps.push(gap);
    this.#begin(gap.channel, parseCursor(gap.cursor) as Place);
  }

  #begin(channel: ChannelName, from: Place): void {
    const stretch = { channel, from, seen: [], filter: this.#filters[channel], cursor: formatCursor(from) };
    this.stretches.push(stretch);
    this.#entered.set(channel, stretch);
  }

  #message(message: Message): void {
    const stretch = this.#entered.get(message.channel);
    if (stretch === undefined) return;
    const place = parseCursor(message.cursor) as Place;
    const last = parseCursor(stretch.cursor) as Place;
    if (place.volume !== last.volume || place.number <= last.number)
      throw new Error(`${this.name}: ${message.channel}: ${message.cursor} came after ${stretch.cursor}`);
    if (stretch.filter !== undefined && !filterFits(stretch.filter, message))
      throw new Error(`${this.name}: ${message.channel}: ${message.cursor} is not what the filter lets through`);
    const count = this.#truth?.countAt(message.channel, place) ?? 0;
    if (this.blocks.forbids(message, count))
      throw new Error(`${this.name}: ${message.channel}: ${message.cursor} came, and its author is blocked`);
    this.#checkReply(message, count);
    const { mentions, withdrawn } = message;
    if (mentions !== undefined && (withdrawn || JSON.stringify(mentions.users) !== `["${mentionedClient}"]`))
      throw new Error(`${this.name}: ${message.channel}: ${message.cursor} mentions ${JSON.stringify(mentions)}`);
    stretch.seen.push(message);
    stretch.cursor = message.cursor;
  }

  /** A reply comes with what it answers; nothing of that which was withdrawn before the reply was logged. */
  #checkReply({ channel, cursor, replyTo, answers }: Message, count: number): void {
    if (replyTo === undefined || this.#truth === undefined) return;
    const { volume, number } = parseCursor(replyTo) as Place;
    const answered = this.#truth.log(channel, volume)[number - 1];
    if (answered === undefined)
      throw new Error(`${this.name}: ${channel}: ${cursor} answers ${replyTo}, which is not there`);
    const gone = this.#truth.withdrawnAt(channel, { volume, number });
    if (gone !== undefined && gone < count)
      throw new Error(`${this.name}: ${channel}: ${cursor} answers ${replyTo}, which was withdrawn before`);
    const of = answers?.by?.user;
    if (of !== undefined && of !== erasedAuthor.user && of !== answered.message.by?.user)
      throw new Error(`${this.name}: ${channel}: ${cursor} names ${of} as who is answered`);
  }

  /** Applies a change. It may describe a state that the client already has. */
  #changed(message: Message, cursor: Cursor, isPushed: boolean): void {
    const stretch = this.#entered.get(message.channel);
    if (stretch === undefined) return;
    const [place, last] = [parseCursor(cursor), parseCursor(stretch.cursor)] as [Place, Place];
    if (place.volume !== last.volume || place.number <= last.number)
      throw new Error(`${this.name}: ${message.channel}: the change ${cursor} came after ${stretch.cursor}`);
    const index = stretch.seen.findIndex((each) => each.cursor === message.cursor);
    const known = stretch.seen[index];
    const before = parseCursor(known?.revision ?? '')?.number ?? 0;
    if (known?.withdrawn && !message.withdrawn)
      throw new Error(`${this.name}: ${message.channel}: ${message.cursor} was withdrawn, and stands again`);
    if (known !== undefined && before < place.number) stretch.seen[index] = message;
    if (isPushed) stretch.cursor = cursor;
  }

  #passed({ channel, cursor }: PassedPush): void {
    const stretch = this.#entered.get(channel);
    if (stretch === undefined) return;
    const [place, last] = [parseCursor(cursor), parseCursor(stretch.cursor)] as [Place, Place];
    if (place.volume !== last.volume || place.number < last.number)
      throw new Error(`${this.name}: ${channel}: passed over up to ${cursor}, behind ${stretch.cursor}`);
    stretch.cursor = cursor;
  }

  #sendPublish(each: Publish): void {
    const id = this.#nextId++;
    this.#waiting.set(id, each);
    this.#send({
      do: 'publish',
      id,
      channel: each.channel,
      key: each.key,
      data: { n: id, odd: id % 2 === 1 },
      echo: each.echo,
      replyTo: each.replyTo,
      ...(each.mentions && { mentions: { users: [mentionedClient] } }),
    });
  }

  #threadNews(threads: readonly ThreadInfo[], left: ThreadsPush['left']): void {
    for (const each of threads) this.threads.set(`${each.channel} ${each.thread}`, each);
    for (const { channel, thread } of left) this.threads.delete(`${channel} ${thread}`);
  }

  /** Notes that a message waits; sometimes takes it back. */
  #waits(publish: Publish, pending: string): void {
    publish.pending = pending;
    if (!this.#random.chance(0.15)) return;
    const id = this.#nextId++;
    this.#takingBack.set(id, publish);
    publish.takenBack = 'perhaps';
    this.#send({ do: 'take-back', id, pending });
  }

  #sendChange(change: Change): void {
    const id = this.#nextId++;
    this.#changing.set(id, change);
    this.#send({ id, ...change.request });
  }

  #sendCall(call: SimulatedCall, again: boolean): void {
    const id = this.#nextId++;
    this.#called.set(id, call);
    const { channel, key } = call;
    this.#send({ do: 'call', id, name: 'turn', channel, key, data: null, ...(again ? { again } : {}) });
  }

  #send(request: object): void {
    this.#note(() => `-> ${JSON.stringify(request)}`);
    this.#link?.send(JSON.stringify(request));
  }
}

/** Whether a value of a client's own entry is the one that it set, or a later one. */
function isAtLeast(value: Json | undefined, set: SetValue | null): boolean {
  return set === null || ((value as unknown as SetValue | undefined)?.n ?? Number.POSITIVE_INFINITY) >= set.n;
}
