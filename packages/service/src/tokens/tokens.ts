import { type Grant, type Identity, readGrants, type TokenReader } from '@nine-bells/core';
import { defined, type Json, plainText, refusal, unfitCharacter, userIdFault } from '@nine-bells/wire';
import {
  type CryptoKey,
  createRemoteJWKSet,
  decodeProtectedHeader,
  errors,
  type FlattenedJWSInput,
  type JWSHeaderParameters,
  type JWTPayload,
  jwtVerify,
  SignJWT,
} from 'jose';
import type { ClaimName, TokenConfiguration } from '../config/configuration.js';
import { type SigningKeys, verifyOwn } from '../system/ownKeys.js';

/** The `kid` of tokens that the service makes for those who operate it. */
const observerKid = 'observer';
const observerAudience = 'nine-bells:observer';
/** The `kid` of tokens for made-up users of the workbench. */
const workbenchKid = 'workbench';
const workbenchAudience = 'nine-bells:workbench';

/** Who looks on: an API key. */
export interface ObserverKey {
  readonly id: string;
  readonly name: string;
}

/** The user id of an observer with a key. No token of an application may carry it. */
export function observerId(key: string): string {
  return `observer:${key}`;
}

/** What a token is to say. */
export interface TokenClaims {
  readonly user: string;
  readonly name?: string | undefined;
  readonly roles?: readonly string[];
  readonly claims?: Readonly<Record<string, Json>>;
  readonly forMs: number;
}

/**
 * Signs a token for a user (RFC 7519, HS256), as an application would.
 *
 * @throws {RangeError} for a user id that no token may carry
 */
export function signToken(configuration: TokenConfiguration, claims: TokenClaims): Promise<string> {
  const [secret] = configuration.secrets;
  if (secret === undefined) throw new RangeError('the configuration has no tokens.secret to sign with');
  const fault = userFault(claims.user, configuration.claims.user);
  if (fault !== undefined) throw new RangeError(fault);
  const nowS = Math.floor(Date.now() / 1000);
  const jwt = new SignJWT(claimsFor(claims, configuration.claims))
    .setProtectedHeader({ alg: 'HS256', typ: 'JWT' })
    .setIssuedAt(nowS)
    .setExpirationTime(nowS + Math.ceil(claims.forMs / 1000));
  if (configuration.issuer !== undefined) jwt.setIssuer(configuration.issuer);
  if (configuration.audience !== undefined) jwt.setAudience(configuration.audience);
  return jwt.sign(new TextEncoder().encode(secret));
}

/** The payload of a token, under the names that the configuration gives to its claims. */
function claimsFor({ claims, user, name, roles }: TokenClaims, names: TokenConfiguration['claims']): JWTPayload {
  const payload: Record<string, Json> = { ...claims };
  putClaim(payload, names.user, user);
  if (name !== undefined) putClaim(payload, names.name, name);
  if (roles?.length) putClaim(payload, names.roles, roles);
  return payload as JWTPayload;
}

/** A key for HS256 (RFC 7518, section 3.2). */
function hmacKey(secret: Uint8Array): Promise<CryptoKey> {
  return crypto.subtle.importKey('raw', new Uint8Array(secret), { name: 'HMAC', hash: 'SHA-256' }, false, ['verify']);
}

/** What the service signs and checks its own tokens with. */
export interface OwnKeys {
  readonly observer: SigningKeys;
  readonly workbench: SigningKeys;
  /** Whether an API key, by its id, is still valid: tokens of the workbench end with the key that asked for them. */
  isInUse(key: string): boolean;
}

/** Reads the tokens of users, and those that the service itself makes for observers and for the workbench. */
export class Tokens implements TokenReader {
  readonly #configuration: TokenConfiguration;
  /** Made ready once: to do so takes longer than to check a token. */
  readonly #secrets: readonly Promise<CryptoKey>[];
  /** Keys at a URL: fetched when first needed, again for an unknown `kid` (not more often than every 30 s), kept 10 min. */
  readonly #jwks: ReturnType<typeof createRemoteJWKSet> | undefined;
  readonly #own: OwnKeys;
  readonly #now: () => number;

  /** @param now - the time of the service, in milliseconds since the epoch */
  constructor(configuration: TokenConfiguration, own: OwnKeys, now: () => number = Date.now) {
    this.#configuration = configuration;
    this.#now = now;
    this.#secrets = configuration.secrets.map((each) => hmacKey(new TextEncoder().encode(each)));
    const { jwks } = configuration;
    this.#jwks =
      jwks &&
      createRemoteJWKSet(new URL(jwks.url), { timeoutDuration: 5_000, cooldownDuration: 30_000, cacheMaxAge: 600_000 });
    this.#own = own;
  }

  async read(token: string): Promise<Identity> {
    try {
      const { kid } = decodeProtectedHeader(token);
      if (kid === observerKid) return await this.#readOversight(token);
      return kid === workbenchKid ? await this.#readWorkbench(token) : await this.#readUser(token);
    } catch (error) {
      if (error instanceof KeysUnavailable)
        throw refusal('unavailable', 'the keys to check tokens with cannot be fetched', { retryAfterMs: 5_000 });
      if (error instanceof errors.JWTExpired) throw refusal('token-ended', 'the token has ended; ask for a new one');
      if (error instanceof errors.JOSEError || error instanceof TypeError)
        throw refusal('token-invalid', faultOf(error));
      throw error;
    }
  }

  /** A token with which an operator may look into every channel, unseen. */
  async observer({ id, name }: ObserverKey, forMs: number): Promise<{ token: string; expiresAt: string }> {
    const endsS = Math.ceil((this.#now() + forMs) / 1000);
    const token = await new SignJWT({ name })
      .setProtectedHeader({ alg: 'HS256', typ: 'JWT', kid: observerKid })
      .setSubject(observerId(id))
      .setAudience(observerAudience)
      .setIssuedAt(Math.floor(this.#now() / 1000))
      .setExpirationTime(endsS)
      .sign(this.#own.observer[0]);
    return { token, expiresAt: new Date(endsS * 1000).toISOString() };
  }

  /**
   * A token for a made-up user of the workbench, as the application would make it.
   *
   * @throws {ProblemError} `bad-value` for a user id that no token may carry
   */
  async workbench(key: ObserverKey, wish: TokenClaims): Promise<{ token: string; expiresAt: string }> {
    const { user: userClaim } = this.#configuration.claims;
    const fault = userFault(wish.user, userClaim);
    if (fault !== undefined) throw refusal('bad-value', fault, { where: '/user' });
    const endsS = Math.ceil((this.#now() + wish.forMs) / 1000);
    const token = await new SignJWT(claimsFor(wish, this.#configuration.claims))
      .setProtectedHeader({ alg: 'HS256', typ: 'JWT', kid: workbenchKid })
      .setAudience(workbenchAudience)
      .setIssuer(key.id)
      .setIssuedAt(Math.floor(this.#now() / 1000))
      .setExpirationTime(endsS)
      .sign(this.#own.workbench[0]);
    return { token, expiresAt: new Date(endsS * 1000).toISOString() };
  }

  async #readWorkbench(token: string): Promise<Identity> {
    const payload = await verifyOwn(token, this.#own.workbench, {
      audience: workbenchAudience,
      requiredClaims: ['exp', 'iss'],
      currentDate: new Date(this.#now()),
    });
    const { iss: key, aud: _, ...said } = payload;
    if (!this.#own.isInUse(key as string))
      throw refusal('token-invalid', 'the API key with which the workbench was used is no longer valid');
    return { ...this.#identityOf(said, 0), workbench: observerId(key as string) };
  }

  async #readUser(token: string): Promise<Identity> {
    return this.#identityOf(await this.#verified(token), this.#configuration.toleranceMs);
  }

  #identityOf(payload: JWTPayload, toleranceMs: number): Identity {
    const { claims } = this.#configuration;
    const said = claimOf(payload, claims.user);
    // Many applications have numbers for ids.
    const user = Number.isSafeInteger(said) ? String(said) : said;
    const fault = userFault(user, claims.user);
    if (fault !== undefined) throw refusal('token-invalid', fault);
    const name = nameOf(claimOf(payload, claims.name));
    const access = claimOf(payload, claims.access);
    return {
      user: user as string,
      ...defined({ name }),
      guest: false,
      roles: rolesOf(claimOf(payload, claims.roles)),
      claims: payload as Record<string, Json>,
      ...(access === undefined ? {} : { grants: grantsOf(access) }),
      ...(payload.iat === undefined ? {} : { issuedAt: payload.iat * 1000 }),
      ...(payload.exp === undefined ? {} : { endsAt: payload.exp * 1000 + toleranceMs }),
    };
  }

  /** Tries the keys that are configured for the very algorithm that the token names. */
  async #verified(token: string): Promise<JWTPayload> {
    const { issuer, audience, toleranceMs, publicKeys, jwks } = this.#configuration;
    const { alg = '' } = decodeProtectedHeader(token);
    const checks = {
      algorithms: [alg],
      clockTolerance: toleranceMs / 1000,
      currentDate: new Date(this.#now()),
      ...defined({ issuer, audience }),
    };
    let fault: unknown = refusal('token-invalid', 'its algorithm is not one that is taken here');
    const keys =
      alg === 'HS256' ? this.#secrets : publicKeys.flatMap((each) => (each.algorithm === alg ? each.key : []));
    for (const key of keys) {
      try {
        return (await jwtVerify(token, await key, checks)).payload;
      } catch (error) {
        fault = error;
        if (!(error instanceof errors.JWSSignatureVerificationFailed)) throw error;
      }
    }
    const set = this.#jwks;
    if (set === undefined || !jwks?.algorithms.some((algorithm) => algorithm === alg)) throw fault;
    return (
      await jwtVerify(
        token,
        (header: JWSHeaderParameters, input: FlattenedJWSInput) => keyOf(set, header, input),
        checks,
      )
    ).payload;
  }

  async #readOversight(token: string): Promise<Identity> {
    const payload = await verifyOwn(token, this.#own.observer, {
      audience: observerAudience,
      requiredClaims: ['exp', 'sub'],
      currentDate: new Date(this.#now()),
    });
    return {
      user: payload.sub as string,
      name: String(payload.name),
      guest: false,
      roles: [],
      claims: {},
      ...(payload.iat === undefined ? {} : { issuedAt: payload.iat * 1000 }),
      endsAt: (payload.exp as number) * 1000,
      observer: true,
    };
  }
}

/** The set of keys could not be fetched: that says nothing about the token. */
class KeysUnavailable extends Error {}

/** Finds a token's key in a set; tells a set that is not there from a key that is not in it. */
async function keyOf(
  set: ReturnType<typeof createRemoteJWKSet>,
  header: JWSHeaderParameters,
  input: FlattenedJWSInput,
): Promise<CryptoKey> {
  try {
    return await set(header, input);
  } catch (error) {
    if (error instanceof errors.JWKSNoMatchingKey || error instanceof errors.JWKSMultipleMatchingKeys) throw error;
    throw new KeysUnavailable('the set of keys cannot be fetched', { cause: error });
  }
}

function userFault(user: unknown, claim: ClaimName): string | undefined {
  if (user !== undefined && typeof user !== 'string')
    return `\`${pathOf(claim).join('.')}\` of the token is neither text nor a whole number that JSON can hold exactly`;
  if (user === undefined || user === '')
    return `the token has no \`${pathOf(claim).join('.')}\`: it must say who the user is`;
  return userIdFault(user);
}

/** No rule can name a role with control characters or halves of surrogate pairs: such a role is passed over. */
function rolesOf(roles: unknown): readonly string[] {
  const all: readonly unknown[] = Array.isArray(roles) ? roles : [roles];
  return all.filter((role): role is string => typeof role === 'string' && !unfitCharacter.test(role));
}

/** A name as it may be shown anywhere, in a terminal too. */
function nameOf(name: unknown): string | undefined {
  if (typeof name !== 'string') return undefined;
  return plainText(name, 200) || undefined;
}

/** @throws {ProblemError} `token-invalid`: a rule that is not understood must not be passed over */
function grantsOf(access: unknown): readonly Grant[] {
  try {
    return readGrants(access as Json);
  } catch (error) {
    throw refusal('token-invalid', `its access rules: ${(error as Error).message}`);
  }
}

function pathOf(claim: ClaimName): readonly string[] {
  return typeof claim === 'string' ? [claim] : claim;
}

function claimOf(payload: JWTPayload, claim: ClaimName): unknown {
  let value: unknown = payload;
  for (const name of pathOf(claim)) {
    if (typeof value !== 'object' || value === null || !Object.hasOwn(value, name)) return undefined;
    value = (value as Record<string, unknown>)[name];
  }
  return value;
}

function putClaim(payload: Record<string, Json>, claim: ClaimName, value: Json): void {
  const path = pathOf(claim);
  let at = payload;
  for (const name of path.slice(0, -1)) {
    const inner: Record<string, Json> = { ...((at[name] as Record<string, Json> | undefined) ?? {}) };
    at[name] = inner;
    at = inner;
  }
  at[path.at(-1) as string] = value;
}

/** What is wrong with a token, without saying what it would take to forge one. */
function faultOf(error: Error): string {
  if (error instanceof errors.JWTClaimValidationFailed) return `its claim \`${error.claim}\` is not as it must be`;
  if (error instanceof errors.JWSSignatureVerificationFailed) return 'its signature is not of a key that is taken here';
  if (error instanceof errors.JWKSMultipleMatchingKeys) return 'it has no `kid`, and several keys could be meant';
  if (error instanceof errors.JWKSNoMatchingKey) return 'its key is not one that is taken here';
  if (error instanceof errors.JOSEAlgNotAllowed) return 'its algorithm is not one that is taken here';
  return 'it is not a signed JWT';
}
