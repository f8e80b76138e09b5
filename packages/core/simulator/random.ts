import type { Ids } from '@nine-bells/core';

/** Random numbers that a seed repeats (mulberry32). */
export class Random {
  #state: number;

  constructor(seed: number) {
    this.#state = seed >>> 0;
  }

  /** At least 0, less than 1. */
  next(): number {
    this.#state = (this.#state + 0x6d2b79f5) >>> 0;
    let t = this.#state;
    t = Math.imul(t ^ (t >>> 15), t | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) / 4_294_967_296;
  }

  /** A whole number from `least` to `most`. */
  between(least: number, most: number): number {
    return least + Math.floor(this.next() * (most - least + 1));
  }

  chance(probability: number): boolean {
    return this.next() < probability;
  }

  pick<T>(from: readonly T[]): T {
    return from[this.between(0, from.length - 1)] as T;
  }

  text(length: number): string {
    return Array.from({ length }, () => 'abcdefghijklmnopqrstuvwxyz0123456789'[this.between(0, 35)]).join('');
  }
}

/** Ids that a seed repeats. */
export function randomIds(random: Random): Ids {
  return {
    message: (atMs) => `${atMs}-${random.text(6)}`,
    session: () => `s_${random.text(10)}`,
    volume: () => random.text(4),
    moderation: () => random.text(10),
  };
}

/** A plain hash in place of a MAC: the simulation has no forgers. */
export function mac(text: string): string {
  let hash = 0;
  for (const letter of text) hash = (Math.imul(hash, 31) + (letter.codePointAt(0) as number)) >>> 0;
  return `mac${hash.toString(36)}`.padEnd(32, '0');
}
