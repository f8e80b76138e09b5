import { refusal } from '@nine-bells/wire';
import { type ChannelAct, channelActs } from '../model/access.js';
import type { Allowed, LiveSession } from './liveSession.js';
import type { ChannelVerb, OwnVerb, SessionRequest, UserVerb } from './verb.js';
import { sessionVerbs } from './verbs/index.js';

type ChannelRequest = Extract<SessionRequest, { readonly channel: string }>;

/** How many requests a request counts for. */
export function costOf(request: SessionRequest): number {
  return sessionVerbs[request.do].cost;
}

/**
 * Performs a request: charges the verb's rate, decides its act, and hands it to the verb. A promise if it takes time.
 *
 * @throws {ProblemError} the refusal; as a rejection, if it has to be waited for
 */
export function dispatch(session: LiveSession, request: SessionRequest): void | Promise<void> {
  // The table gives each verb's own requests to it; the compiler cannot follow that through a union.
  const verb = sessionVerbs[request.do] as
    | ChannelVerb<ChannelRequest>
    | UserVerb<SessionRequest>
    | OwnVerb<SessionRequest>;
  if (verb.rate !== undefined) {
    const retryAfterMs = session.rates.charge(verb.rate);
    if (retryAfterMs > 0)
      throw refusal('rate-limited', `this session ${verb.rate} more than it may`, {
        retryAfterMs,
      });
  }
  if (!isAboutChannel(verb)) return verb.handle(session, request);
  // A verb with a channel act has a channel in its request: `DefinitionOf`.
  const about = request as ChannelRequest;
  verb.check?.(session, about);
  const allowed: Allowed | Promise<Allowed> =
    verb.decide?.(session, about.channel, about) ?? session.allowed(verb.act, about.channel);
  if (allowed instanceof Promise) return allowed.then((later) => perform(verb, session, about, later));
  return perform(verb, session, about, allowed);
}

function perform(
  verb: ChannelVerb<ChannelRequest>,
  session: LiveSession,
  about: ChannelRequest,
  allowed: Allowed,
): void | Promise<void> {
  if (!allowed.match.hasContracts) return verb.handle(session, about, allowed);
  return session.timed(() => verb.handle(session, about, allowed));
}

function isAboutChannel(verb: { readonly act: string }): verb is ChannelVerb<ChannelRequest> {
  return channelActs.includes(verb.act as ChannelAct);
}
