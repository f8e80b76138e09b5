import type { ChannelName } from '@nine-bells/wire';
import {
  type Appended,
  type Draft,
  type LogBounds,
  LoggedMessage,
  lineOf,
  type MessageLine,
} from '../model/message.js';
import type { Clock } from '../ports/clock.js';
import type { Placed } from './exchange.js';
import { cutOff, isRefusal } from './refusals.js';

/** Most messages of one call, and their size in characters. */
const batchMessages = 500;
const batchChars = 1_000_000;

interface Waiting {
  readonly draft: Draft;
  readonly line: MessageLine;
  readonly resolve: (appended: Appended) => void;
  readonly reject: (error: Error) => void;
}

/** Messages waiting to be appended to a channel. One call is under way at a time, so that order is kept through its retries. */
interface Appending {
  readonly bounds: LogBounds;
  waiting: Waiting[];
  isUnderWay: boolean;
  isScheduled: boolean;
}

/** Appends lines to the record of a channel at the exchange. */
export type AppendCall = (
  channel: ChannelName,
  lines: readonly MessageLine[],
  bounds: LogBounds,
) => Promise<readonly Placed[]>;

/** Messages of recent channels on their way to the exchange: those of a turn, and those that came during a call, go together. */
export class AppendQueue {
  readonly #clock: Clock;
  readonly #call: AppendCall;
  readonly #appending = new Map<ChannelName, Appending>();
  #scheduled: [ChannelName, Appending][] = [];

  constructor(clock: Clock, call: AppendCall) {
    this.#clock = clock;
    this.#call = call;
  }

  append(channel: ChannelName, draft: Draft, bounds: LogBounds): Promise<Appended> {
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
      const placed = await this.#call(channel, lines, appending.bounds);
      for (const [index, each] of group.entries()) each.resolve(appendedOf(channel, each, placed[index] as Placed));
    } catch (error) {
      const refused = isRefusal(error) ? error : cutOff(error);
      for (const each of group) each.reject(refused as Error);
    }
    appending.isUnderWay = false;
    if (appending.waiting.length > 0) void this.#appendNext(channel, appending);
    else this.#appending.delete(channel);
  }
}

/** As many of those that wait as one call takes. A change goes by itself: it may be refused. */
function cut(waiting: readonly Waiting[]): readonly Waiting[] {
  let chars = 0;
  for (const [index, { line }] of waiting.entries()) {
    if (line.of !== undefined) return waiting.slice(0, Math.max(1, index));
    chars += line.tail.length;
    if (index === batchMessages || (chars > batchChars && index > 0)) return waiting.slice(0, index);
  }
  return waiting;
}

function appendedOf(channel: ChannelName, { draft }: Waiting, { place, repeated, id }: Placed): Appended {
  return { logged: new LoggedMessage(channel, place, repeated ? { ...draft, id } : draft), repeated };
}
