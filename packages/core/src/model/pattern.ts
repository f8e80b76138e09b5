/** One segment of a pattern: literal text, or a parameter that stands for any one segment. */
type Segment = { readonly literal: string } | { readonly parameter: string };

/**
 * A pattern for channel names, such as `race/:race/chat`.
 *
 * Written as pathnames are in the URL Pattern standard, of which it takes fixed text and `:name` groups that span one
 * whole segment. `:race` matches any one segment.
 */
export interface Pattern {
  readonly text: string;
  readonly segments: readonly Segment[];
}

const literalPattern = /^[A-Za-z0-9\-._~@+=,][A-Za-z0-9\-._~@+=,:]*$/;
const parameterPattern = /^:[A-Za-z_][A-Za-z0-9_]*$/;

/**
 * Reads a pattern.
 *
 * @throws {RangeError} saying what is wrong with it
 */
export function parsePattern(text: string): Pattern {
  if (text.length === 0 || text.length > 200) throw new RangeError('a pattern has 1 to 200 characters');
  const names = new Set<string>();
  const segments = text.split('/').map((segment): Segment => {
    if (segment === '') throw new RangeError('a pattern has no empty segment: no "/" at either end, and no "//"');
    if (segment.startsWith(':')) {
      if (!parameterPattern.test(segment))
        throw new RangeError(
          `${JSON.stringify(segment)} is not a parameter: a letter or "_" follows the ":", then letters, digits and "_"`,
        );
      const parameter = segment.slice(1);
      if (names.has(parameter)) throw new RangeError(`the parameter ${segment} stands twice in the pattern`);
      names.add(parameter);
      return { parameter };
    }
    if (segment === '.' || segment === '..' || !literalPattern.test(segment))
      throw new RangeError(
        `${JSON.stringify(segment)} cannot be a segment: letters, digits and - . _ ~ @ + = , : only`,
      );
    return { literal: segment };
  });
  return { text, segments };
}

/** Whether there is a name that both patterns match. */
export function overlap(a: Pattern, b: Pattern): boolean {
  if (a.segments.length !== b.segments.length) return false;
  return a.segments.every((segment, index) => {
    const other = b.segments[index] as Segment;
    return 'parameter' in segment || 'parameter' in other || segment.literal === other.literal;
  });
}

/** The parameters' values if the pattern matches the name, else `undefined`. */
export function matchPattern(pattern: Pattern, name: string): Readonly<Record<string, string>> | undefined {
  const parts = name.split('/');
  if (parts.length !== pattern.segments.length) return undefined;
  // Without a prototype: a parameter may be called anything.
  const parameters: Record<string, string> = Object.create(null);
  for (const [index, segment] of pattern.segments.entries()) {
    const part = parts[index] as string;
    if ('parameter' in segment) parameters[segment.parameter] = part;
    else if (segment.literal !== part) return undefined;
  }
  return parameters;
}

/** Why a pattern does not match a name, for people; `undefined` if it does. */
export function mismatch(pattern: Pattern, name: string): string | undefined {
  const parts = name.split('/');
  if (parts.length !== pattern.segments.length)
    return `it has ${pattern.segments.length} segments, the name has ${parts.length}`;
  for (const [index, segment] of pattern.segments.entries())
    if ('literal' in segment && segment.literal !== parts[index])
      return `segment ${index + 1} is ${JSON.stringify(segment.literal)}, not ${JSON.stringify(parts[index])}`;
  return undefined;
}

/** The names of a pattern's parameters. */
export function parametersOf({ segments }: Pattern): readonly string[] {
  return segments.flatMap((segment) => ('parameter' in segment ? [segment.parameter] : []));
}

/**
 * Orders patterns by how specific they are: from the left, the first segment where one has fixed text and the other a
 * parameter decides for fixed text. 0 for patterns that match the same names.
 */
export function compareSpecificity(a: Pattern, b: Pattern): number {
  for (let i = 0; i < Math.min(a.segments.length, b.segments.length); i++) {
    const left = 'parameter' in (a.segments[i] as Segment) ? 1 : 0;
    const right = 'parameter' in (b.segments[i] as Segment) ? 1 : 0;
    if (left !== right) return left - right;
  }
  return 0;
}

/** Whether two patterns match exactly the same names, so that neither can win over the other. */
export function isSameShape(a: Pattern, b: Pattern): boolean {
  return (
    a.segments.length === b.segments.length &&
    a.segments.every((segment, index) => {
      const other = b.segments[index] as Segment;
      return 'parameter' in segment ? 'parameter' in other : 'literal' in other && segment.literal === other.literal;
    })
  );
}
