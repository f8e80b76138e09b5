import { GUEST_PREFIX, protocolLimits } from './limits.js';
import { unfitCharacter } from './text.js';

/** Beginnings of ids that the service itself gives: to guests, observers and erased users. */
const reserved = [GUEST_PREFIX, 'observer:', 'erased:'] as const;

/** Says why a text cannot be the id of a signed-in user; `undefined` if it can. */
export function userIdFault(user: string): string | undefined {
  const { userChars } = protocolLimits;
  if (user.length === 0 || user.length > userChars) return `a user id has 1 to ${userChars} characters`;
  const prefix = reserved.find((each) => user.startsWith(each));
  if (prefix !== undefined) return `no user id may begin with ${JSON.stringify(prefix)}`;
  if (unfitCharacter.test(user)) return 'a user id has no control characters, and no halves of surrogate pairs';
  return undefined;
}
