import { type ChannelName, formatCursor } from '@nine-bells/wire';
import type { ChannelFeature } from '../channel/feature.js';
import type { Recipient } from '../channel/recipient.js';
import {
  type BoardRule,
  type BoardSnapshot,
  type BoardWord,
  type Holder,
  type PlacedRecord,
  slowestPaceMs,
} from '../model/board.js';
import { Frame } from '../model/frame.js';
import type { Signal } from '../model/signal.js';
import { type Entry, EntryList, memberText } from './entryList.js';

/** What a client wishes of a board when it enters. */
export interface BoardWish {
  /** How far apart its frames are to be at least, in milliseconds. */
  readonly pace?: number;
  /** `false`: not what this session has set itself. */
  readonly echo?: boolean;
}

/** A change that the board itself makes, on condition that the entry has not changed. */
export type OwnChange = { readonly removed: true } | { readonly generation: number };

export interface BoardHost {
  /** Reads the board where it is kept; one that is not there is made. */
  read(): Promise<BoardSnapshot>;
  /** Makes an own change. Returns `false` if it must be tried again. */
  change(entry: Entry, change: OwnChange): Promise<boolean>;
  /** By a clock that never jumps, in milliseconds. */
  now(): number;
  /** Calls `act` once, `delayMs` from now; not rounded to the ticks of the timer wheel. */
  after(delayMs: number, act: () => void): () => void;
  /** At the end of the turn. */
  soon(act: () => void): void;
  /** This instance. */
  self(): string;
  /** Whether another instance is there. */
  isThere(instanceId: string): boolean;
  /** How long a session that lost its connection still holds its entries, in milliseconds. */
  readonly graceMs: number;
  failed(error: unknown): void;
  /** Counts frames queued for clients, and their bytes. */
  told(frames: number, bytes: number): void;
  /** Counts changes that a later one replaced before a frame was made. */
  merged(changes: number): void;
  /** The board no longer keeps the channel open. */
  emptied(): void;
  closed(): void;
}

/** A client that gets the board. */
interface Reader {
  readonly recipient: Recipient;
  readonly echo: boolean;
  readonly group: Group;
  /** Of the session's connection. */
  readonly generation: number;
  /** The number up to which it has the board; -1: nothing of this volume. */
  since: number;
}

/** The clients of one pace. */
interface Group {
  readonly paceMs: number;
  readonly readers: Set<Reader>;
  sentAtMs: number;
  isDue: boolean;
  cancel: (() => void) | undefined;
}

/** A frame that shows what has changed since a number, and the sessions that set some of it. */
interface Made {
  readonly frame: Frame | undefined;
  readonly changes: number;
  readonly setters: ReadonlySet<string>;
}

/** How long to wait before the board is read again, in milliseconds. */
const againMs = 500;
/** Most changes that are kept while the board is being read. */
const maxEarly = 1_000;
/** Shortest delay before clients that were behind are tried again, in milliseconds. */
const behindMs = 25;
/** The first pace above 0, where the rule pushes at once, in milliseconds. */
const leastPaceMs = 25;

/**
 * The board of a channel, as one instance shows it to the clients in the channel.
 *
 * For each client the board remembers the number of the last change sent. At the client's pace it sends the entries changed
 * since, with their current values: replaced values are never sent, and a slow client (`SendQueue.isBehind`) gets one larger
 * frame later. Clients at the same number share a frame.
 */
export class Board implements ChannelFeature {
  readonly #channel: ChannelName;
  readonly #rule: BoardRule;
  readonly #host: BoardHost;
  readonly #entries = new EntryList();
  /** Where the board stands here; `undefined`: it has not been read yet. */
  #volume: string | undefined;
  #number = 0;
  readonly #readers = new Map<Recipient, Reader>();
  /** The sessions of the clients here. */
  readonly #sessions = new Map<string, Reader>();
  readonly #groups = new Map<number, Group>();
  /** What came while the board was being read. */
  #early: BoardWord[] | undefined;
  #reading: Promise<void> | undefined;
  /** The whole board as text, until it changes. */
  #whole: string | undefined;
  /** When the next entry ends, and what cancels the timer for it. */
  #endsAtMs = Number.POSITIVE_INFINITY;
  #cancelEnd: (() => void) | undefined;
  /** Sessions that lost their connection, and hold entries. */
  readonly #graces = new Map<string, () => void>();
  /** By session, the number at which it holds an entry that has not been heard of here yet. */
  readonly #expected = new Map<string, number>();
  /** Own changes that are not done yet. */
  #wanted = 0;
  #isClosed = false;

  constructor(channel: ChannelName, rule: BoardRule, host: BoardHost) {
    this.#channel = channel;
    this.#rule = rule;
    this.#host = host;
  }

  get keepsOpen(): boolean {
    return this.#graces.size > 0 || this.#wanted > 0;
  }

  /** How many entries there are. */
  get size(): number {
    return this.#entries.size;
  }

  /** Where the board stands here. */
  get place(): { readonly volume: string; readonly number: number } | undefined {
    return this.#volume === undefined ? undefined : { volume: this.#volume, number: this.#number };
  }

  // ---------------------------------------------------------------------------------- in step with the keeper

  ready(): Promise<void> | undefined {
    return this.#volume !== undefined && this.#reading === undefined ? undefined : this.#read();
  }

  /** Takes changes that the keeper has numbered. */
  receive(signal: Signal): void {
    if (!('board' in signal)) return;
    if (this.#reading !== undefined) this.#keepEarly(signal);
    else if (this.#volume !== undefined) this.#take(signal);
  }

  /** The board was seen at a place where it is kept: what does not come by itself is read. */
  lookAt(place: { readonly volume: string; readonly number: number } | undefined): void {
    if (this.#volume === undefined || this.#reading !== undefined) return;
    if (place?.volume !== this.#volume || place.number > this.#number) this.signalsMissed();
  }

  signalsMissed(): void {
    if (this.#volume !== undefined) this.#read().catch((error: unknown) => this.#failed(error));
  }

  #read(): Promise<void> {
    this.#early ??= [];
    this.#reading ??= this.#readNow().finally(() => {
      this.#reading = undefined;
    });
    return this.#reading;
  }

  async #readNow(): Promise<void> {
    const snapshot = await this.#host.read();
    if (this.#isClosed) return;
    this.#replace(snapshot);
    const early = this.#early ?? [];
    this.#early = undefined;
    // From here on changes are taken as they come.
    this.#reading = undefined;
    for (const word of early) this.#take(word);
    this.#keepHolders();
  }

  #failed(error: unknown): void {
    this.#host.failed(error);
    if (!this.#isClosed) this.#host.after(againMs, () => this.signalsMissed());
  }

  #take({ board, after, changes }: BoardWord): void {
    if (board !== this.#volume || after > this.#number) {
      // It was begun anew, or something was missed.
      this.signalsMissed();
      this.#keepEarly({ board, after, changes });
      return;
    }
    const before = this.#number;
    for (const [index, record] of changes.entries()) this.#change({ ...record, number: after + 1 + index });
    if (this.#number > before) this.#changed();
  }

  /** Above the bound all are dropped: the next change then shows that some are missing, and the board is read again. */
  #keepEarly(word: BoardWord): void {
    if (this.#early === undefined) return;
    if (this.#early.length >= maxEarly) this.#early.length = 0;
    this.#early.push(word);
  }

  #replace({ volume, number, records }: BoardSnapshot): void {
    const before = this.place;
    if (before?.volume === volume && number < before.number) return;
    if (before?.volume !== volume) {
      this.#volume = volume;
      this.#number = 0;
      this.#entries.clear(0);
      this.#endsAtMs = Number.POSITIVE_INFINITY;
      for (const reader of this.#readers.values()) reader.since = -1;
    }
    const there = new Set(records.map(({ entry }) => entry));
    const gone = [...this.#entries].filter(({ name }) => !there.has(name));
    for (const record of [...records].sort((a, b) => a.number - b.number)) this.#change(record);
    // The snapshot does not say when an entry was removed: its own number is the latest possible.
    for (const { name } of gone) this.#entries.take({ entry: name, number }, 0);
    this.#number = number;
    if (before === undefined || before.volume !== volume || before.number !== number) this.#changed();
  }

  #change(record: PlacedRecord): void {
    if (record.number <= this.#number) return;
    this.#number = record.number;
    const now = this.#host.now();
    this.#entries.take(record, now);
    if (record.value !== undefined && record.forMs !== undefined) this.#endBy(now + record.forMs);
    this.#checkHolder(record.holder);
  }

  // ------------------------------------------------------------------------------------------ clients

  /** Starts sending changes to a client. Returns the `board` member of its reply as JSON text, beginning with a comma. */
  enter(recipient: Recipient, { pace, echo }: BoardWish, generation: number): string {
    this.#removeReader(recipient);
    const group = this.#groupOf(paceOf(pace ?? 0, this.#rule.everyMs));
    const reader: Reader = { recipient, echo: echo !== false, group, generation, since: this.#number };
    group.readers.add(reader);
    this.#readers.set(recipient, reader);
    this.#sessions.set(recipient.session, reader);
    this.#cameBack(recipient.session, generation);
    this.#whole ??= `,"board":{"version":"${this.#version}","entries":{${[...this.#entries].map(memberText).join()}}}`;
    return this.#whole;
  }

  /** A client is not live in the channel for now: it enters again. */
  pause(recipient: Recipient): void {
    this.#removeReader(recipient);
  }

  /** A client has left, or, if `isLost`, may come back within the grace. */
  leave(recipient: Recipient, isLost: boolean): void {
    const { session } = recipient;
    this.#removeReader(recipient);
    const isExpected = (this.#expected.get(session) ?? 0) > this.#number;
    this.#expected.delete(session);
    if (!isExpected && !this.#entries.isHolder(session)) return;
    this.#graces.get(session)?.();
    this.#graces.delete(session);
    if (isLost || isExpected) this.#letGoLater(session);
    else this.#letGo(session);
  }

  #removeReader(recipient: Recipient): void {
    const reader = this.#readers.get(recipient);
    if (reader === undefined) return;
    this.#readers.delete(recipient);
    if (this.#sessions.get(recipient.session) === reader) this.#sessions.delete(recipient.session);
    const { group } = reader;
    group.readers.delete(reader);
    if (group.readers.size > 0) return;
    group.cancel?.();
    this.#groups.delete(group.paceMs);
  }

  #groupOf(paceMs: number): Group {
    let group = this.#groups.get(paceMs);
    if (group === undefined) {
      group = { paceMs, readers: new Set(), sentAtMs: Number.NEGATIVE_INFINITY, isDue: false, cancel: undefined };
      this.#groups.set(paceMs, group);
    }
    return group;
  }

  // ---------------------------------------------------------------------------------------- delivery

  #changed(): void {
    this.#whole = undefined;
    for (const group of this.#groups.values()) this.#sendLater(group);
  }

  /** The first change after quiet goes out at the end of the turn, the next ones at the pace. */
  #sendLater(group: Group, leastMs = 0): void {
    if (group.isDue) return;
    group.isDue = true;
    const waitMs = Math.max(leastMs, group.sentAtMs + group.paceMs - this.#host.now());
    if (waitMs > 0) group.cancel = this.#host.after(waitMs, () => this.#send(group));
    else this.#host.soon(() => this.#send(group));
  }

  /** Hot: within it once per client and pace. */
  #send(group: Group): void {
    group.isDue = false;
    group.cancel = undefined;
    if (group.readers.size === 0 || this.#isClosed) return;
    group.sentAtMs = this.#host.now();
    const made = new Map<number, Made>();
    let isBehind = false;
    let [frames, bytes] = [0, 0];
    for (const reader of group.readers) {
      if (reader.since === this.#number) continue;
      const { queue, session } = reader.recipient;
      if (queue.isBehind) {
        isBehind = true;
        continue;
      }
      let each = made.get(reader.since);
      if (each === undefined) {
        each = this.#frameSince(reader.since, undefined);
        made.set(reader.since, each);
        if (group.paceMs === this.#rule.everyMs && made.size === 1)
          this.#host.merged(this.#number - reader.since - each.changes);
      }
      const { frame } = !reader.echo && each.setters.has(session) ? this.#frameSince(reader.since, session) : each;
      // The client set all of it: its next frame continues from the last one sent.
      if (frame === undefined) continue;
      reader.since = this.#number;
      queue.push(frame);
      frames += 1;
      bytes += frame.bytes;
    }
    this.#host.told(frames, bytes);
    if (isBehind) this.#sendLater(group, behindMs);
  }

  /** @param except - a session that is not shown what it has set itself */
  #frameSince(since: number, except: string | undefined): Made {
    const channel = JSON.stringify(this.#channel);
    if (since < this.#entries.forgotten || since < 0) {
      const set = [...this.#entries].map(memberText).join();
      const text = `{"on":"board","channel":${channel},"version":"${this.#version}","whole":true,"set":{${set}}}`;
      return { frame: new Frame(text, true, this.#channel), changes: this.#number - since, setters: new Set() };
    }
    const set: string[] = [];
    const gone: string[] = [];
    const setters = new Set<string>();
    for (const entry of this.#entries.since(since)) {
      if (entry.session !== undefined) {
        if (entry.session === except) continue;
        setters.add(entry.session);
      }
      if (entry.value === undefined) gone.push(entry.name);
      else set.push(memberText(entry));
    }
    // An entry was set and removed in between: only the version is new.
    if (set.length === 0 && gone.length === 0 && except !== undefined) return { frame: undefined, changes: 0, setters };
    const after = `"after":"${formatCursor({ volume: this.#volume as string, number: since })}"`;
    const setText = set.length === 0 ? '' : `,"set":{${set.reverse().join()}}`;
    const goneText = gone.length === 0 ? '' : `,"gone":${JSON.stringify(gone.reverse())}`;
    const text = `{"on":"board","channel":${channel},${after},"version":"${this.#version}"${setText}${goneText}}`;
    const frame = new Frame(text, except === undefined, this.#channel);
    return { frame, changes: set.length + gone.length, setters };
  }

  get #version(): string {
    return formatCursor({ volume: this.#volume as string, number: this.#number });
  }

  // ------------------------------------------------------------------------- how long entries live

  /** Looks at the entries when the next one ends. */
  #endBy(endsAtMs: number): void {
    if (endsAtMs >= this.#endsAtMs) return;
    this.#endsAtMs = endsAtMs;
    this.#cancelEnd?.();
    this.#cancelEnd = this.#host.after(Math.max(0, endsAtMs - this.#host.now()), () => this.#endEntries());
  }

  #endEntries(): void {
    const now = this.#host.now();
    this.#endsAtMs = Number.POSITIVE_INFINITY;
    let next = Number.POSITIVE_INFINITY;
    for (const entry of this.#entries) {
      if (entry.endsAtMs === undefined) continue;
      if (entry.endsAtMs <= now) {
        this.#want(entry, { removed: true });
      } else next = Math.min(next, entry.endsAtMs);
    }
    if (next < Number.POSITIVE_INFINITY) this.#endBy(next);
  }

  /** The connection broke: the session's entries go unless it comes back within the grace. */
  #letGoLater(session: string): void {
    const cancel = this.#host.after(this.#host.graceMs, () => {
      this.#graces.delete(session);
      this.#letGo(session);
      this.#host.emptied();
    });
    this.#graces.set(session, cancel);
  }

  /**
   * A session sets an entry that it will hold. It may leave before that is done, or before it is heard of here.
   *
   * @param done - resolves with the number of the change; 0 if there is none
   */
  expectHolder(session: string, done: Promise<number>): void {
    this.#wanted += 1;
    void done.then((number) => {
      this.#wanted -= 1;
      if (this.#isClosed) return;
      const isHere = this.#sessions.has(session);
      if (isHere && number > this.#number) this.#expected.set(session, number);
      if (number > 0 && !isHere && !this.#graces.has(session)) this.#letGoLater(session);
      else this.#host.emptied();
    });
  }

  /** Names of the entries that go when the session leaves. */
  heldBy(session: string): readonly string[] {
    if (!this.#entries.isHolder(session)) return [];
    return [...this.#entries].filter(({ holder }) => holder?.session === session).map(({ name }) => name);
  }

  /** Removes an entry of a session that may not set it any more. */
  removeHeld(session: string, name: string): void {
    const entry = this.#entries.get(name);
    if (entry?.holder?.session === session) this.#want(entry, { removed: true });
  }

  /** An entry may come to be held by a session that has left meanwhile. */
  #checkHolder(holder: Holder | undefined): void {
    if (holder === undefined || holder.home !== this.#host.self()) return;
    const { session } = holder;
    if (!this.#sessions.has(session) && !this.#graces.has(session)) this.#letGoLater(session);
  }

  /** Makes an own change, and tries again until it is made or the entry has changed. */
  #want(entry: Entry, change: OwnChange): void {
    this.#wanted += 1;
    void this.#host.change(entry, change).then((isDone) => {
      this.#wanted -= 1;
      if (this.#isClosed) return;
      if (isDone) this.#host.emptied();
      else
        this.#later(() => {
          if (this.#entries.get(entry.name)?.number === entry.number) this.#want(entry, change);
          else this.#host.emptied();
        });
    });
  }

  /** Calls in a while, and keeps the channel open until then. */
  #later(act: () => void): void {
    this.#wanted += 1;
    this.#host.after(againMs, () => {
      this.#wanted -= 1;
      if (!this.#isClosed) act();
    });
  }

  /** A session's entries go with it. */
  #letGo(session: string): void {
    for (const entry of [...this.#entries])
      if (entry.holder?.session === session && entry.holder.home === this.#host.self())
        this.#want(entry, { removed: true });
  }

  /** A session is here again, perhaps from another instance: its entries are held from here. */
  #cameBack(session: string, generation: number): void {
    this.#graces.get(session)?.();
    this.#graces.delete(session);
    if (!this.#entries.isHolder(session)) return;
    for (const entry of [...this.#entries])
      if (
        entry.holder?.session === session &&
        (entry.holder.home !== this.#host.self() || entry.holder.generation < generation)
      )
        this.#want(entry, { generation });
  }

  /** Another instance has ended: what its sessions held goes, unless they come back within the grace. */
  instanceGone(instanceId: string): void {
    if (![...this.#entries].some(({ holder }) => holder?.home === instanceId)) return;
    this.#host.after(this.#host.graceMs, () => {
      if (this.#isClosed || this.#host.isThere(instanceId)) return;
      for (const entry of [...this.#entries])
        if (entry.holder?.home === instanceId) this.#want(entry, { removed: true });
    });
  }

  /** The board was read: who holds entries may have ended, or this instance has another name now. */
  #keepHolders(): void {
    const homes = new Set([...this.#entries].flatMap(({ holder }) => (holder === undefined ? [] : holder.home)));
    for (const home of homes) if (home !== this.#host.self() && !this.#host.isThere(home)) this.instanceGone(home);
    for (const { recipient, generation } of this.#readers.values())
      for (const entry of [...this.#entries])
        if (entry.holder?.session === recipient.session && entry.holder.home !== this.#host.self())
          if (entry.holder.generation <= generation)
            // A connection that has been continued elsewhere is about to end here.
            this.#want(entry, { generation });
    this.#endEntries();
  }

  close(): void {
    this.#isClosed = true;
    this.#cancelEnd?.();
    for (const cancel of this.#graces.values()) cancel();
    for (const { cancel } of this.#groups.values()) cancel?.();
    this.#readers.clear();
    this.#sessions.clear();
    this.#groups.clear();
    this.#host.closed();
  }
}

/**
 * The pace of a client, of which there are few, so that clients share frames: the rule's, or a power of two times it.
 *
 * @param wished - milliseconds
 */
export function paceOf(wished: number, everyMs: number): number {
  if (wished <= everyMs) return everyMs;
  let pace = Math.max(everyMs, leastPaceMs);
  while (pace < wished && pace * 2 <= slowestPaceMs) pace *= 2;
  return pace;
}
