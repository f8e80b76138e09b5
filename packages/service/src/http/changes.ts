import type { Engine, OwnChange } from '@nine-bells/core';
import { type ChannelName, defined, type Json, protocolLimits } from '@nine-bells/wire';
import { IsOptional } from 'class-validator';
import { readBody } from './body.js';
import { IsChannel, IsJson, IsWords, OnBehalfDto } from './publishDto.js';
import { channelOf, cursorOf, limitOf, placeOf, requiredPlaceOf } from './query.js';
import { type Route, route, type Serve } from './route.js';

/** Members of `POST /v1/revisions` and `POST /v1/withdrawals`. */
class ChangeDto extends OnBehalfDto {
  @IsChannel()
  channel!: string;

  @IsWords(64)
  cursor!: string;

  @IsOptional()
  @IsWords(64)
  message?: string;

  /** `null` is a value: the message must be as it was published. */
  @IsOptional()
  @IsWords(64)
  ifRevision?: string | null;

  @IsOptional()
  @IsWords(protocolLimits.keyChars)
  key?: string;
}

class RevisionDto extends ChangeDto {
  @IsJson()
  data!: Json;
}

class WithdrawalDto extends ChangeDto {
  @IsOptional()
  @IsWords(protocolLimits.reasonChars)
  reason?: string;
}

/** Changes of messages, and what they were before. */
export function changes({ messages, options }: Engine): readonly Route[] {
  const revise: Serve<'POST /v1/revisions'> = async (request, response, caller) => {
    const body = readBody(RevisionDto, request.body);
    caller.needIn('publish', body.channel);
    const done = await messages.change({ ...changeOf(body, caller.key.id), data: body.data });
    response.status(done.repeated ? 200 : 201).json(done);
  };

  const withdraw: Serve<'POST /v1/withdrawals'> = async (request, response, caller) => {
    const body = readBody(WithdrawalDto, request.body);
    caller.needIn('publish', body.channel);
    const done = await messages.change({ ...changeOf(body, caller.key.id), reason: body.reason ?? undefined });
    response.status(done.repeated ? 200 : 201).json(done);
  };

  const read: Serve<'GET /v1/revisions'> = async (request, response, caller) => {
    const channel = channelOf(request);
    caller.needIn('read', channel);
    const after = placeOf(request, 'after');
    const place = requiredPlaceOf(request, 'cursor');
    response.json(
      await messages.revisions(channel, place, after?.number ?? -1, {
        messages: limitOf(request),
        bytes: options.backlogBytes,
      }),
    );
  };

  return [
    route('POST /v1/revisions', { right: { perChannel: 'publish' }, statuses: [201, 200], body: RevisionDto }, revise),
    route(
      'POST /v1/withdrawals',
      { right: { perChannel: 'publish' }, statuses: [201, 200], body: WithdrawalDto },
      withdraw,
    ),
    route('GET /v1/revisions', { right: { perChannel: 'read' }, query: ['channel', 'cursor', 'after', 'limit'] }, read),
  ];
}

function changeOf({ channel, cursor, message, ifRevision, key, by }: ChangeDto, owner: string): OwnChange {
  return {
    channel: channel as ChannelName,
    place: cursorOf(cursor),
    ...(message == null ? {} : { message }),
    ...(ifRevision === undefined
      ? {}
      : { ifRevision: ifRevision === null ? null : cursorOf(ifRevision, '/ifRevision') }),
    ...(key == null ? {} : { key, owner }),
    ...(by == null ? {} : { by: { user: by.user, ...defined({ name: by.name ?? undefined }) } }),
  };
}
