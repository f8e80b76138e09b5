import type { Engine, MessageReport } from '@nine-bells/core';
import { type ChannelName, defined, protocolLimits, refusal } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { IsOptional } from 'class-validator';
import { IsPart, readBody } from './body.js';
import { actorOf, actorShown } from './moderation.js';
import { AuthorDto, IsChannel, IsWords, OnBehalfDto } from './publishDto.js';
import { cursorOf, numberAfter, pageOf, pageQuery, queryText, queryWhole } from './query.js';
import { type Caller, type Route, route, type Serve } from './route.js';

class ReportDto {
  @IsChannel()
  channel!: string;

  @IsWords(64)
  cursor!: string;

  @IsOptional()
  @IsWords(protocolLimits.reasonChars)
  reason?: string;

  /** Reporter of the message. */
  @IsPart(AuthorDto)
  by!: AuthorDto;
}

class EndReportDto extends OnBehalfDto {
  @IsOptional()
  @IsWords(protocolLimits.reasonChars)
  note?: string;
}

/** Messages that users have reported, for moderators to work off. */
export function reports({ reports: all }: Engine): readonly Route[] {
  const report: Serve<'POST /v1/reports'> = async (request, response, caller) => {
    const { channel, cursor, reason, by } = readBody(ReportDto, request.body);
    caller.needIn('moderate', channel);
    const place = cursorOf(cursor);
    const author = { user: by.user, ...defined({ name: by.name ?? undefined }) };
    const wish = { channel: channel as ChannelName, place, by: author, reason: reason ?? undefined };
    response.json({ report: await all.report(wish) });
  };

  const list: Serve<'GET /v1/reports'> = async (request, response, caller) => {
    const channel = queryText(request, 'channel');
    caller.needIn('moderate', channel);
    const state = queryText(request, 'state') ?? 'open';
    if (state !== 'open' && state !== 'ended')
      throw refusal('bad-value', '`state` is open or ended', { where: '?state' });
    const limit = queryWhole(request, 'limit', 1_000) ?? 100;
    const found = await all.list({
      isOpen: state === 'open',
      limit: limit + 1,
      ...defined({ channel: channel as ChannelName | undefined, from: numberAfter(request) }),
    });
    const { page, rest } = pageOf(found, limit, ({ number }) => number);
    response.json({ reports: page.map(shown), ...rest });
  };

  const end: Serve<'POST /v1/reports/:id/end'> = async (request, response, caller) => {
    const id = String(request.params.id);
    const { note, by } = readBody(EndReportDto, request.body);
    await needFor(caller, id);
    response.json(shown(await all.end(id, actorOf(caller, by), note ?? undefined)));
  };

  /** A key for some channels learns nothing of others, not even that there is such a report. */
  const needFor = async (caller: Caller, id: string): Promise<void> => {
    if (caller.rights.has('moderate')) return;
    const channel = (await all.byId(id))?.channel;
    if (channel === undefined || !caller.rights.hasIn('moderate', channel))
      throw refusal('no-such-id', 'no report of this id is open');
  };

  return [
    route('POST /v1/reports', { right: { perChannel: 'moderate' }, statuses: [201], body: ReportDto }, report),
    route('GET /v1/reports', { right: { perChannel: 'moderate' }, query: ['state', 'channel', ...pageQuery] }, list),
    route('POST /v1/reports/:id/end', { right: { perChannel: 'moderate' }, body: EndReportDto }, end),
  ];
}

function shown({ atMs, ended, ...rest }: MessageReport): Http.MessageReport {
  return {
    ...rest,
    at: new Date(atMs).toISOString(),
    ...(ended && {
      ended: { by: actorShown(ended.by), at: new Date(ended.atMs).toISOString(), ...defined({ note: ended.note }) },
    }),
  };
}
