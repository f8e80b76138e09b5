import type { ReadRequest } from '@nine-bells/wire';
import { placeOf, readText } from '../replies.js';
import type { ChannelVerb } from '../verb.js';

/** Messages in a reply, if the client does not say how many. */
const defaultLimit = 100;

export const read: ChannelVerb<ReadRequest> = {
  act: 'read',
  cost: 5,
  async handle(session, request, { match }) {
    const { channels, options } = session.host;
    const { id, channel, after, before, limit = defaultLimit } = request;
    const log = channels.logOf(match);
    const bounds = { messages: limit, bytes: options.backlogBytes };
    const slice =
      after === undefined
        ? await log.before(channel, before && placeOf(before), bounds)
        : await log.since(channel, placeOf(after), bounds);
    const text = readText(request, slice, session.session);
    session.rates.given(text.length);
    session.line.replyText(id, text);
  },
};
