import type { PublishRequest } from '@nine-bells/wire';
import { authorOf } from '../../model/author.js';
import { publishedText } from '../replies.js';
import type { ChannelVerb } from '../verb.js';

/** Hot: once per message published on a line. */
export const publish: ChannelVerb<PublishRequest> = {
  act: 'publish',
  cost: 1,
  rate: 'publishes',
  handle(session, { do: verb, id, channel, data, type, key, echo }, { match }) {
    const appended = session.host.publisher.append(match, {
      channel,
      data,
      type,
      key,
      by: authorOf(session.who),
      except: echo === false ? [session.session] : undefined,
    });
    // Without the data: very many may be under way.
    return session.answerWhenDone({ do: verb, id, channel }, appended, publishedText);
  },
};
