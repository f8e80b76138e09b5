import type { ChannelInfo, Engine, InstanceInfo, RefusalKind, SessionInfo, SessionPlace } from '@nine-bells/core';
import { defined, refusal } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import type { Request } from 'express';
import { channelOf, pageOf, pageQuery, queryText, queryWhole, timeAfter } from './query.js';
import { type Route, route, type Serve } from './route.js';

export interface ServiceFacts {
  readonly name: string;
  readonly version: string;
  readonly startedAtMs: number;
}

/** Routes that show channels, sessions, members, instances, traffic and refusals. */
export function lookingAround(engine: Engine, facts: ServiceFacts): readonly Route[] {
  const channels: Serve<'GET /v1/channels'> = async (request, response, caller) => {
    const channel = request.query.channel === undefined ? undefined : channelOf(request);
    caller.needIn('read', channel);
    if (channel !== undefined) {
      response.json({ channels: [shown(await engine.channels.describe(channel))] });
      return;
    }
    const after = queryText(request, 'after') ?? '';
    const limit = queryWhole(request, 'limit', 1000) ?? 200;
    const found = await engine.channels.list(after, limit + 1, queryText(request, 'find'));
    const { page, rest } = pageOf(found, limit, (last) => last.channel);
    response.json({ channels: page.map(shown), ...rest });
  };

  const sessions: Serve<'GET /v1/sessions'> = async (request, response) => {
    const limit = queryWhole(request, 'limit', 1000) ?? 200;
    const { sessions: all, missing } = await engine.cluster.sessions({
      limit: limit + 1,
      ...defined({
        user: queryText(request, 'user'),
        find: queryText(request, 'find'),
        before: sessionPlaceOf(request),
      }),
    });
    const { page, rest } = pageOf([...all].reverse(), limit, ({ sinceMs, session }) => `${sinceMs}:${session}`);
    response.json({ sessions: [...page].reverse().map(sessionShown), ...rest, ...missingShown(missing) });
  };

  const members: Serve<'GET /v1/members'> = async (request, response, caller) => {
    const user = queryText(request, 'user');
    const limit = queryWhole(request, 'limit', 10_000) ?? 200;
    if ((user === undefined) === (request.query.channel === undefined))
      throw refusal('bad-value', 'say of what: `channel` or `user`');
    caller.needIn('read', user === undefined ? channelOf(request) : undefined);
    if (user !== undefined) {
      const behind = queryText(request, 'after') ?? '';
      const { channels: all, missing } = await engine.cluster.memberships(user);
      const found = all.filter((each) => each.channel > behind);
      const { page, rest } = pageOf(found, limit, (last) => last.channel);
      response.json({ user, channels: page, ...rest, ...missingShown(missing) });
      return;
    }
    const channel = channelOf(request);
    const place = timeAfter(request);
    const after = place && { sinceMs: place.atMs, user: place.id };
    const found = await engine.presence.members(channel, { limit: limit + 1, ...defined({ after }) });
    const { page, rest } = pageOf(found.members, limit, (last) => `${Date.parse(last.since)}:${last.user}`);
    response.json({ channel, members: page, count: found.count, ...rest, ...missingShown(found.missing) });
  };

  const overview: Serve<'GET /v1/overview'> = async (_request, response) => {
    const all = engine.cluster.instances;
    const sum = (of: (each: InstanceInfo) => number): number => all.reduce((so, each) => so + of(each), 0);
    response.json({
      name: facts.name,
      version: facts.version,
      instance: engine.options.instance,
      startedAt: new Date(facts.startedAtMs).toISOString(),
      at: new Date().toISOString(),
      instances: all.length,
      connections: sum(({ connections }) => connections),
      enteredChannels: await enteredOf(
        engine,
        sum(({ channels }) => channels),
      ),
      totals: {
        messagesIn: sum(({ messagesIn }) => messagesIn),
        deliveries: sum(({ deliveries }) => deliveries),
        refusals: sum(({ refusals }) => refusals),
      },
      memoryBytes: process.memoryUsage.rss(),
    });
  };

  const refusals: Serve<'GET /v1/refusals'> = async (request, response) => {
    const code = queryText(request, 'code');
    const { refusals: all, missing } = await engine.cluster.refusals();
    response.json({
      refusals: all.filter((each) => code === undefined || each.code === code).map(refusalShown),
      ...missingShown(missing),
    });
  };

  const traffic: Serve<'GET /v1/traffic'> = async (_request, response) => {
    const { minutes, missing, ...found } = await engine.cluster.traffic();
    response.json({
      minutes: minutes.map(({ atMs, ...figures }) => ({ at: new Date(atMs).toISOString(), ...figures })),
      ...found,
      ...missingShown(missing),
    });
  };

  const instances: Serve<'GET /v1/instances'> = (_request, response) => {
    response.json({
      instances: engine.cluster.instances.map(({ sinceMs, ...instance }) => ({
        ...instance,
        since: new Date(sinceMs).toISOString(),
      })),
    });
  };

  return [
    route('GET /v1/instances', { right: 'read' }, instances),
    route('GET /v1/channels', { right: { perChannel: 'read' }, query: [...pageQuery, 'find', 'channel'] }, channels),
    route('GET /v1/sessions', { right: 'read', query: [...pageQuery, 'user', 'find'] }, sessions),
    route('GET /v1/members', { right: { perChannel: 'read' }, query: [...pageQuery, 'channel', 'user'] }, members),
    route('GET /v1/traffic', { right: 'read' }, traffic),
    route('GET /v1/refusals', { right: 'read', query: ['code'] }, refusals),
    route('GET /v1/overview', { right: 'read' }, overview),
  ];
}

function sessionPlaceOf(request: Request): SessionPlace | undefined {
  const place = timeAfter(request);
  return place && { sinceMs: place.atMs, session: place.id };
}

/** Channels that clients have entered, each once; of very many, as the instances count them. */
async function enteredOf(engine: Engine, counted: number): Promise<number> {
  if (engine.cluster.instances.length === 1 || counted > 1_000) return counted;
  return (await engine.cluster.entered('', 1_000)).channels.size;
}

/** Instances that did not answer, if there are any: what they know is missing. */
function missingShown(missing: readonly string[]): Http.Gathered {
  return missing.length === 0 ? {} : { missing };
}

function refusalShown({ firstAtMs, lastAtMs, latest, ...kind }: RefusalKind): Http.RefusalKind {
  return {
    ...kind,
    firstAt: new Date(firstAtMs).toISOString(),
    lastAt: new Date(lastAtMs).toISOString(),
    latest: latest.map(({ atMs, ...one }) => ({ at: new Date(atMs).toISOString(), ...defined(one) })),
  };
}

function shown({ lastAtMs, ...channel }: ChannelInfo): Http.ChannelInfo {
  return { ...channel, ...(lastAtMs === undefined ? {} : { lastAt: new Date(lastAtMs).toISOString() }) };
}

export function sessionShown({ sinceMs, ...session }: SessionInfo): Http.SessionInfo {
  return { ...session, since: new Date(sinceMs).toISOString() };
}
