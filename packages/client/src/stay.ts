import {
  type BoardPush,
  type ChannelName,
  type Cursor,
  defined,
  type Entered,
  type EnterWish,
  filterKey,
  type Gap,
  type Json,
  type MarksPush,
  type Member,
  type MembersPush,
  type Message,
  type MessageFilter,
  type Problem,
  type ReactionsPush,
} from '@nine-bells/wire';
import { Board } from './board.js';
import { isAfter } from './cursors.js';
import type { Entry, SharedStay } from './entry.js';
import type { LineError } from './lineError.js';
import { ReactionsShown } from './reactionsShown.js';
import type { ReceivedHail, Removal, SilenceChange } from './types.js';

type MembersNews = Pick<MembersPush, 'whole' | 'joined' | 'left' | 'changed' | 'count'> & {
  partial?: true | undefined;
};

/** The session's stay in a channel, as the service knows it; the entries of the channel share it. */
export class Stay implements SharedStay {
  readonly channel: ChannelName;
  readonly #entries = new Set<Entry>();
  /** What is said of the user here. */
  status: Json | undefined;
  #members = new Map<string, Member>();
  /** The same list until it changes. */
  #list: readonly Member[] = [];
  #count = 0;
  #isPartial = false;
  #marks = new Map<string, Cursor>();
  readonly board = new Board();
  readonly reactions = new ReactionsShown();
  /** Changes were missing, and the whole board was asked for. */
  #asksForBoard = false;

  constructor(channel: ChannelName) {
    this.channel = channel;
  }

  get members(): readonly Member[] {
    return this.#list;
  }

  get count(): number {
    return this.#count;
  }

  get isCrowd(): boolean {
    return this.#isPartial;
  }

  get marks(): ReadonlyMap<string, Cursor> {
    return this.#marks;
  }

  get entries(): readonly Entry[] {
    return [...this.#entries];
  }

  /** How far the entry that is furthest behind has it, of those that were answered before. */
  get cursor(): Cursor | undefined {
    let least: Cursor | undefined;
    for (const { cursor } of this.#entries)
      if (cursor !== undefined && (least === undefined || isAfter(least, cursor))) least = cursor;
    return least;
  }

  /** Where a live entry stands. */
  get head(): Cursor | undefined {
    return this.entries.find(({ state, isAnswered }) => state === 'live' && isAnswered)?.cursor;
  }

  add(entry: Entry): void {
    this.#entries.add(entry);
    if (entry.options.status !== undefined) this.status = entry.options.status;
  }

  /** An entry is left or refused; `true` if none is there any more. */
  delete(entry: Entry): boolean {
    this.#entries.delete(entry);
    return this.#entries.size === 0;
  }

  /**
   * The entries that one request brings up to date after a reconnection: those that have a place to go on from, or where none
   * has, the first one. The others ask for themselves.
   */
  get first(): readonly Entry[] {
    const known = this.entries.filter(({ cursor }) => cursor !== undefined);
    return known.length > 0 ? known : this.entries.slice(0, 1);
  }

  /** What to ask for some entries: on from where they are, or as wished for in the beginning. */
  wishFor(entries: readonly Entry[]): EnterWish {
    let after: Cursor | undefined;
    for (const { cursor } of entries)
      if (cursor !== undefined && (after === undefined || isAfter(after, cursor))) after = cursor;
    const last = entries[0]?.options.last;
    const isQuiet = this.entries.every(({ options }) => options.quiet === true);
    return {
      channel: this.channel,
      ...(after === undefined ? (last === undefined ? {} : { last }) : { after }),
      ...(isQuiet ? { quiet: true } : {}),
      ...defined({ status: this.status, filter: this.filter, reactions: this.reactions.version }),
      ...this.boardWish,
    };
  }

  /** What all entries want of the messages; absent: they want different things, and each takes its own of all of them. */
  get filter(): MessageFilter | undefined {
    const [first, ...others] = this.entries.map(({ options }) => options.filter);
    if (first === undefined) return undefined;
    const key = filterKey(first);
    return others.every((each) => each !== undefined && filterKey(each) === key) ? first : undefined;
  }

  /** What the service is asked for, beside messages: the same for all entries. */
  get wish(): string {
    return JSON.stringify([this.boardWish, this.filter]);
  }

  /** The service has passed over messages up to a place. */
  passed(cursor: Cursor): void {
    for (const entry of this.#answered()) entry.passed(cursor);
  }

  /** The fastest pace that an entry wants; and its own changes where one of them wants those. */
  get boardWish(): Pick<EnterWish, 'pace' | 'echo'> {
    const all = this.entries.map(({ options }) => options);
    const pace = Math.min(...all.map((each) => each.pace ?? 0));
    const isEchoed = all.some(({ echo }) => echo !== false);
    return { ...(pace > 0 && Number.isFinite(pace) ? { pace } : {}), ...(isEchoed ? {} : { echo: false }) };
  }

  /** The connection broke. */
  interrupted(): void {
    for (const entry of this.#entries) entry.interrupted();
  }

  /** The reply to `enter` for some entries; `true` if there is more to ask for. The others take what is new to them. */
  entered(entered: Entered, asked: readonly Entry[]): boolean {
    const there = asked.filter((entry) => this.#entries.has(entry));
    const [first] = entered.messages;
    for (const entry of there) entry.answered(first?.cursor ?? entered.cursor, first === undefined, entered.gap);
    // First: what came behind them is known by the place that the entries have come to.
    for (const message of entered.changes ?? [])
      for (const entry of there) entry.changed(message, message.revision, false);
    for (const message of entered.messages) this.take(message, false);
    if (entered.members !== undefined) {
      const { members: joined, count = 0, partial } = entered;
      this.#changeMembers({ whole: true, joined, count, partial });
    }
    if (entered.reactions !== undefined) {
      const changed = this.reactions.entered(entered.reactions);
      for (const entry of there) entry.reactionsChanged(changed);
    }
    if (entered.board !== undefined) {
      this.board.load(entered.board);
      this.#asksForBoard = false;
    }
    if (entered.marks !== undefined) {
      this.#marks = new Map(Object.entries(entered.marks));
      for (const entry of there) entry.marksChanged([...this.#marks.keys()]);
    }
    for (const entry of there) entry.upTo(entered.cursor, entered.more);
    return entered.more || entered.reactions?.more === true;
  }

  /** Another entry is live already: joins it from here on. */
  join(entry: Entry, head: Cursor): void {
    entry.answered(head, true, undefined);
    if (this.#count > 0) entry.membersChanged({ joined: [], left: [], changed: [], count: this.#count });
    entry.marksChanged([...this.#marks.keys()]);
    entry.upTo(head, false);
  }

  take(message: Message, live: boolean): void {
    for (const entry of this.#answered()) entry.take(message, live);
  }

  reactionsChanged(push: ReactionsPush): void {
    if (this.#answered().length === 0) return;
    const changed = this.reactions.take(push);
    for (const entry of this.#answered()) entry.reactionsChanged(changed);
  }

  /** A message was changed, at a place. */
  changed(message: Message, place: Cursor): void {
    if (message.withdrawn) this.reactions.forget(message.cursor);
    for (const entry of this.#answered()) {
      entry.changed(message, place, true);
      entry.passed(place);
    }
  }

  gap(gap: Gap): void {
    for (const entry of this.#answered()) entry.gap(gap);
  }

  membersChanged(push: MembersPush): void {
    if (this.#answered().length > 0) this.#changeMembers(push);
  }

  marksChanged({ marks }: MarksPush): void {
    if (this.#answered().length === 0) return;
    this.#marks = new Map(this.#marks);
    for (const [user, mark] of Object.entries(marks))
      if (mark === null) this.#marks.delete(user);
      else this.#marks.set(user, mark);
    for (const entry of this.#answered()) entry.marksChanged(Object.keys(marks));
  }

  /** Returns `false` if changes of the board are missing. */
  boardChanged(push: BoardPush): boolean {
    if (this.#answered().length === 0 || (this.#asksForBoard && !push.whole)) return true;
    const isWhole = this.board.take(push);
    this.#asksForBoard = !isWhole;
    return isWhole;
  }

  hailed(hail: ReceivedHail): void {
    for (const entry of this.#answered()) entry.hailed(hail);
  }

  silenced(change: SilenceChange): void {
    for (const entry of this.#entries) entry.silenced(change);
  }

  removed(removal: Removal): void {
    this.#forgetMembers();
    for (const entry of this.#entries) entry.removed(removal);
  }

  refuse(problem: Problem): void {
    this.#forgetMembers();
    for (const entry of this.#entries) entry.refuse(problem);
  }

  end(error: LineError): void {
    this.#forgetMembers();
    for (const entry of this.#entries) entry.end(error);
  }

  /** A push that comes before the reply belongs to an earlier stay. */
  #answered(): readonly Entry[] {
    return this.entries.filter(({ isAnswered }) => isAnswered);
  }

  /** The service no longer tells who is there. */
  #forgetMembers(): void {
    if (this.#count > 0) this.#changeMembers({ whole: true, count: 0 });
  }

  #changeMembers({ whole, joined = [], left = [], changed = [], count, partial }: MembersNews): void {
    const before = this.#members;
    const now = new Map(whole ? [] : before);
    for (const each of [...joined, ...changed]) now.set(each.user, each);
    for (const user of left) now.delete(user);
    // A push may repeat what is known, so the changes are found by comparing.
    const news = { joined: [] as Member[], left: [] as Member[], changed: [] as Member[], count };
    for (const [user, each] of now) {
      const old = before.get(user);
      if (old === undefined) news.joined.push(each);
      else if (old !== each && JSON.stringify(old) === JSON.stringify(each)) now.set(user, old);
      else if (old !== each) news.changed.push(each);
    }
    for (const [user, each] of before) if (!now.has(user)) news.left.push(each);
    this.#members = now;
    if (news.joined.length + news.left.length + news.changed.length > 0) this.#list = [...now.values()];
    this.#count = count;
    this.#isPartial = partial === true;
    for (const entry of this.#entries) entry.membersChanged(news);
  }
}
