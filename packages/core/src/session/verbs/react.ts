import type { ReactRequest } from '@nine-bells/wire';
import { authorOf } from '../../model/author.js';
import type { ChannelVerb } from '../verb.js';
import { type AllowedOfMessage, mayChangeMessage } from './changeMessage.js';

/** Reacts to a message, or takes that back. */
export const react: ChannelVerb<ReactRequest> = {
  act: 'react',
  cost: 3,
  rate: 'reactions',
  decide: mayChangeMessage('react'),
  handle(session, request, allowed) {
    const { word, on = true } = request;
    const { found, match } = allowed as AllowedOfMessage;
    const counted = session.host.reactions.react(match, found.place, authorOf(session.who), word, on);
    return session.answerWhenDone(request, counted, (counts) => `"counts":${JSON.stringify(counts)}`);
  },
};
