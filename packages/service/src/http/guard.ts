import { refusal } from '@nine-bells/wire';
import { parse, stringifySetCookie } from 'cookie';
import type { Request, RequestHandler, Response } from 'express';
import { jwtVerify, SignJWT } from 'jose';
import type { ApiKey, ApiKeys } from '../store/apiKeys.js';

const cookieName = 'bells_console';
/** How long a console session lasts, in seconds. */
const sessionS = 12 * 3600;

/** Who may use the HTTP interface: applications by API key, the console by the cookie of its session. */
export class Guard {
  readonly #keys: ApiKeys;
  readonly #cookieKey: Uint8Array;

  constructor(keys: ApiKeys, cookieKey: Uint8Array) {
    this.#keys = keys;
    this.#cookieKey = cookieKey;
  }

  /** Lets requests pass that have an API key or a console session; others get `key-invalid`. */
  readonly check: RequestHandler = async (request, response, next) => {
    const key = this.#byHeader(request) ?? (await this.#byCookie(request));
    if (key === undefined) throw refusal('key-invalid', faultOf(request));
    response.locals.key = key;
    next();
  };

  /** Begins a console session for whoever has shown a key. */
  async signIn(response: Response, key: ApiKey, secure: boolean): Promise<void> {
    const value = await new SignJWT({})
      .setProtectedHeader({ alg: 'HS256' })
      .setSubject(key.id)
      .setExpirationTime(`${sessionS}s`)
      .sign(this.#cookieKey);
    this.#setCookie(response, value, sessionS, secure);
  }

  signOut(response: Response, secure: boolean): void {
    this.#setCookie(response, '', 0, secure);
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

  async #byCookie(request: Request): Promise<ApiKey | undefined> {
    if (request.get('authorization') !== undefined) return undefined;
    const value = parse(request.get('cookie') ?? '')[cookieName];
    // Another site's page can make a browser send the cookie's request, but not hide where it came from.
    if (!value || !isSameOrigin(request)) return undefined;
    try {
      const { payload } = await jwtVerify(value, this.#cookieKey, {
        algorithms: ['HS256'],
        requiredClaims: ['sub', 'exp'],
      });
      return this.#keys.byId(payload.sub as string);
    } catch {
      return undefined;
    }
  }
}

/** Whether a request that changes something comes from a page of this service (`Origin`, RFC 6454). */
function isSameOrigin(request: Request): boolean {
  if (request.method === 'GET' || request.method === 'HEAD') return true;
  const origin = request.get('origin');
  return origin !== undefined && URL.canParse(origin) && new URL(origin).host === request.get('host');
}

function faultOf(request: Request): string {
  const header = request.get('authorization');
  if (header === undefined) return 'send an API key as `Authorization: Bearer KEY`';
  return header.toLowerCase().startsWith('bearer ')
    ? 'the key is not one of this service, or was revoked'
    : 'the Authorization header is not of the form `Bearer KEY`';
}
