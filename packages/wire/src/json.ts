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
