import { type PendingRequest, refusal, type TakeBackRequest } from '@nine-bells/wire';
import type { LiveSession } from '../liveSession.js';
import type { OwnVerb } from '../verb.js';

/** Answers with the user's own messages that wait for a moderator, and those that were refused. Later requests do not wait. */
export const pending: OwnVerb<PendingRequest> = {
  act: 'own',
  cost: 10,
  handle(session, request) {
    const own = checked(session).host.pending.of(session.user, request.channel);
    return session.answerWhenDone(request, own, (all) => membersText({ pending: all }));
  },
};

/** Takes back a message of the user that waits. */
export const takeBack: OwnVerb<TakeBackRequest> = {
  act: 'own',
  cost: 10,
  handle: (session, request) =>
    session.answerWhenDone(request, checked(session).host.pending.takeBack(request.pending, session.user), membersText),
};

/** @throws {ProblemError} `not-allowed` */
function checked(session: LiveSession): LiveSession {
  if (session.who.observer) throw refusal('not-allowed', 'an observer has no messages of its own');
  session.checkGeneration();
  return session;
}

/** As JSON text without braces. */
function membersText(value: object): string {
  return JSON.stringify(value).slice(1, -1);
}
