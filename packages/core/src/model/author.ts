import { type Author, defined } from '@nine-bells/wire';
import type { Identity } from './access.js';

/** Made once for each identity, which many messages share; a pure function's results, so that engines may share them, too. */
const authors = new WeakMap<Identity, Author>();
const texts = new WeakMap<Author, string>();

/** The author to show for a message, from who published it. */
export function authorOf(identity: Identity): Author {
  let author = authors.get(identity);
  if (author === undefined) {
    author = {
      user: identity.user,
      ...defined({ name: identity.name }),
      ...(identity.guest ? { guest: true as const } : {}),
    };
    authors.set(identity, author);
  }
  return author;
}

/**
 * When the token of a signed-in user was issued, in milliseconds since the epoch; 0 where it does not say. `undefined` of guests, who
 * have none.
 */
export function issuedAtOf({ guest, issuedAt }: Identity): number | undefined {
  return guest ? undefined : (issuedAt ?? 0);
}

/** An author as JSON text. */
export function authorText(author: Author): string {
  let text = texts.get(author);
  if (text === undefined) {
    text = JSON.stringify(author);
    texts.set(author, text);
  }
  return text;
}
