import type { EnterRequest } from '@nine-bells/wire';
import type { ChannelVerb } from '../verb.js';

export const enter: ChannelVerb<EnterRequest> = {
  act: 'enter',
  cost: 2,
  decide: (session, channel) => session.allowedToEnter(channel),
  async handle(session, request, allowed) {
    const { line, queue, host } = session;
    try {
      const text = await session.enter(request, host.options.backlogBytes, allowed);
      if (!session.gone) line.replyText(request.id, text);
    } finally {
      queue.release();
    }
  },
};
