import type { Engine, KnownUser } from '@nine-bells/core';
import { type ChannelName, formatCursor, type Json, protocolLimits, refusal } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { IsBoolean, IsOptional } from 'class-validator';
import { IsAnything, present, readBody } from './body.js';
import { IsChannel, IsJson, IsMs, IsUsers, IsWords } from './publishDto.js';
import { placeOf, queryText, queryWhole } from './query.js';
import { type Route, route, type Serve } from './route.js';

const dayMs = 86_400_000;
/** Most characters of a notice's data as JSON text. */
const dataChars = 16_384;

class NoticeDto {
  @IsOptional()
  @IsUsers(10_000)
  users?: string[];

  @IsOptional()
  @IsChannel()
  channel?: ChannelName;

  @IsOptional()
  @IsWords(protocolLimits.roleChars)
  role?: string;

  @IsWords(protocolLimits.titleChars)
  title!: string;

  @IsOptional()
  @IsJson()
  data?: Json;

  @IsOptional()
  @IsWords(protocolLimits.keyChars)
  key?: string;

  @IsOptional()
  @IsMs(1, 365 * dayMs)
  forMs?: number;

  @IsOptional()
  @IsBoolean()
  ifAvailable?: boolean;

  @IsOptional()
  @IsChannel()
  unlessLooking?: ChannelName;

  @IsOptional()
  @IsWords(protocolLimits.userChars)
  from?: string;

  @IsOptional()
  @IsBoolean()
  holdWhileBusy?: boolean;

  @IsOptional()
  @IsMs(1_000, dayMs)
  reachWithinMs?: number;
}

class DoneDto {
  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsAnything()
  done!: string[] | true;
}

/** So many users of a notice count as one request of the key. */
const usersForOne = 10;

/** Notices, and the users they are for. */
export function notices(engine: Engine): readonly Route[] {
  const notify: Serve<'POST /v1/notices'> = async (request, response, caller) => {
    const wish = readBody(NoticeDto, request.body);
    // Many users in one call count for more than one request.
    caller.charge(Math.ceil((wish.users?.length ?? 0) / usersForOne));
    if (wish.data !== undefined && JSON.stringify(wish.data).length > dataChars)
      throw refusal('too-large', `data of a notice has at most ${dataChars} characters of JSON`, { where: '/data' });
    response.json(await engine.inboxes.notify({ ...present(wish), title: wish.title }));
  };

  const inbox: Serve<'GET /v1/notices'> = async (request, response) => {
    const user = userOf(queryText(request, 'user'));
    const limit = queryWhole(request, 'limit', 1000) ?? 100;
    const { head, ...slice } = await engine.inboxes.read(user, placeOf(request, 'after'), limit);
    response.json({ user, ...slice, cursor: slice.notices.at(-1)?.cursor ?? formatCursor(head) });
  };

  const done: Serve<'POST /v1/notices/done'> = async (request, response) => {
    const { user, done: ids } = readBody(DoneDto, request.body);
    if (ids !== true && !(Array.isArray(ids) && ids.length <= 1000 && ids.every((each) => typeof each === 'string')))
      throw refusal('bad-value', '`done` is true, or a list of up to 1,000 ids', { where: '/done' });
    response.json({ user, unread: await engine.inboxes.done(user, ids) });
  };

  const known: Serve<'GET /v1/users'> = async (request, response) => {
    const user = userOf(queryText(request, 'user'));
    const found = await engine.inboxes.user(user);
    if (found === undefined) throw refusal('no-such-user', `the service has never met ${user}`, { where: '?user' });
    response.json(knownShown(found));
  };

  return [
    route('POST /v1/notices', { right: 'notify', statuses: [201], body: NoticeDto }, notify),
    route('GET /v1/notices', { right: 'read', query: ['user', 'after', 'limit'] }, inbox),
    route('POST /v1/notices/done', { right: 'notify', body: DoneDto }, done),
    route('GET /v1/users', { right: 'read', query: ['user'] }, known),
  ];
}

function userOf(user: string | undefined): string {
  if (user === undefined || user === '') throw refusal('bad-value', '`user` is missing', { where: '?user' });
  return user;
}

function knownShown({ seenAtMs, ...user }: KnownUser): Http.KnownUser {
  return { ...user, seenAt: new Date(seenAtMs).toISOString() };
}
