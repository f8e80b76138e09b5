/** A user's position in a list that is shown page by page. */
export interface PageStack {
  /** Places of the pages up to the current one; empty on the first page. */
  readonly places: readonly string[];
  /** Name of the list and its search text. */
  readonly of: string;
}

/** Returns the position at the first page of a list. */
export function firstPage(of: string): PageStack {
  return { places: [], of };
}

/** Returns the stack if it is of this list, or else the list's first page. */
export function stackFor(stack: PageStack, of: string): PageStack {
  return stack.of === of ? stack : firstPage(of);
}

export function nextPage({ places, of }: PageStack, place: string): PageStack {
  return { places: [...places, place], of };
}

export function previousPage({ places, of }: PageStack): PageStack {
  return { places: places.slice(0, -1), of };
}
