import type { LoggedMessage, LogSlice } from '../model/message.js';
import type { Filter } from './filters.js';

/** The part of a stretch of a record that one client receives. */
export interface Shown {
  /** Messages, each as it stands. */
  readonly messages: readonly LoggedMessage[];
  /** Messages from before the stretch that were changed in it, as JSON texts, in the order of the changes. */
  readonly changes: readonly string[];
}

const noChanges: readonly string[] = [];

/**
 * Selects a client's part of a stretch: messages for this client in their current state, and changes of messages that the client
 * may have already, up to the number `from`.
 */
export function shownOf(
  stretch: readonly LoggedMessage[],
  from: number,
  session: string | undefined,
  filter: Filter | undefined,
): Shown {
  const isFor = (each: LoggedMessage): boolean => session === undefined || each.isFor(session);
  const messages = stretch.flatMap((each) => {
    if (!each.isMessage || !isFor(each) || filter?.fits(each) === false) return [];
    return filter?.hidesQuote(each) ? each.with({ answers: undefined }) : each;
  });
  // Most often all are messages.
  if (stretch.every(({ of }) => of === undefined)) return { messages, changes: noChanges };
  const changes = stretch.flatMap((each) => {
    if (!each.isChange || (each.of as number) > from || !isFor(each)) return [];
    const shown = filter === undefined ? 'whole' : filter.showsChange(each);
    return shown === undefined ? [] : [shown === 'unfit' ? each.unfitText : each.text];
  });
  return { messages, changes };
}

/**
 * Detects changes of messages that an earlier read returned in an older state. One reply may take several reads, and authors may
 * change messages in between.
 *
 * @param given - messages and changes from the earlier reads
 * @param searched - range of numbers that the earlier reads searched: above `from`, up to `upTo`
 */
export function isOutdatedBy(
  { messages, gap }: LogSlice,
  given: readonly LoggedMessage[],
  searched: { readonly from: number; readonly upTo: number },
  filter: Filter | undefined,
): boolean {
  if (gap !== undefined) return false;
  const changes = messages.filter(({ isChange, of = 0 }) => isChange && of > searched.from && of <= searched.upTo);
  if (changes.length === 0) return false;
  const targets = new Map(given.flatMap((each) => (each.isMessage ? [[each.place.number, each]] : [])));
  return changes.some((change) => {
    const target = targets.get(change.of as number);
    if (target !== undefined) return (target.revision ?? 0) < change.place.number;
    // Before the change, the message may not have matched the filter.
    return filter?.showsChange(change) === 'whole' && !change.message.withdrawn;
  });
}

/** Changes as a member of a reply, which begins with a comma; empty if there are none. */
export function changesText(changes: readonly string[]): string {
  return changes.length === 0 ? '' : `,"changes":[${changes.join()}]`;
}
