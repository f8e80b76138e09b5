import type { ChannelInfo, Engine } from '@nine-bells/core';
import { refusal } from '@nine-bells/wire';
import { channelOf, queryText, queryWhole } from './query.js';
import type { Route } from './route.js';

export interface ServiceFacts {
  readonly name: string;
  readonly version: string;
  readonly startedAtMs: number;
}

/** `GET /v1/channels`, `/v1/sessions`, `/v1/overview`: what there is and what goes on. */
export function lookingAround(engine: Engine, facts: ServiceFacts): readonly Route[] {
  const channels: Route['serve'] = async (request, response) => {
    if (request.query.channel !== undefined) {
      response.json({ channels: [shown(await engine.channel(channelOf(request)))], more: false });
      return;
    }
    const after = queryText(request, 'after') ?? '';
    const limit = queryWhole(request, 'limit', 1000) ?? 200;
    const found = await engine.channels(after, limit + 1);
    response.json({ channels: found.slice(0, limit).map(shown), more: found.length > limit });
  };

  const sessions: Route['serve'] = (request, response) => {
    const limit = queryWhole(request, 'limit', 1000) ?? 200;
    const all = engine.sessions();
    response.json({
      sessions: all
        .slice(-limit)
        .map(({ sinceMs, ...session }) => ({ ...session, since: new Date(sinceMs).toISOString() })),
      more: all.length > limit,
    });
  };

  const members: Route['serve'] = (request, response) => {
    const user = queryText(request, 'user');
    const limit = queryWhole(request, 'limit', 10_000) ?? 200;
    if ((user === undefined) === (request.query.channel === undefined))
      throw refusal('bad-value', 'say of what: `channel` or `user`');
    if (user !== undefined) {
      const all = engine.memberships(user);
      response.json({ user, channels: all.slice(0, limit), more: all.length > limit });
      return;
    }
    const channel = channelOf(request);
    const found = engine.members(channel, limit);
    response.json({ channel, ...found, more: found.count > found.members.length });
  };

  const overview: Route['serve'] = (_request, response) => {
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
  };

  return [
    { method: 'get', path: '/channels', right: 'read', serve: channels },
    { method: 'get', path: '/sessions', right: 'read', serve: sessions },
    { method: 'get', path: '/members', right: 'read', serve: members },
    { method: 'get', path: '/overview', right: 'read', serve: overview },
  ];
}

function shown({ lastAtMs, ...channel }: ChannelInfo): object {
  return { ...channel, ...(lastAtMs === undefined ? {} : { lastAt: new Date(lastAtMs).toISOString() }) };
}
