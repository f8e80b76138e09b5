import {
  type Changed,
  type ChannelName,
  formatCursor,
  ProblemError,
  type ReviseRequest,
  type WithdrawRequest,
} from '@nine-bells/wire';
import type { MessageAct } from '../../model/access.js';
import { authorOf, issuedAtOf } from '../../model/author.js';
import type { LoggedMessage } from '../../model/message.js';
import { factsOf } from '../../model/messageFacts.js';
import { accessRuleFor, looksAtMessage } from '../../rules/accessRule.js';
import type { Allowed, LiveSession } from '../liveSession.js';
import { findNamed } from '../namedMessage.js';
import { changedText, placeOf } from '../replies.js';

type ChangeRequest = ReviseRequest | WithdrawRequest;

/** An allowed act about a message, with the message as it was found. */
export interface AllowedOfMessage extends Allowed {
  readonly found: LoggedMessage;
}

/**
 * Decides an act about a message by what the message is. A user who may not read in the channel is not told whether there is one.
 */
export function mayChangeMessage(act: MessageAct) {
  return async (
    session: LiveSession,
    channel: ChannelName,
    { cursor, message }: { readonly cursor: string; readonly message?: string | undefined },
  ): Promise<AllowedOfMessage> => {
    const { rules, clock } = session.host;
    const match = rules.require(channel);
    // Nothing is read for those who may do it to no message.
    if (!looksAtMessage(accessRuleFor(match.rule.allow, act))) {
      const allowed = await session.allowed(act, channel);
      return { ...allowed, found: await findNamed(session, match, placeOf(cursor), message) };
    }
    let found: LoggedMessage;
    try {
      found = await findNamed(session, match, placeOf(cursor), message);
    } catch (error) {
      if (error instanceof ProblemError && error.code === 'no-such-message') await session.allowed('read', channel);
      throw error;
    }
    const allowed = await session.allowed(act, channel, { message: factsOf(found, clock.now()) });
    return { ...allowed, found };
  };
}

/** Revises or withdraws a message, as the request says. */
export function changeMessage(session: LiveSession, request: ChangeRequest, allowed: Allowed): void | Promise<void> {
  const { found } = allowed as AllowedOfMessage;
  const { do: verb, id, channel, cursor, ifRevision, key } = request;
  const own = {
    channel,
    place: placeOf(cursor),
    ifRevision: ifRevision && placeOf(ifRevision),
    key,
    by: authorOf(session.who),
    session: session.session,
    issuedAtMs: issuedAtOf(session.who),
    ...(request.do === 'revise' ? { data: request.data } : { data: undefined, reason: request.reason }),
  };
  const { publisher, reviews } = session.host;
  const { match } = allowed;
  const { review } = match.rule;
  const change =
    own.data === undefined || review === undefined
      ? publisher.change(match, own, found)
      : reviews.reviewed<Changed>(
          match,
          {
            channel,
            parameters: match.parameters,
            who: session.who,
            type: found.message.type,
            data: own.data,
            key,
            mentions: found.message.mentions,
            revises: found.cursor,
            ifRevision,
          },
          {
            address: session.visitor.address,
            check: async () =>
              session.allowed('revise', channel, { message: factsOf(found, session.host.clock.now()) }),
            publish: (data) => publisher.change(match, { ...own, data }, found),
            repeated: ({ id: of, place }) => ({ id: of, cursor: formatCursor(place), repeated: true }),
          },
        );
  return session.answerWhenDone({ do: verb, id, channel }, change, changedText);
}
