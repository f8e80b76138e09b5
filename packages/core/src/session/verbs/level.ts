import { type LevelRequest, type LevelsRequest, refusal } from '@nine-bells/wire';
import type { LiveSession } from '../liveSession.js';
import type { OwnVerb } from '../verb.js';

/** Says how much the user wants to hear of a channel. Later requests do not wait for it. */
export const level: OwnVerb<LevelRequest> = {
  act: 'own',
  cost: 10,
  handle(session, request) {
    const { channel, level: wanted, forMs } = request;
    const { levels } = checked(session).host;
    return session.answerWhenDone(
      request,
      levels.set(session.user, channel, wanted, forMs).then(() => levels.of(session.user)),
      (all) => membersText(all.find((each) => each.channel === channel) ?? { channel, level: null }),
    );
  },
};

export const levels: OwnVerb<LevelsRequest> = {
  act: 'own',
  cost: 10,
  handle: (session, request) =>
    session.answerWhenDone(request, checked(session).host.levels.of(session.user), (all) =>
      membersText({ levels: all }),
    ),
};

/** @throws {ProblemError} `not-allowed` */
function checked(session: LiveSession): LiveSession {
  if (session.who.guest) throw refusal('not-allowed', 'guests have no levels');
  if (session.who.observer) throw refusal('not-allowed', 'an observer has no levels');
  session.checkGeneration();
  return session;
}

/** As JSON text without braces. */
function membersText(value: object): string {
  return JSON.stringify(value).slice(1, -1);
}
