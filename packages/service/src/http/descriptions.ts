import { type Engine, mayHold, parsePattern } from '@nine-bells/core';
import { type ChannelRuleInfo, type ChannelRulesInfo, GUEST_PREFIX } from '@nine-bells/wire';
import express, { type Request, type RequestHandler, type Router } from 'express';
import { asyncApi, serverOf } from '../descriptions/asyncApi.js';
import type { Tree } from '../descriptions/components.js';
import { openApi } from '../descriptions/openApi.js';
import type { Tokens } from '../tokens/tokens.js';
import { rulesOfEngine } from './channelRules.js';
import type { Guard } from './guard.js';
import type { ServiceFacts } from './lookingAround.js';
import { checkQuery } from './query.js';
import type { Route } from './route.js';

/** How many documents are remembered, each for callers who may know of the same channels. */
const maxMade = 16;

export interface DescriptionsHost {
  readonly engine: Engine;
  readonly guard: Guard;
  readonly tokens: Tokens;
  readonly facts: ServiceFacts;
  readonly routes: readonly Route[];
}

/**
 * `/openapi.json`, the same for all callers, and `/asyncapi.json`, with the channels that the caller may know of: those of an API
 * key's rights, of a user's token, or of a guest.
 */
export function descriptions({ engine, guard, tokens, facts, routes }: DescriptionsHost): Router {
  const router = express.Router();
  let openApiText: string | undefined;

  const forAnyPage: RequestHandler = (_request, response, next) => {
    response.set({ 'Access-Control-Allow-Origin': '*', 'Cross-Origin-Resource-Policy': 'cross-origin' });
    next();
  };

  router.get('/openapi.json', forAnyPage, (request, response) => {
    checkQuery(request, {});
    openApiText ??= JSON.stringify(openApi(routes, facts.version));
    response.type('json').send(openApiText);
  });

  /** Documents by the channel rules that they have: rules do not change while the service runs. */
  const made = new Map<string, Tree>();
  const tell = (request: Request, isFor: (rule: ChannelRuleInfo) => boolean): string => {
    const told = rulesOfEngine(engine);
    const rules: ChannelRulesInfo = { ...told, rules: told.rules.filter(isFor) };
    const which = rules.rules.map(({ pattern }) => pattern).join(' ');
    let document = made.get(which);
    if (document === undefined) {
      document = asyncApi({ name: facts.name, version: facts.version, rules });
      if (made.size >= maxMade) made.clear();
      made.set(which, document);
    }
    const { host = '127.0.0.1' } = request.headers;
    return JSON.stringify({ ...document, servers: serverOf({ host, secure: request.secure }) });
  };

  const forKey: RequestHandler = (request, response) => {
    const { rights } = response.locals.caller;
    const isFor = ({ pattern }: ChannelRuleInfo): boolean => rights.hasForPattern('read', parsePattern(pattern));
    response.type('json').send(tell(request, isFor));
  };

  const forUser: RequestHandler = async (request, response, next) => {
    const [, bearer] = /^Bearer (\S+)$/i.exec(request.get('authorization') ?? '') ?? [];
    const isToken = bearer !== undefined && /^[\w-]+\.[\w-]+\.[\w-]*$/.test(bearer);
    const isGuest = bearer === undefined && request.headers.cookie === undefined && engine.options.guests;
    if (!isToken && !isGuest) return next();
    const who = isToken
      ? await tokens.read(bearer)
      : { user: `${GUEST_PREFIX}someone`, guest: true, roles: [], claims: {} };
    const open = new Set(
      engine.channels.rules.all
        .filter(({ allow, pattern }) =>
          (['enter', 'publish'] as const).some((act) => mayHold(allow, act, who, parsePattern(pattern))),
        )
        .map(({ pattern }) => pattern),
    );
    response.type('json').send(tell(request, ({ pattern }) => open.has(pattern)));
  };

  router.get(
    '/asyncapi.json',
    forAnyPage,
    (request, _response, next) => {
      checkQuery(request, {});
      next();
    },
    forUser,
    guard.need('any'),
    forKey,
  );
  return router;
}
