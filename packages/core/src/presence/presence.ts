import { type Author, type ChannelName, defined, type Json, type Member, type MembersPush } from '@nine-bells/wire';
import { LatestFrame } from '../delivery/latestFrame.js';
import type { Frame } from '../model/frame.js';
import type { TableChange, TableEntry } from '../model/memberTable.js';
import type { PresenceRule } from '../model/presenceRule.js';
import { availability } from '../model/status.js';

/** Changes are gathered for this long before they are told, in milliseconds. */
export const mergeMs = 250;
/** Members shown to a client that enters a crowd. */
const sampleSize = 20;
/** A crowd ends below this part of its bound, so that it does not come and go with each member. */
const crowdEnds = 0.9;

/** One session of a member, as one instance shows it; one that has moved may for a moment be shown by two. */
interface Stay {
  readonly session: string;
  status: Json | undefined;
  /** When the status was set, to tell the latest of equally available ones. */
  order: number;
  /** Cancels the end of the grace; there while the session's connection is broken. */
  cancelGrace: (() => void) | undefined;
  /** Of the session's connection. */
  generation: number;
  /** The other instance that shows it; `undefined`: this one does. */
  readonly home: string | undefined;
}

/** One user in the channel. */
interface Present {
  readonly author: Author;
  sinceMs: number;
  readonly stays: Map<string, Stay>;
  data: Json | undefined;
  /** As it is shown, until it changes; made when it is needed. */
  shown: { readonly member: Member; readonly text: string } | undefined;
}

/** Who enters: a session of a user. */
export interface Arrival {
  readonly session: string;
  /** Of the session's connection. */
  readonly generation: number;
  readonly author: Author;
  readonly status?: Json | undefined;
  /** What the application wants to have shown of the member. */
  readonly data?: Json | undefined;
}

export interface PresenceHost {
  now(): number;
  /** Calls back later, unless the returned function is called before. */
  after(delayMs: number, act: () => void): () => void;
  /** Tells all clients in the channel. */
  tell(frame: Frame): void;
  /** A member has come, perhaps with a session that has had a connection before, or has gone for good. */
  noted(change: 'joined' | 'left', author: Author, isBack: boolean): void;
  /** The last member that this instance shows is gone. */
  empty(): void;
  /** This instance shows something else: for the others. */
  changed?: (change: TableChange) => void;
  /** A member that an ended instance showed has not come back. */
  abandoned?: (home: string, author: Author) => void;
}

/**
 * Who is in a channel: one member per user, whatever the number of its sessions.
 *
 * A clean leave shows at once, a broken connection after the grace. What changes is told merged, as the difference between
 * what was told last and what is. A client that enters in between gets the list as it is then, which may show what has
 * changed again when it is told: so after that everything touched is told, whether or not it differs.
 */
export class Presence {
  readonly #channel: ChannelName;
  readonly #rule: PresenceRule;
  readonly #host: PresenceHost;
  readonly #present = new Map<string, Present>();
  /** The members that have changed, as they were told last; `undefined`: not told at all. */
  readonly #changed = new Map<string, string | undefined>();
  /** A client was given the list since the last telling, and so has seen changes that were not told yet. */
  #listed = false;
  #listText: string | undefined;
  #isCrowd = false;
  #toldCount = 0;
  #toldCrowd = false;
  #cancelTelling: (() => void) | undefined;
  #order = 0;
  /** Sessions that this instance shows. */
  #own = 0;

  constructor(channel: ChannelName, rule: PresenceRule, host: PresenceHost) {
    this.#channel = channel;
    this.#rule = rule;
    this.#host = host;
  }

  /** This instance shows no member; others may. */
  get isEmptyHere(): boolean {
    return this.#own === 0;
  }

  get count(): number {
    return this.#present.size;
  }

  /** The members now, of a crowd a few: `members`, `count` and perhaps `partial` as JSON text without braces, the same for all until it changes. */
  get listText(): string {
    this.#listed = true;
    if (this.#listText === undefined) {
      const all = this.#isCrowd ? this.#sample() : [...this.#present.values()];
      const members = all.map((each) => shownOf(each).text).join();
      this.#listText = `"members":[${members}],"count":${this.#present.size}${this.#isCrowd ? ',"partial":true' : ''}`;
    }
    return this.#listText;
  }

  /** All members, of a crowd too, by the time they came. */
  all(limit: number): readonly Member[] {
    const some: Member[] = [];
    for (const each of this.#present.values()) {
      if (some.length >= limit) break;
      some.push(memberOf(each));
    }
    return some;
  }

  member(user: string): Member | undefined {
    const present = this.#present.get(user);
    return present === undefined ? undefined : memberOf(present);
  }

  /** A session enters, or comes back, perhaps from another instance. Idempotent. */
  enter({ session, generation, author, status, data }: Arrival): void {
    const before = this.#present.get(author.user);
    const stay = before?.stays.get(session);
    if (stay === undefined) this.#own += 1;
    const said = status ?? (stay ?? latestOf(before, session))?.status;
    const entry = { session, generation, author, sinceMs: this.#host.now(), status: said, data };
    if (this.#show(entry, undefined, status !== undefined) || stay?.generation !== generation)
      this.#spread(session, author.user);
    if (before === undefined) this.#host.noted('joined', author, generation > 1);
  }

  /** A session says something else of itself. */
  setStatus(session: string, user: string, status: Json): void {
    const stay = this.#present.get(user)?.stays.get(session);
    if (stay === undefined) return;
    this.#willChange(user);
    stay.status = status;
    stay.order = ++this.#order;
    this.#spread(session, user);
  }

  /** A session leaves for good, or has gone on on another instance. */
  leave(session: string, user: string): void {
    const present = this.#present.get(user);
    if (present === undefined || !this.#remove(session, user, undefined)) return;
    this.#own -= 1;
    this.#host.changed?.({ gone: session, user });
    if (present.stays.size === 0) this.#host.noted('left', present.author, false);
    if (this.#own === 0) this.#host.empty();
  }

  /** A session's connection broke: it is shown until the grace is over. */
  lost(session: string, user: string): void {
    const present = this.#present.get(user);
    const stay = present?.stays.get(session);
    if (stay === undefined || stay.cancelGrace !== undefined) return;
    if (latestOf(present, session) === stay)
      stay.cancelGrace = this.#host.after(this.#rule.graceMs, () => this.leave(session, user));
    else this.leave(session, user);
  }

  // ------------------------------------------------------------------------------------- other instances

  /** What this instance shows, for the others. */
  get table(): readonly TableEntry[] {
    return [...this.#present.keys()].flatMap((user) => this.entriesOf(user));
  }

  /** The sessions of a user that this instance shows. */
  entriesOf(user: string): readonly TableEntry[] {
    const all: TableEntry[] = [];
    for (const { session, home } of this.#present.get(user)?.stays.values() ?? [])
      if (home === undefined) all.push(this.#entryOf(session, user));
    return all;
  }

  /** Another instance shows something else. */
  hear(home: string, change: TableChange): void {
    if ('gone' in change) {
      this.#remove(change.gone, change.user, home);
      return;
    }
    const { session, author, generation } = change.entry;
    this.#show(change.entry, home, true);
    const own = this.#present.get(author.user)?.stays.get(session);
    // Its connection here broke, and it has gone on there.
    if (own?.cancelGrace !== undefined && own.generation <= generation) this.leave(session, author.user);
  }

  /** Everything that another instance shows. */
  replace(home: string, entries: readonly TableEntry[]): void {
    const there = new Set(entries.map(({ session }) => session));
    for (const [user, { stays }] of [...this.#present])
      for (const stay of [...stays.values()])
        if (stay.home === home && !there.has(stay.session)) this.#remove(stay.session, user, home);
    for (const entry of entries) this.hear(home, { entry });
  }

  /** Another instance has ended: the members that it showed have the grace to come back elsewhere. */
  abandon(home: string): void {
    for (const [user, { stays, author }] of this.#present)
      for (const stay of stays.values()) {
        if (stay.home !== home || stay.cancelGrace !== undefined) continue;
        stay.cancelGrace = this.#host.after(this.#rule.graceMs, () => {
          if (this.#remove(stay.session, user, home) && !this.#present.has(user)) this.#host.abandoned?.(home, author);
        });
      }
  }

  /** Shows a session as said, here or on another instance. Gives whether anything is different from before. */
  #show(entry: TableEntry, home: string | undefined, says: boolean): boolean {
    const { session, generation, author, sinceMs, status, data } = entry;
    let present = this.#present.get(author.user);
    const key = keyOf(session, home);
    const stay = present?.stays.get(key);
    stay?.cancelGrace?.();
    // A session that comes back, and says nothing else of itself, has changed nothing.
    if (stay !== undefined && same(status, stay.status) && same(data ?? present?.data, present?.data)) {
      stay.cancelGrace = undefined;
      stay.generation = generation;
      return false;
    }
    this.#willChange(author.user);
    if (present === undefined) {
      present = { author, sinceMs, stays: new Map(), data, shown: undefined };
      this.#present.set(author.user, present);
    }
    present.sinceMs = Math.min(present.sinceMs, sinceMs);
    // At once, not when it is told: a client that enters in the meantime must not get the whole crowd.
    this.#isCrowd ||= this.#present.size > this.#rule.crowd;
    if (data !== undefined) present.data = data;
    const order = says || stay === undefined ? ++this.#order : stay.order;
    present.stays.set(key, { session, generation, home, status, order, cancelGrace: undefined });
    return true;
  }

  /** An instance shows a session no more. */
  #remove(session: string, user: string, home: string | undefined): boolean {
    const present = this.#present.get(user);
    const key = keyOf(session, home);
    const stay = present?.stays.get(key);
    if (present === undefined || stay === undefined) return false;
    this.#willChange(user);
    stay.cancelGrace?.();
    present.stays.delete(key);
    if (present.stays.size === 0) this.#present.delete(user);
    return true;
  }

  #spread(session: string, user: string): void {
    this.#host.changed?.({ entry: this.#entryOf(session, user) });
  }

  #entryOf(session: string, user: string): TableEntry {
    const { author, sinceMs, data, stays } = this.#present.get(user) as Present;
    const { status, generation } = stays.get(session) as Stay;
    return {
      session,
      generation,
      author,
      sinceMs,
      ...defined({ status, data }),
    };
  }

  close(): void {
    this.#cancelTelling?.();
    for (const { stays } of this.#present.values()) for (const { cancelGrace } of stays.values()) cancelGrace?.();
    this.#present.clear();
  }

  /** Remembers how a member was told last, before the first change since. */
  #willChange(user: string): void {
    const present = this.#present.get(user);
    if (!this.#changed.has(user)) {
      this.#changed.set(user, present === undefined ? undefined : shownOf(present).text);
    }
    if (present !== undefined) present.shown = undefined;
    this.#listText = undefined;
    this.#cancelTelling ??= this.#host.after(mergeMs, () => this.#tell());
  }

  #tell(): void {
    this.#cancelTelling = undefined;
    const changed = [...this.#changed];
    this.#changed.clear();
    const count = this.#present.size;
    const wasCrowd = this.#isCrowd || this.#toldCrowd;
    this.#listText = undefined;
    this.#isCrowd = count > this.#rule.crowd * (this.#isCrowd ? crowdEnds : 1);
    if (this.#isCrowd) {
      if (this.#listed || count !== this.#toldCount || !this.#toldCrowd) this.#push({ count, partial: true });
    } else if (wasCrowd) {
      // Clients that were told only the count, or a few members, are told all of them.
      this.#push({ whole: true, joined: [...this.#present.values()].map(memberOf), count });
    } else {
      const difference = this.#difference(changed);
      if (difference !== undefined) this.#push({ ...difference, count });
    }
    this.#listed = false;
    this.#toldCount = count;
    this.#toldCrowd = this.#isCrowd;
  }

  #difference(changed: readonly (readonly [string, string | undefined])[]): object | undefined {
    const joined: Member[] = [];
    const left: string[] = [];
    const different: Member[] = [];
    for (const [user, told] of changed) {
      const present = this.#present.get(user);
      if (present === undefined) {
        if (told !== undefined || this.#listed) left.push(user);
        continue;
      }
      const member = memberOf(present);
      if (told === undefined) joined.push(member);
      else if (this.#listed || told !== shownOf(present).text) different.push(member);
    }
    if (joined.length + left.length + different.length === 0) return undefined;
    return {
      ...(joined.length === 0 ? {} : { joined }),
      ...(left.length === 0 ? {} : { left }),
      ...(different.length === 0 ? {} : { changed: different }),
    };
  }

  #push(members: object): void {
    const push = { on: 'members', channel: this.#channel, ...members } as MembersPush;
    this.#host.tell(new LatestFrame(`members ${this.#channel}`, push, mergedMembers, true, this.#channel));
  }

  #sample(): Present[] {
    const some: Present[] = [];
    for (const each of this.#present.values()) {
      some.push(each);
      if (some.length === sampleSize) break;
    }
    return some;
  }
}

/** Merges two changes: the result tells a client that knows neither. */
export function mergedMembers(earlier: MembersPush, later: MembersPush): MembersPush {
  if (later.whole || later.partial) return later;
  const joined = new Map((earlier.joined ?? []).map((each) => [each.user, each]));
  const changed = new Map((earlier.changed ?? []).map((each) => [each.user, each]));
  const left = new Set(earlier.left);
  for (const user of later.left ?? []) {
    joined.delete(user);
    changed.delete(user);
    left.add(user);
  }
  for (const each of later.joined ?? []) {
    left.delete(each.user);
    changed.delete(each.user);
    joined.set(each.user, each);
  }
  for (const each of later.changed ?? []) {
    left.delete(each.user);
    (joined.has(each.user) ? joined : changed).set(each.user, each);
  }
  const { on, channel, count } = later;
  return {
    on,
    channel,
    ...(earlier.whole ? { whole: true } : {}),
    ...(joined.size === 0 && !earlier.whole ? {} : { joined: [...joined.values()] }),
    ...(left.size === 0 || earlier.whole ? {} : { left: [...left] }),
    ...(changed.size === 0 ? {} : { changed: [...changed.values()] }),
    count,
  };
}

function keyOf(session: string, home: string | undefined): string {
  return home === undefined ? session : `${session} ${home}`;
}

/** Where a session is, of the instances that show it: on the one of its latest connection. */
function latestOf(present: Pick<Present, 'stays'> | undefined, session: string): Stay | undefined {
  let latest: Stay | undefined;
  for (const stay of present?.stays.values() ?? [])
    if (stay.session === session && (latest === undefined || stay.generation > latest.generation)) latest = stay;
  return latest;
}

function same(a: Json | undefined, b: Json | undefined): boolean {
  return a === b || JSON.stringify(a) === JSON.stringify(b);
}

function memberOf(present: Present): Member {
  return shownOf(present).member;
}

function shownOf(present: Present): NonNullable<Present['shown']> {
  if (present.shown === undefined) {
    const member = madeOf(present);
    present.shown = { member, text: JSON.stringify(member) };
  }
  return present.shown;
}

function madeOf({ author, sinceMs, stays, data }: Present): Member {
  const status = mostAvailable([...stays.values()].filter((stay) => latestOf({ stays }, stay.session) === stay));
  return {
    ...author,
    since: new Date(sinceMs).toISOString(),
    sessions: new Set([...stays.values()].map(({ session }) => session)).size,
    ...defined({ status, data }),
  };
}

/** The status of the most available session; of equally available ones, the one that was set last. */
function mostAvailable(stays: readonly Stay[]): Json | undefined {
  let best: Stay | undefined;
  for (const each of stays) {
    const difference = best === undefined ? -1 : availability(each.status) - availability(best.status);
    if (best === undefined || difference < 0 || (difference === 0 && each.order > best.order)) best = each;
  }
  return best?.status;
}
