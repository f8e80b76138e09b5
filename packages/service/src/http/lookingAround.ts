import type { ChannelInfo, Engine, InstanceInfo, RefusalKind, SessionPlace } from '@nine-bells/core';
import { defined, refusal } from '@nine-bells/wire';
import type { Request } from 'express';
import { channelOf, queryText, queryWhole } from './query.js';
import type { Route } from './route.js';

export interface ServiceFacts {
  readonly name: string;
  readonly version: string;
  readonly startedAtMs: number;
}

/** `GET /v1/channels`, `/v1/sessions`, `/v1/overview`: what there is and what goes on. */
export function lookingAround(engine: Engine, facts: ServiceFacts): readonly Route[] {
  const channels: Route['serve'] = async (request, response, caller) => {
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

  const sessions: Route['serve'] = async (request, response) => {
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
      sessions: given.map(({ sinceMs, ...session }) => ({ ...session, since: new Date(sinceMs).toISOString() })),
      more,
      ...(more && first !== undefined ? { before: `${first.sinceMs}:${first.session}` } : {}),
      ...missingShown(missing),
    });
  };

  const members: Route['serve'] = async (request, response, caller) => {
    const user = queryText(request, 'user');
    const limit = queryWhole(request, 'limit', 10_000) ?? 200;
    if ((user === undefined) === (request.query.channel === undefined))
      throw refusal('bad-value', 'say of what: `channel` or `user`');
    caller.needIn('read', user === undefined ? channelOf(request) : undefined);
    if (user !== undefined) {
      const { channels: all, missing } = await engine.cluster.memberships(user);
      response.json({ user, channels: all.slice(0, limit), more: all.length > limit, ...missingShown(missing) });
      return;
    }
    const channel = channelOf(request);
    const { missing, ...found } = await engine.presence.members(channel, limit);
    response.json({ channel, ...found, more: found.count > found.members.length, ...missingShown(missing) });
  };

  const overview: Route['serve'] = async (_request, response) => {
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

  const refusals: Route['serve'] = async (request, response) => {
    const code = queryText(request, 'code');
    const { refusals: all, missing } = await engine.cluster.refusals();
    response.json({
      refusals: all.filter((each) => code === undefined || each.code === code).map(refusalShown),
      ...missingShown(missing),
    });
  };

  const traffic: Route['serve'] = async (_request, response) => {
    const { minutes, missing, ...found } = await engine.cluster.traffic();
    response.json({
      minutes: minutes.map(({ atMs, ...figures }) => ({ at: new Date(atMs).toISOString(), ...figures })),
      ...found,
      ...missingShown(missing),
    });
  };

  const instances: Route['serve'] = (_request, response) => {
    response.json({
      instances: engine.cluster.instances.map(({ sinceMs, ...instance }) => ({
        ...instance,
        since: new Date(sinceMs).toISOString(),
      })),
    });
  };

  return [
    { method: 'get', path: '/instances', right: 'read', serve: instances },
    {
      method: 'get',
      path: '/channels',
      query: ['after', 'limit', 'find', 'channel'],
      right: { perChannel: 'read' },
      serve: channels,
    },
    { method: 'get', path: '/sessions', query: ['limit', 'user', 'find', 'before'], right: 'read', serve: sessions },
    {
      method: 'get',
      path: '/members',
      query: ['channel', 'user', 'limit'],
      right: { perChannel: 'read' },
      serve: members,
    },
    { method: 'get', path: '/traffic', right: 'read', serve: traffic },
    { method: 'get', path: '/refusals', query: ['code'], right: 'read', serve: refusals },
    { method: 'get', path: '/overview', right: 'read', serve: overview },
  ];
}

/** The place behind the sessions that are wanted, as an earlier answer gave it. */
function sessionPlaceOf(request: Request): SessionPlace | undefined {
  const text = queryText(request, 'before');
  if (text === undefined) return undefined;
  const [, sinceMs, session] = /^(\d{1,15}):(\S{1,100})$/.exec(text) ?? [];
  if (sinceMs === undefined || session === undefined)
    throw refusal('bad-value', '`before` is what an earlier answer gave', { where: '?before' });
  return { sinceMs: Number(sinceMs), session };
}

/** Channels that clients have entered, each once; of very many, as the instances count them. */
async function enteredOf(engine: Engine, counted: number): Promise<number> {
  if (engine.cluster.instances.length === 1 || counted > 1_000) return counted;
  return (await engine.cluster.entered('', 1_000)).channels.size;
}

/** Instances that did not answer, if there are any: what they know is missing. */
function missingShown(missing: readonly string[]): object {
  return missing.length === 0 ? {} : { missing };
}

function refusalShown({ firstAtMs, lastAtMs, latest, ...kind }: RefusalKind): object {
  return {
    ...kind,
    firstAt: new Date(firstAtMs).toISOString(),
    lastAt: new Date(lastAtMs).toISOString(),
    latest: latest.map(({ atMs, ...one }) => ({ at: new Date(atMs).toISOString(), ...one })),
  };
}

function shown({ lastAtMs, ...channel }: ChannelInfo): object {
  return { ...channel, ...(lastAtMs === undefined ? {} : { lastAt: new Date(lastAtMs).toISOString() }) };
}
