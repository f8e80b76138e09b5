import type { RevisionsRequest } from '@nine-bells/wire';
import { revisionsOf } from '../../record/changes.js';
import { placeOf } from '../replies.js';
import type { ChannelVerb } from '../verb.js';
import { mayChangeMessage } from './changeMessage.js';

/** Revisions in a reply, if the client does not say how many. */
const defaultLimit = 100;

/** Reads what a message held before it was changed. */
export const revisions: ChannelVerb<RevisionsRequest> = {
  act: 'revisions',
  cost: 5,
  decide: mayChangeMessage('revisions'),
  async handle(session, { id, channel, cursor, after, limit = defaultLimit }) {
    const { store, options } = session.host;
    const bounds = { messages: limit, bytes: options.backlogBytes };
    const from = after === undefined ? -1 : placeOf(after).number;
    const reply = await revisionsOf(store, channel, placeOf(cursor), from, bounds);
    session.rates.given(JSON.stringify(reply).length);
    session.line.reply(id, reply);
  },
};
