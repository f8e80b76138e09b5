/** Where a reader is in a list that the service gives page by page: the places behind which the pages begin. */
export interface PageStack<At> {
  /** The places of the pages gone through, the present one last; none on the first page. */
  readonly places: readonly At[];
  /** What the list is of; another search is another list, and begins anew. */
  readonly of: string;
}

/** The first page of a list. */
export function firstPage<At>(of: string): PageStack<At> {
  return { places: [], of };
}

/** The stack for a list: as it is, or from its beginning if it was another list's. */
export function stackFor<At>(stack: PageStack<At>, of: string): PageStack<At> {
  return stack.of === of ? stack : firstPage(of);
}

export function nextPage<At>({ places, of }: PageStack<At>, behind: At): PageStack<At> {
  return { places: [...places, behind], of };
}

export function previousPage<At>({ places, of }: PageStack<At>): PageStack<At> {
  return { places: places.slice(0, -1), of };
}
