import { createHash, randomBytes } from 'node:crypto';
import { existsSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { refusal } from '@nine-bells/wire';
import { IsOptional, IsString, MaxLength } from 'class-validator';
import express, { type RequestHandler, Router } from 'express';
import type { ApiKey, ApiKeys } from '../store/apiKeys.js';
import type { Tokens } from '../tokens/tokens.js';
import { readBody } from './body.js';
import type { Guard } from './guard.js';

/** How long a sign-in link is good, in milliseconds. */
const linkMs = 15 * 60_000;
/** How long a token for looking on is good, in milliseconds. */
const oversightMs = 3_600_000;

/** Links that sign in to the console once. Only hashes of their codes are held. */
export class SignInLinks {
  readonly #links = new Map<string, { readonly key: ApiKey; readonly endsMs: number }>();

  /** A new code, good once and for a quarter of an hour. */
  make(key: ApiKey): string {
    const now = Date.now();
    for (const [hash, link] of this.#links) if (link.endsMs < now) this.#links.delete(hash);
    const code = randomBytes(24).toString('base64url');
    this.#links.set(hashOf(code), { key, endsMs: now + linkMs });
    return code;
  }

  /** The key that the code stands for; from then on it stands for nothing. */
  take(code: string): ApiKey | undefined {
    const hash = hashOf(code);
    const link = this.#links.get(hash);
    this.#links.delete(hash);
    return link === undefined || link.endsMs < Date.now() ? undefined : link.key;
  }
}

class SignInDto {
  static readonly members = { key: true, code: true } as const;

  @IsOptional()
  @IsString()
  @MaxLength(200)
  key?: string;

  @IsOptional()
  @IsString()
  @MaxLength(200)
  code?: string;
}

/** `/console/session`: sign in with an API key or a link's code, sign out, and see whether one is signed in. */
export function consoleSession(guard: Guard, keys: ApiKeys, links: SignInLinks): Router {
  const router = Router();

  router.post('/', async (request, response) => {
    const { key, code } = readBody(SignInDto, request.body);
    const found = code === undefined ? key && keys.check(key.trim()) : links.take(code);
    if (!found)
      throw refusal(
        'key-invalid',
        code === undefined ? 'the key is not one of this service' : 'the link was used before, or is too old',
      );
    await guard.signIn(response, found, request.secure);
    response.json({ name: found.name });
  });

  router.get('/', guard.check, (_request, response) => {
    response.json({ name: (response.locals.key as ApiKey).name });
  });

  router.delete('/', (request, response) => {
    guard.signOut(response, request.secure);
    response.status(204).end();
  });

  return router;
}

/** `POST /v1/sign-in-links` and `POST /v1/oversight-tokens`: doors for whoever holds a key. */
export function keyHoldersDoors(links: SignInLinks, tokens: Tokens, consoleUrl: () => string): Router {
  const router = Router();

  router.post('/sign-in-links', (_request, response) => {
    const code = links.make(response.locals.key as ApiKey);
    response.status(201).json({ url: `${consoleUrl()}#sign-in=${code}`, validMs: linkMs });
  });

  router.post('/oversight-tokens', async (_request, response) => {
    response.status(201).json(await tokens.oversight((response.locals.key as ApiKey).name, oversightMs));
  });

  return router;
}

const builtConsole = fileURLToPath(new URL('../../../console/dist', import.meta.url));

/** The console's pages. They bring everything with them and may talk to this service only. */
export function consolePages(): RequestHandler[] {
  const headers: RequestHandler = (_request, response, next) => {
    response.set({
      'Content-Security-Policy':
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; connect-src 'self' ws: wss:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
      'X-Content-Type-Options': 'nosniff',
      'Referrer-Policy': 'no-referrer',
    });
    next();
  };
  if (!existsSync(builtConsole))
    return [
      headers,
      () => {
        throw refusal('no-such-path', 'the console has not been built: npm run build');
      },
    ];
  const files = express.static(builtConsole, { index: 'index.html', redirect: true });
  const page: RequestHandler = (request, response, next) => {
    if (request.method !== 'GET' || request.path.startsWith('/assets/')) return next();
    response.sendFile('index.html', { root: builtConsole });
  };
  return [headers, files, page];
}

const builtClient = fileURLToPath(new URL('../../../client/dist/browser/client.js', import.meta.url));

/** The SDK as one module, for pages of any origin that have no bundler. */
export const clientModule: RequestHandler = (_request, response, next) => {
  response.set({ 'Access-Control-Allow-Origin': '*', 'Cross-Origin-Resource-Policy': 'cross-origin' });
  response.sendFile(builtClient, (error) => {
    if (error) next(refusal('no-such-path', 'the SDK has not been built: npm run build'));
  });
};

function hashOf(code: string): string {
  return createHash('sha256').update(code).digest('hex');
}
