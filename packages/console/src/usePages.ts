import { useState } from 'react';
import { firstPage, nextPage, previousPage, stackFor } from './pages.js';
import { type Answer, useAnswer } from './queries.js';

/** A page of a list. */
export interface Page<T> {
  readonly items: readonly T[];
  /** Place of the next page; absent from the last. */
  readonly next?: string | undefined;
}

/** Selects a page of `pageRows` items behind a place, or the first one. */
export interface PageQuery {
  readonly limit: number;
  readonly after?: string;
}

export interface Pages<T> {
  /** `undefined` until the service has answered. */
  readonly items: readonly T[] | undefined;
  readonly answer: Answer<unknown>;
  /** Absent on the first page, and on the last. */
  readonly previous?: () => void;
  readonly next?: () => void;
}

/** Number of rows of a page. */
export const pageRows = 20;

/**
 * Shows a list page by page.
 *
 * @param name - the list and its search text; a new name begins with the first page
 * @param ask - requests a page from the service
 */
export function usePages<T>(
  name: readonly string[],
  ask: (query: PageQuery) => Promise<Page<T>>,
  everyMs: number,
): Pages<T> {
  const of = JSON.stringify(name);
  const [kept, setStack] = useState(firstPage(of));
  const stack = stackFor(kept, of);
  const at = stack.places.at(-1);
  const query = { limit: pageRows, ...(at === undefined ? {} : { after: at }) };
  const answer = useAnswer([...name, at], () => ask(query), everyMs);
  const next = answer.data?.next;
  return {
    items: answer.data?.items,
    answer,
    ...(at === undefined ? {} : { previous: () => setStack(previousPage(stack)) }),
    ...(next === undefined ? {} : { next: () => setStack(nextPage(stack, next)) }),
  };
}
