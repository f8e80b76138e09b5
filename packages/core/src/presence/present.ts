import { type Author, defined, type Json, type Member } from '@nine-bells/wire';
import { availability } from '../model/status.js';

/** One session of a member, as one instance shows it; one that has moved may for a moment be shown by two. */
export interface Stay {
  readonly session: string;
  status: Json | undefined;
  /** When the status was set, to tell the latest of equally available ones. */
  order: number;
  /** Cancels the end of the grace; there while the session's connection is broken. */
  cancelGrace: (() => void) | undefined;
  /** Of the session's connection. */
  generation: number;
  /** The other instance that shows it; `undefined`: this one does. */
  readonly home: string | undefined;
}

/** One user in the channel. */
export interface Present {
  readonly author: Author;
  sinceMs: number;
  readonly stays: Map<string, Stay>;
  data: Json | undefined;
  /** As it is shown, until it changes; made when it is needed. */
  shown: { readonly member: Member; readonly text: string } | undefined;
}

/** A session as an instance shows it. */
export function keyOf(session: string, home: string | undefined): string {
  return home === undefined ? session : `${session} ${home}`;
}

/** Where a session is, of the instances that show it: on the one of its latest connection. */
export function latestOf(present: Pick<Present, 'stays'> | undefined, session: string): Stay | undefined {
  let latest: Stay | undefined;
  for (const stay of present?.stays.values() ?? [])
    if (stay.session === session && (latest === undefined || stay.generation > latest.generation)) latest = stay;
  return latest;
}

export function memberOf(present: Present): Member {
  return shownOf(present).member;
}

export function shownOf(present: Present): NonNullable<Present['shown']> {
  if (present.shown === undefined) {
    const member = madeOf(present);
    present.shown = { member, text: JSON.stringify(member) };
  }
  return present.shown;
}

function madeOf({ author, sinceMs, stays, data }: Present): Member {
  const status = mostAvailable([...stays.values()].filter((stay) => latestOf({ stays }, stay.session) === stay));
  return {
    ...author,
    since: new Date(sinceMs).toISOString(),
    sessions: new Set([...stays.values()].map(({ session }) => session)).size,
    ...defined({ status, data }),
  };
}

/** The status of the most available session; of equally available ones, the one that was set last. */
function mostAvailable(stays: readonly Stay[]): Json | undefined {
  let best: Stay | undefined;
  for (const each of stays) {
    const difference = best === undefined ? -1 : availability(each.status) - availability(best.status);
    if (best === undefined || difference < 0 || (difference === 0 && each.order > best.order)) best = each;
  }
  return best?.status;
}
