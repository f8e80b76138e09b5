import type { Reacted } from '../model/reaction.js';

/** What the cursor of a message counts for, in characters. */
const cursorChars = 40;

/** The first messages whose counts have room in so many characters of a frame; at least one. */
export function withinChars(all: readonly Reacted[], chars: number): readonly Reacted[] {
  let room = chars;
  for (const [index, { counts }] of all.entries()) {
    room -= JSON.stringify(counts).length + cursorChars;
    if (room < 0) return all.slice(0, Math.max(1, index));
  }
  return all;
}
