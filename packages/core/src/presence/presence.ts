import { type Author, type ChannelName, defined, type Json, type Member } from '@nine-bells/wire';
import type { MemberPlace, MembersQuery } from '../model/info.js';
import type { TableChange, TableEntry } from '../model/memberTable.js';
import { goodbyeGraceMs, type PresenceRule } from '../model/presenceRule.js';
import { Announcer, type AnnouncerHost } from './announcer.js';
import { keyOf, latestOf, memberOf, type Present, type Stay } from './present.js';

/** A session that enters. */
export interface Arrival {
  readonly session: string;
  /** Generation of the session's connection. */
  readonly generation: number;
  readonly author: Author;
  readonly status?: Json | undefined;
  /** Shows no status, not even an earlier one of the session. */
  readonly hidesStatus?: boolean;
  /** Data of the member that the application wants to show. */
  readonly data?: Json | undefined;
}

export interface PresenceHost extends AnnouncerHost {
  now(): number;
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
 * Members of a channel: one per user, whatever the number of their sessions.
 *
 * A clean leave shows at once, a broken connection after the grace.
 */
export class Presence {
  readonly #rule: PresenceRule;
  readonly #host: PresenceHost;
  readonly #present = new Map<string, Present>();
  readonly #announcer: Announcer;
  #order = 0;
  /** Sessions that this instance shows. */
  #own = 0;

  constructor(channel: ChannelName, rule: PresenceRule, host: PresenceHost) {
    this.#rule = rule;
    this.#host = host;
    this.#announcer = new Announcer(channel, rule.crowd, this.#present, host);
  }

  /** The members as a client that enters is told them, as JSON text without braces. */
  get listText(): string {
    return this.#announcer.listText;
  }

  /** This instance shows no member; others may. */
  get isEmptyHere(): boolean {
    return this.#own === 0;
  }

  get count(): number {
    return this.#present.size;
  }

  /** Returns members, also of a crowd, by time of entering, then by user. */
  page({ limit, after }: MembersQuery): readonly Member[] {
    const placed = [...this.#present].map(([user, present]) => ({ user, sinceMs: present.sinceMs, present }));
    const found = after === undefined ? placed : placed.filter((each) => comparePlaces(each, after) > 0);
    return found
      .sort(comparePlaces)
      .slice(0, limit)
      .map(({ present }) => memberOf(present));
  }

  member(user: string): Member | undefined {
    const present = this.#present.get(user);
    return present === undefined ? undefined : memberOf(present);
  }

  /** A session enters, or comes back, perhaps from another instance. Idempotent. */
  enter({ session, generation, author, status, hidesStatus, data }: Arrival): void {
    const before = this.#present.get(author.user);
    const stay = before?.stays.get(session);
    if (stay === undefined) this.#own += 1;
    const said = hidesStatus ? undefined : (status ?? (stay ?? latestOf(before, session))?.status);
    const entry = { session, generation, author, sinceMs: this.#host.now(), status: said, data };
    if (this.#show(entry, undefined, status !== undefined) || stay?.generation !== generation)
      this.#spread(session, author.user);
    if (before === undefined) this.#host.noted('joined', author, generation > 1);
  }

  /** Sets the status of a session; `undefined` removes it. */
  setStatus(session: string, user: string, status: Json | undefined): void {
    const stay = this.#present.get(user)?.stays.get(session);
    if (stay === undefined || (status === undefined && stay.status === undefined)) return;
    this.#announcer.willChange(user);
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

  /**
   * A session's connection has ended: it is shown until the grace is over.
   *
   * @param left - it ended with a goodbye: then the grace is short, and only for the user's last session
   */
  lost(session: string, user: string, left = false): void {
    const present = this.#present.get(user);
    const stay = present?.stays.get(session);
    if (stay === undefined || stay.cancelGrace !== undefined) return;
    const isLast = present?.stays.size === 1;
    if (latestOf(present, session) === stay && (isLast || !left)) {
      const graceMs = left ? Math.min(goodbyeGraceMs, this.#rule.graceMs) : this.#rule.graceMs;
      stay.cancelGrace = this.#host.after(graceMs, () => this.leave(session, user));
    } else this.leave(session, user);
  }

  // ------------------------------------------------------------------------------------- other instances

  /** The sessions that this instance shows, for other instances. */
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
    this.#announcer.willChange(author.user);
    if (present === undefined) {
      present = { author, sinceMs, stays: new Map(), data, shown: undefined };
      this.#present.set(author.user, present);
    }
    present.sinceMs = Math.min(present.sinceMs, sinceMs);
    this.#announcer.grew();
    if (data !== undefined) present.data = data;
    const order = says || stay === undefined ? ++this.#order : stay.order;
    present.stays.set(key, { session, generation, home, status, order, cancelGrace: undefined });
    return true;
  }

  /** Removes a session that an instance no longer shows. */
  #remove(session: string, user: string, home: string | undefined): boolean {
    const present = this.#present.get(user);
    const key = keyOf(session, home);
    const stay = present?.stays.get(key);
    if (present === undefined || stay === undefined) return false;
    this.#announcer.willChange(user);
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
    this.#announcer.close();
    for (const { stays } of this.#present.values()) for (const { cancelGrace } of stays.values()) cancelGrace?.();
    this.#present.clear();
  }
}

function comparePlaces(a: MemberPlace, b: MemberPlace): number {
  return a.sinceMs - b.sinceMs || (a.user < b.user ? -1 : Number(a.user > b.user));
}

function same(a: Json | undefined, b: Json | undefined): boolean {
  return a === b || JSON.stringify(a) === JSON.stringify(b);
}
