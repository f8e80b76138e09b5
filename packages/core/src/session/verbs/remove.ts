import type { RemoveRequest } from '@nine-bells/wire';
import type { ChannelVerb } from '../verb.js';

/** Removes a user from a channel. Later requests do not wait for it. */
export const remove: ChannelVerb<RemoveRequest> = {
  act: 'moderate',
  cost: 10,
  handle(session, request) {
    const { moderation } = session.host;
    const { user: id, name } = session.who;
    const { channel, user, reason, banMs } = request;
    moderation.remove({ channel, user, reason, banMs }, { kind: 'user', id, ...(name && { name }) }).then(
      ({ action: { untilMs } }) =>
        session.line.reply(request.id, untilMs === undefined ? {} : { until: new Date(untilMs).toISOString() }),
      (error: unknown) => session.line.failed(error, request),
    );
  },
};
