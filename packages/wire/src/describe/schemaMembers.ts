import type { Json } from '../json.js';

type Schema = Json | undefined;
type Fields = Readonly<Record<string, Json>>;

/** A member of data, as a schema describes it. */
export interface SchemaMember {
  readonly name: string;
  readonly required: boolean;
  /** In words: `text`, `one of "jib", "genoa"`. */
  readonly type: string;
  readonly about?: string;
  /** What it is, or each of its elements, if that is an object with members. */
  readonly inner?: Json;
  /** What a form asks for it with. */
  readonly field: 'text' | 'number' | 'flag' | 'choice' | 'json';
  readonly choices?: readonly Json[];
}

/**
 * The members of an object that a schema describes; `undefined`: it describes no object.
 *
 * @param root - the document that its references are in
 */
export function membersOf(schema: Schema, root: Schema = schema): readonly SchemaMember[] | undefined {
  const own = resolved(schema, root);
  if (!isMap(own) || !isMap(own.properties)) return undefined;
  const required = Array.isArray(own.required) ? own.required : [];
  return Object.entries(own.properties).map(([name, each]) => {
    const member = resolved(each, root);
    const [about] = [each, member].flatMap((said) =>
      isMap(said) && typeof said.description === 'string' ? [said.description] : [],
    );
    return {
      name,
      required: required.includes(name),
      type: typeText(each, root),
      ...(about === undefined ? {} : { about }),
      ...innerOf(each, root),
      ...fieldFor(member),
    };
  });
}

function innerOf(schema: Schema, root: Schema): { inner?: Json } {
  const alternatives = alternativesOf(resolved(schema, root)).map((each) => resolved(each, root));
  const elements = alternatives.flatMap((each) => (isMap(each) ? alternativesOf(resolved(each.items, root)) : []));
  for (const each of [...alternatives, ...elements]) {
    const own = resolved(each, root);
    if (isMap(own) && isMap(own.properties)) return { inner: own };
  }
  return {};
}

function alternativesOf(schema: Schema): readonly Schema[] {
  const several = isMap(schema) ? (schema.anyOf ?? schema.oneOf) : undefined;
  return Array.isArray(several) ? several : [schema];
}

/** What a schema takes, in a few words. */
export function typeText(schemaOrRef: Schema, root: Schema, depth = 0): string {
  if (isMap(schemaOrRef) && String(schemaOrRef.$ref).endsWith('/Json')) return 'any JSON';
  // What refers to itself has no end.
  if (depth > 4) return 'anything';
  const schema = resolved(schemaOrRef, root);
  if (!isMap(schema)) return schema === false ? 'nothing' : 'anything';
  if ('const' in schema) return JSON.stringify(schema.const);
  if (Array.isArray(schema.enum)) return `one of ${schema.enum.map((each) => JSON.stringify(each)).join(', ')}`;
  const alternatives = alternativesOf(schema);
  if (alternatives[0] !== schema)
    return [...new Set(alternatives.map((each) => typeText(each, root, depth + 1)))].join(' or ');
  const types = (Array.isArray(schema.type) ? schema.type : [schema.type]).map(String);
  if (schema.type === undefined) return isMap(schema.properties) ? 'an object' : 'anything';
  const named = types.map((type) => names[type] ?? type).join(' or ');
  const items =
    types.includes('array') && schema.items !== undefined
      ? ` of ${typeText(schema.items, root, depth + 1).replaceAll('an object', 'objects')}`
      : '';
  return [named + items, ...boundsOf(schema)].join(', ');
}

const names: Readonly<Record<string, string>> = {
  string: 'text',
  number: 'a number',
  integer: 'a whole number',
  boolean: 'true or false',
  object: 'an object',
  array: 'a list',
  null: 'null',
};

function boundsOf(schema: Fields): string[] {
  const range = (least: string, most: string, what: string): string[] => {
    const [from, to] = [schema[least], schema[most]];
    if (from === undefined && to === undefined) return [];
    if (to === undefined) return [`at least ${from}${what}`];
    return from === undefined ? [`at most ${to}${what}`] : [`${from} to ${to}${what}`];
  };
  return [
    ...range('minimum', 'maximum', ''),
    ...range('minLength', 'maxLength', ' characters'),
    ...range('minItems', 'maxItems', ' elements'),
    ...(typeof schema.format === 'string' ? [schema.format] : []),
    ...(typeof schema.pattern === 'string' ? [`matching ${schema.pattern}`] : []),
  ];
}

function fieldFor(schema: Schema): Pick<SchemaMember, 'field' | 'choices'> {
  if (!isMap(schema)) return { field: 'json' };
  if (Array.isArray(schema.enum)) return { field: 'choice', choices: schema.enum };
  switch (schema.type) {
    case 'string':
      return { field: 'text' };
    case 'number':
    case 'integer':
      return { field: 'number' };
    case 'boolean':
      return { field: 'flag' };
    default:
      return { field: 'json' };
  }
}

/** A schema without a reference at its top: references lead to parts of the whole. */
function resolved(schema: Schema, root: Schema): Schema {
  let at = schema;
  for (let hops = 0; isMap(at) && typeof at.$ref === 'string' && hops < 20; hops++) {
    let target: Schema = root;
    for (const step of decodeURIComponent(at.$ref).split('/').slice(1))
      target = isMap(target) ? target[step.replaceAll('~1', '/').replaceAll('~0', '~')] : undefined;
    at = target;
  }
  return at;
}

function isMap(value: Schema): value is Fields {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}
