import { type ChannelName, defined, refusal } from '@nine-bells/wire';
import type { Inboxes } from '../inbox/inboxes.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Marks } from '../marks/marks.js';
import {
  type ErasedCounts,
  type ErasedRecord,
  type Erasure,
  erasedRecords,
  type MessagesErased,
  nothingErased,
  type PersonRecords,
} from '../model/erasure.js';
import { countsAsUnread } from '../model/mark.js';
import type { LoggedMessage } from '../model/message.js';
import type { Actor, Committing, Revocation } from '../model/moderation.js';
import type { Moderation } from '../moderation/moderation.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';
import type { Report } from '../ports/report.js';
import type { PersonPlace, Store } from '../ports/stores.js';
import type { Publisher } from '../record/publisher.js';

/** Messages or records of one portion. */
const portion = 50;
/** The least rest between two portions, in milliseconds. It is longer for messages, since each makes a frame for all clients. */
const restMs = { messages: 200, records: 20 };
/** How long an instance holds an erasure between two portions, and how often it looks for interrupted ones, in milliseconds. */
const heldMs = 60_000;
const roundMs = 30_000;
/** An erasure looks for messages again this long after its end, in milliseconds: another instance may have been late. */
const lingerMs = 60_000;
/** Channels that are named where messages are left. */
const namedChannels = 100;

export interface EraserHost {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly wheel: TimerWheel;
  readonly report: Report;
  readonly store: Pick<Store, 'persons' | 'marks'>;
  readonly publisher: Publisher;
  readonly marks: Marks;
  readonly inboxes: Inboxes;
  readonly moderation: Moderation;
}

/** Some of what is kept about a user. */
export interface PersonPart {
  /** By what they are; absent in all parts but the first. */
  readonly records?: PersonRecords;
  readonly messages: readonly LoggedMessage[];
  /** Where the next part begins; absent: this was the last one. */
  readonly next?: PersonPlace;
}

/** Whom to erase. */
export interface ErasureWish {
  readonly user: string;
  readonly messages: MessagesErased;
}

/**
 * Erases users: in small portions with rests between, by one instance at a time. An erasure that is interrupted is taken up by
 * another instance, or after a restart: each portion leaves less of the user, so that nothing is done twice.
 */
export class Eraser {
  readonly #host: EraserHost;
  readonly #running = new Map<string, Promise<void>>();
  #stopped = false;

  constructor(host: EraserHost) {
    this.#host = host;
  }

  start(): void {
    this.#host.wheel.after(roundMs, () => {
      if (this.#stopped) return;
      void this.takeUp().finally(() => this.start());
    });
  }

  /** Erases nothing more. Resolves when the portions under way are done. */
  async stop(): Promise<void> {
    this.#stopped = true;
    await Promise.all(this.#running.values());
  }

  /**
   * Begins to erase a user: its sessions end, and its tokens are taken no more. Idempotent: gives the erasure that is under way.
   *
   * @throws {ProblemError} `bad-value`, `unavailable`
   */
  async begin({ user, messages }: ErasureWish, by: Actor): Promise<Erasure> {
    const { store, clock, ids, moderation } = this.#host;
    if (user.startsWith('erased:')) throw refusal('bad-value', 'nothing is kept of an erased user', { where: '/user' });
    const atMs = clock.now();
    const draft = { id: ids.moderation(), user, messages, by, atMs, counts: nothingErased, held: [] };
    const revocation = moderation.revocationOf({ id: draft.id, user, by, atMs, erases: true });
    const begun = await store.persons.beginErasure(draft, atMs + heldMs, revocation);
    const isNew = begun.id === draft.id;
    // An instance that began it earlier may have ended before it signed the user out.
    await moderation.enforce(isNew ? revocation : revocationOf(begun));
    if (isNew) this.#run(begun);
    return begun;
  }

  /**
   * All that is kept about a user, in parts: with the first one its records, and with each some of its messages. The first
   * part is written into the audit log.
   *
   * @throws {ProblemError} `unavailable`
   */
  async export(user: string, by: Actor, after: PersonPlace | undefined, limit: number): Promise<PersonPart> {
    const { store, clock } = this.#host;
    const { messages, next } = await store.persons.messagesOf(user, after, limit);
    if (after !== undefined) return { messages, ...defined({ next }) };
    await store.persons.noteExport(user, by, clock.now());
    return { messages, records: await store.persons.recordsOf(user), ...defined({ next }) };
  }

  /** An erasure by its id. */
  async byId(id: string): Promise<Erasure | undefined> {
    const [found] = await this.#host.store.persons.erasures(1, id);
    return found;
  }

  /** The last erasures, the latest first. */
  list(limit: number): Promise<readonly Erasure[]> {
    return this.#host.store.persons.erasures(limit);
  }

  /** Goes on with erasures that no instance is at. Never rejects. */
  async takeUp(): Promise<void> {
    const { store, clock, report, moderation } = this.#host;
    try {
      const now = clock.now();
      for (const each of await store.persons.takeErasures(now, now + heldMs)) {
        if (each.endedAtMs === undefined) await moderation.enforce(revocationOf(each));
        this.#run(each);
      }
    } catch (error) {
      report(error, { event: 'erasure-resume-failed' });
    }
  }

  #run(erasure: Erasure): void {
    const { id } = erasure;
    if (this.#stopped || this.#running.has(id)) return;
    const running = (erasure.endedAtMs === undefined ? this.#erase(erasure) : this.#eraseLate(erasure))
      .catch((error: unknown) => this.#host.report(error, { event: 'erasure-interrupted', id }))
      .finally(() => this.#running.delete(id));
    this.#running.set(id, running);
  }

  async #erase(begun: Erasure): Promise<void> {
    const { store, clock } = this.#host;
    const user = begun.user as string;
    let erasure = begun;
    // Another instance goes on with it at once.
    const release = (): Promise<void> => store.persons.noteErasure(erasure, 0);
    const count = async (kind: keyof ErasedCounts, more: number, held = erasure.held): Promise<void> => {
      erasure = { ...erasure, held, counts: { ...erasure.counts, [kind]: erasure.counts[kind] + more } };
      await store.persons.noteErasure(erasure, clock.now() + heldMs);
    };
    const eraseRecords = async (kind: ErasedRecord): Promise<void> => {
      while (!this.#stopped) {
        const wish = { kind, user, erasure: erasure.id, limit: portion };
        const erased = await this.#rested(() => store.persons.eraseRecords(wish));
        if (erased === 0) return;
        await count(kind, erased);
      }
    };
    // Before the messages: otherwise a moderator could publish one after the last pass over them.
    await eraseRecords('pending');
    // What the user was writing just now may come behind the first look.
    for (let found = true; found; ) {
      found = await this.#messages(erasure, user, count);
      if (this.#stopped) return release();
    }
    await this.#marks(user, count);
    const { unread } = await this.#host.inboxes.countOf(user);
    await this.#host.inboxes.done(user, true);
    if (unread > 0) await count('notices', unread);
    for (const kind of erasedRecords) await eraseRecords(kind);
    if (this.#stopped) return release();
    const endedAtMs = clock.now();
    await store.persons.noteErasure({ ...erasure, endedAtMs }, endedAtMs + lingerMs);
  }

  /** Erases messages of an ended erasure that were committed late, and then forgets who it was. */
  async #eraseLate(ended: Erasure): Promise<void> {
    let erasure = ended;
    const count = async (_: 'messages', more: number): Promise<void> => {
      erasure = { ...erasure, counts: { ...erasure.counts, messages: erasure.counts.messages + more } };
    };
    const { store } = this.#host;
    const user = ended.user as string;
    await this.#messages(ended, user, count);
    const wish = { kind: 'deliveries', user, erasure: ended.id, limit: portion, untilMs: ended.endedAtMs } as const;
    while (!this.#stopped && (await this.#rested(() => store.persons.eraseRecords(wish))) > 0);
    if (this.#stopped) return;
    const { user: _, ...nameless } = erasure;
    await store.persons.noteErasure(nameless, 0);
  }

  /** Erases all messages that are there; of an ended erasure, those from before its end. Says whether there were any. */
  async #messages(
    { messages: how, endedAtMs = Number.POSITIVE_INFINITY }: Erasure,
    user: string,
    count: (kind: 'messages', more: number, held?: readonly ChannelName[]) => Promise<void>,
  ): Promise<boolean> {
    const { store, publisher } = this.#host;
    const left = new Set<ChannelName>();
    let hasErased = false;
    let after: PersonPlace | undefined;
    do {
      const { messages, held, next } = await store.persons.messagesOf(user, after, portion);
      after = next;
      for (const [index, { channel }] of messages.entries()) if (held[index]) left.add(channel);
      // The same id may be another user by now.
      const free = messages.filter(({ atMs }, index) => !held[index] && atMs <= endedAtMs);
      // Together, so that they share commits. Notes of who comes and goes are only blanked.
      await Promise.all(
        free.map((each) => publisher.blank(each, how === 'withdraw' && countsAsUnread(each.message.type))),
      );
      hasErased ||= free.length > 0;
      if (messages.length > 0) await count('messages', free.length, [...left].slice(0, namedChannels));
      if (next !== undefined) await this.#rest(restMs.messages);
    } while (after !== undefined && !this.#stopped);
    return hasErased;
  }

  async #marks(user: string, count: (kind: 'marks', more: number) => Promise<void>): Promise<void> {
    const { marks, store } = this.#host;
    const all = await store.marks.unread(user);
    for (const { channel } of all) await marks.forget(user, channel);
    if (all.length > 0) await count('marks', all.length);
  }

  async #rested<T>(act: () => Promise<T>): Promise<T> {
    const { clock } = this.#host;
    const startMs = clock.monotonic();
    const result = await act();
    await this.#rest(Math.max(restMs.records, clock.monotonic() - startMs));
    return result;
  }

  #rest(ms: number): Promise<void> {
    return new Promise((resolve) => void this.#host.clock.setTimer(this.#stopped ? 0 : ms, resolve));
  }
}

/** The revocation that an erasure was committed with. */
function revocationOf({ id, user, by, atMs }: Erasure): Committing<Revocation> {
  return { action: { type: 'revoke-tokens', id, user: user as string, by, atMs, erases: true }, events: [] };
}
