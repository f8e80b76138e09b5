import { protocolLimits } from './limits.js';

/** What stands for itself in a user's part of the name; all else is written as `=` and two hexadecimal digits a byte. */
const plain = /[A-Za-z0-9\-._~@+]/;

/**
 * The last segment of the name of a direct channel: its users, each once, sorted, joined by commas. The same whichever
 * begins.
 *
 * @throws {RangeError} for fewer than two users, a guest, or more than a name has room for
 */
export function directSegment(users: readonly string[]): string {
  const all = [...new Set(users)].sort();
  if (all.length < 2) throw new RangeError('a direct channel is between two users at least');
  const segment = all.map(encodeUser).join(',');
  if (segment.length > protocolLimits.channelNameChars) throw new RangeError('so many users have no room in a name');
  return segment;
}

/** The users of a direct channel, from the last segment of its name; `undefined` if it is not written as it must be. */
export function usersOfDirect(segment: string): readonly string[] | undefined {
  try {
    const users = segment.split(',').map(decodeUser);
    return directSegment(users) === segment ? users : undefined;
  } catch {
    return undefined;
  }
}

function encodeUser(user: string): string {
  if (user === '') throw new RangeError('a user id has at least one character');
  return Array.from(user, (char) =>
    plain.test(char) ? char : encodeURIComponent(char).replaceAll(/%|[!'()*]/g, escaped),
  ).join('');
}

/** `encodeURIComponent` leaves some characters as they are that no name may have. */
function escaped(char: string): string {
  return char === '%' ? '=' : `=${char.charCodeAt(0).toString(16).toUpperCase()}`;
}

function decodeUser(text: string): string {
  return decodeURIComponent(text.replaceAll('=', '%'));
}
