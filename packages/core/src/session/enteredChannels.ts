import {
  type ChannelName,
  type Cursor,
  defined,
  type Ending,
  type EnterWish,
  type MessageFilter,
  type Place,
  type Problem,
  parseCursor,
  type RemovedPush,
} from '@nine-bells/wire';
import type { Ruling, Visitor } from '../access/access.js';
import { namedActor, removedBy } from '../access/moderationProblems.js';
import type { CaughtUp, Channel } from '../channel/channel.js';
import { filterOf } from '../channel/filters.js';
import type { Recipient } from '../channel/recipient.js';
import type { ChannelAct, Identity } from '../model/access.js';
import { Frame } from '../model/frame.js';
import type { EndSilence, Silence } from '../model/moderation.js';
import type { SessionHost } from './host.js';

/** The session that enters, as far as its channels need it. */
export interface EnteringSession extends Recipient {
  readonly who: Identity;
  readonly visitor: Visitor;
  decide(act: ChannelAct, channel: ChannelName, entry?: string): Ruling | Promise<Ruling>;
  expel(channel: ChannelName, told: Omit<RemovedPush, 'on' | 'channel'>): void;
}

/** The channels that a session has entered on its present connection, and what its being there rests on. */
export class EnteredChannels {
  readonly #host: SessionHost;
  readonly #session: EnteringSession;
  /** Made with the first channel: most of many thousand connections may have none. */
  #channels: Map<ChannelName, Channel> | undefined;
  /** Channels entered on an answer that runs out: what cancels that it is asked for again. */
  #askedAgain: Map<ChannelName, () => void> | undefined;
  /** Next checks of entries that the session holds on an answer of the application, with the times since the epoch. */
  #entryChecks: Map<ChannelName, { readonly atMs: number; readonly cancel: () => void }> | undefined;
  /** Channels that are being entered, with how often. */
  readonly #entering = new Map<Channel, number>();
  /** Filters that the client has set, by channel. */
  #filters: Map<ChannelName, MessageFilter> | undefined;
  /** Cursors that the client has confirmed, by channel. */
  #got: Readonly<Record<string, Cursor>> | undefined;

  constructor(host: SessionHost, session: EnteringSession) {
    this.#host = host;
    this.#session = session;
  }

  get size(): number {
    return this.#channels?.size ?? 0;
  }

  get names(): readonly ChannelName[] {
    return [...(this.#channels?.keys() ?? [])];
  }

  has(name: ChannelName): boolean {
    return this.#channels?.has(name) === true;
  }

  get(name: ChannelName): Channel | undefined {
    return this.#channels?.get(name);
  }

  /** The session has caught up with a channel: it gets its messages from now on, unless there is more. */
  entered(channel: Channel, wish: EnterWish, caughtUp: CaughtUp, ruling: Ruling): void {
    this.#trace(wish, caughtUp, ruling);
    this.#channels ??= new Map();
    this.#filters?.delete(channel.name);
    if (caughtUp.more) this.#channels.delete(channel.name);
    else {
      this.restOn(channel.name, ruling);
      this.#channels.set(channel.name, channel);
      // A session that has reconnected may hold entries.
      this.#checkEntries(channel.name);
      if (wish.filter !== undefined) {
        this.#filters ??= new Map();
        this.#filters.set(channel.name, wish.filter);
      }
    }
  }

  /** Entering rests on a ruling. If that runs out, it is decided again, and the session removed if it is refused. */
  restOn(channel: ChannelName, { untilMs }: Ruling): void {
    this.#askedAgain?.get(channel)?.();
    this.#askedAgain?.delete(channel);
    if (untilMs === undefined) return;
    this.#askedAgain ??= new Map();
    const { wheel, clock } = this.#host;
    const cancel = wheel.after(untilMs - clock.now(), () => void this.#decideAgain(channel));
    this.#askedAgain.set(channel, cancel);
  }

  /** Decides all channels again, for a new token. Resolves with those that are lost. */
  async decideAll(): Promise<readonly ChannelName[]> {
    const lost: ChannelName[] = [];
    const settle = (name: ChannelName, ruling: Ruling): void => {
      if (!this.has(name)) return;
      if (ruling.problem === undefined) this.#refilter(name, ruling);
      else {
        this.leave(name, 'not-allowed');
        lost.push(name);
      }
    };
    // What the rules alone decide ends in this turn; the application takes its time.
    const asked: Promise<void>[] = [];
    for (const name of this.names) {
      const ruling = this.#session.decide('enter', name);
      if (ruling instanceof Promise) asked.push(ruling.then((later) => settle(name, later)));
      else settle(name, ruling);
    }
    await Promise.all(asked);
    return lost;
  }

  /** What the user may do has changed: leaves channels where it may no longer be, and says so to the client. */
  decideAgain(): void {
    for (const channel of this.names) void this.#decideAgain(channel);
  }

  /** Removes the entries of boards that go with the session, and that its user may not set any more. */
  checkEntries(): void {
    for (const channel of this.names) this.#checkEntries(channel);
  }

  /** Checks the entries that the session holds in a channel again when the ruling expires. */
  holdEntries(channel: ChannelName, { untilMs }: Ruling): void {
    const next = this.#entryChecks?.get(channel);
    if (untilMs === undefined || !this.has(channel) || (next !== undefined && next.atMs <= untilMs)) return;
    next?.cancel();
    const { wheel, clock } = this.#host;
    const cancel = wheel.after(untilMs - clock.now(), () => {
      this.#entryChecks?.delete(channel);
      this.#checkEntries(channel);
    });
    this.#entryChecks ??= new Map();
    this.#entryChecks.set(channel, { atMs: untilMs, cancel });
  }

  /** Decides the session's held entries of a channel again. Most sessions hold none and cost no promise here. */
  #checkEntries(channel: ChannelName): void {
    const held = this.#host.boards.get(channel)?.heldBy(this.#session.session) ?? [];
    if (held.length > 0) void this.#decideEntries(channel, held);
  }

  async #decideEntries(channel: ChannelName, held: readonly string[]): Promise<void> {
    for (const entry of held) {
      const ruling = await this.#session.decide('set', channel, entry);
      if (ruling.problem === undefined) this.holdEntries(channel, ruling);
      else this.#host.boards.get(channel)?.removeHeld(this.#session.session, entry);
    }
  }

  /** Bans from channels may have been missed: leaves those where the user is banned. */
  checkBans(): void {
    for (const channel of this.names) {
      const ban = this.#host.access.ban(this.#session.visitor, channel);
      if (ban !== undefined) this.#session.expel(channel, removedBy(ban));
    }
  }

  /** Leaves a channel, and forgets what being there rested on. */
  leave(name: ChannelName, why: Ending | 'removed' | 'not-allowed', detail?: string): void {
    const channel = this.get(name);
    if (channel === undefined) return;
    this.#filters?.delete(name);
    this.#traceEnd(channel, why, detail);
    this.#channels?.delete(name);
    this.restOn(name, {});
    this.#entryChecks?.get(name)?.cancel();
    this.#entryChecks?.delete(name);
    channel.leave(this.#session);
    this.#host.boards.get(name)?.leave(this.#session, mayComeBack(why));
    this.#host.channels.left(name);
  }

  /** The client says how far it has received channels. Those that it does not name are as before. */
  hasGot(got: Readonly<Record<string, Cursor>>): void {
    const known: Record<string, Cursor> = {};
    const before = this.#got ?? {};
    for (const name of this.#channels?.keys() ?? []) {
      const cursor = Object.hasOwn(got, name) ? got[name] : undefined;
      if (typeof cursor === 'string' && parseCursor(cursor) !== undefined) known[name] = cursor;
      else if (before[name] !== undefined) known[name] = before[name];
    }
    this.#got = known;
  }

  /** Returns the cursor that the client has confirmed for a channel. */
  gotOf(channel: ChannelName): Place | undefined {
    const cursor = this.#got?.[channel];
    return cursor === undefined ? undefined : parseCursor(cursor);
  }

  /** Traces that the session may not enter. */
  refused(channel: ChannelName, problem: Problem): void {
    this.#host.traces.stay({ type: 'refused', problem, ...this.#stay(channel) });
  }

  async #decideAgain(channel: ChannelName): Promise<void> {
    const { who } = this.#session;
    const ruling = await this.#session.decide('enter', channel);
    // Left meanwhile, or decided again with another token.
    if (this.#session.gone || !this.has(channel) || this.#session.who !== who) return;
    if (ruling.problem === undefined) this.#refilter(channel, ruling);
    else this.#session.expel(channel, { problem: ruling.problem });
  }

  /** It is decided anew, also which of the messages are for it. */
  #refilter(name: ChannelName, ruling: Ruling): void {
    this.restOn(name, ruling);
    this.#checkEntries(name);
    const channel = this.get(name);
    const before = channel?.filterFor(this.#session);
    const now = filterOf(this.#filters?.get(name), ruling.filters, this.#hiddenIn(channel));
    if (channel === undefined || before?.key === now?.key) return;
    channel.refilter(this.#session, now);
    const { head } = channel;
    if (head !== undefined)
      this.#trace(
        { channel: name, ...defined({ filter: this.#filters?.get(name) }) },
        { cursor: head, messages: [], changes: [], more: false, source: 'memory' },
        ruling,
      );
  }

  /** A channel is being entered, from before the client gets its messages until `over`. */
  begin(channel: Channel): void {
    this.#entering.set(channel, (this.#entering.get(channel) ?? 0) + 1);
  }

  over(channel: Channel): void {
    const left = (this.#entering.get(channel) ?? 0) - 1;
    if (left > 0) this.#entering.set(channel, left);
    else this.#entering.delete(channel);
  }

  /** Whom the user keeps away has changed: also in channels that are being entered and bring messages already. */
  blocksChanged(): void {
    for (const channel of new Set([...(this.#channels?.values() ?? []), ...this.#entering.keys()]))
      this.#hideAgain(channel);
  }

  #hideAgain(channel: Channel): void {
    const { name } = channel;
    const before = channel.filterFor(this.#session);
    const now = filterOf(undefined, before?.asked, this.#hiddenIn(channel));
    if (before?.key === now?.key) return;
    channel.refilter(this.#session, now);
    const { head } = channel;
    if (head === undefined) return;
    const given = { cursor: head, messages: [], changes: [], more: false, source: 'memory' } as const;
    this.#trace({ channel: name }, given, { filters: before?.asked ?? [] });
  }

  #hiddenIn(channel: Channel | undefined): MessageFilter | undefined {
    return channel && this.#session.blocks?.filterFor(channel.match.rule);
  }

  #trace(
    { channel, after, filter }: EnterWish,
    { cursor, messages, more, gap, source }: CaughtUp,
    { filters = [] }: Ruling,
  ): void {
    const { counters, traces } = this.#host;
    if (after !== undefined) {
      counters.recoveries[source] += 1;
      counters.recovered += messages.length;
    }
    if (gap !== undefined) counters.gaps[gap.why] += 1;
    const came = after === undefined ? undefined : parseCursor(after);
    // What a filter passed over was looked at, too.
    const first = messages[0]?.place.number ?? cursor.number + 1;
    const isOfVolume = came?.volume === cursor.volume;
    const hidden = this.#hiddenIn(this.#host.channels.get(channel));
    const all = [...(filter ? [filter] : []), ...filters, ...(hidden ? [hidden] : [])];
    traces.stay({
      type: more ? 'given' : 'entered',
      volume: cursor.volume,
      from: isOfVolume && gap === undefined ? came.number : first - 1,
      gapAfter: isOfVolume && gap !== undefined ? came.number : undefined,
      upTo: cursor.number,
      returned: came !== undefined,
      ...(all.length === 0 ? {} : { filters: all }),
      ...(hidden === undefined ? {} : { hides: true }),
      ...this.#stay(channel),
    });
  }

  #traceEnd({ name, head }: Channel, why: Ending | 'removed' | 'not-allowed', detail: string | undefined): void {
    if (head === undefined) return;
    const got = this.gotOf(name);
    this.#host.traces.stay({
      type: 'ended',
      why,
      volume: head.volume,
      upTo: head.number,
      got: got?.volume === head.volume ? got.number : undefined,
      detail,
      ...this.#stay(name),
    });
  }

  /** Members that all trace events share. Spread them last: V8 gives each object that begins with a spread a shape of its own. */
  #stay(channel: ChannelName) {
    const { session, user, who } = this.#session;
    return { session, user, name: who.name, channel, atMs: this.#host.clock.now() };
  }
}

/** Returns whether a session that leaves in this way may return soon. */
function mayComeBack(why: Ending | 'removed' | 'not-allowed'): boolean {
  return why !== 'left' && why !== 'removed' && why !== 'not-allowed' && why !== 'signed-out';
}

/** The frame that tells a client that its stay in a channel has ended. */
export function removedFrame(channel: ChannelName, told: Omit<RemovedPush, 'on' | 'channel'>): Frame {
  return new Frame(JSON.stringify({ on: 'removed', channel, ...told }));
}

/** Tells a client that it may read and not write, or that this is over. */
export function silencedFrame(action: Silence | EndSilence): Frame {
  const { channel, reason, by } = action;
  const { untilMs: until, everyMs } = action.type === 'silence' ? action : {};
  const told = {
    ...defined({ channel, everyMs, reason, by: namedActor(by) }),
    ...(until === undefined ? {} : { until: new Date(until).toISOString() }),
    ...(action.type === 'end-silence' ? { over: true } : {}),
  };
  return new Frame(JSON.stringify({ on: 'silenced', ...told }));
}
