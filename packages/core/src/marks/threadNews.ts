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

/** A user is told of changes at most this often, in milliseconds. */
const everyMs = 1_000;
/** What happens together is told together: the first change waits this long, in milliseconds. */
const gatherMs = 50;
/** It is looked up who takes part in a thread at most this often, in milliseconds. */
const lookMs = 400;
/** One user after another is told, so far apart at least, in milliseconds: very many may take part in a busy thread. */
const apartMs = 5;
/** Most users of a thread who are told: those who took part or read last. */
const maxTold = 1_000;
/** Most threads of a user in one push; the rest follows. */
const maxAtOnce = 50;
/** After something may have been missed, as many threads are told anew. */
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
  /** What the user is to be told of. */
  readonly due: Map<string, { readonly channel: ChannelName; readonly place: Place }>;
  /** Something may have been missed. */
  anew: boolean;
  toldAtMs: number;
  telling: boolean;
  cancel: (() => void) | undefined;
}

/**
 * Tells users who are connected here how the threads stand in which they take part. A reply costs one look at who takes part,
 * shared by all replies to its thread for a moment; without other instances nothing, while no user here wants to be told.
 */
export class ThreadNews {
  readonly #host: ThreadNewsHost;
  readonly #users = new Map<string, Follower>();
  /** Those whose time to be told has come. */
  readonly #waiting = new Set<Follower>();
  #isTelling = false;
  /** Threads of which it is looked up in a moment who takes part. */
  readonly #looking = new Set<string>();

  constructor(host: ThreadNewsHost) {
    this.#host = host;
  }

  /** Tells a session from now on. */
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

  /** A reply was committed here or withdrawn, or may have been. */
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
          report(error, { what: 'who takes part in a thread could not be told of it', channel });
          wheel.after(everyMs, () => this.changed(of));
        },
      );
    });
  }

  /** A thread stands otherwise for these users, wherever they are connected. */
  #say(users: readonly string[], channel: ChannelName, thread: Place): void {
    if (users.length > 0) this.#host.relay.publish(userNewsTopic, { type: 'threads', users, channel, thread });
  }

  /** The same was said, on whichever instance. */
  hear(users: readonly string[], channel: ChannelName, place: Place): void {
    if (this.#users.size === 0) return;
    for (const id of users) {
      const user = this.#users.get(id);
      if (user === undefined) continue;
      user.due.set(`${formatCursor(place)} ${channel}`, { channel, place });
      this.#tellLater(user);
    }
  }

  /** What was said meanwhile may not have been heard. */
  lookAgain(): void {
    for (const id of this.#users.keys()) this.recount(id);
  }

  /** What counts for a user has changed. */
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

  /** Tells those whose time has come, in turn. */
  async #tellAll(): Promise<void> {
    if (this.#isTelling) return;
    this.#isTelling = true;
    for (const user of this.#waiting) {
      this.#waiting.delete(user);
      if (this.#users.get(user.id) !== user) continue;
      // Not awaited: where the application is asked who may know, one answer is not to hold up all others.
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
      this.#host.report(error, { what: 'a user could not be told of threads', user: user.id });
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

/** Of each thread what was said last. */
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
