import { existsSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { refusal } from '@nine-bells/wire';
import { IsBoolean, IsOptional, IsString, MaxLength } from 'class-validator';
import express, { type Request, type RequestHandler, Router } from 'express';
import helmet from 'helmet';
import type { ApiKeys } from '../store/apiKeys.js';
import { lookingOnly } from '../store/rights.js';
import type { Tokens } from '../tokens/tokens.js';
import { readBody } from './body.js';
import { type ConsoleUser, type Guard, isSameOrigin } from './guard.js';
import { type Caller, type Route, route, type Serve } from './route.js';
import type { SignInLinks } from './signInLinks.js';

/** Lifetime of a sign-in link, in milliseconds. */
const linkMs = 15 * 60_000;
/** Lifetime of an observer token, in milliseconds. */
const observerMs = 3_600_000;

class SignInDto {
  @IsOptional()
  @IsString()
  @MaxLength(200)
  key?: string;

  @IsOptional()
  @IsString()
  @MaxLength(1_000)
  code?: string;
}

async function byLink(code: string, keys: ApiKeys, links: SignInLinks): Promise<ConsoleUser | undefined> {
  const taken = await links.take(code);
  const key = taken && keys.byId(taken.key);
  return key && { key, looksOnly: taken.looksOnly };
}

/** `/console/session`: sign in with an API key or a link's code, sign out, and see whether you are signed in. */
export function consoleSession(guard: Guard, keys: ApiKeys, links: SignInLinks): Router {
  const router = Router();

  router.post('/', async (request, response) => {
    if (!isSameOrigin(request) && request.get('origin') !== undefined)
      throw refusal('not-allowed', 'only the pages of the console sign in here');
    const { key: text, code } = readBody(SignInDto, request.body);
    const key = text === undefined ? undefined : keys.check(text.trim());
    const user = code === undefined ? key && { key, looksOnly: false } : await byLink(code, keys, links);
    if (user === undefined || keys.byId(user.key.id) === undefined)
      throw refusal(
        'key-invalid',
        code === undefined
          ? 'the key is not one of this service, has expired, or was revoked'
          : 'the link was used before, or is too old',
      );
    await guard.signIn(response, user, request.secure);
    const rights = user.looksOnly ? lookingOnly : user.key.rights;
    response.json({ name: user.key.name, rights: rights.all });
  });

  router.get('/', guard.need('any'), (_request, response) => {
    const { key, rights } = response.locals.caller as Caller;
    response.json({ name: key.name, rights: rights.all });
  });

  router.delete('/', (request, response) => {
    guard.signOut(response, request.secure);
    response.status(204).end();
  });

  return router;
}

class LinkDto {
  /** Creates a read-only link, whatever rights the key has. */
  @IsOptional()
  @IsBoolean()
  looksOnly?: boolean;
}

/** `POST /v1/sign-in-links` and `POST /v1/observer-tokens`, for callers with a key. */
export function keyHoldersDoors(
  links: SignInLinks,
  tokens: Tokens,
  consoleUrl: (request: Request) => string,
): readonly Route[] {
  const signInLinks: Serve<'POST /v1/sign-in-links'> = async (request, response, { key, rights }) => {
    const { looksOnly = false } = readBody(LinkDto, request.body ?? {});
    // A caller that may only look cannot give away more.
    const code = await links.make({ key, looksOnly: looksOnly || rights === lookingOnly });
    response.json({ url: `${consoleUrl(request)}#sign-in=${code}`, validMs: linkMs });
  };

  const observerTokens: Serve<'POST /v1/observer-tokens'> = async (_request, response, { key }) => {
    response.json(await tokens.observer(key, observerMs));
  };

  return [
    route('POST /v1/sign-in-links', { right: 'read', statuses: [201], body: LinkDto }, signInLinks),
    route('POST /v1/observer-tokens', { right: 'read', statuses: [201] }, observerTokens),
  ];
}

/** The built console: beside this package in a checkout, inside it where the package is installed. */
const builtConsole = ['../../../console/dist', '../../dist-console']
  .map((path) => fileURLToPath(new URL(path, import.meta.url)))
  .find((path) => existsSync(path));

/** The console's pages. They bring everything with them and may talk to this service only. */
export function consolePages(): RequestHandler[] {
  const headers = helmet({
    // A service behind a proxy with TLS, or on another port of the host, must not decide that for the whole host.
    strictTransportSecurity: false,
    contentSecurityPolicy: {
      useDefaults: false,
      directives: {
        'default-src': ["'self'"],
        'style-src': ["'self'", "'unsafe-inline'"],
        'img-src': ["'self'", 'data:'],
        'connect-src': ["'self'", 'ws:', 'wss:'],
        'frame-ancestors': ["'none'"],
        'base-uri': ["'none'"],
        'form-action': ["'self'"],
      },
    },
  });
  if (builtConsole === undefined)
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
