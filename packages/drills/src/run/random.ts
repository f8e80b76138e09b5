import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus';
import type { Random } from './network.js';

/** Random numbers that a seed determines, from 0 to below 1. */
export function seededRandom(seed: number): Random {
  const generator = xoroshiro128plus(seed);
  return () => (generator.next() >>> 0) / 4_294_967_296;
}
