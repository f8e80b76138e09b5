import type { Admission, Engine } from '@nine-bells/core';
import { type ChannelName, defined, protocolLimits, refusal } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { IsBoolean, IsInt, IsOptional, Max, Min } from 'class-validator';
import { present, readBody } from './body.js';
import { actorOf } from './moderation.js';
import { IsChannel, IsMs, IsWords, OnBehalfDto } from './publishDto.js';
import { channelOf, limitOf, pageOf, pageQuery, queryText } from './query.js';
import { type Caller, type Route, route, type Serve } from './route.js';

const dayMs = 86_400_000;

class InvitationDto extends OnBehalfDto {
  @IsChannel()
  channel!: string;

  @IsOptional()
  @IsWords(protocolLimits.userChars)
  user?: string;

  @IsOptional()
  @IsWords(protocolLimits.userChars)
  role?: string;

  @IsOptional()
  @IsInt()
  @Min(1)
  @Max(protocolLimits.invitationUses)
  uses?: number;

  @IsOptional()
  @IsMs(1_000, 365 * dayMs)
  forMs?: number;
}

class EndInvitationDto extends OnBehalfDto {
  @IsOptional()
  @IsBoolean()
  admitted?: boolean;
}

class EndAdmissionDto extends OnBehalfDto {
  @IsChannel()
  channel!: string;

  @IsWords(protocolLimits.userChars)
  user!: string;
}

/** Routes of invitations and admissions. */
export function invitations({ invitations: all }: Engine): readonly Route[] {
  const invite: Serve<'POST /v1/invitations'> = async (request, response, caller) => {
    const { by, ...wish } = readBody(InvitationDto, request.body);
    caller.needIn('moderate', wish.channel);
    const channel = wish.channel as ChannelName;
    response.json(await all.invite({ ...present(wish), channel }, actorOf(caller, by)));
  };

  const list: Serve<'GET /v1/invitations'> = async (request, response, caller) => {
    const channel = channelOf(request);
    caller.needIn('moderate', channel);
    response.json(await all.list(channel, limitOf(request), queryText(request, 'after')));
  };

  const end: Serve<'POST /v1/invitations/:id/end'> = async (request, response, caller) => {
    const id = String(request.params.id);
    const { admitted = false, by } = readBody(EndInvitationDto, request.body);
    await needFor(caller, id);
    response.json(await all.end(id, admitted, actorOf(caller, by)));
  };

  const admissions: Serve<'GET /v1/admissions'> = async (request, response, caller) => {
    const channel = channelOf(request);
    caller.needIn('moderate', channel);
    const limit = limitOf(request);
    const found = await all.admissionsIn(channel, limit + 1, queryText(request, 'after') ?? '');
    const { page, rest } = pageOf(found, limit, ({ user }) => user);
    response.json({ channel, admissions: page.map(shown), ...rest });
  };

  const endAdmission: Serve<'POST /v1/admissions/end'> = async (request, response, caller) => {
    const { channel, user, by } = readBody(EndAdmissionDto, request.body);
    caller.needIn('moderate', channel);
    const ended = await all.endAdmission(channel as ChannelName, user, actorOf(caller, by));
    response.json({ channel, user, ended });
  };

  /** A key for some channels learns nothing of others, not even that there is such an invitation. */
  const needFor = async (caller: Caller, id: string): Promise<void> => {
    if (caller.rights.has('moderate')) return;
    const channel = (await all.byId(id))?.channel;
    if (channel === undefined || !caller.rights.hasIn('moderate', channel))
      throw refusal('no-such-invitation', 'no channel of this key has an invitation with this id');
  };

  return [
    route('POST /v1/invitations', { right: { perChannel: 'moderate' }, statuses: [201], body: InvitationDto }, invite),
    route('GET /v1/invitations', { right: { perChannel: 'moderate' }, query: ['channel', ...pageQuery] }, list),
    route('POST /v1/invitations/:id/end', { right: { perChannel: 'moderate' }, body: EndInvitationDto }, end),
    route('GET /v1/admissions', { right: { perChannel: 'moderate' }, query: ['channel', ...pageQuery] }, admissions),
    route('POST /v1/admissions/end', { right: { perChannel: 'moderate' }, body: EndAdmissionDto }, endAdmission),
  ];
}

function shown({ user, role, invitation, atMs, untilMs }: Admission): Http.Admission {
  return {
    user,
    invitation,
    at: new Date(atMs).toISOString(),
    ...defined({ role }),
    ...(untilMs === undefined ? {} : { until: new Date(untilMs).toISOString() }),
  };
}
