import type { Engine } from '@nine-bells/core';
import { type ChannelName, defined, protocolLimits } from '@nine-bells/wire';
import { IsBoolean, IsOptional } from 'class-validator';
import { IsPart, readBody } from './body.js';
import { AuthorDto, IsChannel, IsWords } from './publishDto.js';
import { channelOf, cursorOf, limitOf, queryText, requiredPlaceOf } from './query.js';
import { type Route, route, type Serve } from './route.js';

class ReactionDto {
  @IsChannel()
  channel!: string;

  @IsWords(64)
  cursor!: string;

  @IsWords(protocolLimits.reactionChars)
  word!: string;

  @IsOptional()
  @IsBoolean()
  on?: boolean;

  /** The user who reacts. */
  @IsPart(AuthorDto)
  by!: AuthorDto;
}

/** Reactions to messages. */
export function reactions({ messages }: Engine): readonly Route[] {
  const react: Serve<'POST /v1/reactions'> = async (request, response, caller) => {
    const { channel, cursor, word, on = true, by } = readBody(ReactionDto, request.body);
    caller.needIn('publish', channel);
    const author = { user: by.user, ...defined({ name: by.name ?? undefined }) };
    response.json({ counts: await messages.react(channel as ChannelName, cursorOf(cursor), author, word, on) });
  };

  const list: Serve<'GET /v1/reactions'> = async (request, response, caller) => {
    const channel = channelOf(request);
    caller.needIn('read', channel);
    const wish = { word: queryText(request, 'word'), after: queryText(request, 'after'), limit: limitOf(request) };
    response.json(await messages.reactors(channel, requiredPlaceOf(request, 'cursor'), wish));
  };

  return [
    route('POST /v1/reactions', { right: { perChannel: 'publish' }, body: ReactionDto }, react),
    route(
      'GET /v1/reactions',
      { right: { perChannel: 'read' }, query: ['channel', 'cursor', 'word', 'after', 'limit'] },
      list,
    ),
  ];
}
