import type { Clock } from '../ports/clock.js';

/** Shortest rest between two rounds, in milliseconds. */
const leastMs = 20;

/**
 * Works on things in portions, in rounds, until none has anything left. After each round it rests four times as long as that took:
 * others must get at the database.
 *
 * @param portion - does one portion, and returns its size; 0: nothing was left
 */
export async function inPortions<T>(
  things: readonly T[],
  { clock, isOver }: { readonly clock: Pick<Clock, 'monotonic' | 'setTimer'>; readonly isOver: () => boolean },
  portion: (thing: T) => Promise<number>,
): Promise<void> {
  for (let left = things; left.length > 0 && !isOver(); ) {
    const beganMs = clock.monotonic();
    const found: T[] = [];
    for (const each of left) if ((await portion(each)) > 0) found.push(each);
    left = found;
    const restMs = Math.max(leastMs, 4 * (clock.monotonic() - beganMs));
    if (left.length > 0) await new Promise<void>((resolve) => void clock.setTimer(restMs, resolve));
  }
}
