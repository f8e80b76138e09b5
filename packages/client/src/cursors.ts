import { type Cursor, parseCursor } from '@nine-bells/wire';

/** Whether a place is beyond another; without a place, everything is. Another volume is always beyond. */
export function isAfter(cursor: Cursor, known: Cursor | undefined): boolean {
  const place = parseCursor(cursor);
  const from = known === undefined ? undefined : parseCursor(known);
  if (place === undefined || from === undefined) return true;
  return place.volume !== from.volume || place.number > from.number;
}
