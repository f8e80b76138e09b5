import type { LoggedMessage } from '../model/message.js';
import type { Filter } from './filters.js';

/** What of a stretch of a record a client is given. */
export interface Shown {
  /** Messages, each as it stands. */
  readonly messages: readonly LoggedMessage[];
  /** Messages from before the stretch that were changed in it, as JSON texts, in the order of the changes. */
  readonly changes: readonly string[];
}

const noChanges: readonly string[] = [];

/**
 * What of a stretch a client is given: messages that are for it, as they stand; and of what it may have already, up to the number
 * `from`, how it stands now.
 */
export function shownOf(
  stretch: readonly LoggedMessage[],
  from: number,
  session: string | undefined,
  filter: Filter | undefined,
): Shown {
  const isFor = (each: LoggedMessage): boolean => session === undefined || each.isFor(session);
  const messages = stretch.filter((each) => each.isMessage && isFor(each) && (filter?.fits(each) ?? true));
  // Most often all are messages.
  if (stretch.every(({ of }) => of === undefined)) return { messages, changes: noChanges };
  const changes = stretch.flatMap((each) => {
    if (!each.isChange || (each.of as number) > from || !isFor(each)) return [];
    const shown = filter === undefined ? 'whole' : filter.showsChange(each);
    return shown === undefined ? [] : [shown === 'unfit' ? each.unfitText : each.text];
  });
  return { messages, changes };
}

/** Changes as a member of a reply, which begins with a comma; empty if there are none. */
export function changesText(changes: readonly string[]): string {
  return changes.length === 0 ? '' : `,"changes":[${changes.join()}]`;
}
