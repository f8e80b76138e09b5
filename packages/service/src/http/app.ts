import type { Engine } from '@nine-bells/core';
import express, { type Express, type RequestHandler } from 'express';
import type { Logger } from '../log.js';
import type { ApiKeys } from '../store/apiKeys.js';
import type { Tokens } from '../tokens/tokens.js';
import { clientModule, consolePages, consoleSession, keyHoldersDoors, type SignInLinks } from './consoleDoor.js';
import { explaining } from './explain.js';
import type { Guard } from './guard.js';
import { lookingAround, type ServiceFacts } from './lookingAround.js';
import { messages } from './messages.js';
import { nothingHere, problemHandler } from './problems.js';

export interface AppParts {
  readonly engine: Engine;
  readonly guard: Guard;
  readonly keys: ApiKeys;
  readonly links: SignInLinks;
  readonly tokens: Tokens;
  readonly facts: ServiceFacts;
  readonly log: Logger;
  readonly consoleUrl: () => string;
  /** Whether the instance takes new work. */
  readonly isReady: () => boolean;
  /** More routes, of whoever embeds the service; they come last. */
  readonly more: RequestHandler | undefined;
}

/** Everything that is served over HTTP, in the order in which it is looked for. */
export function makeApp(parts: AppParts): Express {
  const app = express();
  app.disable('x-powered-by');
  app.set('etag', false);
  // A proxy on this machine may say that it was spoken to over TLS; anybody else may not.
  app.set('trust proxy', 'loopback');
  const json = express.json({ limit: '4mb', strict: true });

  app.get('/healthz', (_request, response) => void response.json({ status: 'ok' }));
  app.get('/readyz', (_request, response) => {
    const ready = parts.isReady();
    response.status(ready ? 200 : 503).json({ status: ready ? 'ready' : 'draining' });
  });

  const { engine, guard, keys, links, tokens } = parts;
  app.use('/v1', guard.check, json);
  app.use('/v1/messages', messages(engine));
  app.use('/v1', lookingAround(engine, parts.facts));
  app.use('/v1', explaining(engine, tokens));
  app.use('/v1', keyHoldersDoors(links, tokens, parts.consoleUrl));

  app.use('/console/session', json, consoleSession(guard, keys, links));
  app.use('/console', ...consolePages());
  app.get('/client.js', clientModule);
  app.get('/', (_request, response) => response.redirect('/console/'));

  if (parts.more !== undefined) app.use(parts.more);
  app.use(nothingHere);
  app.use(problemHandler(parts.log));
  return app;
}
