/** Any JSON value (RFC 8259). */
export type Json = null | boolean | number | string | readonly Json[] | { readonly [key: string]: Json };

/**
 * Whether `value` nests deeper than `maxDepth` arrays and objects.
 *
 * Walks without recursion: the values come from outside, and a text of 64 KiB can hold 60,000 levels, which would
 * overflow the stack of a program that writes it out again.
 */
export function isDeeperThan(value: unknown, maxDepth: number): boolean {
  let level: unknown[] = [value];
  for (let depth = 0; level.length > 0; depth++) {
    const next: unknown[] = [];
    for (const each of level) {
      if (typeof each !== 'object' || each === null) continue;
      if (depth >= maxDepth) return true;
      for (const inner of Object.values(each)) next.push(inner);
    }
    level = next;
  }
  return false;
}

/**
 * What no id, key or other short text may have: control characters, and halves of surrogate pairs, which come back from a
 * database as something else (Unicode, section 3.9).
 */
// biome-ignore lint/suspicious/noControlCharactersInRegex: control characters are what is looked for
export const unfitCharacter = /[\u0000-\u001f\u007f\p{Cs}]/u;
