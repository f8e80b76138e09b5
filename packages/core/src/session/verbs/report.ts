import type { ReportRequest } from '@nine-bells/wire';
import { authorOf } from '../../model/author.js';
import { checkNamed } from '../namedMessage.js';
import { placeOf } from '../replies.js';
import type { ChannelVerb } from '../verb.js';

/** Reports a message to the moderators. Later requests do not wait for it. */
export const report: ChannelVerb<ReportRequest> = {
  act: 'read',
  cost: 10,
  rate: 'reports',
  handle(session, request, { match }) {
    const { channel, cursor, reason } = request;
    const [by, place] = [authorOf(session.who), placeOf(cursor)];
    const reported = checkNamed(session, match, place).then(() =>
      session.host.reports.report({ channel, place, by, reason }),
    );
    reported.then(
      (id) => session.line.reply(request.id, { report: id }),
      (error: unknown) => session.line.failed(error, request),
    );
  },
};
