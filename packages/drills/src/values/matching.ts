import type { Json } from '@nine-bells/wire';

/** A difference between a value and the pattern it should match. */
export interface Difference {
  /** JSON Pointer (RFC 6901) into the value; empty for the whole value. */
  readonly where: string;
  readonly expected: string;
  readonly found: string;
}

/** A matcher, written in a pattern as a map with one member, such as `{ is at least: 2 }`. */
interface Matcher {
  /** Returns what is wrong with the matcher's argument, if anything. */
  readonly fault: (given: Json) => string | undefined;
  readonly matches: (given: Json, found: Json | undefined) => boolean;
  /** Completes "expected ...". */
  readonly expected: (given: Json) => string;
}

const number = (given: Json) => (typeof given === 'number' ? undefined : 'expected a number');
const shown = (value: Json | undefined): string => {
  if (value === undefined) return 'nothing';
  const text = JSON.stringify(value);
  return text.length > 300 ? `${text.slice(0, 297)}...` : text;
};

export const matchers: Readonly<Record<string, Matcher>> = {
  'is there': {
    fault: (given) => (typeof given === 'boolean' ? undefined : 'expected true or false'),
    matches: (given, found) => (found !== undefined) === given,
    expected: (given) => (given === true ? 'anything' : 'nothing'),
  },
  'is a': {
    fault: (given) => (types.includes(given as string) ? undefined : `expected one of ${types.join(', ')}`),
    matches: (given, found) => found !== undefined && typeOf(found) === given,
    expected: (given) => `a ${given}`,
  },
  'is at least': {
    fault: number,
    matches: (given, found) => typeof found === 'number' && found >= Number(given),
    expected: (given) => `at least ${given}`,
  },
  'is at most': {
    fault: number,
    matches: (given, found) => typeof found === 'number' && found <= Number(given),
    expected: (given) => `at most ${given}`,
  },
  'is one of': {
    fault: (given) => (Array.isArray(given) && given.length > 0 ? undefined : 'expected a list'),
    matches: (given, found) =>
      found !== undefined && (given as Json[]).some((each) => differences(each, found).length === 0),
    expected: (given) => `one of ${shown(given)}`,
  },
  'is not': {
    fault: () => undefined,
    matches: (given, found) => found === undefined || differences(given, found).length > 0,
    expected: (given) => `something other than ${shown(given)}`,
  },
  'is like': {
    fault: (given) => {
      try {
        new RegExp(String(given), 'u');
        return typeof given === 'string' ? undefined : 'expected a regular expression';
      } catch (error) {
        return (error as Error).message;
      }
    },
    matches: (given, found) => typeof found === 'string' && new RegExp(String(given), 'u').test(found),
    expected: (given) => `text like ${given}`,
  },
  has: {
    fault: (given) => (Array.isArray(given) ? undefined : 'expected a list'),
    matches: (given, found) =>
      Array.isArray(found) &&
      (given as Json[]).every((each) => found.some((one: Json) => differences(each, one).length === 0)),
    expected: (given) => `a list that has ${shown(given)}`,
  },
  'has count': {
    fault: number,
    matches: (given, found) => sizeOf(found) === given,
    expected: (given) => `${given} of them`,
  },
};

const types = ['text', 'number', 'boolean', 'list', 'map', 'null'];

/**
 * Compares a value with a pattern; returns an empty list if it matches. Members of a map that the pattern omits are ignored,
 * at every depth. Lists must have the same length, and match element by element.
 */
export function differences(pattern: Json, found: Json | undefined, where = ''): readonly Difference[] {
  const matcher = matcherIn(pattern);
  if (matcher !== undefined) {
    const { word, given } = matcher;
    const { matches, expected } = matchers[word] as Matcher;
    return matches(given, found) ? [] : [{ where, expected: expected(given), found: shown(found) }];
  }
  if (isMap(pattern)) {
    if (!isMap(found)) return [{ where, expected: 'a map', found: shown(found) }];
    return Object.entries(pattern).flatMap(([name, member]) =>
      differences(member as Json, found[name], `${where}/${name.replaceAll('~', '~0').replaceAll('/', '~1')}`),
    );
  }
  if (Array.isArray(pattern)) {
    if (!Array.isArray(found) || found.length !== pattern.length)
      return [{ where, expected: `a list of ${pattern.length}: ${shown(pattern)}`, found: shown(found) }];
    return pattern.flatMap((item: Json, index) => differences(item, found[index] as Json, `${where}/${index}`));
  }
  return pattern === found ? [] : [{ where, expected: shown(pattern), found: shown(found) }];
}

/** Returns what is wrong with the matchers in a pattern, if anything. */
export function patternFault(pattern: Json): string | undefined {
  const matcher = matcherIn(pattern);
  if (matcher !== undefined) {
    const fault = (matchers[matcher.word] as Matcher).fault(matcher.given);
    // References are resolved later.
    const isKnown = !JSON.stringify(matcher.given).includes('$(');
    return fault !== undefined && isKnown ? `\`${matcher.word}\`: ${fault}` : undefined;
  }
  if (Array.isArray(pattern)) return first(pattern, (item) => patternFault(item as Json));
  if (!isMap(pattern)) return undefined;
  const odd = Object.keys(pattern).find((name) => /^(is|has) /.test(name) && !Object.hasOwn(matchers, name));
  if (odd !== undefined) return `there is no ${JSON.stringify(odd)}; there are ${Object.keys(matchers).join(', ')}`;
  return first(Object.values(pattern), (member) => patternFault(member as Json));
}

function matcherIn(pattern: Json): { readonly word: string; readonly given: Json } | undefined {
  if (!isMap(pattern)) return undefined;
  const [word, ...more] = Object.keys(pattern);
  if (word === undefined || more.length > 0 || !Object.hasOwn(matchers, word)) return undefined;
  return { word, given: pattern[word] as Json };
}

function isMap(value: Json | undefined): value is Readonly<Record<string, Json>> {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

function typeOf(value: Json): string {
  if (value === null) return 'null';
  if (Array.isArray(value)) return 'list';
  return { string: 'text', number: 'number', boolean: 'boolean' }[typeof value as string] ?? 'map';
}

function sizeOf(value: Json | undefined): number | undefined {
  if (Array.isArray(value) || typeof value === 'string') return value.length;
  return isMap(value) ? Object.keys(value).length : undefined;
}

function first<T, R>(all: readonly T[], look: (each: T) => R | undefined): R | undefined {
  for (const each of all) {
    const found = look(each);
    if (found !== undefined) return found;
  }
  return undefined;
}
