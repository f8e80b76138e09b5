import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus';
import type { Random } from './network.js';

/** Seeded random numbers in [0, 1). */
export function seededRandom(seed: number): Random {
  const generator = xoroshiro128plus(seed);
  return () => (generator.next() >>> 0) / 4_294_967_296;
}
