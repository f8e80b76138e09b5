import type { ReportRequest } from '@nine-bells/wire';
import { authorOf } from '../../model/author.js';
import { placeOf } from '../replies.js';
import type { ChannelVerb } from '../verb.js';

/** Reports a message to the moderators. Later requests do not wait for it. */
export const report: ChannelVerb<ReportRequest> = {
  act: 'read',
  cost: 10,
  rate: 'reports',
  handle(session, request) {
    const { channel, cursor, reason } = request;
    const by = authorOf(session.who);
    session.host.reports.report({ channel, place: placeOf(cursor), by, reason }).then(
      (id) => session.line.reply(request.id, { report: id }),
      (error: unknown) => session.line.failed(error, request),
    );
  },
};
