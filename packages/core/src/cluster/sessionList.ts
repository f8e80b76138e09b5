import { hasText } from '../lib/text.js';
import type { SessionInfo, SessionPlace, SessionsWish } from '../model/info.js';

/** The latest sessions that fit a wish, the latest last. */
export function sessionsFor(sessions: readonly SessionInfo[], wish: SessionsWish): readonly SessionInfo[] {
  const { user, before, limit } = wish;
  const find = wish.find ?? '';
  return sessions
    .filter((each) => user === undefined || each.user === user)
    .filter((each) => before === undefined || compareSessions(each, before) < 0)
    .filter((each) => textsOf(each).some((text) => hasText(text ?? '', find)))
    .sort(compareSessions)
    .slice(-limit);
}

function compareSessions(a: SessionPlace, b: SessionPlace): number {
  return a.sinceMs - b.sinceMs || (a.session < b.session ? -1 : Number(a.session > b.session));
}

function textsOf({ user, name, session, remote, channels }: SessionInfo): readonly (string | undefined)[] {
  return [user, name, session, remote, ...channels];
}
