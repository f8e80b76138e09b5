import { type Author, defined } from '@nine-bells/wire';
import type { Identity } from './access.js';

/** The author to show for a message, from who published it. */
export function authorOf(identity: Identity): Author {
  return {
    user: identity.user,
    ...defined({ name: identity.name }),
    ...(identity.guest ? { guest: true as const } : {}),
  };
}
