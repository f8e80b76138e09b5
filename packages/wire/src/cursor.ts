declare const cursorBrand: unique symbol;

/**
 * A place in a channel's order, written `volume:number`, such as `k3f:118`.
 *
 * It names the message that was seen last; `volume:0` is the place before the first. Applications treat it as opaque.
 */
export type Cursor = string & { readonly [cursorBrand]: true };

/** What a cursor says: numbers run without holes within a volume. */
export interface Place {
  readonly volume: string;
  readonly number: number;
}

const cursorPattern = /^([a-z0-9]{1,16}):(0|[1-9][0-9]{0,15})$/;

export function formatCursor(place: Place): Cursor {
  return `${place.volume}:${place.number}` as Cursor;
}

/** Reads a cursor; `undefined` if the text is not one. */
export function parseCursor(text: string): Place | undefined {
  const match = cursorPattern.exec(text);
  if (match === null) return undefined;
  const number = Number(match[2]);
  if (!Number.isSafeInteger(number)) return undefined;
  return { volume: match[1] as string, number };
}
