import type { Author } from '@nine-bells/wire';
import type { Identity } from './access.js';

/** The author to show for a message, from who published it. */
export function authorOf(identity: Identity): Author {
  return {
    user: identity.user,
    ...(identity.name === undefined ? {} : { name: identity.name }),
    ...(identity.guest ? { guest: true as const } : {}),
  };
}
