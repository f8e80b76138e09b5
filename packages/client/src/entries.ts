import {
  type BoardPush,
  type ChannelName,
  type Cursor,
  defined,
  type Entered,
  type EnterRefused,
  type EnterWish,
  type Problem,
  problem,
  protocolLimits,
  type RemovedPush,
} from '@nine-bells/wire';
import type { Entry } from './entry.js';
import { LineError } from './lineError.js';
import { isPassing } from './outbox.js';
import type { RequestMembers, Requests } from './requests.js';
import { utf8Bytes } from './sizes.js';
import { Stay } from './stay.js';
import type { SilenceChange } from './types.js';
import type { Asked, Wishes } from './wishes.js';

/** Channels that one hello may name. */
const helloWishes = 1_000;
/** Room for each cursor in a pulse beside its text, in bytes. */
const cursorRoom = 32;

/** What the entries need of their connection. */
export interface EntriesHost {
  readonly requests: Requests;
  /** Identifies the present socket: what belongs to an earlier one is over. */
  readonly socket: unknown;
  /** Whether hello was sent on this socket. */
  readonly helloSent: boolean;
  transmit(request: RequestMembers): void;
}

/** The channels that a line has entered, and its entries there. */
export class Entries {
  readonly #host: EntriesHost;
  readonly #stays = new Map<ChannelName, Stay>();
  /** Entries that were refused, to be tried again with another token. */
  readonly #refused = new Set<Entry>();
  /** How far channels have come, as it was told last on this connection. */
  readonly #told = new Map<ChannelName, Cursor>();
  readonly #live: (channel: ChannelName) => void;
  readonly #ended: (channel: ChannelName, error: LineError) => void;

  /**
   * @param live - called when a channel was entered, also after each reconnection
   * @param ended - called when nothing is left of the line in a channel
   */
  constructor(
    host: EntriesHost,
    live: (channel: ChannelName) => void,
    ended: (channel: ChannelName, error: LineError) => void,
  ) {
    this.#live = live;
    this.#ended = ended;
    this.#host = host;
  }

  get(channel: ChannelName): Stay | undefined {
    return this.#stays.get(channel);
  }

  /** The stay that a new entry of a channel shares. */
  stayIn(channel: ChannelName): Stay {
    return this.#stays.get(channel) ?? new Stay(channel);
  }

  add(entry: Entry, stay: Stay): void {
    const { options } = entry;
    this.#stays.set(entry.channel, stay);
    const before = stay.wish;
    stay.add(entry);
    // The service sends the board, and some of the messages, as all entries together want them.
    const isOther = stay.head !== undefined && stay.wish !== before;
    // Until the service has answered hello, the entry is named in it or follows it.
    if (!this.#host.helloSent) return;
    const isFromNow = options.last === undefined && options.after === undefined;
    if (!isFromNow || isOther || options.status !== undefined || stay.head === undefined) this.#enter(stay, [entry]);
    // In another turn, so that its listeners are there.
    else queueMicrotask(() => this.#joinOrEnter(entry, stay));
  }

  /** Enters again the entries that were refused. */
  retryRefused(): void {
    for (const entry of [...this.#refused]) {
      this.#refused.delete(entry);
      if (entry.state !== 'refused') continue;
      const stay = this.stayIn(entry.channel);
      entry.again(stay);
      this.add(entry, stay);
    }
  }

  leave(entry: Entry): void {
    this.#refused.delete(entry);
    const stay = this.#stays.get(entry.channel);
    if (stay === undefined || stay !== entry.stay || !stay.delete(entry)) return;
    this.#stays.delete(entry.channel);
    this.#ended(entry.channel, new LineError('left', 'the channel was left'));
    if (this.#host.helloSent) this.#host.transmit({ do: 'leave', channel: entry.channel });
  }

  // --------------------------------------------------------------------------------------------- connecting

  /** What to enter with hello: as many channels as have room in the frame. The others follow by requests. */
  wishesWithin(bytes: number): Wishes {
    const asked: Asked[] = [];
    const wishes: EnterWish[] = [];
    let room = bytes;
    for (const stay of this.#stays.values()) {
      const entries = stay.first;
      const wish = stay.wishFor(entries);
      room -= utf8Bytes(JSON.stringify(wish)) + 1;
      if (room < 0 || wishes.length >= helloWishes) break;
      asked.push({ stay, entries });
      wishes.push(wish);
    }
    return { asked, wishes, isPartial: wishes.length < this.#stays.size };
  }

  /** Hello was answered: gives each stay its reply, and enters what was not named in it. */
  welcomed(asked: readonly Asked[], entered: readonly (Entered | EnterRefused)[]): void {
    for (const [index, each] of entered.entries()) {
      const wish = asked[index];
      if (wish !== undefined) this.#entered(wish.stay, wish.entries, each);
    }
    const { socket } = this.#host;
    const named = new Map(asked.map(({ stay, entries }) => [stay, entries]));
    for (const stay of [...this.#stays.values()]) {
      const known = named.get(stay);
      if (known === undefined) this.#enter(stay, stay.first);
      const there = known ?? stay.first;
      // Listeners are called meanwhile, and may close the line.
      for (const entry of stay.entries)
        if (socket === this.#host.socket && !there.includes(entry) && !entry.isAnswered) this.#joinOrEnter(entry, stay);
    }
  }

  /** The cursors that have changed since the last pulse of this connection. Those without room follow in the next pulse. */
  news(bytes: number): Record<string, Cursor> {
    const news: Record<string, Cursor> = {};
    let room = bytes;
    let count = 0;
    for (const [channel, { cursor }] of this.#stays) {
      if (cursor === undefined || this.#told.get(channel) === cursor) continue;
      room -= channel.length + cursor.length + cursorRoom;
      count += 1;
      if (room < 0 || count > protocolLimits.gotCount) break;
      this.#told.set(channel, cursor);
      news[channel] = cursor;
    }
    return news;
  }

  interrupted(): void {
    this.#told.clear();
    for (const stay of this.#stays.values()) stay.interrupted();
  }

  close(error: LineError): void {
    for (const stay of this.#stays.values()) stay.end(error);
    this.#stays.clear();
    this.#refused.clear();
  }

  // ------------------------------------------------------------------------------------- from the service

  /** Applies a frame of a board. Where changes are missing, enters the channel again: the reply has the whole board. */
  boardChanged(push: BoardPush): void {
    const stay = this.#stays.get(push.channel);
    if (stay !== undefined && !stay.boardChanged(push)) this.#enter(stay, stay.first);
  }

  removed({ channel, problem: refused, reason, by, until }: RemovedPush): void {
    const stay = this.#stays.get(channel);
    // A push that comes before the reply belongs to an earlier stay.
    if (stay?.entries.some(({ isAnswered }) => isAnswered) !== true) return;
    if (refused !== undefined) {
      this.#refuse(stay, stay.entries, refused);
      return;
    }
    this.#stays.delete(channel);
    this.#ended(channel, new LineError('removed', 'you were removed from the channel'));
    stay.removed({
      ...defined({ reason, by, until }),
    });
  }

  /** Tells the entries of a channel, or of all. */
  silenced(change: SilenceChange): void {
    for (const [channel, stay] of this.#stays)
      if (change.channel === undefined || change.channel === channel) stay.silenced(change);
  }

  /** The new token does not allow these channels. */
  lose(channels: readonly ChannelName[]): void {
    for (const channel of channels) {
      const stay = this.#stays.get(channel);
      const refused = problem('not-allowed', 'the new token does not let you in');
      if (stay !== undefined) this.#refuse(stay, stay.entries, refused);
    }
  }

  #entered(stay: Stay, asked: readonly Entry[], entered: Entered | EnterRefused): void {
    // Left, and perhaps entered anew, while the answer was on its way.
    if (this.#stays.get(stay.channel) !== stay) return;
    if ('problem' in entered) this.#refuse(stay, asked, entered.problem);
    else if (stay.entered(entered, asked)) this.#enter(stay, asked);
    else this.#live(stay.channel);
  }

  #refuse(stay: Stay, asked: readonly Entry[], refused: Problem): void {
    if (isPassing(refused)) {
      for (const entry of asked) entry.wait(refused);
      const { socket } = this.#host;
      setTimeout(() => {
        if (socket === this.#host.socket) this.#enter(stay, asked);
      }, refused.retryAfterMs ?? 1000);
      return;
    }
    if (asked.length >= stay.entries.length) {
      this.#stays.delete(stay.channel);
      this.#ended(stay.channel, LineError.from(refused));
      stay.refuse(refused);
    } else for (const entry of asked) entry.refuse(refused);
    for (const entry of asked) {
      stay.delete(entry);
      this.#refused.add(entry);
    }
  }

  /** Joins another entry of the channel that is live already; else enters. */
  #joinOrEnter(entry: Entry, stay: Stay): void {
    if (entry.isOver || entry.isAnswered || !this.#host.helloSent || this.#stays.get(entry.channel) !== stay) return;
    const isFromNow = entry.cursor === undefined && entry.options.last === undefined;
    if (isFromNow && stay.head !== undefined) stay.join(entry, stay.head);
    else this.#enter(stay, [entry]);
  }

  #enter(stay: Stay, asked: readonly Entry[]): void {
    const entries = asked.filter(({ isOver }) => !isOver);
    if (entries.length === 0 || this.#stays.get(stay.channel) !== stay) return;
    this.#host.requests.send(
      { do: 'enter', ...stay.wishFor(entries) },
      {
        repeatable: false,
        resolve: (entered) => this.#entered(stay, entries, entered),
        reject: (error) => {
          if (error.problem !== undefined)
            this.#entered(stay, entries, { channel: stay.channel, problem: error.problem });
        },
      },
    );
  }
}
