import { createHmac, createSecretKey, hash, hkdfSync, randomBytes, timingSafeEqual } from 'node:crypto';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Hmac } from '@nine-bells/core';
import { makeDataFolder } from './dataFolder.js';
import type { SigningKeys } from './ownKeys.js';

/** What the service's keys are for; each use has a key of its own (RFC 5869). */
export type KeyUse = 'sessions' | 'console' | 'observer' | 'workbench';

/**
 * The service's own secret, from which its keys are derived. It lies in the data folder, readable by its owner only,
 * and is made on the first start. During a rotation there are several: the first signs, and each is accepted.
 */
export class ServiceSecret {
  readonly #secrets: readonly [Buffer, ...Buffer[]];

  /** @param given - the secrets, where they are not in the data folder */
  constructor(folder: string, given: readonly string[] = []) {
    const [first, ...others] = given.map((each) => Buffer.from(each));
    if (first !== undefined) {
      this.#secrets = [first, ...others];
      return;
    }
    makeDataFolder(folder);
    const file = join(folder, 'secret');
    try {
      // `wx`: of two processes that start together, one makes it and the other reads it.
      writeFileSync(file, `${randomBytes(32).toString('base64url')}\n`, { mode: 0o600, flag: 'wx' });
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error;
    }
    const secret = Buffer.from(readFileSync(file, 'utf8').trim(), 'base64url');
    this.#secrets = [secret];
    if (secret.length < 32) throw new Error(`${file} does not hold 32 bytes; remove it to have a new one made`);
  }

  keys(use: KeyUse): SigningKeys {
    const keyOf = (secret: Buffer): Uint8Array =>
      new Uint8Array(hkdfSync('sha256', secret, '', `nine-bells ${use}`, 32));
    const [first, ...others] = this.#secrets;
    return [keyOf(first), ...others.map(keyOf)];
  }

  /** The keyed hash for the engine (HMAC-SHA-256, RFC 2104). */
  hmac(): Hmac {
    // Made ready once: it is used several times for each hello.
    const keys = this.keys('sessions').map((key) => createSecretKey(key));
    const signs = keys.map((key) => (text: string) => createHmac('sha256', key).update(text).digest('base64url'));
    const [sign] = signs as [(text: string) => string];
    return {
      sign,
      matches: (text, mac) => signs.some((each) => equalInConstantTime(each(text), mac)),
      digest: (text) => hash('sha256', text, 'base64url'),
    };
  }
}

/** Compares texts without telling by the time taken where they differ. */
export function equalInConstantTime(a: string, b: string): boolean {
  const left = Buffer.from(a);
  const right = Buffer.from(b);
  return left.length === right.length && timingSafeEqual(left, right);
}
