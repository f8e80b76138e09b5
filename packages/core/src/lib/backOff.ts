/**
 * How long to wait before another try: doubles with each failure up to `mostMs`, and is spread over half of that, so that
 * what failed together does not come back together.
 *
 * @param failures - from 1
 * @param chance - from 0 to 1
 */
export function backOffMs(firstMs: number, mostMs: number, failures: number, chance: number): number {
  const fullMs = Math.min(mostMs, firstMs * 2 ** Math.min(failures - 1, 40));
  return Math.round(fullMs * (0.75 + chance / 2));
}

/** A number from 0 to 1 that is the same for the same text (FNV-1a): the core has no randomness of its own. */
export function chanceOf(text: string): number {
  let hash = 0x811c9dc5;
  for (let at = 0; at < text.length; at++) hash = Math.imul(hash ^ text.charCodeAt(at), 0x01000193) >>> 0;
  return hash / 0x1_0000_0000;
}
