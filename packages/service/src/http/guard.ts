import { BoundedMap, type Rate, TokenBucket, unitOf } from '@nine-bells/core';
import { refusal } from '@nine-bells/wire';
import { parse, stringifySetCookie } from 'cookie';
import type { Request, RequestHandler, Response } from 'express';
import { SignJWT } from 'jose';
import type { ApiKey, ApiKeys } from '../store/apiKeys.js';
import { lookingOnly } from '../store/rights.js';
import { type SigningKeys, verifyOwn } from '../system/ownKeys.js';
import { Caller, type Route } from './route.js';

const cookieName = 'bells_console';
/** How long a console session lasts, in seconds. */
const sessionS = 12 * 3600;

/** How often an address may try to sign in. */
const strangerRate: Rate = { count: 20, perMs: 60_000 };
/** How long a request beyond that is held, in milliseconds, and how many of an address; further ones are cut off. */
const heldMs = 1_000;
const maxHeld = 20;
/** Most addresses of which that is remembered. */
const maxStrangers = 10_000;

/** Whose a console session is. */
export interface ConsoleUser {
  readonly key: ApiKey;
  /** May look, and no more, whatever the key may. */
  readonly looksOnly: boolean;
}

/** Who may use the HTTP interface: applications by API key, the console by the cookie of its session. */
export class Guard {
  readonly #keys: ApiKeys;
  readonly #cookieKeys: SigningKeys;
  readonly #rate: Rate;
  readonly #now: () => number;
  readonly #buckets = new Map<string, TokenBucket>();
  /** Requests that are held, by address. */
  readonly #held = new Map<string, number>();
  /** By address. */
  readonly #strangers = new BoundedMap<string, TokenBucket>(maxStrangers);

  /**
   * @param rate - requests of one key
   * @param now - the time of the service, in milliseconds since the epoch
   */
  constructor(keys: ApiKeys, cookieKeys: SigningKeys, rate: Rate, now: () => number = Date.now) {
    this.#now = now;
    this.#keys = keys;
    this.#cookieKeys = cookieKeys;
    this.#rate = rate;
  }

  /** Lets requests pass that have an API key or a console session with the right; others get a problem. */
  need(right: Route['right']): RequestHandler {
    return async (request, response, next) => {
      const caller = await this.#callerOf(request).catch((error) => this.#refuseSlowly(request, error));
      caller.charge(1);
      caller.need(right);
      response.locals.caller = caller;
      next();
    };
  }

  /** Begins a console session for a browser that has shown a key. */
  async signIn(response: Response, { key, looksOnly }: ConsoleUser, secure: boolean): Promise<void> {
    const value = await new SignJWT(looksOnly ? { looksOnly } : {})
      .setProtectedHeader({ alg: 'HS256' })
      .setSubject(key.id)
      .setExpirationTime(Math.floor(this.#now() / 1000) + sessionS)
      .sign(this.#cookieKeys[0]);
    this.#setCookie(response, value, sessionS, secure);
  }

  signOut(response: Response, secure: boolean): void {
    this.#setCookie(response, '', 0, secure);
  }

  async #callerOf(request: Request): Promise<Caller> {
    const byHeader = this.#byHeader(request);
    const found = byHeader === undefined ? await this.#byCookie(request) : { key: byHeader, looksOnly: false };
    if (found === undefined) throw refusal('key-invalid', faultOf(request));
    const { key, looksOnly } = found;
    return new Caller(key, looksOnly ? lookingOnly : key.rights, (cost) => this.#charge(key, cost));
  }

  /** Lets an address sign in only so often: for routes that need no key. Only requests that change something count. */
  slow(): RequestHandler {
    return async (request, _response, next) => {
      if (request.method !== 'POST') return next();
      const retryAfterMs = this.#chargeStranger(request);
      if (retryAfterMs === 0) return next();
      const error = refusal('rate-limited', 'too many attempts to sign in from here', { retryAfterMs });
      await this.#wait(request);
      throw error;
    };
  }

  /** An address that tries out keys waits for its refusals. */
  async #refuseSlowly(request: Request, error: unknown): Promise<never> {
    if (this.#chargeStranger(request) > 0) await this.#wait(request);
    throw error;
  }

  /** Holds a request for a while: so that an address gets few answers a second, however fast it asks. */
  async #wait(request: Request): Promise<void> {
    const address = unitOf(request.ip ?? '');
    const held = this.#held.get(address) ?? 0;
    if (held >= maxHeld) {
      request.socket.destroy();
      return;
    }
    this.#held.set(address, held + 1);
    await new Promise((resolve) => setTimeout(resolve, heldMs));
    const left = (this.#held.get(address) ?? 1) - 1;
    if (left === 0) this.#held.delete(address);
    else this.#held.set(address, left);
  }

  /** How long an address must wait before it is served at once again, in milliseconds. */
  #chargeStranger(request: Request): number {
    const now = performance.now();
    const address = unitOf(request.ip ?? '');
    const bucket = this.#strangers.get(address) ?? new TokenBucket(strangerRate, now);
    this.#strangers.set(address, bucket);
    return bucket.take(strangerRate, now);
  }

  #charge({ id, name }: ApiKey, cost: number): void {
    const now = performance.now();
    let bucket = this.#buckets.get(id);
    if (bucket === undefined) {
      bucket = new TokenBucket(this.#rate, now);
      this.#buckets.set(id, bucket);
    }
    const retryAfterMs = bucket.take(this.#rate, now, cost);
    if (retryAfterMs > 0)
      throw refusal('rate-limited', `the key ${JSON.stringify(name)} is used more often than it may`, { retryAfterMs });
  }

  #setCookie(response: Response, value: string, maxAge: number, secure: boolean): void {
    response.append(
      'Set-Cookie',
      stringifySetCookie({ name: cookieName, value, httpOnly: true, sameSite: 'strict', secure, path: '/', maxAge }),
    );
  }

  #byHeader(request: Request): ApiKey | undefined {
    const match = /^Bearer +(\S+)$/i.exec(request.get('authorization') ?? '');
    return match === null ? undefined : this.#keys.check(match[1] as string);
  }

  async #byCookie(request: Request): Promise<ConsoleUser | undefined> {
    if (request.get('authorization') !== undefined) return undefined;
    const value = parse(request.get('cookie') ?? '')[cookieName];
    // Another site's page can make a browser send the cookie's request, but not hide where it came from.
    if (!value || !isSameOrigin(request)) return undefined;
    try {
      const payload = await verifyOwn(value, this.#cookieKeys, {
        requiredClaims: ['sub', 'exp'],
        currentDate: new Date(this.#now()),
      });
      const key = this.#keys.byId(payload.sub as string);
      return key === undefined ? undefined : { key, looksOnly: payload.looksOnly === true };
    } catch {
      return undefined;
    }
  }
}

/** Whether a request that changes something comes from a page of this service (`Origin`, RFC 6454). */
export function isSameOrigin(request: Request): boolean {
  if (request.method === 'GET' || request.method === 'HEAD') return true;
  const origin = request.get('origin');
  return origin !== undefined && URL.canParse(origin) && new URL(origin).host === request.get('host');
}

function faultOf(request: Request): string {
  const header = request.get('authorization');
  if (header === undefined) return 'send an API key as `Authorization: Bearer KEY`';
  return header.toLowerCase().startsWith('bearer ')
    ? 'the key is not one of this service, has expired, or was revoked'
    : 'the Authorization header is not of the form `Bearer KEY`';
}
