import type { LeaveRequest } from '@nine-bells/wire';
import type { OwnVerb } from '../verb.js';

export const leave: OwnVerb<LeaveRequest> = {
  act: 'own',
  cost: 1,
  handle(session, { id, channel }) {
    session.leave(channel);
    session.line.reply(id, { channel });
  },
};
