import { createPublicKey, type KeyObject } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { resolve } from 'node:path';
import type { PublicKeyFile } from './schema.js';
import { ConfigurationError, type TokenAlgorithm, type TokenKey } from './types.js';

/** What kind of key an algorithm needs. */
export const keyKinds: Readonly<Record<TokenAlgorithm, string>> = { RS256: 'rsa', ES256: 'ec P-256', EdDSA: 'ed25519' };

export function publicKeyFrom(
  { file: name, algorithm }: PublicKeyFile,
  folder: string,
  file: string,
  index: number,
): TokenKey {
  const fault = (detail: string): ConfigurationError =>
    new ConfigurationError([{ file, line: 1, column: 1, path: `tokens.publicKeys[${index}]`, detail }]);
  let key: KeyObject;
  try {
    key = createPublicKey(readFileSync(resolve(folder, name), 'utf8'));
  } catch (error) {
    throw fault(`${name} does not hold a public key in PEM: ${(error as Error).message}`);
  }
  const { asymmetricKeyType: type, asymmetricKeyDetails: details } = key;
  const kind = type === 'ec' ? `ec ${details?.namedCurve === 'prime256v1' ? 'P-256' : details?.namedCurve}` : type;
  if (kind !== keyKinds[algorithm])
    throw fault(`${algorithm} needs a key of kind ${keyKinds[algorithm]}, ${name} holds one of kind ${kind}`);
  return { algorithm, key };
}

export function secretFrom(
  path: string,
  file: string,
  place: string,
  faultOf: (value: string) => string | undefined,
): string {
  const fault = (detail: string): ConfigurationError =>
    new ConfigurationError([{ file, line: 1, column: 1, path: place, detail }]);
  let value: string;
  try {
    value = readFileSync(path, 'utf8').trim();
  } catch (error) {
    throw fault(`cannot be read: ${(error as Error).message}`);
  }
  const wrong = faultOf(value);
  if (wrong !== undefined) throw fault(`${path}: ${wrong}`);
  return value;
}
