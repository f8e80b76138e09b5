import type { AuditEntry, Effect, Engine, KeepingOut, Measure } from '@nine-bells/core';
import { type ChannelName, protocolLimits, refusal } from '@nine-bells/wire';
import { IsOptional } from 'class-validator';
import { readBody } from './body.js';
import { IsChannel, IsMs, IsWords } from './publishDto.js';
import { queryText, queryWhole } from './query.js';
import type { Caller, Route } from './route.js';

/** The longest ban that has an end, in milliseconds: ten years. */
const mostBanMs = 10 * 365 * 86_400_000;

class BanDto {
  static readonly members = {
    user: true,
    address: true,
    channel: true,
    forMs: true,
    reason: true,
    by: true,
  } as const;

  @IsOptional()
  @IsWords(protocolLimits.userChars)
  user?: string;

  @IsOptional()
  @IsWords(64)
  address?: string;

  @IsOptional()
  @IsChannel()
  channel?: string;

  @IsOptional()
  @IsMs(1, mostBanMs)
  forMs?: number;

  @IsOptional()
  @IsWords(protocolLimits.reasonChars)
  reason?: string;

  /** The user in whose name the application acts. */
  @IsOptional()
  @IsWords(protocolLimits.userChars)
  by?: string;
}

class RemovalDto {
  static readonly members = { channel: true, user: true, reason: true, banMs: true, by: true } as const;

  @IsChannel()
  channel!: string;

  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsOptional()
  @IsWords(protocolLimits.reasonChars)
  reason?: string;

  @IsOptional()
  @IsMs(0, mostBanMs)
  banMs?: number;

  @IsOptional()
  @IsWords(protocolLimits.userChars)
  by?: string;
}

class UserDto {
  static readonly members = { user: true, reason: true } as const;

  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsOptional()
  @IsWords(protocolLimits.reasonChars)
  reason?: string;
}

/** What is done about users, and the record of it. */
export function measures(engine: Engine): readonly Route[] {
  const ban: Route['serve'] = async (request, response, caller) => {
    const { user, address, channel, forMs, reason, by } = readBody(BanDto, request.body);
    const wish = present({ user, address, channel: channel as ChannelName | undefined, forMs, reason });
    response.status(201).json(effectShown(await engine.measures.ban(wish, actorOf(caller, by))));
  };

  const bans: Route['serve'] = (request, response) => {
    const user = queryText(request, 'user');
    const channel = queryText(request, 'channel');
    const limit = queryWhole(request, 'limit', 1000) ?? 200;
    const found = engine.measures.bans.filter(
      (each) => (user === undefined || each.user === user) && (channel === undefined || each.channel === channel),
    );
    response.json({ bans: found.slice(0, limit).map(banShown), more: found.length > limit });
  };

  const lift: Route['serve'] = async (request, response, caller) => {
    response.json(
      effectShown(await engine.measures.lift(String(request.params.id), caller.actor, queryText(request, 'reason'))),
    );
  };

  const remove: Route['serve'] = async (request, response, caller) => {
    const { channel, user, reason, banMs, by } = readBody(RemovalDto, request.body);
    const wish = { channel: channel as ChannelName, user, ...present({ reason, banMs }) };
    response.status(201).json(effectShown(await engine.measures.remove(wish, actorOf(caller, by))));
  };

  const signOut: Route['serve'] = async (request, response, caller) => {
    const { user, reason } = readBody(UserDto, request.body);
    response.status(201).json(effectShown(await engine.measures.signOut(user, caller.actor, reason ?? undefined)));
  };

  const revokeTokens: Route['serve'] = async (request, response, caller) => {
    const { user, reason } = readBody(UserDto, request.body);
    response.status(201).json(effectShown(await engine.measures.revokeTokens(user, caller.actor, reason ?? undefined)));
  };

  const audit: Route['serve'] = async (request, response) => {
    const before = queryWhole(request, 'before', 999_999_999);
    const limit = queryWhole(request, 'limit', 1000) ?? 100;
    const found = await engine.measures.audit(before, limit + 1);
    response.json({ entries: found.slice(0, limit).map(auditShown), more: found.length > limit });
  };

  return [
    { method: 'post', path: '/bans', right: 'moderate', serve: ban },
    { method: 'get', path: '/bans', query: ['user', 'channel', 'limit'], right: 'read', serve: bans },
    { method: 'delete', path: '/bans/:id', query: ['reason'], right: 'moderate', serve: lift },
    { method: 'post', path: '/removals', right: 'moderate', serve: remove },
    { method: 'post', path: '/sign-outs', right: 'moderate', serve: signOut },
    { method: 'post', path: '/token-revocations', right: 'moderate', serve: revokeTokens },
    { method: 'get', path: '/audit', query: ['before', 'limit'], right: 'moderate', serve: audit },
  ];
}

/** A measure as it is shown: times as RFC 3339 says. */
export function banShown({ atMs, untilMs, ...ban }: KeepingOut): object {
  return { ...ban, at: timeText(atMs), ...(untilMs === undefined ? {} : { until: timeText(untilMs) }) };
}

function effectShown({ measure, sessions }: Effect): object {
  const { atMs, ...rest }: Measure & { untilMs?: number } = measure;
  const { untilMs, ...shown } = rest as typeof rest & { untilMs?: number };
  return { ...shown, at: timeText(atMs), ...(untilMs === undefined ? {} : { until: timeText(untilMs) }), sessions };
}

function auditShown({ atMs, untilMs, ...entry }: AuditEntry): object {
  return { ...entry, at: timeText(atMs), ...(untilMs === undefined ? {} : { until: timeText(untilMs) }) };
}

/** The key, or the user in whose name its application acts. */
function actorOf({ actor }: Caller, by: string | null | undefined) {
  if (by == null) return actor;
  if (by.startsWith('oversight:')) throw refusal('bad-value', 'no user has such an id', { where: '/by' });
  return { kind: 'user', id: by, through: actor.id } as const;
}

function timeText(ms: number): string {
  return new Date(ms).toISOString();
}

/** Without what was not given. */
function present<T extends object>(value: T): { [K in keyof T]?: NonNullable<T[K]> } {
  return Object.fromEntries(Object.entries(value).filter(([, each]) => each != null)) as never;
}
