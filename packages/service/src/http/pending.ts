import { type Engine, pendingShown } from '@nine-bells/core';
import { type ChannelName, defined, refusal } from '@nine-bells/wire';
import { readBody } from './body.js';
import { ActDto, actorOf } from './moderation.js';
import { OnBehalfDto } from './publishDto.js';
import { numberAfter, pageQuery, queryText, queryWhole } from './query.js';
import { type Caller, type Route, route, type Serve } from './route.js';

/** Most characters of the messages of one answer. */
const listChars = 4_194_304;

class ApproveDto extends OnBehalfDto {}

class RejectDto extends ActDto {}

/** Routes of the moderators' queue. */
export function pending({ pending: all }: Engine): readonly Route[] {
  const list: Serve<'GET /v1/pending'> = async (request, response, caller) => {
    const channel = queryText(request, 'channel');
    caller.needIn('moderate', channel);
    const state = queryText(request, 'state') ?? 'waiting';
    if (state !== 'waiting' && state !== 'refused')
      throw refusal('bad-value', '`state` is waiting or refused', { where: '?state' });
    const user = queryText(request, 'user');
    const limit = queryWhole(request, 'limit', 1_000) ?? 100;
    const { messages, more } = await all.list({
      isWaiting: state === 'waiting',
      limit,
      chars: listChars,
      ...defined({ channel: channel as ChannelName | undefined, user, from: numberAfter(request) }),
    });
    const shown = messages.map((each) => ({ ...pendingShown(each), number: each.number }));
    const last = shown.at(-1);
    response.json({ pending: shown, ...(more && last !== undefined ? { next: String(last.number) } : {}) });
  };

  const approve: Serve<'POST /v1/pending/:id/approve'> = async (request, response, caller) => {
    const id = String(request.params.id);
    const { by } = readBody(ApproveDto, request.body);
    await needFor(caller, id);
    response.json(await all.approve(id, actorOf(caller, by)));
  };

  const reject: Serve<'POST /v1/pending/:id/reject'> = async (request, response, caller) => {
    const id = String(request.params.id);
    const { reason, by } = readBody(RejectDto, request.body);
    await needFor(caller, id);
    response.json(await all.reject(id, actorOf(caller, by), reason ?? undefined));
  };

  /** A key for some channels must not learn of messages in others. */
  const needFor = async (caller: Caller, id: string): Promise<void> => {
    if (caller.rights.has('moderate')) return;
    const channel = (await all.byId(id))?.channel;
    if (channel === undefined || !caller.rights.hasIn('moderate', channel))
      throw refusal('no-such-id', 'no message of this id waits');
  };

  const right = { perChannel: 'moderate' } as const;
  return [
    route('GET /v1/pending', { right, query: ['state', 'channel', 'user', ...pageQuery] }, list),
    route('POST /v1/pending/:id/approve', { right, body: ApproveDto }, approve),
    route('POST /v1/pending/:id/reject', { right, body: RejectDto }, reject),
  ];
}
