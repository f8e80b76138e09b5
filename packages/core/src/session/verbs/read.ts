import type { ReadRequest } from '@nine-bells/wire';
import { type Filter, filterOf } from '../../channel/filters.js';
import { sizeOf } from '../../channel/recentWindow.js';
import { placeOf, readText } from '../replies.js';
import type { ChannelVerb } from '../verb.js';

/** Messages in a reply, if the client does not say how many. */
const defaultLimit = 100;

export const read: ChannelVerb<ReadRequest> = {
  act: 'read',
  cost: 5,
  async handle(session, request, { match, ruling }) {
    const { channels, options } = session.host;
    const { id, channel, after, before, limit = defaultLimit } = request;
    const log = channels.logOf(match);
    await session.knownBlocks();
    const filterNow = (): Filter | undefined =>
      filterOf(request.filter, ruling.filters, session.blocks?.filterFor(match.rule));
    const asked = filterNow();
    const bounds = { messages: limit, bytes: options.backlogBytes, ...(asked && { filters: asked.parts }) };
    const slice =
      after === undefined
        ? await log.before(channel, before && placeOf(before), bounds)
        : await log.since(channel, placeOf(after), bounds);
    const reactions = match.rule.reactions && (await session.host.reactions.to(match, slice.messages, session.user));
    const filter = filterNow();
    const text = readText(request, slice, session.session, filter, reactions);
    session.rates.given(filter === undefined ? text.length : Math.max(text.length, sizeOf(slice.messages)));
    session.line.replyText(id, text);
  },
};
