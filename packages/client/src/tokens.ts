import type { TokenSource } from './types.js';

/** How long a token function may take, in milliseconds. */
const tokenWithinMs = 15_000;

/**
 * Gets a token: the fixed one, or what the function gives now.
 *
 * @throws if the function rejects, gives nothing, or does not settle in time: it must not hold up the line for ever
 */
export async function tokenOf(source: TokenSource | undefined): Promise<string | undefined> {
  if (typeof source !== 'function') return source;
  const token = await inTime(source);
  if (!token) throw new Error('the token function gave nothing; a guest connects without one');
  return token;
}

function inTime(token: () => string | Promise<string>): Promise<string> {
  return new Promise((resolve, reject) => {
    const timer = setTimeout(
      () => reject(new Error(`the token function gave none within ${tokenWithinMs / 1000} s`)),
      tokenWithinMs,
    );
    Promise.resolve()
      .then(token)
      .then(resolve, reject)
      .finally(() => clearTimeout(timer));
  });
}
