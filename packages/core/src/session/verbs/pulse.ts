import type { PulseRequest } from '@nine-bells/wire';
import type { OwnVerb } from '../verb.js';

/** Says how far the client has received channels. Answered at once, ahead of acts that wait. */
export const pulse: OwnVerb<PulseRequest> = {
  act: 'own',
  cost: 1,
  handle(session, { id, got }) {
    if (got !== undefined) session.entered.hasGot(got);
    if (!session.queue.isFull) session.line.reply(id, {});
  },
};
