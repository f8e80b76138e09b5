import { filterFits, type Message } from '@nine-bells/wire';
import type { LoggedMessage, Place } from '../model/message.js';
import { findMessage, noSuchMessage } from '../record/changes.js';
import type { RuleMatch } from '../rules/channelRule.js';
import { grantedFilters } from '../rules/grants.js';
import type { LiveSession } from './liveSession.js';

/**
 * Returns a test of whether a session may see a message, by the filters of its token; `undefined` if it may see all of the channel.
 */
export function sightOf({ who }: LiveSession, { channel }: RuleMatch): ((message: Message) => boolean) | undefined {
  const filters = who.grants && grantedFilters(who.grants, channel);
  return filters && ((message) => filters.every((each) => filterFits(each, message)));
}

/**
 * Finds a message that a request names. To the session, a message that its token hides is not there.
 *
 * @param id - the id that it must have, if the request gives one
 * @throws {ProblemError} `no-such-message`, `unavailable`
 */
export async function findNamed(
  session: LiveSession,
  match: RuleMatch,
  place: Place,
  id?: string,
): Promise<LoggedMessage> {
  const found = await findMessage(session.host.channels.logOf(match), match.channel, place, id);
  if (sightOf(session, match)?.(found.message) === false) throw noSuchMessage();
  return found;
}

/** Checks that a session may see the message that a request answers or asks about. Reads nothing where it sees all messages. */
export async function checkNamed(
  session: LiveSession,
  match: RuleMatch,
  place: Place,
  where: '/cursor' | '/replyTo' = '/cursor',
): Promise<void> {
  const sees = sightOf(session, match);
  if (sees === undefined) return;
  const { message } = await findMessage(session.host.channels.logOf(match), match.channel, place);
  if (!sees(message)) throw noSuchMessage(undefined, where);
}
