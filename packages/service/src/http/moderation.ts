import {
  type ActiveBan,
  type Actor,
  type AuditEntry,
  type Effect,
  type Engine,
  hasText,
  type ModerationAction,
  type Silence,
} from '@nine-bells/core';
import { type ChannelName, defined, GUEST_PREFIX, protocolLimits, refusal } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { IsOptional } from 'class-validator';
import { present, readBody } from './body.js';
import { type AuthorDto, IsChannel, IsMs, IsWords, OnBehalfDto } from './publishDto.js';
import { latestFirst, numberAfter, pageOf, pageQuery, queryText, queryWhole, timeAfter } from './query.js';
import { type Caller, type Route, route, type Serve } from './route.js';

/** An act of moderation. */
export class ActDto extends OnBehalfDto {
  @IsOptional()
  @IsWords(protocolLimits.reasonChars)
  reason?: string;
}

class BanDto extends ActDto {
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
  @IsMs(1, protocolLimits.banMs)
  forMs?: number;
}

class RemovalDto extends ActDto {
  @IsChannel()
  channel!: string;

  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsOptional()
  @IsMs(0, protocolLimits.banMs)
  banMs?: number;
}

class SilenceDto extends ActDto {
  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsOptional()
  @IsChannel()
  channel?: string;

  @IsOptional()
  @IsMs(1_000, 86_400_000)
  everyMs?: number;

  @IsOptional()
  @IsMs(1, protocolLimits.banMs)
  forMs?: number;
}

class UserDto extends ActDto {
  @IsWords(protocolLimits.userChars)
  user!: string;
}

/** Routes of moderation and the audit log. */
export function moderation(engine: Engine): readonly Route[] {
  const ban: Serve<'POST /v1/bans'> = async (request, response, caller) => {
    const { user, address, channel, forMs, reason, by } = readBody(BanDto, request.body);
    caller.needIn('moderate', channel);
    const wish = present({ user, address, channel: channel as ChannelName | undefined, forMs, reason });
    response.json(effectShown(await engine.moderation.ban(wish, actorOf(caller, by))));
  };

  const bans: Serve<'GET /v1/bans'> = (request, response, caller) => {
    const user = queryText(request, 'user');
    const channel = queryText(request, 'channel');
    caller.needIn('read', channel);
    const limit = queryWhole(request, 'limit', 1000) ?? 200;
    const find = queryText(request, 'find') ?? '';
    const found = engine.moderation.bans
      .filter(
        (each) => (user === undefined || each.user === user) && (channel === undefined || each.channel === channel),
      )
      .filter((each) => {
        const address = each.type === 'ban' ? each.address : undefined;
        return [each.user, address, each.channel, each.reason].some((text) => hasText(text ?? '', find));
      });
    const { page, rest } = latestFirst(found, timeAfter(request), limit);
    response.json({ bans: page.map(banShown), ...rest });
  };

  const unban: Serve<'DELETE /v1/bans/:id'> = async (request, response, caller) => {
    const id = String(request.params.id);
    const reason = queryText(request, 'reason');
    if (!caller.rights.has('moderate')) {
      // A key for other channels learns nothing, not even that there is such a ban.
      const channel = engine.moderation.bans.find((each) => each.id === id)?.channel;
      if (channel === undefined || !caller.rights.hasIn('moderate', channel))
        throw refusal('no-such-id', 'no ban of this id is in force');
    }
    response.json(effectShown(await engine.moderation.unban(id, caller.actor, reason)));
  };

  const remove: Serve<'POST /v1/removals'> = async (request, response, caller) => {
    const { channel, user, reason, banMs, by } = readBody(RemovalDto, request.body);
    caller.needIn('moderate', channel);
    const wish = { channel: channel as ChannelName, user, ...present({ reason, banMs }) };
    response.json(effectShown(await engine.moderation.remove(wish, actorOf(caller, by))));
  };

  const silence: Serve<'POST /v1/silences'> = async (request, response, caller) => {
    const { user, channel, everyMs, forMs, reason, by } = readBody(SilenceDto, request.body);
    caller.needIn('moderate', channel);
    const wish = { user, ...present({ channel: channel as ChannelName | undefined, everyMs, forMs, reason }) };
    response.json(effectShown(await engine.moderation.silence(wish, actorOf(caller, by))));
  };

  const silences: Serve<'GET /v1/silences'> = (request, response, caller) => {
    const user = queryText(request, 'user');
    const channel = queryText(request, 'channel');
    caller.needIn('read', channel);
    const limit = queryWhole(request, 'limit', 1000) ?? 200;
    const found = engine.moderation.silences.filter(
      (each) => (user === undefined || each.user === user) && (channel === undefined || each.channel === channel),
    );
    const { page, rest } = latestFirst(found, timeAfter(request), limit);
    response.json({ silences: page.map(silenceShown), ...rest });
  };

  const endSilence: Serve<'DELETE /v1/silences/:id'> = async (request, response, caller) => {
    const id = String(request.params.id);
    const reason = queryText(request, 'reason');
    if (!caller.rights.has('moderate')) {
      const channel = engine.moderation.silences.find((each) => each.id === id)?.channel;
      if (channel === undefined || !caller.rights.hasIn('moderate', channel))
        throw refusal('no-such-id', 'no silence of this id is in force');
    }
    response.json(effectShown(await engine.moderation.endSilence(id, caller.actor, reason)));
  };

  const signOut: Serve<'POST /v1/sign-outs'> = async (request, response, caller) => {
    const { user, reason, by } = readBody(UserDto, request.body);
    const effect = await engine.moderation.signOut(user, actorOf(caller, by), reason ?? undefined);
    response.json(effectShown(effect));
  };

  const revokeTokens: Serve<'POST /v1/token-revocations'> = async (request, response, caller) => {
    const { user, reason, by } = readBody(UserDto, request.body);
    const effect = await engine.moderation.revokeTokens(user, actorOf(caller, by), reason ?? undefined);
    response.json(effectShown(effect));
  };

  const audit: Serve<'GET /v1/audit'> = async (request, response) => {
    const limit = queryWhole(request, 'limit', 1000) ?? 100;
    const found = await engine.moderation.audit(numberAfter(request), limit + 1, queryText(request, 'user'));
    const { page, rest } = pageOf(found, limit, ({ number }) => number);
    response.json({ entries: page.map(shown), ...rest });
  };

  return [
    route('POST /v1/bans', { right: { perChannel: 'moderate' }, statuses: [201], body: BanDto }, ban),
    route('GET /v1/bans', { right: { perChannel: 'read' }, query: ['user', 'channel', 'find', ...pageQuery] }, bans),
    route('DELETE /v1/bans/:id', { right: { perChannel: 'moderate' }, query: ['reason'] }, unban),
    route('POST /v1/removals', { right: { perChannel: 'moderate' }, statuses: [201], body: RemovalDto }, remove),
    route('POST /v1/silences', { right: { perChannel: 'moderate' }, statuses: [201], body: SilenceDto }, silence),
    route('GET /v1/silences', { right: { perChannel: 'read' }, query: ['user', 'channel', ...pageQuery] }, silences),
    route('DELETE /v1/silences/:id', { right: { perChannel: 'moderate' }, query: ['reason'] }, endSilence),
    route('POST /v1/sign-outs', { right: 'moderate', statuses: [201], body: UserDto }, signOut),
    route('POST /v1/token-revocations', { right: 'moderate', statuses: [201], body: UserDto }, revokeTokens),
    route('GET /v1/audit', { right: 'moderate', query: ['user', ...pageQuery] }, audit),
  ];
}

/** A ban, a removal or an audit entry in its public form: times as RFC 3339 says. */
export function banShown(ban: ActiveBan): Http.Ban {
  return shown(ban);
}

export function silenceShown(silence: Silence): Http.Silence {
  return shown(silence);
}

function effectShown({ action, sessions }: Effect): Http.Effect {
  return { ...shown(action), sessions };
}

function shown<Done extends (ModerationAction | AuditEntry) & { readonly untilMs?: number }>({
  atMs,
  untilMs,
  by,
  ...rest
}: Done): Omit<Done, 'atMs' | 'untilMs' | 'by'> & { at: string; until?: string; by: Http.Actor } {
  return {
    ...rest,
    by: actorShown(by),
    at: timeText(atMs),
    ...(untilMs === undefined ? {} : { until: timeText(untilMs) }),
  };
}

/** An actor in the shape that `by` has everywhere: `user` or `key` or `service`, and `name`. */
export function actorShown({ kind, id, name, through }: Actor): Http.Actor {
  return {
    [kind]: id,
    ...defined({ name }),
    ...(kind === 'user' && id.startsWith(GUEST_PREFIX) ? { guest: true } : {}),
    ...defined({ key: through }),
  };
}

/** Returns the actor: the key, or the user for whom its application acts. */
export function actorOf({ actor }: Caller, by: AuthorDto | null | undefined): Actor {
  if (by == null) return actor;
  const { user, name } = by;
  if (user.startsWith('observer:')) throw refusal('bad-value', 'no user has such an id', { where: '/by/user' });
  return { kind: 'user', id: user, ...(name == null ? {} : { name }), through: actor.id };
}

function timeText(ms: number): string {
  return new Date(ms).toISOString();
}
