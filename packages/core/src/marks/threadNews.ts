import { type ChannelName, type Cursor, formatCursor, type ThreadInfo, type ThreadsPush } from '@nine-bells/wire';
import { LatestFrame } from '../delivery/latestFrame.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import { type ThreadOf, threadShown } from '../model/mark.js';
import type { Place } from '../model/message.js';
import type { Clock } from '../ports/clock.js';
import { type Relay, userNewsTopic } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { MarkStore } from '../ports/stores.js';
import type { Marks } from './marks.js';
import type { UnreadReader } from './unread.js';

/** Minimum time between two pushes to one user, in milliseconds. */
const everyMs = 1_000;
/** Delay that gathers simultaneous changes into one push, in milliseconds. */
const gatherMs = 50;
/** Delay that gathers the replies to a thread before its participants are read, in milliseconds. */
const lookMs = 400;
/** Minimum time between pushes to two users, in milliseconds: a busy thread may have very many followers. */
const apartMs = 5;
/** Most participants of a thread that get its changes: the latest to reply or read. */
const maxTold = 1_000;
/** Most threads in one push; the rest follows. */
const maxAtOnce = 50;
/** Threads that are pushed again after changes may have been lost. */
const maxAnew = 100;

export interface ThreadNewsHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly store: Pick<MarkStore, 'takingPart'>;
  readonly marks: Pick<Marks, 'threads' | 'thread'>;
  readonly relay: Relay;
  readonly report: Report;
}

interface Follower {
  readonly id: string;
  readonly readers: Set<UnreadReader>;
  /** Threads that have changed since the last push. */
  readonly due: Map<string, { readonly channel: ChannelName; readonly place: Place }>;
  /** Changes may have been lost. */
  anew: boolean;
  toldAtMs: number;
  telling: boolean;
  cancel: (() => void) | undefined;
}

/**
 * Pushes changes of threads to their followers on this instance.
 *
 * Replies cost one read of a thread's participants per `lookMs`. On a single instance without followers they cost nothing.
 */
export class ThreadNews {
  readonly #host: ThreadNewsHost;
  readonly #users = new Map<string, Follower>();
  /** Followers whose push is due. */
  readonly #waiting = new Set<Follower>();
  #isTelling = false;
  /** Threads whose participants are about to be read. */
  readonly #looking = new Set<string>();

  constructor(host: ThreadNewsHost) {
    this.#host = host;
  }

  /** Adds a session that gets changes. */
  follow(id: string, reader: UnreadReader): void {
    const user = this.#users.get(id) ?? {
      id,
      readers: new Set(),
      due: new Map(),
      anew: false,
      toldAtMs: Number.NEGATIVE_INFINITY,
      telling: false,
      cancel: undefined,
    };
    this.#users.set(id, user);
    user.readers.add(reader);
  }

  unfollow(id: string, reader: UnreadReader): void {
    const user = this.#users.get(id);
    if (user === undefined || !user.readers.delete(reader) || user.readers.size > 0) return;
    this.#users.delete(id);
    user.cancel?.();
  }

  /** Called when this instance has committed or withdrawn a reply, or may have. */
  changed(of: ThreadOf): void {
    const { wheel, relay, store, report } = this.#host;
    if (relay.others === undefined && this.#users.size === 0) return;
    const { channel, thread } = of;
    const key = `${thread} ${channel}`;
    if (this.#looking.has(key)) return;
    this.#looking.add(key);
    wheel.after(lookMs, () => {
      this.#looking.delete(key);
      store.takingPart(channel, thread, maxTold).then(
        ({ users, volume }) => this.#say(users, channel, { volume, number: thread }),
        (error: unknown) => {
          report(error, { event: 'thread-news-failed', channel });
          wheel.after(everyMs, () => this.changed(of));
        },
      );
    });
  }

  /** Tells all instances that a thread has changed for these users. */
  #say(users: readonly string[], channel: ChannelName, thread: Place): void {
    if (users.length > 0) this.#host.relay.publish(userNewsTopic, { type: 'threads', users, channel, thread });
  }

  /** Called when any instance says that a thread has changed for these users. */
  hear(users: readonly string[], channel: ChannelName, place: Place): void {
    if (this.#users.size === 0) return;
    for (const id of users) {
      const user = this.#users.get(id);
      if (user === undefined) continue;
      user.due.set(`${formatCursor(place)} ${channel}`, { channel, place });
      this.#tellLater(user);
    }
  }

  /** Called when words of other instances may have been lost. */
  lookAgain(): void {
    for (const id of this.#users.keys()) this.recount(id);
  }

  /** Called when all counts of a user may have changed. */
  recount(id: string): void {
    const user = this.#users.get(id);
    if (user === undefined) return;
    user.anew = true;
    this.#tellLater(user);
  }

  #tellLater(user: Follower): void {
    if (user.cancel !== undefined || user.telling) return;
    const dueMs = user.toldAtMs + everyMs - this.#host.clock.monotonic();
    user.cancel = this.#host.wheel.after(Math.max(gatherMs, dueMs), () => {
      this.#waiting.add(user);
      void this.#tellAll();
    });
  }

  /** Pushes to all followers that are due, one after another. */
  async #tellAll(): Promise<void> {
    if (this.#isTelling) return;
    this.#isTelling = true;
    for (const user of this.#waiting) {
      this.#waiting.delete(user);
      if (this.#users.get(user.id) !== user) continue;
      // Not awaited: an access question to a slow application must not delay the other followers.
      void this.#tell(user);
      if (this.#waiting.size > 0) await new Promise<void>((resolve) => void this.#host.wheel.after(apartMs, resolve));
    }
    this.#isTelling = false;
  }

  async #tell(user: Follower): Promise<void> {
    user.cancel = undefined;
    user.telling = true;
    user.toldAtMs = this.#host.clock.monotonic();
    try {
      await this.#tellNow(user);
    } catch (error) {
      this.#host.report(error, { event: 'thread-news-failed', user: user.id });
    }
    user.telling = false;
    if (this.#users.get(user.id) === user && (user.due.size > 0 || user.anew)) this.#tellLater(user);
  }

  async #tellNow(user: Follower): Promise<void> {
    const { marks } = this.#host;
    const threads: ThreadInfo[] = [];
    const left: { channel: ChannelName; thread: Cursor }[] = [];
    if (user.anew) {
      threads.push(...(await marks.threads(user.id, maxAnew)).map(threadShown));
      user.anew = false;
    }
    for (const [key, { channel, place }] of [...user.due].slice(0, maxAtOnce)) {
      const mark = await marks.thread(user.id, channel, place);
      user.due.delete(key);
      if (mark === undefined) left.push({ channel, thread: formatCursor(place) });
      else threads.push(threadShown(mark));
    }
    for (const reader of user.readers) {
      const push = { threads: await known(reader, threads), left: await known(reader, left) };
      if (push.threads.length + push.left.length > 0)
        reader.push(new LatestFrame<ThreadsPush>('threads', { on: 'threads', ...push }, merged, false));
    }
  }
}

async function known<T extends { readonly channel: ChannelName }>(
  reader: UnreadReader,
  all: readonly T[],
): Promise<T[]> {
  const may: T[] = [];
  for (const each of all) if (await reader.mayKnow(each.channel)) may.push(each);
  return may;
}

/** Keeps the latest state of each thread. */
function merged(earlier: ThreadsPush, later: ThreadsPush): ThreadsPush {
  const said = new Set([...later.threads, ...later.left].map(({ channel, thread }) => `${thread} ${channel}`));
  const isOld = ({ channel, thread }: { readonly channel: string; readonly thread: string }): boolean =>
    !said.has(`${thread} ${channel}`);
  return {
    on: 'threads',
    threads: [...earlier.threads.filter(isOld), ...later.threads],
    left: [...earlier.left.filter(isOld), ...later.left],
  };
}
