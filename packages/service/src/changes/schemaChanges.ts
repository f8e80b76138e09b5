import { isDeepStrictEqual } from 'node:util';
import { valueAt } from '@nine-bells/core';
import type { Json } from '@nine-bells/wire';
import { isObject, type SchemaObject, step } from '../contracts/keywords.js';
import { narrowed, type Party, widened } from './change.js';

/** A difference between two schemas. */
export interface SchemaChange {
  /** JSON Pointer into the data; `*` stands for any element or name. */
  readonly where: string;
  readonly what: string;
  readonly breaks: readonly Party[];
}

type Schema = Json | undefined;

const jsonTypes = ['array', 'boolean', 'integer', 'null', 'number', 'object', 'string'] as const;
/** Bounds: where a larger number takes less. */
const lowerBounds = ['minimum', 'exclusiveMinimum', 'minLength', 'minItems', 'minProperties', 'minContains'] as const;
const upperBounds = ['maximum', 'exclusiveMaximum', 'maxLength', 'maxItems', 'maxProperties', 'maxContains'] as const;
/** What takes less where it is there, and cannot be compared where it differs. */
const filters = [
  'pattern',
  'format',
  'multipleOf',
  'not',
  'if',
  'then',
  'else',
  'contains',
  'propertyNames',
  'patternProperties',
  'dependentRequired',
  'dependentSchemas',
  'unevaluatedProperties',
  'unevaluatedItems',
] as const;

/**
 * How data that a schema takes differs from what an earlier one took. What takes less breaks those who publish; what takes more,
 * or has less to rely on, those who listen. A member that is added and may be missing breaks no one.
 *
 * @param before - complete in itself, as `after`; `undefined`: it took anything
 */
export function schemaChanges(before: Schema, after: Schema): readonly SchemaChange[] {
  const comparison = new Comparison(before, after);
  comparison.compare(before, after, '');
  return comparison.found;
}

class Comparison {
  readonly found: SchemaChange[] = [];
  readonly #roots: readonly [Schema, Schema];
  /** Pairs that are compared already: schemas may refer to themselves. */
  readonly #pairs = new Set<string>();

  constructor(before: Schema, after: Schema) {
    this.#roots = [before, after];
  }

  compare(beforeRaw: Schema, afterRaw: Schema, where: string): void {
    const [before, after] = [resolved(beforeRaw, this.#roots[0]), resolved(afterRaw, this.#roots[1])];
    if (isDeepStrictEqual(before, after) && !refersOn(before)) return;
    const pair = `${JSON.stringify(before)} ${JSON.stringify(after)}`;
    if (this.#pairs.has(pair)) return;
    this.#pairs.add(pair);
    if (before === false || after === false) {
      if (before !== after)
        this.#add(
          where,
          after === false ? 'nothing fits now' : 'something fits now',
          after === false ? narrowed : widened,
        );
      return;
    }
    this.#types(before, after, where);
    this.#values(before, after, where);
    this.#bounds(before, after, where);
    this.#members(before, after, where);
    this.#elements(before, after, where);
    this.#filters(before, after, where);
    this.#combinations(before, after, where);
  }

  #add(where: string, what: string, ...breaks: readonly Party[]): void {
    this.found.push({ where, what, breaks });
  }

  #types(before: SchemaObject, after: SchemaObject, where: string): void {
    const [old, now] = [typesOf(before), typesOf(after)];
    const without = (all: readonly string[], others: readonly string[]): readonly string[] =>
      all.filter((type) => !others.includes(type) && !(type === 'integer' && all.includes('number')));
    const [gone, come] = [without(old, now), without(now, old)];
    if (gone.length > 0) this.#add(where, `${gone.join(', ')} no longer fits`, narrowed);
    if (come.length > 0) this.#add(where, `may be ${come.join(', ')} now`, widened);
  }

  #values(before: SchemaObject, after: SchemaObject, where: string): void {
    const [old, now] = [valuesOf(before), valuesOf(after)];
    if (old === undefined && now === undefined) return;
    if (old === undefined || now === undefined) {
      if (now !== undefined) this.#add(where, `is limited to ${shown(now)}`, narrowed);
      else this.#add(where, `is no longer limited to ${shown(old ?? [])}`, widened);
      return;
    }
    const without = (all: readonly unknown[], others: readonly unknown[]): readonly unknown[] =>
      all.filter((each) => !others.some((other) => isDeepStrictEqual(each, other)));
    const gone = without(old, now);
    const come = without(now, old);
    if (gone.length > 0) this.#add(where, `${shown(gone)} no longer fits`, narrowed);
    if (come.length > 0) this.#add(where, `may be ${shown(come)} now`, widened);
  }

  #bounds(before: SchemaObject, after: SchemaObject, where: string): void {
    const bound = (keyword: string, takesLess: boolean | undefined): void =>
      this.#add(
        where,
        `\`${keyword}\` was ${shownOne(before[keyword])} and is ${shownOne(after[keyword])}`,
        takesLess ? narrowed : widened,
      );
    for (const keyword of [...lowerBounds, ...upperBounds]) {
      const [old, now] = [before[keyword], after[keyword]];
      if (old === now) continue;
      const isLower = (lowerBounds as readonly string[]).includes(keyword);
      if (typeof old !== 'number') bound(keyword, true);
      else if (typeof now !== 'number') bound(keyword, false);
      else bound(keyword, isLower ? now > old : now < old);
    }
    if ((before.uniqueItems === true) !== (after.uniqueItems === true))
      bound('uniqueItems', after.uniqueItems === true);
  }

  #members(before: SchemaObject, after: SchemaObject, where: string): void {
    const [oldRequired, nowRequired] = [namesOf(before.required), namesOf(after.required)];
    const [old, now] = [mapOf(before.properties), mapOf(after.properties)];
    const isClosed = (schema: SchemaObject): boolean => schema.additionalProperties === false;
    for (const name of nowRequired)
      if (!oldRequired.includes(name)) this.#add(where + step(name), 'is required now', narrowed);
    for (const name of oldRequired)
      if (!nowRequired.includes(name) && (now[name] !== undefined || !isClosed(after)))
        this.#add(where + step(name), 'may be missing now', widened);
    for (const [name, schema] of Object.entries(old)) {
      if (now[name] !== undefined) this.compare(schema, now[name], where + step(name));
      else if (isClosed(after)) this.#add(where + step(name), 'is no longer taken', narrowed, widened);
      else this.#add(where + step(name), 'is no longer described', widened);
    }
    for (const name of Object.keys(now))
      if (old[name] === undefined && !nowRequired.includes(name)) this.#add(where + step(name), 'may be there');
    if (!isClosed(before) && isClosed(after)) this.#add(where, 'no longer takes other members', narrowed);
    else if (isClosed(before) && !isClosed(after)) this.#add(where, 'takes other members too');
    else if (isObject(before.additionalProperties) || isObject(after.additionalProperties))
      this.compare(schemaIn(before.additionalProperties), schemaIn(after.additionalProperties), `${where}/*`);
  }

  #elements(before: SchemaObject, after: SchemaObject, where: string): void {
    const [old, now] = [listOf(before.prefixItems), listOf(after.prefixItems)];
    for (let index = 0; index < Math.max(old.length, now.length); index++)
      this.compare(old[index] ?? schemaIn(before.items), now[index] ?? schemaIn(after.items), where + step(index));
    if (before.items !== undefined || after.items !== undefined)
      this.compare(schemaIn(before.items), schemaIn(after.items), `${where}/*`);
  }

  #filters(before: SchemaObject, after: SchemaObject, where: string): void {
    for (const keyword of filters) {
      const [old, now] = [before[keyword], after[keyword]];
      if (isDeepStrictEqual(old, now)) continue;
      if (old === undefined) this.#add(where, `\`${keyword}\` is asked for now`, narrowed);
      else if (now === undefined) this.#add(where, `\`${keyword}\` is no longer asked for`, widened);
      else this.#add(where, `\`${keyword}\` has changed`, narrowed, widened);
    }
  }

  #combinations(before: SchemaObject, after: SchemaObject, where: string): void {
    for (const keyword of ['anyOf', 'oneOf', 'allOf'] as const) {
      const isAll = keyword === 'allOf';
      const [old, now] = [listOf(before[keyword]), listOf(after[keyword])];
      if (old.length === 0 && now.length === 0) continue;
      if (old.length === 0) this.#add(where, `\`${keyword}\` is asked for now`, narrowed);
      else if (now.length === 0) this.#add(where, `\`${keyword}\` is no longer asked for`, widened);
      else {
        const pairs = pairsOf(old, now);
        for (const [one, other] of pairs.both) this.compare(one, other, where);
        if (pairs.gone.length > 0)
          this.#add(where, `${counted(pairs.gone.length, keyword)} gone`, isAll ? widened : narrowed);
        if (pairs.come.length > 0)
          this.#add(where, `${counted(pairs.come.length, keyword)} added`, isAll ? narrowed : widened);
      }
    }
  }
}

/** Which parts of two lists belong together: equal ones, those with the same mark, and, if one is left of each, these. */
function pairsOf(old: readonly Json[], now: readonly Json[]) {
  const both: [Json, Json][] = [];
  let [gone, come] = [[...old], [...now]];
  const pair = (belong: (one: Json, other: Json) => boolean): void => {
    for (const one of [...gone]) {
      const other = come.find((each) => belong(one, each));
      if (other === undefined) continue;
      both.push([one, other]);
      gone = gone.filter((each) => each !== one);
      come = come.filter((each) => each !== other);
    }
  };
  pair((one, other) => isDeepStrictEqual(one, other));
  pair((one, other) => markOf(one) !== undefined && markOf(one) === markOf(other));
  if (gone.length === 1 && come.length === 1) pair(() => true);
  return { both, gone, come };
}

/** What tells an alternative from the others: its title, what it refers to, or members that have one value. */
function markOf(schema: Json): string | undefined {
  if (!isObject(schema)) return undefined;
  if (typeof schema.title === 'string') return `title ${schema.title}`;
  if (typeof schema.$ref === 'string') return `$ref ${schema.$ref}`;
  const fixed = Object.entries(mapOf(schema.properties)).filter(([, each]) => isObject(each) && 'const' in each);
  return fixed.length === 0
    ? undefined
    : JSON.stringify(fixed.map(([name, each]) => [name, (each as SchemaObject).const]));
}

/** A schema without a reference at its top; what takes anything as an object. */
function resolved(schema: Schema, root: Schema): SchemaObject | false {
  let at = schema;
  for (let hops = 0; isObject(at) && typeof at.$ref === 'string' && hops < 50; hops++) {
    const target = valueAt(root ?? true, decodeURIComponent(at.$ref.slice(1)));
    const { $ref: _, $defs: __, ...beside } = at;
    at = (isObject(target) ? { ...target, ...beside } : target) as Schema;
  }
  return isObject(at) ? at : at === false ? false : {};
}

function refersOn(schema: SchemaObject | false): boolean {
  return JSON.stringify(schema).includes('"$ref"');
}

function typesOf({ type }: SchemaObject): readonly string[] {
  const named = typeof type === 'string' ? [type] : Array.isArray(type) ? type.map(String) : [...jsonTypes];
  return named.includes('number') && !named.includes('integer') ? [...named, 'integer'] : named;
}

function valuesOf(schema: SchemaObject): readonly unknown[] | undefined {
  if ('const' in schema) return [schema.const];
  return Array.isArray(schema.enum) ? schema.enum : undefined;
}

function namesOf(value: unknown): readonly string[] {
  return Array.isArray(value) ? value.map(String) : [];
}

function mapOf(value: unknown): Readonly<Record<string, Json>> {
  return isObject(value) ? (value as Readonly<Record<string, Json>>) : {};
}

function listOf(value: unknown): readonly Json[] {
  return Array.isArray(value) ? (value as readonly Json[]) : [];
}

function schemaIn(value: unknown): Schema {
  return value as Schema;
}

function counted(count: number, keyword: string): string {
  return count === 1 ? `one part of \`${keyword}\` is` : `${count} parts of \`${keyword}\` are`;
}

function shown(all: readonly unknown[]): string {
  return all.map(shownOne).join(', ');
}

function shownOne(value: unknown): string {
  const text = value === undefined ? 'not set' : JSON.stringify(value);
  return text.length <= 60 ? text : `${text.slice(0, 60)}...`;
}
