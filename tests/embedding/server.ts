// What an application server writes in TypeScript. Compiled against the installed packages.
import { connect, type Entry, type ReceivedMessage } from '@nine-bells/client';
import type { Backend, Ban } from '@nine-bells/client/backend';
import { channelRule } from '@nine-bells/core';

export const crew = channelRule({
  pattern: 'crew/:boat',
  logbook: { type: 'kept' },
  allow: { enter: ({ who, parameters }) => who.claims.boat === parameters.boat },
});

export function listen(url: string, show: (message: ReceivedMessage) => void): Entry {
  const entry = connect(url).enter('race/3/chat', { last: 50 });
  entry.addEventListener('message', ({ detail }) => show(detail));
  return entry;
}

export async function bansOf(backend: Backend, user: string): Promise<readonly Ban[]> {
  return (await backend.bans({ user })).bans;
}
