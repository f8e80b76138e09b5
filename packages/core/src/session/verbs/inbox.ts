import { type InboxRequest, refusal } from '@nine-bells/wire';
import { noticesAtOnce } from '../liveSession.js';
import { inboxReply, placeOf } from '../replies.js';
import type { OwnVerb } from '../verb.js';

/** Reads the user's inbox, and ends notices in it. */
export const inbox: OwnVerb<InboxRequest> = {
  act: 'own',
  cost: 5,
  async handle(session, { id, after, limit = noticesAtOnce, done }) {
    const { user, guest } = session.who;
    if (guest) throw refusal('not-allowed', 'guests have no inbox');
    session.checkGeneration();
    const { inboxes } = session.host;
    if (done !== undefined) await inboxes.done(user, done);
    const slice = await inboxes.read(user, after === undefined ? undefined : placeOf(after), limit);
    session.line.reply(id, inboxReply(slice, false));
  },
};
