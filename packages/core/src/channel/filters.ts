import { type FilterValue, filterFits, filterKey, type Json, type Message, type MessageFilter } from '@nine-bells/wire';
import type { SendQueue } from '../delivery/sendQueue.js';
import { valueAt } from '../lib/jsonPointer.js';
import type { Frame } from '../model/frame.js';
import type { LoggedMessage } from '../model/message.js';
import type { Recipient } from './recipient.js';

/** Selects a client's messages of a channel: those that all of these filters let through. */
export class Filter {
  readonly parts: readonly MessageFilter[];
  /** Equal for filters that let the same through. */
  readonly key: string;
  /** Filters of the client and of the access rule; the other part hides blocked users. */
  readonly asked: readonly MessageFilter[];
  readonly #isRuled: boolean;
  readonly #hidden: ReadonlySet<string>;

  constructor(wished: MessageFilter | undefined, ruled: readonly MessageFilter[], hidden?: MessageFilter) {
    this.asked = wished === undefined ? ruled : [wished, ...ruled];
    this.parts = hidden === undefined ? this.asked : [...this.asked, hidden];
    this.#isRuled = ruled.length > 0;
    this.key = `${this.#isRuled ? 'ruled ' : ''}${this.parts.map(filterKey).sort().join()}`;
    this.#hidden = new Set(hidden?.notBy);
  }

  /**
   * Returns whether to show a reply without its quote. The access rule or a block may hide the quoted message, and a quote has only
   * the author and the first words.
   */
  hidesQuote({ answers }: LoggedMessage): boolean {
    if (answers === undefined) return false;
    if (this.#isRuled) return true;
    const author = this.#hidden.size === 0 ? undefined : (JSON.parse(answers) as Partial<Message>).by?.user;
    return author !== undefined && this.#hidden.has(author);
  }

  fits({ message }: LoggedMessage): boolean {
    return !this.#hides(message) && this.asked.every((each) => filterFits(each, message));
  }

  /**
   * Returns how to send a change to a client. `whole`: with the message. `unfit`: without its data, since the new data does not fit
   * the filter and the client may have the earlier data. `undefined`: not at all, since type or author do not fit.
   */
  showsChange({ message }: LoggedMessage): 'whole' | 'unfit' | undefined {
    if (this.#hides(message)) return undefined;
    if (!this.asked.every(({ where: _, ...each }) => filterFits(each, message))) return undefined;
    return message.withdrawn || this.asked.every((each) => filterFits(each, message)) ? 'whole' : 'unfit';
  }

  #hides({ by }: Message): boolean {
    return by !== undefined && this.#hidden.has(by.user);
  }

  /** A member of the data, and the value that it must have, if there is one. */
  get term(): readonly [pointer: string, value: FilterValue] | undefined {
    for (const { where } of this.parts) for (const pointer in where) return [pointer, where[pointer] as FilterValue];
    return undefined;
  }
}

/**
 * The filter of those that are there; `undefined`: everything passes.
 *
 * @param wished - by the client
 * @param ruled - by the access rule
 * @param hidden - by `notBy`, hides users whom the client's user has blocked or muted
 */
export function filterOf(
  wished: MessageFilter | undefined,
  ruled: readonly MessageFilter[] = [],
  hidden?: MessageFilter,
): Filter | undefined {
  const isNone = wished === undefined && ruled.length === 0 && hidden === undefined;
  return isNone ? undefined : new Filter(wished, ruled, hidden);
}

/** Clients of a channel with equal filters. They share decisions and frames. */
interface Group {
  readonly filter: Filter;
  readonly recipients: Map<Recipient, SendQueue>;
  /** Frames of this turn that are for them. */
  turn: Frame[];
  /** Counts of messages in the channel, and of those for the group, since the group's last `passed` push. */
  sinceCount: number;
  taken: number;
}

/** The clients of a channel that want some of its messages, by what they want. */
export class FilteredGroups {
  readonly #byRecipient = new Map<Recipient, Group>();
  readonly #byKey = new Map<string, Group>();
  /** Groups that want a value at a pointer, by pointer and value; and the others, which are looked at for each message. */
  readonly #byTerm = new Map<string, Map<Json, Set<Group>>>();
  readonly #others = new Set<Group>();
  /** Groups with frames of this turn. */
  #offered: Group[] = [];
  #count = 0;

  get size(): number {
    return this.#byRecipient.size;
  }

  recipients(): Iterable<Recipient> {
    return this.#byRecipient.keys();
  }

  filterFor(recipient: Recipient): Filter | undefined {
    return this.#byRecipient.get(recipient)?.filter;
  }

  add(recipient: Recipient, filter: Filter): void {
    let group = this.#byKey.get(filter.key);
    if (group === undefined) {
      group = { filter, recipients: new Map(), turn: [], sinceCount: this.#count, taken: 0 };
      this.#byKey.set(filter.key, group);
      this.#groupsLike(filter).add(group);
    }
    group.recipients.set(recipient, recipient.queue);
    this.#byRecipient.set(recipient, group);
  }

  /** Returns whether it was there. */
  delete(recipient: Recipient): boolean {
    const group = this.#byRecipient.get(recipient);
    if (group === undefined) return false;
    this.#byRecipient.delete(recipient);
    group.recipients.delete(recipient);
    if (group.recipients.size > 0) return true;
    const { filter } = group;
    this.#byKey.delete(filter.key);
    const like = this.#groupsLike(filter);
    like.delete(group);
    const { term } = filter;
    if (term === undefined || like.size > 0) return true;
    const byValue = this.#byTerm.get(term[0]);
    byValue?.delete(term[1]);
    if (byValue?.size === 0) this.#byTerm.delete(term[0]);
    return true;
  }

  clear(): void {
    this.#byRecipient.clear();
    this.#byKey.clear();
    this.#byTerm.clear();
    this.#others.clear();
    this.#offered = [];
  }

  /**
   * Decides once per filter whether a message of this turn is for its clients. Returns the number of these clients. Hot.
   *
   * @param bare - frame of the message without its quote
   */
  offer(logged: LoggedMessage, frame: Frame, bare: Frame): number {
    this.#count += 1;
    let count = 0;
    for (const group of this.#others) count += this.#offerTo(group, logged, frame, bare);
    if (this.#byTerm.size === 0) return count;
    const { data } = logged.message;
    for (const [pointer, byValue] of this.#byTerm) {
      const value = valueAt(data, pointer);
      const groups = value === undefined ? undefined : byValue.get(value);
      if (groups !== undefined) for (const group of groups) count += this.#offerTo(group, logged, frame, bare);
    }
    return count;
  }

  /** Offers a change to all clients that may have received the message. */
  offerChange(logged: LoggedMessage, frame: Frame): void {
    this.#count += 1;
    let unfit: Frame | undefined;
    for (const group of this.#byKey.values()) {
      const shown = group.filter.showsChange(logged);
      if (shown === undefined) continue;
      if (shown === 'unfit') unfit ??= logged.toUnfitPush();
      this.#take(group, shown === 'unfit' ? (unfit as Frame) : frame);
    }
  }

  /** The groups with frames of this turn; the next turn begins. */
  *take(): Iterable<{ readonly recipients: ReadonlyMap<Recipient, SendQueue>; readonly frames: readonly Frame[] }> {
    const offered = this.#offered;
    if (offered.length === 0) return;
    this.#offered = [];
    for (const group of offered) {
      const { recipients, turn } = group;
      group.turn = [];
      yield { recipients, frames: turn };
    }
  }

  /** Returns the queues of clients whose filter has passed over messages since their last `passed` push, and resets the counts. */
  *passedOver(): Iterable<SendQueue> {
    for (const group of this.#byKey.values()) {
      const hasPassed = this.#count - group.sinceCount > group.taken;
      group.sinceCount = this.#count;
      group.taken = 0;
      if (hasPassed) yield* group.recipients.values();
    }
  }

  #offerTo(group: Group, logged: LoggedMessage, frame: Frame, bare: Frame): number {
    if (!group.filter.fits(logged)) return 0;
    this.#take(group, group.filter.hidesQuote(logged) ? bare : frame);
    return group.recipients.size;
  }

  #take(group: Group, frame: Frame): void {
    if (group.turn.length === 0) this.#offered.push(group);
    group.turn.push(frame);
    group.taken += 1;
  }

  /** The groups that are looked at for the same messages as one with this filter. */
  #groupsLike({ term }: Filter): Set<Group> {
    if (term === undefined) return this.#others;
    const [pointer, value] = term;
    let byValue = this.#byTerm.get(pointer);
    if (byValue === undefined) {
      byValue = new Map();
      this.#byTerm.set(pointer, byValue);
    }
    let groups = byValue.get(value);
    if (groups === undefined) {
      groups = new Set();
      byValue.set(value, groups);
    }
    return groups;
  }
}
