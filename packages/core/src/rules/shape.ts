import type { Json } from '@nine-bells/wire';
import { matchesGlob } from '../lib/glob.js';
import { isJsonPointer, valueAt } from '../lib/jsonPointer.js';
import type { Condition, ShapeSource, Template } from '../model/shape.js';

/** Why an event could not be shaped, for people. */
export class ShapeError extends Error {
  constructor(message: string) {
    super(message);
    this.name = 'ShapeError';
  }
}

/** Whether a condition holds for an event. */
export function holds(condition: Condition, source: ShapeSource): boolean {
  if ('all' in condition) return condition.all.every((each) => holds(each, source));
  if ('any' in condition) return condition.any.some((each) => holds(each, source));
  if ('not' in condition) return !holds(condition.not, source);
  const found = foundBy(condition, source);
  if ('exists' in condition) return (found !== undefined) === condition.exists;
  if (found === undefined) return false;
  if ('is' in condition) return found === condition.is;
  if ('oneOf' in condition) return condition.oneOf.some((each) => each === found);
  return typeof found === 'string' && matchesGlob(condition.matches, found);
}

function foundBy(condition: Condition, { body, headers, method }: ShapeSource): Json | undefined {
  if ('at' in condition) return valueAt(body, condition.at);
  if ('header' in condition) return headerOf(headers, condition.header);
  return method;
}

function headerOf(headers: ShapeSource['headers'], name: string): string | undefined {
  const lower = name.toLowerCase();
  return Object.hasOwn(headers, lower) ? headers[lower] : undefined;
}

/**
 * Fills in a template.
 *
 * @throws {ShapeError} if a pointer or a header without a default finds nothing
 */
export function filled(template: Template, source: ShapeSource): Json {
  if (typeof template === 'string')
    return template.startsWith('/') ? found(valueAt(source.body, template), template) : template;
  if (typeof template !== 'object' || template === null) return template;
  if (Array.isArray(template)) return template.map((each) => filled(each, source));
  const map = template as Readonly<Record<string, Json>>;
  switch (leafOf(map)) {
    case 'literal':
      return map.literal as Json;
    case 'from':
      return found(valueAt(source.body, map.from as string) ?? map.or, map.from as string);
    case 'header':
      return found(headerOf(source.headers, map.header as string) ?? map.or, `the header ${map.header}`);
    default: {
      const entries = Object.entries(map).map(([name, each]) => [name, filled(each, source)]);
      return Object.fromEntries(entries) as Json;
    }
  }
}

function found(value: Json | undefined, where: string): Json {
  if (value === undefined) throw new ShapeError(`${where === '' ? 'the body' : where} finds nothing`);
  return value;
}

/** Which leaf of a template a map is; `undefined`: a map like any other. */
function leafOf(map: Readonly<Record<string, Json>>): 'literal' | 'from' | 'header' | undefined {
  const names = Object.keys(map);
  if (names.length === 1 && names[0] === 'literal') return 'literal';
  if (names.some((name) => name !== 'or' && name !== 'from' && name !== 'header')) return undefined;
  if (typeof map.from === 'string' && !('header' in map)) return 'from';
  return typeof map.header === 'string' && !('from' in map) ? 'header' : undefined;
}

/** What is wrong with a template; `undefined` if nothing is. */
export function templateFault(template: Template): string | undefined {
  if (typeof template === 'string')
    return !template.startsWith('/') || isJsonPointer(template)
      ? undefined
      : `${JSON.stringify(template)} is not a JSON Pointer`;
  if (typeof template !== 'object' || template === null) return undefined;
  if (Array.isArray(template)) return firstFault(template);
  const map = template as Readonly<Record<string, Json>>;
  const leaf = leafOf(map);
  if (leaf === 'literal' || leaf === 'header') return undefined;
  if (leaf === 'from')
    return isJsonPointer(map.from as string) ? undefined : `${JSON.stringify(map.from)} is not a JSON Pointer`;
  return firstFault(Object.values(map));
}

function firstFault(all: readonly Json[]): string | undefined {
  return all.map(templateFault).find((fault) => fault !== undefined);
}

/** A body without what these JSON Pointers point to. */
export function without(body: Json, pointers: readonly string[]): Json {
  return pointers.reduce((value, pointer) => withoutOne(value, namesOf(pointer)), body);
}

function namesOf(pointer: string): readonly string[] {
  return pointer
    .split('/')
    .slice(1)
    .map((name) => name.replaceAll('~1', '/').replaceAll('~0', '~'));
}

/** Lists are passed through: a pointer without an index takes the member out of each element. */
function withoutOne(value: Json, [name, ...rest]: readonly string[]): Json {
  if (name === undefined || typeof value !== 'object' || value === null) return value;
  if (Array.isArray(value)) {
    if (!/^(0|[1-9][0-9]*)$/.test(name)) return value.map((each) => withoutOne(each, [name, ...rest]));
    const index = Number(name);
    if (rest.length === 0) return value.filter((_, at) => at !== index);
    return value.map((each, at) => (at === index ? withoutOne(each, rest) : each));
  }
  if (!Object.hasOwn(value, name)) return value;
  const entries = Object.entries(value as Readonly<Record<string, Json>>);
  const left = entries.flatMap(([key, each]): [string, Json][] => {
    if (key !== name) return [[key, each]];
    return rest.length === 0 ? [] : [[key, withoutOne(each, rest)]];
  });
  return Object.fromEntries(left) as Json;
}

/**
 * A name whose segments that begin with `:` are replaced by values, such as a channel's.
 *
 * @throws {ShapeError} if a value is missing, or cannot stand in a name
 */
export function filledName(name: string, values: Readonly<Record<string, Template>>, source: ShapeSource): string {
  return name
    .split('/')
    .map((segment) => {
      if (!segment.startsWith(':')) return segment;
      const value = filled(values[segment.slice(1)] ?? { from: `/${segment.slice(1)}` }, source);
      if ((typeof value !== 'string' && typeof value !== 'number') || `${value}` === '' || `${value}`.includes('/'))
        throw new ShapeError(`${JSON.stringify(value)} cannot stand for ${segment} in the name ${name}`);
      return String(value);
    })
    .join('/');
}
