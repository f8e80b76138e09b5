import { refusal, type StatusRequest } from '@nine-bells/wire';
import { checkStatus } from '../../model/status.js';
import type { OwnVerb } from '../verb.js';

/** Sets the session's status, in one channel or in all, and which channel it has in view. */
export const status: OwnVerb<StatusRequest> = {
  act: 'own',
  cost: 2,
  handle(session, { id, channel, status: value, looking }) {
    if (value !== undefined) {
      checkStatus(value, session.host.options.statusBytes, '/status');
      if (channel !== undefined && !session.isMemberOf(channel))
        throw refusal('bad-value', `this session is not a member of ${channel}`, { where: '/channel' });
      session.timed(() => session.setStatus(value, channel));
    }
    if (looking !== undefined) session.state.looking = looking ?? undefined;
    session.line.reply(id, {});
  },
};
