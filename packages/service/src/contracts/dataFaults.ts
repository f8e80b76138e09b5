import { type DataFault, defined } from '@nine-bells/wire';
import type { ErrorObject } from 'ajv/dist/2020.js';
import { distance } from 'fastest-levenshtein';
import { isObject, step } from './keywords.js';

/** Most values, or names, that a text lists. */
const maxListed = 10;

/** What does not fit, in words, from what the validator found. */
export function dataFaults(errors: readonly ErrorObject[]): readonly DataFault[] {
  const shown = nearestAlternatives(errors);
  const faults = shown.map(faultOf);
  const known = new Set<string>();
  return faults.filter(({ where, expected }) => {
    const text = `${where} ${expected}`;
    if (known.has(text)) return false;
    known.add(text);
    return true;
  });
}

/**
 * Of alternatives none of which fits, the faults of the one that fits best: that is what its author most probably meant.
 */
function nearestAlternatives(errors: readonly ErrorObject[]): readonly ErrorObject[] {
  let shown = errors;
  for (const summary of errors) {
    if ((summary.keyword !== 'anyOf' && summary.keyword !== 'oneOf') || !shown.includes(summary)) continue;
    // Of `oneOf`, more than one may fit.
    if (summary.params.passingSchemas !== null && summary.params.passingSchemas !== undefined) continue;
    const of = `${summary.schemaPath}/`;
    const within = shown.filter(
      ({ schemaPath, instancePath }) => schemaPath.startsWith(of) && instancePath.startsWith(summary.instancePath),
    );
    const branches = new Map<string, ErrorObject[]>();
    for (const each of within) {
      const branch = each.schemaPath.slice(of.length).split('/')[0] as string;
      branches.set(branch, [...(branches.get(branch) ?? []), each]);
    }
    // By a reference, the errors of a branch have paths of their own.
    if (branches.size < (Array.isArray(summary.schema) ? summary.schema.length : 2)) continue;
    const best = [...branches.values()].sort((a, b) => closeness(b) - closeness(a))[0] ?? [];
    const dropped = new Set([...within.filter((each) => !best.includes(each)), summary]);
    shown = shown.filter((each) => !dropped.has(each));
  }
  return shown;
}

/** An alternative is close if few of it fails, and not already what tells it from the others. */
function closeness(errors: readonly ErrorObject[]): number {
  const isOther = errors.some(({ keyword }) => keyword === 'const' || keyword === 'type' || keyword === 'enum');
  return -errors.length - (isOther ? 1_000 : 0);
}

function faultOf(error: ErrorObject): DataFault {
  const { instancePath, keyword, params, data, propertyName } = error;
  const schema = isObject(error.parentSchema) ? error.parentSchema : {};
  switch (keyword) {
    case 'required':
      return { where: instancePath + step(params.missingProperty), expected: 'this member', found: 'nothing' };
    case 'dependentRequired':
      return {
        where: instancePath + step(params.missingProperty),
        expected: `this member, since ${params.property} is there`,
        found: 'nothing',
      };
    case 'additionalProperties':
    case 'unevaluatedProperties': {
      const name = String(params.additionalProperty ?? params.unevaluatedProperty);
      const known = isObject(schema.properties) ? Object.keys(schema.properties) : [];
      const [near] = known
        .filter((each) => distance(each, name) <= Math.max(2, name.length / 3))
        .sort((a, b) => distance(a, name) - distance(b, name));
      const hint =
        near !== undefined ? `; did you mean ${near}?` : known.length > 0 ? `; there are ${listed(known)}` : '';
      return { where: instancePath + step(name), expected: `no member of this name${hint}` };
    }
    case 'false schema':
      return { where: instancePath, expected: 'nothing' };
  }
  const expected = expectations[keyword]?.(params, schema) ?? `what \`${keyword}\` says`;
  if (propertyName !== undefined)
    return { where: instancePath + step(propertyName), expected: `a name that is ${expected}` };
  return { where: instancePath, expected, ...defined({ found: foundFor(keyword, data) }) };
}

type Params = Readonly<Record<string, unknown>>;

/** What each keyword expects (JSON Schema 2020-12 validation, section 6). */
const expectations: Readonly<Record<string, (params: Params, schema: Params) => string>> = {
  type: ({ type }) => (Array.isArray(type) ? type : String(type).split(',')).map(named).join(' or '),
  enum: ({ allowedValues }) =>
    `one of ${listed((allowedValues as readonly unknown[]).map((each) => JSON.stringify(each)))}`,
  const: ({ allowedValue }) => JSON.stringify(allowedValue),
  minimum: ({ limit }) => `at least ${limit}`,
  exclusiveMinimum: ({ limit }) => `more than ${limit}`,
  maximum: ({ limit }) => `at most ${limit}`,
  exclusiveMaximum: ({ limit }) => `less than ${limit}`,
  multipleOf: ({ multipleOf }) => `a multiple of ${multipleOf}`,
  minLength: ({ limit }) => `at least ${counted(limit, 'character')}`,
  maxLength: ({ limit }) => `at most ${counted(limit, 'character')}`,
  pattern: ({ pattern }) => `text that matches ${pattern}`,
  format: ({ format }) => `a ${format}`,
  minItems: ({ limit }) => `at least ${counted(limit, 'element')}`,
  maxItems: ({ limit }) => `at most ${counted(limit, 'element')}`,
  uniqueItems: ({ i, j }) => `elements that differ; ${j} and ${i} are equal`,
  contains: ({ minContains }) => `at least ${counted(minContains, 'element')} that \`contains\` describes`,
  minProperties: ({ limit }) => `at least ${counted(limit, 'member')}`,
  maxProperties: ({ limit }) => `at most ${counted(limit, 'member')}`,
  unevaluatedItems: () => 'no more elements',
  items: () => 'no more elements',
  anyOf: (_, { anyOf }) => `one of ${Array.isArray(anyOf) ? anyOf.length : 'several'} alternatives`,
  oneOf: ({ passingSchemas }, { oneOf }) =>
    passingSchemas == null
      ? `one of ${Array.isArray(oneOf) ? oneOf.length : 'several'} alternatives`
      : 'one alternative, and more than one fits',
  not: () => 'something else',
  if: ({ failingKeyword }) => `what \`${failingKeyword}\` says`,
};

const names: Readonly<Record<string, string>> = {
  string: 'text',
  number: 'a number',
  integer: 'a whole number',
  boolean: 'true or false',
  object: 'an object',
  array: 'a list',
  null: 'null',
};

function named(type: unknown): string {
  return names[String(type)] ?? String(type);
}

/** What stands there, without its content: it may be long, or a secret. */
function foundFor(keyword: string, data: unknown): string | undefined {
  if (keyword === 'maxLength' || keyword === 'minLength') return counted([...String(data)].length, 'character');
  if (keyword === 'maxItems' || keyword === 'minItems') return counted((data as readonly unknown[]).length, 'element');
  if (data === undefined || keyword === 'uniqueItems') return undefined;
  if (typeof data === 'number') return String(data);
  if (data === null) return 'null';
  if (Array.isArray(data)) return 'a list';
  return named(typeof data);
}

function counted(count: unknown, what: string): string {
  return `${count} ${what}${count === 1 ? '' : 's'}`;
}

function listed(all: readonly string[]): string {
  const shown = all.slice(0, maxListed).join(', ');
  return all.length > maxListed ? `${shown}, ...` : shown;
}
