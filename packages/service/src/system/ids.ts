import { randomBytes } from 'node:crypto';
import type { Ids } from '@nine-bells/core';
import { monotonicFactory } from 'ulid';

/** Random text of `a-z0-9`, 5 bits a letter. */
export function randomText(letters: number): string {
  const alphabet = 'abcdefghijkmnpqrstuvwxyz23456789';
  return Array.from(randomBytes(letters), (byte) => alphabet[byte & 31]).join('');
}

/** Ids from the system's source of randomness. */
export function systemIds(): Ids {
  const ulid = monotonicFactory();
  return {
    message: (atMs) => ulid(atMs),
    session: () => `s_${randomText(20)}`,
    volume: () => randomText(6),
    measure: () => randomText(12),
  };
}
