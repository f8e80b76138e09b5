import { type JWTPayload, SignJWT } from 'jose';
import { randomText } from '../system/ids.js';
import { type SigningKeys, verifyOwn } from '../system/ownKeys.js';

/** How long a sign-in link is good, in seconds. */
const linkS = 15 * 60;
const audience = 'sign-in';

/** Whose link it is. */
export interface LinkUser {
  readonly key: { readonly id: string };
  /** May look, and no more, whatever the key may. */
  readonly looksOnly: boolean;
}

/** Links that sign in to the console once, on whichever instance: a code says by itself whose it is and until when. */
export class SignInLinks {
  readonly #keys: SigningKeys;
  readonly #now: () => number;
  readonly #use: (id: string, endsAtMs: number) => Promise<boolean>;

  /**
   * @param use - notes that a link is used, for good and on all instances; `false` if it was used before
   * @param now - the time of the service, in milliseconds since the epoch
   */
  constructor(
    keys: SigningKeys,
    use: (id: string, endsAtMs: number) => Promise<boolean> = async () => false,
    now: () => number = Date.now,
  ) {
    this.#keys = keys;
    this.#use = use;
    this.#now = now;
  }

  /** A new code, good once and for a quarter of an hour. */
  make({ key, looksOnly }: LinkUser): Promise<string> {
    return new SignJWT(looksOnly ? { looksOnly } : {})
      .setProtectedHeader({ alg: 'HS256' })
      .setAudience(audience)
      .setSubject(key.id)
      .setJti(randomText(16))
      .setExpirationTime(Math.floor(this.#now() / 1000) + linkS)
      .sign(this.#keys[0]);
  }

  /**
   * The key that a code stands for; from then on it stands for none.
   *
   * @throws {ProblemError} `unavailable` if it cannot be known whether it was used before
   */
  async take(code: string): Promise<{ key: string; looksOnly: boolean } | undefined> {
    let payload: JWTPayload;
    try {
      payload = await verifyOwn(code, this.#keys, {
        audience,
        requiredClaims: ['sub', 'exp', 'jti'],
        currentDate: new Date(this.#now()),
      });
    } catch {
      return undefined;
    }
    if (!(await this.#use(payload.jti as string, (payload.exp as number) * 1000))) return undefined;
    return { key: payload.sub as string, looksOnly: payload.looksOnly === true };
  }
}
