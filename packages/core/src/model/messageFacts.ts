import { defined, formatCursor } from '@nine-bells/wire';
import type { Identity, MessageFacts } from './access.js';
import { authorOf } from './author.js';
import type { LoggedMessage } from './message.js';

/** What access rules look at of a message that is there. */
export function factsOf({ place, message, atMs }: LoggedMessage, nowMs: number): MessageFacts {
  const { id, type, by } = message;
  return { cursor: formatCursor(place), id, type, atMs, ageMs: Math.max(0, nowMs - atMs), ...defined({ by }) };
}

/** The same of a message that a user publishes just now. */
export function ownMessage(who: Identity, nowMs: number): MessageFacts {
  return { cursor: formatCursor({ volume: 'none', number: 0 }), by: authorOf(who), atMs: nowMs, ageMs: 0 };
}
