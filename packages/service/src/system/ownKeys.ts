import { type JWTPayload, type JWTVerifyOptions, jwtVerify } from 'jose';

/** Keys of one use: the first signs, and each is accepted. */
export type SigningKeys = readonly [Uint8Array, ...Uint8Array[]];

/**
 * Verifies a token that the service has signed, with any of its keys.
 *
 * @throws {JOSEError} the error of the first key
 */
export async function verifyOwn(token: string, keys: SigningKeys, options: JWTVerifyOptions): Promise<JWTPayload> {
  let first: unknown;
  for (const key of keys)
    try {
      return (await jwtVerify(token, key, { algorithms: ['HS256'], ...options })).payload;
    } catch (error) {
      first ??= error;
    }
  throw first;
}
