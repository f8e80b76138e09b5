import { randomBytes, randomFillSync } from 'node:crypto';
import type { Ids } from '@nine-bells/core';
import { monotonicFactory } from 'ulid';

/** Random text of `a-z0-9`, 5 bits a letter. */
export function randomText(letters: number): string {
  const alphabet = 'abcdefghijkmnpqrstuvwxyz23456789';
  return Array.from(randomBytes(letters), (byte) => alphabet[byte & 31]).join('');
}

/** A random byte as a fraction of one, from the system's source of randomness, which is asked for many at a time. */
function randomFraction(): () => number {
  const pool = Buffer.alloc(4_096);
  let next = pool.length;
  return () => {
    if (next === pool.length) {
      randomFillSync(pool);
      next = 0;
    }
    next += 1;
    return (pool[next - 1] as number) / 256;
  };
}

/** Ids from the system's source of randomness. */
export function systemIds(): Ids {
  const ulid = monotonicFactory(randomFraction());
  return {
    message: (atMs) => ulid(atMs),
    session: () => `s_${randomText(20)}`,
    volume: () => randomText(6),
    moderation: () => randomText(12),
  };
}
