import { type ChannelAct, channelActs, type Engine } from '@nine-bells/core';
import { type ChannelName, type Json, protocolLimits } from '@nine-bells/wire';
import { ArrayMaxSize, IsArray, IsIn, IsObject, IsOptional, IsString } from 'class-validator';
import type { ApiKeys } from '../store/apiKeys.js';
import type { Tokens } from '../tokens/tokens.js';
import { readBody } from './body.js';
import { IsChannel, IsMs, IsWords } from './publishDto.js';
import { type Route, route, type Serve } from './route.js';

/** Default and maximum lifetime of workbench tokens, in milliseconds. */
const usualMs = 3_600_000;
const leastMs = 1_000;

class WorkbenchTokenDto {
  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsOptional()
  @IsWords(100)
  name?: string;

  @IsOptional()
  @IsArray()
  @ArrayMaxSize(100)
  @IsString({ each: true })
  roles?: string[];

  @IsOptional()
  @IsObject()
  claims?: Record<string, Json>;

  @IsOptional()
  @IsMs(leastMs, usualMs)
  forMs?: number;
}

class ExampleUserDto {
  @IsIn(channelActs)
  act!: ChannelAct;

  @IsChannel()
  channel!: ChannelName;
}

/** `/v1/workbench`: tokens for made-up users, and an example of a user that a rule allows. */
export function workbench(engine: Engine, tokens: Tokens, keys: ApiKeys): readonly Route[] {
  const make: Serve<'POST /v1/workbench/tokens'> = async (request, response, { key, actor }) => {
    const { user, name, roles, claims, forMs } = readBody(WorkbenchTokenDto, request.body);
    const made = await tokens.workbench(key, {
      user,
      name: name ?? undefined,
      roles: roles ?? [],
      claims: claims ?? {},
      forMs: forMs ?? usualMs,
    });
    await keys.usesWorkbench(actor, `as ${user}${roles?.length ? ` (${roles.join(', ')})` : ''}`);
    response.json(made);
  };

  const exampleUser: Serve<'POST /v1/workbench/example-user'> = (request, response) => {
    const { act, channel } = readBody(ExampleUserDto, request.body);
    response.json(engine.access.exampleUser(act, channel));
  };

  return [
    route('POST /v1/workbench/tokens', { right: 'administer', statuses: [201], body: WorkbenchTokenDto }, make),
    route('POST /v1/workbench/example-user', { right: 'administer', body: ExampleUserDto }, exampleUser),
  ];
}
