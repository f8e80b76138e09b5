import type { ChannelName } from '@nine-bells/wire';
import type { UserWord } from '../inbox/notice.js';
import type { Appended, Draft, LogBounds, LoggedMessage, LogSlice, Place, ReadLimit } from '../logbook/logbook.js';
import { RecentLog, type SavedLog } from '../logbook/recentLog.js';
import type { Growth } from '../marks/mark.js';
import type { Measure } from '../measures/measure.js';
import type { Clock, ControlLog, Ids, LogReader, Relay, Signal } from '../ports.js';

/** How often expired messages and unused records are let go, in milliseconds. */
const sweepMs = 10_000;

interface Wanted {
  readonly receive: (messages: readonly LoggedMessage[]) => void;
  readonly hear: (signal: Signal) => void;
}

/** The record of a recent channel at a clean stop, with what it takes to go on. */
export interface SavedChannel {
  readonly channel: ChannelName;
  readonly log: SavedLog;
  readonly bounds?: LogBounds;
}

/** The relay of a service that is one process: orders recent channels in memory and hands over in the same turn. */
export class SoloRelay implements Relay {
  readonly recent: LogReader;
  readonly control: ControlLog;
  readonly #clock: Clock;
  readonly #ids: Ids;
  readonly #logs = new Map<ChannelName, { readonly log: RecentLog; bounds: LogBounds | undefined }>();
  #hearUsers: (word: UserWord) => void = () => {};
  #hearGrowth: (growth: Growth) => void = () => {};
  readonly #wanted = new Map<ChannelName, Wanted>();
  #cancelSweep: (() => void) | undefined;

  /** @param saved - the records of recent channels as they were at the last clean stop */
  constructor(clock: Clock, ids: Ids, saved: Iterable<SavedChannel> = []) {
    this.#clock = clock;
    this.#ids = ids;
    const now = clock.now();
    for (const { channel, log, bounds } of saved) {
      const restored = RecentLog.restored(channel, log, now);
      if (bounds !== undefined) restored.forget(bounds, now);
      this.#logs.set(channel, { log: restored, bounds });
    }
    if (this.#logs.size > 0) this.#cancelSweep = clock.setTimer(sweepMs, this.#sweep);
    let receive: (measure: Measure) => void = () => {};
    this.control = {
      append: async (measure) => receive(measure),
      follow: (receiver) => {
        receive = receiver;
      },
    };
    this.recent = {
      head: async (channel): Promise<Place> => this.#log(channel).head,
      since: async (channel, after, limit): Promise<LogSlice> => this.#read(channel).since(after, limit),
      before: async (channel, before, limit: ReadLimit): Promise<LogSlice> => this.#read(channel).before(before, limit),
    };
  }

  append(channel: ChannelName, draft: Draft, bounds: LogBounds): Promise<Appended> {
    const appended = this.#log(channel, bounds).append(draft, bounds);
    if (!appended.repeated) this.announce(channel, [appended.logged]);
    return Promise.resolve(appended);
  }

  announce(channel: ChannelName, messages: readonly LoggedMessage[]): void {
    this.#wanted.get(channel)?.receive(messages);
  }

  want(channel: ChannelName, receive: Wanted['receive'], hear: Wanted['hear']): void {
    this.#wanted.set(channel, { receive, hear });
  }

  cast(signal: Signal): void {
    this.#wanted.get(signal.channel)?.hear(signal);
  }

  tellUser(word: UserWord): void {
    this.#hearUsers(word);
  }

  followUsers(receive: (word: UserWord) => void): void {
    this.#hearUsers = receive;
  }

  tellGrowth(growth: Growth): void {
    this.#hearGrowth(growth);
  }

  followGrowth(receive: (growth: Growth) => void): void {
    this.#hearGrowth = receive;
  }

  unwant(channel: ChannelName): void {
    this.#wanted.delete(channel);
  }

  /** The records of recent channels, to be taken up after a restart. */
  *saved(): Iterable<SavedChannel> {
    for (const [channel, { log, bounds }] of this.#logs)
      if (log.head.number > 0) yield { channel, log: log.saved, ...(bounds === undefined ? {} : { bounds }) };
  }

  /** Ends its timer. */
  stop(): void {
    this.#cancelSweep?.();
    this.#cancelSweep = undefined;
  }

  #log(channel: ChannelName, bounds?: LogBounds): RecentLog {
    let held = this.#logs.get(channel);
    if (held === undefined) {
      held = { log: new RecentLog(channel, this.#ids.volume(), this.#clock.now()), bounds };
      this.#logs.set(channel, held);
      this.#cancelSweep ??= this.#clock.setTimer(sweepMs, this.#sweep);
    }
    held.bounds = bounds ?? held.bounds;
    return held.log;
  }

  /** The record as it may be read now: what is older than its bounds is not shown, swept or not. */
  #read(channel: ChannelName): RecentLog {
    const log = this.#log(channel);
    const bounds = this.#logs.get(channel)?.bounds;
    if (bounds !== undefined) log.forget(bounds, this.#clock.now());
    return log;
  }

  readonly #sweep = (): void => {
    this.#cancelSweep = undefined;
    const now = this.#clock.now();
    for (const [channel, { log, bounds }] of this.#logs) {
      if (bounds !== undefined) log.forget(bounds, now);
      if (!this.#wanted.has(channel) && log.isIdle(now)) this.#logs.delete(channel);
    }
    if (this.#logs.size > 0) this.#cancelSweep = this.#clock.setTimer(sweepMs, this.#sweep);
  };
}
