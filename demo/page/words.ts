import { LineError, type LineState, type Removal, type SilenceChange } from '@nine-bells/client';
import { personOf } from '../src/people.js';

export function nameOf(user: string): string {
  return personOf(user)?.name ?? user;
}

/** The time of day of a date in RFC 3339, as people write it here. */
export function clock(at: string): string {
  return new Date(at).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit' });
}

export function counted(count: number, noun: string): string {
  return `${count} ${noun}${count === 1 ? '' : 's'}`;
}

/** A direct channel by the names of those who talk there, any other by its own. */
export function placeText(channel: string): string {
  if (!channel.startsWith('direct/')) return channel;
  return channel.slice('direct/'.length).split(',').map(nameOf).join(' and ');
}

export function stateText(state: LineState): string {
  switch (state.name) {
    case 'connecting':
      return 'connecting';
    case 'open':
      return state.guest ? `open, as ${state.userName ?? state.user}` : 'open';
    case 'waiting':
      return `waiting ${Math.max(0, Math.ceil((state.retryAt - Date.now()) / 1000))} s: ${state.reason}`;
    case 'closed':
      return `closed: ${state.reason}`;
  }
}

/** Says that a moderator lets one read and not write, or write again. */
export function silencedText({ by, reason, until, everyMs, over }: SilenceChange): string {
  const who = by?.name ?? by?.user ?? 'The committee';
  if (over) return `${who} lets you write again.`;
  const may = everyMs === undefined ? 'read only' : `write once in ${everyMs / 1000} s`;
  return `${who} lets you ${may}${until ? ` until ${clock(until)}` : ''}${reason ? `: ${reason}` : ''}.`;
}

export function removedText({ by, reason, until }: Removal): string {
  const who = by?.name ?? by?.user ?? 'The committee';
  return `${who} has removed you${until ? ` until ${clock(until)}` : ''}${reason ? `: ${reason}` : ''}.`;
}

export function errorText(error: unknown): string {
  return error instanceof LineError ? error.message : String(error);
}
