import { useState } from 'react';
import { firstPage, nextPage, previousPage, stackFor } from './pages.js';
import { type Answer, useAnswer } from './queries.js';

/** A page of a list, and the place behind which the next one begins; no place: it is the last one. */
export interface Page<T, At> {
  readonly items: readonly T[];
  readonly behind: At | undefined;
}

export interface Pages<T> {
  /** `undefined` until the service has answered. */
  readonly items: readonly T[] | undefined;
  readonly answer: Answer<unknown>;
  /** Absent on the first page, and on the last. */
  readonly previous?: () => void;
  readonly next?: () => void;
}

/** How many rows a page of a list has. */
export const pageRows = 20;

/**
 * A list that the service gives page by page, and searches itself.
 *
 * @param name - what the list is of, with what is searched for: a new name begins with the first page
 * @param ask - the page behind a place, or the first one
 */
export function usePages<T, At extends string | number>(
  name: readonly string[],
  ask: (behind: At | undefined) => Promise<Page<T, At>>,
  everyMs: number,
): Pages<T> {
  const of = JSON.stringify(name);
  const [kept, setStack] = useState(firstPage<At>(of));
  const stack = stackFor(kept, of);
  const at = stack.places.at(-1);
  const answer = useAnswer([...name, at], () => ask(at), everyMs);
  const behind = answer.data?.behind;
  return {
    items: answer.data?.items,
    answer,
    ...(at === undefined ? {} : { previous: () => setStack(previousPage(stack)) }),
    ...(behind === undefined ? {} : { next: () => setStack(nextPage(stack, behind)) }),
  };
}
