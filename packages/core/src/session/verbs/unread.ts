import { refusal, type UnreadRequest } from '@nine-bells/wire';
import type { OwnVerb } from '../verb.js';

/** From now on the client is told what its user has not read. */
export const unread: OwnVerb<UnreadRequest> = {
  act: 'own',
  cost: 25,
  async handle(session, { id }) {
    const { guest, observer } = session.who;
    if (guest) throw refusal('not-allowed', 'guests have no read marks');
    if (observer) throw refusal('not-allowed', 'an observer has no read marks');
    session.checkGeneration();
    const counts = await session.countUnread();
    if (!session.gone) session.line.reply(id, { counts });
  },
};
