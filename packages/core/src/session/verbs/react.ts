import type { ReactRequest } from '@nine-bells/wire';
import { authorOf } from '../../model/author.js';
import { accessRuleFor, looksAtMessage } from '../../rules/accessRule.js';
import { sightOf } from '../namedMessage.js';
import { placeOf } from '../replies.js';
import type { ChannelVerb } from '../verb.js';
import { mayChangeMessage } from './changeMessage.js';

const mayReact = mayChangeMessage('react');

/** Reacts to a message, or takes that back. */
export const react: ChannelVerb<ReactRequest> = {
  act: 'react',
  cost: 3,
  rate: 'reactions',
  decide(session, channel, request) {
    // The store looks whether the message is there; it is read only where the rule or the token asks what it is.
    const match = session.host.rules.require(channel);
    return looksAtMessage(accessRuleFor(match.rule.allow, 'react')) || sightOf(session, match) !== undefined
      ? mayReact(session, channel, request)
      : session.allowed('react', channel);
  },
  handle(session, request, { match }) {
    const { cursor, word, on = true } = request;
    const counted = session.host.reactions.react(match, placeOf(cursor), authorOf(session.who), word, on);
    return session.answerWhenDone(request, counted, (counts) => `"counts":${JSON.stringify(counts)}`);
  },
};
