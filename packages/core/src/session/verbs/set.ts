import type { SetRequest } from '@nine-bells/wire';
import { setText } from '../replies.js';
import type { ChannelVerb } from '../verb.js';

/** Sets or removes an entry of the channel's board. */
export const set: ChannelVerb<SetRequest> = {
  act: 'set',
  cost: 1,
  rate: 'sets',
  decide: (session, channel, { entry }) => session.allowedToSet(channel, entry),
  handle(session, request, { match, ruling }) {
    if (request.whileHere) session.entered.holdEntries(match.channel, ruling);
    const done = session.setEntry(match, request, request.whileHere);
    return session.answerWhenDone({ do: 'set', id: request.id, channel: request.channel }, done, setText);
  },
};
