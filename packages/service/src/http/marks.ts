import { type Engine, type MarkState, threadShown } from '@nine-bells/core';
import {
  type ChannelName,
  defined,
  formatCursor,
  type Marked,
  parseCursor,
  protocolLimits,
  refusal,
} from '@nine-bells/wire';
import { IsOptional } from 'class-validator';
import { IsAnything, readBody } from './body.js';
import { IsChannel, IsWords } from './publishDto.js';
import { channelOf, cursorOf, limitOf, pageOf, pageQuery, queryText, queryWhole } from './query.js';
import { type Route, route, type Serve } from './route.js';

class MarkDto {
  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsChannel()
  channel!: string;

  @IsAnything()
  cursor!: string | null;

  @IsOptional()
  @IsWords(64)
  thread?: string;
}

/** Routes of read marks and unread counts. */
export function marks(engine: Engine): readonly Route[] {
  const unread: Serve<'GET /v1/unread'> = async (request, response) => {
    const user = queryText(request, 'user');
    if (user === undefined || user === '') throw refusal('bad-value', '`user` is missing', { where: '?user' });
    const all = await engine.marks.unread(user);
    response.json({
      user,
      unread: all.reduce((sum, each) => sum + each.unread, 0),
      channels: all.map(shown),
    });
  };

  const inChannel: Serve<'GET /v1/marks'> = async (request, response, caller) => {
    const channel = channelOf(request);
    caller.needIn('read', channel);
    const limit = queryWhole(request, 'limit', 10_000) ?? 1_000;
    const found = await engine.marks.inChannel(channel, limit + 1, queryText(request, 'after'));
    const { page, rest } = pageOf(found, limit, ({ user }) => user);
    response.json({ channel, marks: page.map(({ user, place }) => ({ user, cursor: formatCursor(place) })), ...rest });
  };

  const move: Serve<'POST /v1/marks'> = async (request, response) => {
    const { user, channel, cursor, thread } = readBody(MarkDto, request.body);
    if (user.startsWith('guest:')) throw refusal('bad-value', 'guests have no read marks', { where: '/user' });
    const place = cursor === null ? null : parseCursor(String(cursor));
    if (place === undefined)
      throw refusal('bad-cursor', '`cursor` is a cursor, or null to take the mark away', { where: '/cursor' });
    if (thread == null) response.json({ user, ...shown(await engine.marks.move(user, channel as ChannelName, place)) });
    else {
      const found = await engine.marks.moveInThread(user, channel as ChannelName, cursorOf(thread, '/thread'), place);
      const { cursor: at, unread: left } = found === undefined ? { cursor: undefined, unread: 0 } : threadShown(found);
      response.json({ user, channel: channel as ChannelName, unread: left, ...defined({ cursor: at }) });
    }
  };

  const threads: Serve<'GET /v1/threads'> = async (request, response) => {
    const user = queryText(request, 'user');
    if (user === undefined || user === '') throw refusal('bad-value', '`user` is missing', { where: '?user' });
    const channel = queryText(request, 'channel') === undefined ? undefined : channelOf(request);
    const found = await engine.marks.threads(user, limitOf(request), channel);
    response.json({ user, threads: found.map(threadShown) });
  };

  return [
    route('GET /v1/threads', { right: 'read', query: ['user', 'channel', 'limit'] }, threads),
    route('GET /v1/unread', { right: 'read', query: ['user'] }, unread),
    route('GET /v1/marks', { right: { perChannel: 'read' }, query: ['channel', ...pageQuery] }, inChannel),
    route('POST /v1/marks', { right: 'notify', body: MarkDto }, move),
  ];
}

function shown({ channel, place, unread }: MarkState): Marked {
  return { channel, ...(place === undefined ? {} : { cursor: formatCursor(place) }), unread };
}
