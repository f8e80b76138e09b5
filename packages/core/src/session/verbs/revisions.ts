import type { RevisionsRequest } from '@nine-bells/wire';
import { revisionsOf } from '../../record/changes.js';
import { sightOf } from '../namedMessage.js';
import { placeOf } from '../replies.js';
import type { ChannelVerb } from '../verb.js';
import { type AllowedOfMessage, mayChangeMessage } from './changeMessage.js';

/** Revisions in a reply, if the client does not say how many. */
const defaultLimit = 100;

/** Reads what a message held before it was changed. */
export const revisions: ChannelVerb<RevisionsRequest> = {
  act: 'revisions',
  cost: 5,
  decide: mayChangeMessage('revisions'),
  async handle(session, { id, channel, cursor, after, limit = defaultLimit }, allowed) {
    const { store, options } = session.host;
    const bounds = { messages: limit, bytes: options.backlogBytes };
    const from = after === undefined ? -1 : placeOf(after).number;
    const { found, match } = allowed as AllowedOfMessage;
    const all = await revisionsOf(store, channel, placeOf(cursor), from, bounds);
    const sees = sightOf(session, match);
    // An earlier revision may be one that the token hides.
    const revisions = sees ? all.revisions.filter(({ data }) => sees({ ...found.message, data })) : all.revisions;
    const reply = { ...all, revisions };
    session.rates.given(JSON.stringify(reply).length);
    session.line.reply(id, reply);
  },
};
