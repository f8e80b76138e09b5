import type { PublishRequest } from '@nine-bells/wire';
import { messagePlaces } from '../../boards/boards.js';
import { authorOf } from '../../model/author.js';
import type { OwnDraft } from '../../model/message.js';
import { placeOf, publishedEntryText, publishedText } from '../replies.js';
import type { ChannelVerb } from '../verb.js';

/** Hot: once per message published on a line. */
export const publish: ChannelVerb<PublishRequest> = {
  act: 'publish',
  cost: 1,
  rate: 'publishes',
  handle(session, { do: verb, id, channel, data, type, key, echo, replyTo }, { match }) {
    const { boards } = session.host;
    if (type !== undefined && boards.isEntryType(match, type)) {
      const by = authorOf(session.who);
      session.host.publisher.checkEntryMessage(match, { channel, data, type, by, session: session.session });
      const entry = boards.entryOf(match, type, data);
      const set = (): void | Promise<void> =>
        session.answerWhenDone(
          { do: verb, id, channel },
          session.setEntry(match, { entry, value: data }, false, messagePlaces),
          (done) => publishedEntryText(session.host.boards.asPublished(done)),
        );
      // A client that may publish here sets every entry, unless the rule says whose they are.
      const may = match.rule.allow.set === undefined ? undefined : session.allowed('set', channel, { entry });
      return may instanceof Promise ? may.then(set) : set();
    }
    const own: OwnDraft = {
      channel,
      data,
      type,
      key,
      by: authorOf(session.who),
      except: echo === false ? [session.session] : undefined,
      session: session.session,
    };
    const { publisher } = session.host;
    const append = (replying?: OwnDraft['replying']): void | Promise<void> =>
      // Without the data: very many may be under way.
      session.answerWhenDone(
        { do: verb, id, channel },
        publisher.append(match, replying === undefined ? own : { ...own, replying }),
        publishedText,
      );
    const inTime = (replying?: OwnDraft['replying']): void | Promise<void> => {
      const everyMs = session.slowedTo(match);
      if (everyMs === 0) return append(replying);
      // A message that is refused anyway does not count.
      publisher.check(match, own);
      return (
        session.host.slowMode.take(session.user, channel, everyMs, key)?.then(() => append(replying)) ??
        append(replying)
      );
    };
    // Later acts wait until it is known what it answers: so they stay in order.
    if (replyTo !== undefined) return publisher.replyingTo(match, placeOf(replyTo)).then(inTime);
    return inTime();
  },
};
