import type { Json } from '@nine-bells/wire';
import { CommandError, exitCodes } from './exitCodes.js';

/** The claims that a token's own members carry; they have options of their own. */
const registered = new Set(['sub', 'exp', 'iat', 'nbf', 'iss', 'aud', 'jti', 'name', 'roles']);

/** Claims from `name=value`, given once each or several times. */
export function claimsOf(given: readonly string[]): Record<string, Json> {
  const claims = new Map<string, Json[]>();
  for (const each of given) {
    const at = each.indexOf('=');
    const name = each.slice(0, at);
    if (at < 1)
      throw new CommandError(exitCodes.usage, `--claim ${each}: name=value is expected, such as boats=petrel`);
    if (registered.has(name))
      throw new CommandError(exitCodes.usage, `--claim ${each}: ${name} is set by the token itself`);
    claims.set(name, [...(claims.get(name) ?? []), claimValue(each.slice(at + 1))]);
  }
  return Object.fromEntries(
    [...claims].map(([name, values]) => [name, values.length === 1 ? (values[0] as Json) : values]),
  );
}

function claimValue(text: string): Json {
  try {
    return JSON.parse(text) as Json;
  } catch {
    return text;
  }
}
