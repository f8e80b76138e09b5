import { defined, type HailRequest } from '@nine-bells/wire';
import { authorOf } from '../../model/author.js';
import type { ChannelVerb } from '../verb.js';

export const hail: ChannelVerb<HailRequest> = {
  act: 'hail',
  cost: 1,
  rate: 'hails',
  handle(session, { id, channel, type, data, to }, { match }) {
    session.host.publisher.hail(
      match,
      { channel, type, by: authorOf(session.who), from: session.session, ...defined({ data, to }) },
      session.session,
    );
    session.line.reply(id, {});
  },
};
