import type { Engine, Hold, StaleRange } from '@nine-bells/core';
import { type ChannelName, defined, formatCursor } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { IsBoolean, IsOptional } from 'class-validator';
import { readBody } from './body.js';
import { ActDto, actorOf, actorShown } from './moderation.js';
import { IsChannel } from './publishDto.js';
import { channelOf, pageOf, pageQuery, queryText, queryWhole } from './query.js';
import { type Route, route, type Serve } from './route.js';

/** Cost of a survey of all kept channels, in requests. */
const surveyCost = 50;

class PruneDto {
  @IsOptional()
  @IsBoolean({ message: 'expected true or false' })
  dryRun?: boolean;
}

class HoldDto extends ActDto {
  @IsChannel()
  channel!: string;
}

/** Routes of pruning and retention holds. */
export function retention({ pruner, store }: Engine): readonly Route[] {
  const prune: Serve<'POST /v1/prune'> = async (request, response, caller) => {
    const { dryRun = false } = readBody(PruneDto, request.body);
    caller.charge(surveyCost);
    const { channels, ...rest } = await pruner.survey();
    if (!dryRun) void pruner.run();
    response.json({ dryRun, channels: channels.map(staleShown), ...rest });
  };

  const holds: Serve<'GET /v1/holds'> = async (request, response) => {
    const limit = queryWhole(request, 'limit', 1_000) ?? 200;
    const found = await store.retention.holds(queryText(request, 'after') ?? '', limit + 1);
    const { page, rest } = pageOf(found, limit, ({ channel }) => channel);
    response.json({ holds: page.map(holdShown), ...rest });
  };

  const hold: Serve<'POST /v1/holds'> = async (request, response, caller) => {
    const { channel, reason, by } = readBody(HoldDto, request.body);
    const held = await pruner.hold(channel as ChannelName, actorOf(caller, by), reason ?? undefined);
    response.json(holdShown(held));
  };

  const endHold: Serve<'DELETE /v1/holds'> = async (request, response, caller) => {
    const ended = await pruner.endHold(channelOf(request), caller.actor, queryText(request, 'reason'));
    response.json(holdShown(ended));
  };

  return [
    route('POST /v1/prune', { right: 'administer', body: PruneDto }, prune),
    route('GET /v1/holds', { right: 'read', query: pageQuery }, holds),
    route('POST /v1/holds', { right: 'administer', body: HoldDto }, hold),
    route('DELETE /v1/holds', { right: 'administer', query: ['channel', 'reason'] }, endHold),
  ];
}

function staleShown({ oldestAtMs, upTo, ...rest }: StaleRange): Http.StaleChannel {
  const oldestAt = oldestAtMs === undefined ? undefined : new Date(oldestAtMs).toISOString();
  return { ...rest, upTo: formatCursor(upTo), ...defined({ oldestAt }) };
}

function holdShown({ atMs, by, ...rest }: Hold): Http.Hold {
  return { ...rest, by: actorShown(by), at: new Date(atMs).toISOString() };
}
