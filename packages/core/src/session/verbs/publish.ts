import { type Cursor, type Mentions, type PublishRequest, refusal } from '@nine-bells/wire';
import { messagePlaces } from '../../boards/boards.js';
import type { Mentioning } from '../../mentions/mentions.js';
import { authorOf, issuedAtOf } from '../../model/author.js';
import { type Appended, LoggedMessage, type OwnDraft } from '../../model/message.js';
import type { RuleMatch } from '../../rules/channelRule.js';
import type { LiveSession } from '../liveSession.js';
import { checkNamed } from '../namedMessage.js';
import { placeOf, publishedEntryText, publishedText } from '../replies.js';
import type { ChannelVerb } from '../verb.js';

/** Users for whom one role counts. */
const roleCost = 10;

/** Hot: once per message published on a line. */
export const publish: ChannelVerb<PublishRequest> = {
  act: 'publish',
  cost: 1,
  rate: 'publishes',
  handle(session, { do: verb, id, channel, data, type, key, echo, replyTo, mentions }, { match }) {
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
      issuedAtMs: issuedAtOf(session.who),
    };
    const { publisher } = session.host;
    const append = (about?: About): void | Promise<void> =>
      // Without the data: very many may be under way.
      session.answerWhenDone(
        { do: verb, id, channel },
        match.rule.review === undefined
          ? publisher.append(match, about === undefined ? own : { ...own, ...about })
          : reviewed(session, match, { ...own, ...about }, replyTo),
        about?.notMentioned === undefined ? publishedText : publishedWithout(about.notMentioned),
      );
    const inTime = (about?: About): void | Promise<void> => {
      const everyMs = session.slowedTo(match);
      if (everyMs === 0) return append(about);
      // A message that is refused anyway does not count.
      publisher.check(match, own);
      return (
        session.host.slowMode.take(session.user, channel, everyMs, key)?.then(() => append(about)) ?? append(about)
      );
    };
    if (replyTo === undefined && mentions === undefined) return inTime();
    // Later acts wait until it is known what it answers and mentions: so they stay in order.
    return aboutOf(session, match, { replyTo, mentions }).then(inTime);
  },
};

/** What a message answers and mentions. */
type About = Pick<OwnDraft, 'replying'> & Mentioning;

/** @throws {ProblemError} as `Publisher.replyingTo` and `Mentions.check`; `not-allowed`, `rate-limited` */
async function aboutOf(
  session: LiveSession,
  match: RuleMatch,
  { replyTo, mentions }: { readonly [M in 'replyTo' | 'mentions']: PublishRequest[M] | undefined },
): Promise<About> {
  const { publisher, mentions: all } = session.host;
  if (replyTo !== undefined) await checkNamed(session, match, placeOf(replyTo), '/replyTo');
  const replying = replyTo === undefined ? {} : { replying: await publisher.replyingTo(match, placeOf(replyTo)) };
  if (mentions === undefined) return replying;
  const { users = [], roles = [] } = mentions;
  const retryAfterMs = session.rates.charge('mentions', users.length + roles.length * roleCost);
  if (retryAfterMs > 0) throw refusal('rate-limited', 'too many users are mentioned', { retryAfterMs });
  if (roles.length > 0) await session.allowed('mention', match.channel);
  return { ...replying, ...(await all.check(match, mentions)) };
}

/** Has the application look at a message, and publishes it then. @throws {ProblemError} as `Reviews.reviewed` and `Publisher.check` */
function reviewed(
  session: LiveSession,
  match: RuleMatch,
  own: OwnDraft,
  replyTo: Cursor | undefined,
): Promise<Appended> {
  const { reviews, publisher } = session.host;
  const { channel, parameters } = match;
  const { data, type = 'message', key, mentioning } = own;
  // What is refused anyway is not shown to the application.
  publisher.check(match, own);
  const { mentions } = mentioning ?? {};
  const question = { channel, parameters, who: session.who, type, data, key, replyTo, mentions };
  return reviews.reviewed(match, question, {
    address: session.visitor.address,
    check: async () => session.allowed('publish', channel),
    publish: (to) => publisher.append(match, { ...own, data: to }),
    repeated: ({ id, place }) => {
      const tail = `"id":${JSON.stringify(id)}}`;
      return { logged: new LoggedMessage(channel, place, { atMs: 0, tail }), repeated: true };
    },
  });
}

function publishedWithout(left: Mentions): (done: Appended) => string {
  return (done) => `${publishedText(done)},"notMentioned":${JSON.stringify(left)}`;
}
