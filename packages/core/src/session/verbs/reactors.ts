import type { ReactorsRequest } from '@nine-bells/wire';
import { checkNamed } from '../namedMessage.js';
import { placeOf } from '../replies.js';
import type { ChannelVerb } from '../verb.js';

/** Users in a reply, if the client does not say how many. */
const defaultLimit = 100;

/** Who has reacted to a message. */
export const reactors: ChannelVerb<ReactorsRequest> = {
  act: 'read',
  cost: 5,
  async handle(session, { id, cursor, word, after, limit = defaultLimit }, { match }) {
    await checkNamed(session, match, placeOf(cursor));
    const reply = await session.host.reactions.reactors(match, placeOf(cursor), { word, after, limit });
    session.rates.given(JSON.stringify(reply).length);
    session.line.reply(id, reply);
  },
};
