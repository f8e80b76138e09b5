import type { Place } from '@nine-bells/wire';
import type { LoggedMessage, LogSlice } from '../model/message.js';

/** Cuts messages to a byte budget, from the front; at least one stays. */
export function withinBytes(messages: readonly LoggedMessage[], bytes: number): readonly LoggedMessage[] {
  let sum = 0;
  for (const [index, each] of messages.entries()) {
    sum += each.text.length;
    if (sum > bytes && index > 0) return messages.slice(0, index);
  }
  return messages;
}

/** As `withinBytes`, but keeps the end. */
export function lastWithinBytes(messages: readonly LoggedMessage[], bytes: number): readonly LoggedMessage[] {
  let sum = 0;
  for (let index = messages.length - 1; index >= 0; index--) {
    sum += (messages[index] as LoggedMessage).text.length;
    if (sum > bytes && index < messages.length - 1) return messages.slice(index + 1);
  }
  return messages;
}

/** Where the last `count` messages begin in a stretch, which may have changes, too; `undefined` if it does not have so many. */
export function lastIndexOf(stretch: readonly LoggedMessage[], count: number): number | undefined {
  let index = stretch.length;
  for (let left = count; left > 0; left--) {
    do index -= 1;
    while (index >= 0 && stretch[index]?.isMessage === false);
    if (index < 0) return undefined;
  }
  return index;
}

/** Why a cursor cannot be followed in a record that spans `oldest` to `head`, if it cannot. */
export function gapAfter(after: Place, oldest: number, head: Place): LogSlice['gap'] {
  if (after.volume !== head.volume || after.number > head.number) return 'new-volume';
  return after.number + 1 < oldest ? 'expired' : undefined;
}

/**
 * The number to read from, after a place that may not be followed. A place beyond the head is of a record that was
 * lost in part: a client that comes with it goes on from the head; of another volume everything is new.
 */
export function firstToRead(after: Place, gap: LogSlice['gap'], oldest: number, head: Place): number {
  if (gap === undefined) return after.number + 1;
  return after.volume === head.volume && after.number > head.number ? head.number + 1 : oldest;
}

/** What tells keys apart: whose they are, the author named, and the key itself. */
export function keyName({
  owner,
  author,
  key,
}: {
  owner?: string | undefined;
  author?: string | undefined;
  key: string;
}): string {
  return `${owner ?? ''}\u0000${author ?? ''}\u0000${key}`;
}

/**
 * Returns the place just before the first message of a slice. A slice without messages starts where its search ended: a filter may
 * let through messages between there and the head.
 */
export function startOf(slice: LogSlice): Place {
  const first = slice.messages[0]?.place;
  return first === undefined ? (slice.upTo ?? slice.head) : { volume: first.volume, number: first.number - 1 };
}
