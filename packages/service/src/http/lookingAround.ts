import type { ChannelInfo, Engine, InstanceInfo, RefusalKind, SessionInfo, SessionPlace } from '@nine-bells/core';
import { defined, refusal } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import type { Request } from 'express';
import { channelOf, queryText, queryWhole, timePlaceOf } from './query.js';
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
      response.json({ channels: [shown(await engine.channels.describe(channel))], more: false });
      return;
    }
    const after = queryText(request, 'after') ?? '';
    const limit = queryWhole(request, 'limit', 1000) ?? 200;
    const found = await engine.channels.list(after, limit + 1, queryText(request, 'find'));
    response.json({ channels: found.slice(0, limit).map(shown), more: found.length > limit });
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
    const given = all.slice(-limit);
    const [first] = given;
    const more = all.length > limit;
    response.json({
      sessions: given.map(sessionShown),
      more,
      ...(more && first !== undefined ? { before: `${first.sinceMs}:${first.session}` } : {}),
      ...missingShown(missing),
    });
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
      const channels = found.slice(0, limit);
      const rest = restOf(found.length > limit, channels.at(-1)?.channel);
      response.json({ user, channels, ...rest, ...missingShown(missing) });
      return;
    }
    const channel = channelOf(request);
    const place = timePlaceOf(request, 'after');
    const after = place && { sinceMs: place.atMs, user: place.id };
    const found = await engine.presence.members(channel, { limit: limit + 1, ...defined({ after }) });
    const members = found.members.slice(0, limit);
    const last = members.at(-1);
    const rest = restOf(found.members.length > limit, last && `${Date.parse(last.since)}:${last.user}`);
    response.json({ channel, members, count: found.count, ...rest, ...missingShown(found.missing) });
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
    route(
      'GET /v1/channels',
      { right: { perChannel: 'read' }, query: ['after', 'limit', 'find', 'channel'] },
      channels,
    ),
    route('GET /v1/sessions', { right: 'read', query: ['limit', 'user', 'find', 'before'] }, sessions),
    route('GET /v1/members', { right: { perChannel: 'read' }, query: ['channel', 'user', 'limit', 'after'] }, members),
    route('GET /v1/traffic', { right: 'read' }, traffic),
    route('GET /v1/refusals', { right: 'read', query: ['code'] }, refusals),
    route('GET /v1/overview', { right: 'read' }, overview),
  ];
}

/** The place behind the sessions that are wanted, as an earlier answer gave it. */
function sessionPlaceOf(request: Request): SessionPlace | undefined {
  const place = timePlaceOf(request);
  return place && { sinceMs: place.atMs, session: place.id };
}

/** Says whether there is more, and `after` which place. */
function restOf(more: boolean, last: string | undefined): { more: boolean; after?: string } {
  return { more, ...(more && last !== undefined ? { after: last } : {}) };
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
