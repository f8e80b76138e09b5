import type { Engine } from '@nine-bells/core';
import { Router } from 'express';
import { queryText, queryWhole } from './messages.js';

export interface ServiceFacts {
  readonly name: string;
  readonly version: string;
  readonly startedAtMs: number;
}

/** `GET /v1/channels`, `/v1/sessions`, `/v1/overview`: what there is and what goes on. */
export function lookingAround(engine: Engine, facts: ServiceFacts): Router {
  const router = Router();

  router.get('/channels', async (request, response) => {
    const after = queryText(request, 'after') ?? '';
    const limit = queryWhole(request, 'limit', 1000) ?? 200;
    const all = (await engine.channels()).filter(({ channel }) => channel > after);
    response.json({
      channels: all.slice(0, limit).map(({ lastAtMs, ...channel }) => ({
        ...channel,
        ...(lastAtMs === undefined ? {} : { lastAt: new Date(lastAtMs).toISOString() }),
      })),
      more: all.length > limit,
    });
  });

  router.get('/sessions', (request, response) => {
    const limit = queryWhole(request, 'limit', 1000) ?? 200;
    const all = engine.sessions();
    response.json({
      sessions: all
        .slice(-limit)
        .map(({ sinceMs, ...session }) => ({ ...session, since: new Date(sinceMs).toISOString() })),
      more: all.length > limit,
    });
  });

  router.get('/overview', (_request, response) => {
    response.json({
      name: facts.name,
      version: facts.version,
      instance: engine.options.instance,
      startedAt: new Date(facts.startedAtMs).toISOString(),
      at: new Date().toISOString(),
      connections: engine.connections,
      enteredChannels: engine.enteredChannels,
      totals: engine.counts,
      memoryBytes: process.memoryUsage.rss(),
    });
  });

  return router;
}
