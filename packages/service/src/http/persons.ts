import { type Engine, type Erasure, type PersonPlace, pseudonymOf } from '@nine-bells/core';
import { protocolLimits, refusal } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { IsIn, IsOptional } from 'class-validator';
import { readBody } from './body.js';
import { sessionShown } from './lookingAround.js';
import { actorOf, actorShown } from './moderation.js';
import { IsWords, OnBehalfDto } from './publishDto.js';
import { limitOf, queryText, queryWhole } from './query.js';
import { type Route, route, type Serve } from './route.js';

/** Cost of an export, in requests. */
const exportCost = 20;

class ErasureDto extends OnBehalfDto {
  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsOptional()
  @IsIn(['withdraw', 'blank'])
  messages?: Erasure['messages'];
}

/** Routes of export and erasure of users. */
export function persons({ eraser, cluster }: Engine): readonly Route[] {
  const erase: Serve<'POST /v1/erasures'> = async (request, response, caller) => {
    const { user, messages = 'withdraw', by } = readBody(ErasureDto, request.body);
    response.status(201).json(erasureShown(await eraser.begin({ user, messages }, actorOf(caller, by))));
  };

  const list: Serve<'GET /v1/erasures'> = async (request, response) => {
    const limit = queryWhole(request, 'limit', 1_000) ?? 100;
    response.json({ erasures: (await eraser.list(limit)).map(erasureShown) });
  };

  const one: Serve<'GET /v1/erasures/:id'> = async (request, response) => {
    const id = String(request.params.id);
    const found = await eraser.byId(id);
    if (found === undefined) throw refusal('no-such-id', `there is no erasure ${JSON.stringify(id.slice(0, 60))}`);
    response.json(erasureShown(found));
  };

  const person: Serve<'GET /v1/persons'> = async (request, response, caller) => {
    caller.charge(exportCost);
    const user = queryText(request, 'user') ?? '';
    if (user === '' || user.length > protocolLimits.userChars)
      throw refusal('bad-value', `\`user\` has 1 to ${protocolLimits.userChars} characters`, { where: '?user' });
    const after = placeOf(queryText(request, 'after'));
    const { messages, records, next } = await eraser.export(user, caller.actor, after, limitOf(request));
    const sessions = after === undefined ? (await cluster.sessions({ user, limit: 1_000 })).sessions : undefined;
    response.json({
      user,
      ...(records && { records }),
      ...(sessions && { sessions: sessions.map(sessionShown) }),
      messages: messages.map(({ message }) => message),
      ...(next && { next: `${next.channel}.${next.number}` }),
    });
  };

  return [
    route('POST /v1/erasures', { right: 'administer', statuses: [201], body: ErasureDto }, erase),
    route('GET /v1/erasures', { right: 'administer', query: ['limit'] }, list),
    route('GET /v1/erasures/:id', { right: 'administer' }, one),
    route('GET /v1/persons', { right: 'administer', query: ['user', 'after', 'limit'] }, person),
  ];
}

function placeOf(text: string | undefined): PersonPlace | undefined {
  if (text === undefined) return undefined;
  const [, channel, number] = /^(\d{1,15})\.(\d{1,15})$/.exec(text) ?? [];
  if (channel === undefined)
    throw refusal('bad-value', '`after` is what the part before has given as `next`', { where: '?after' });
  return { channel: Number(channel), number: Number(number) };
}

function erasureShown({ atMs, endedAtMs, by, ...rest }: Erasure): Http.ErasureInfo {
  const isSelf = by.kind === 'user' && by.id === rest.user;
  return {
    ...rest,
    by: actorShown(isSelf ? { kind: 'user', id: pseudonymOf(rest.id) } : by),
    at: new Date(atMs).toISOString(),
    ...(endedAtMs === undefined ? {} : { endedAt: new Date(endedAtMs).toISOString() }),
  };
}
