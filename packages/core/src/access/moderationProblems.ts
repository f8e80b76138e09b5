import { type Author, defined, GUEST_PREFIX, type Problem, problem } from '@nine-bells/wire';
import type { ActiveBan, Actor, Ban, Removal, Silence } from '../model/moderation.js';

/** What a client is told that is kept out: by whom, until when and why. */
export function bannedProblem(ban: ActiveBan): Problem {
  return inForceProblem('banned', ban, ban.channel === undefined ? 'from this service' : `from ${ban.channel}`);
}

/** The problem that refuses a write during a silence. */
export function silencedProblem(silence: Silence): Problem {
  return inForceProblem('silenced', silence, silence.channel === undefined ? 'everywhere' : `in ${silence.channel}`);
}

function inForceProblem(
  code: 'banned' | 'silenced',
  { by, reason, untilMs }: Pick<Silence, 'by' | 'reason' | 'untilMs'>,
  place: string,
): Problem {
  const until = untilMs === undefined ? undefined : new Date(untilMs).toISOString();
  const parts = [`${code} ${place}`];
  if (by.kind === 'user') parts.push(` by ${by.name ?? by.id}`);
  if (until !== undefined) parts.push(` until ${until}`);
  if (reason !== undefined) parts.push(`: ${reason}`);
  return { ...problem(code, parts.join('')), ...defined({ until }) };
}

/** Why a connection ends: what was done, by whom and why. */
export function endedProblem(what: string, { by, reason }: Pick<Ban, 'by' | 'reason'>): Problem {
  const who = by.kind === 'user' ? ` by ${by.name ?? by.id}` : '';
  return problem('token-ended', `${what}${who}${reason === undefined ? '' : `: ${reason}`}`);
}

/** What a client is told whose stay in a channel ends. */
export function removedBy({ reason, untilMs, by }: Pick<Ban | Removal, 'reason' | 'untilMs' | 'by'>): {
  reason?: string;
  by?: Author;
  until?: string;
} {
  const named = namedActor(by);
  return {
    ...defined({ reason, by: named }),
    ...(untilMs === undefined ? {} : { until: new Date(untilMs).toISOString() }),
  };
}

/** The author to name for an action; absent where an application acted in its own name. */
export function namedActor({ kind, id, name }: Actor): Author | undefined {
  if (kind !== 'user') return undefined;
  return {
    user: id,
    ...defined({ name }),
    ...(id.startsWith(GUEST_PREFIX) ? { guest: true as const } : {}),
  };
}
