import type { Engine } from '@nine-bells/core';
import { levels as allLevels, type ChannelName, type Level, protocolLimits, refusal } from '@nine-bells/wire';
import { IsOptional } from 'class-validator';
import { IsAnything, readBody } from './body.js';
import { IsChannel, IsMs, IsWords } from './publishDto.js';
import { queryText, queryWhole } from './query.js';
import { type Route, route, type Serve } from './route.js';

class LevelDto {
  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsChannel()
  channel!: string;

  /** `null`: as if nothing were said. */
  @IsAnything()
  level!: Level | null;

  @IsOptional()
  @IsMs(1_000, 365 * 86_400_000)
  forMs?: number;
}

/** Channels of a digest, and first lines of each, unless it is said. */
const defaultChannels = 20;
const defaultLines = 3;
/** So many channels of a digest count as one request of the key. */
const channelsForOne = 5;

/** Routes of notification levels and the digest. */
export function levels(engine: Engine): readonly Route[] {
  const list: Serve<'GET /v1/levels'> = async (request, response) => {
    const user = userOf(queryText(request, 'user'));
    response.json({ user, levels: await engine.levels.of(user) });
  };

  const set: Serve<'POST /v1/levels'> = async (request, response) => {
    const { user, channel, level, forMs } = readBody(LevelDto, request.body);
    if (user.startsWith('guest:')) throw refusal('bad-value', 'guests have no levels', { where: '/user' });
    if (level !== null && !allLevels.includes(level))
      throw refusal('bad-value', `\`level\` is ${allLevels.join(', ')} or null`, { where: '/level' });
    await engine.levels.set(user, channel as ChannelName, level, forMs);
    response.json({ user, levels: await engine.levels.of(user) });
  };

  const digest: Serve<'GET /v1/digest'> = async (request, response, caller) => {
    const user = userOf(queryText(request, 'user'));
    const since = queryText(request, 'since');
    const sinceMs = since === undefined ? 0 : Date.parse(since);
    if (Number.isNaN(sinceMs))
      throw refusal('bad-value', '`since` is a time, such as 2026-07-04T16:00:00Z', { where: '?since' });
    const limit = queryWhole(request, 'limit', 100) ?? defaultChannels;
    const lines = queryWhole(request, 'lines', 10) ?? defaultLines;
    // Each channel is decided, and read in.
    caller.charge(Math.ceil(limit / channelsForOne));
    response.json(await engine.digests.of(user, { sinceMs, limit, lines }));
  };

  return [
    route('GET /v1/levels', { right: 'read', query: ['user'] }, list),
    route('POST /v1/levels', { right: 'notify', body: LevelDto }, set),
    route('GET /v1/digest', { right: 'read', query: ['user', 'since', 'lines', 'limit'] }, digest),
  ];
}

function userOf(user: string | undefined): string {
  if (user === undefined || user === '') throw refusal('bad-value', '`user` is missing', { where: '?user' });
  return user;
}
