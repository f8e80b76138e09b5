import type { Engine } from '@nine-bells/core';
import { eventSource, refusal } from '@nine-bells/wire';
import cors from 'cors';
import express, { type Express, type Request, type RequestHandler, type Router } from 'express';
import helmet from 'helmet';
import type { IntakeConfiguration } from '../config/types.js';
import type { Logger } from '../log.js';
import type { Metrics } from '../metrics.js';
import type { ApiKeys } from '../store/apiKeys.js';
import type { Tokens } from '../tokens/tokens.js';
import type { HookRegistry } from '../webhooks/hookRegistry.js';
import type { HookSender } from '../webhooks/hookSender.js';
import { blocks } from './blocks.js';
import { boards } from './boards.js';
import { changes } from './changes.js';
import { channelRules } from './channelRules.js';
import { clientModule, consolePages, consoleSession, keyHoldersDoors } from './consoleSession.js';
import { descriptions } from './descriptions.js';
import { draining } from './draining.js';
import { explaining } from './explain.js';
import { feeds } from './feeds.js';
import { type ForwardingHost, forwarding } from './forwarding.js';
import type { Guard } from './guard.js';
import { hooks } from './hooks.js';
import { intakes } from './intakes.js';
import { invitations } from './invitations.js';
import { apiKeys } from './keys.js';
import { levels } from './levels.js';
import { lookingAround, type ServiceFacts } from './lookingAround.js';
import { marks } from './marks.js';
import { messages } from './messages.js';
import { moderation } from './moderation.js';
import { notices } from './notices.js';
import { pending } from './pending.js';
import { persons } from './persons.js';
import { nothingHere, problemHandler } from './problems.js';
import { checkQuery } from './query.js';
import { reactions } from './reactions.js';
import { reports } from './reports.js';
import { retention } from './retention.js';
import type { Route } from './route.js';
import { search } from './search.js';
import type { SignInLinks } from './signInLinks.js';
import { traces } from './traces.js';
import { workbench } from './workbench.js';

/** Whether new clients should come, and what is not as it should be. */
export interface Readiness {
  readonly isReady: boolean;
  readonly isDraining: boolean;
  readonly warnings: readonly string[];
}

export interface AppHost {
  readonly engine: Engine;
  readonly guard: Guard;
  readonly keys: ApiKeys;
  readonly links: SignInLinks;
  readonly tokens: Tokens;
  readonly metrics: Metrics;
  readonly facts: ServiceFacts;
  readonly log: Logger;
  /** Address of the console as the caller reaches it. */
  readonly consoleUrl: (request: Request) => string;
  /** Whether the instance takes new work. */
  readonly readiness: () => Readiness;
  /** Ends the instance, after clients had so many milliseconds to go elsewhere. */
  readonly drain: (withinMs: number | undefined) => void;
  /** The line for clients that WebSockets do not reach. */
  readonly line: Router;
  /** Where other systems say what has happened. */
  readonly doors: Router;
  readonly intakes: readonly IntakeConfiguration[];
  readonly registry: HookRegistry;
  readonly sender: HookSender;
  readonly callRequest: ForwardingHost['callRequest'];
  readonly now: () => number;
  /** Origins whose pages may call `/v1`. */
  readonly apiOrigins: readonly string[];
  /** Proxies whose word for the client's address is taken. */
  readonly trustedProxies: readonly string[];
  /** More routes, of the program that embeds the service; they come last. */
  readonly more: RequestHandler | undefined;
}

/** Every route of the HTTP interface. */
export function routesOf({
  engine,
  keys,
  links,
  tokens,
  facts,
  consoleUrl,
  drain,
  intakes: configured,
  registry,
  sender,
  callRequest,
  now,
}: Omit<AppHost, 'guard'>): readonly Route[] {
  return [
    ...messages(engine),
    ...changes(engine),
    ...reactions(engine),
    ...channelRules(engine),
    ...boards(engine),
    ...lookingAround(engine, facts),
    ...explaining(engine, tokens),
    ...moderation(engine),
    ...reports(engine),
    ...pending(engine),
    ...persons(engine),
    ...retention(engine),
    ...notices(engine),
    ...marks(engine),
    ...blocks(engine),
    ...levels(engine),
    ...search(engine),
    ...invitations(engine),
    ...traces(engine),
    ...intakes(engine, configured, now),
    ...hooks(engine, registry),
    ...forwarding({ engine, intakes: configured, sender, callRequest, now }),
    ...feeds(engine, registry, eventSource(facts.name)),
    ...draining(engine, drain),
    ...apiKeys(keys, engine),
    ...workbench(engine, tokens, keys),
    ...keyHoldersDoors(links, tokens, consoleUrl),
  ];
}

/** Refuses bodies of other types than a route takes, before they are read (RFC 9110, section 15.5.16). */
function takesOnly({ takes = jsonOnly }: Route): RequestHandler {
  return (request, response, next) => {
    const isEmpty = request.get('content-length') === '0';
    if (!isEmpty && request.is([...takes]) === false) {
      response.set('Accept-Post', takes.join(', '));
      throw refusal(
        'unsupported-type',
        `a body here is ${takes.join(' or ')}, not ${request.get('content-type') ?? 'of no type'}`,
      );
    }
    next();
  };
}

const jsonOnly = ['application/json'];

/** Everything that is served over HTTP, in the order in which it is looked for. */
export function makeApp(parts: AppHost): Express {
  const { guard, keys, links } = parts;
  const app = express();
  const routes = routesOf(parts);
  app.disable('x-powered-by');
  app.set('etag', false);
  app.set('trust proxy', [...parts.trustedProxies]);
  // Bodies are JSON of any kind; which, a route says.
  const json = express.json({ limit: '4mb', strict: false, type: ['json', '+json'] });

  app.get('/healthz', (_request, response) => void response.json({ status: 'ok' }));
  app.get('/readyz', (_request, response) => {
    const { isReady, isDraining, warnings } = parts.readiness();
    const status = isReady ? 'ready' : isDraining ? 'draining' : 'degraded';
    response.status(isReady ? 200 : 503).json({ status, warnings });
  });

  app.get('/metrics', guard.need('read'), async (_request, response) => {
    response.type(parts.metrics.contentType).send(await parts.metrics.text());
  });

  app.use(descriptions({ ...parts, routes }));
  app.use('/line', parts.line);
  app.use('/in', parts.doors);
  app.use('/v1', helmet({ strictTransportSecurity: false }));
  if (parts.apiOrigins.length > 0)
    app.use('/v1', cors({ origin: [...parts.apiOrigins], exposedHeaders: 'Retry-After' }));
  app.use('/v1', async (_request, _response, next) => {
    await parts.engine.upToDate();
    next();
  });
  for (const route of routes) {
    const { method, path, right, statuses: [status] = [200], serve } = route;
    app[method](path, guard.need(right), takesOnly(route), json, (request, response) => {
      checkQuery(request, route);
      response.status(status);
      return serve(request, response, response.locals.caller);
    });
  }
  // Unknown paths are told only to callers with a key.
  app.use('/v1', guard.need('any'));

  // A stranger sends a key or a code, and nothing is inflated for that.
  const small = express.json({ limit: '8kb', inflate: false, strict: true });
  app.use('/console/session', guard.slow(), small, consoleSession(guard, keys, links));
  app.use('/console', ...consolePages());
  app.get('/client.js', clientModule);
  app.get('/', (_request, response) => response.redirect('/console/'));

  if (parts.more !== undefined) app.use(parts.more);
  app.use(nothingHere);
  app.use(problemHandler(parts.log, parts.engine.refusals));
  return app;
}
