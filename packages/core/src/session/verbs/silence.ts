import { defined, type SilenceRequest } from '@nine-bells/wire';
import type { ChannelVerb } from '../verb.js';

/** Lets a user read and not write in a channel. Later requests do not wait for it. */
export const silence: ChannelVerb<SilenceRequest> = {
  act: 'moderate',
  cost: 10,
  handle(session, request) {
    const { moderation } = session.host;
    const { user: id, name } = session.who;
    const { channel, user, reason, everyMs, forMs } = request;
    moderation
      .silence({ channel, user, ...defined({ reason, everyMs, forMs }) }, { kind: 'user', id, ...(name && { name }) })
      .then(
        ({ action: { untilMs } }) =>
          session.line.reply(request.id, untilMs === undefined ? {} : { until: new Date(untilMs).toISOString() }),
        (error: unknown) => session.line.failed(error, request),
      );
  },
};
