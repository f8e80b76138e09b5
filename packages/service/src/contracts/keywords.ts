/** The keywords of JSON Schema 2020-12 that are taken, by what stands in them. */
const kinds = {
  /** A schema for the same value. */
  same: ['not', 'if', 'then', 'else'],
  /** Several of them. */
  sameList: ['allOf', 'anyOf', 'oneOf'],
  sameMap: ['dependentSchemas'],
  /** A schema for members or elements of the value. */
  down: ['additionalProperties', 'propertyNames', 'unevaluatedProperties', 'items', 'unevaluatedItems', 'contains'],
  downList: ['prefixItems'],
  downMap: ['properties', 'patternProperties'],
  /** Schemas to refer to. */
  definitions: ['$defs', 'definitions'],
  /** No schema. */
  plain: [
    '$schema',
    '$id',
    '$ref',
    '$comment',
    'type',
    'enum',
    'const',
    'multipleOf',
    'maximum',
    'exclusiveMaximum',
    'minimum',
    'exclusiveMinimum',
    'maxLength',
    'minLength',
    'pattern',
    'maxItems',
    'minItems',
    'uniqueItems',
    'maxContains',
    'minContains',
    'maxProperties',
    'minProperties',
    'required',
    'dependentRequired',
    'title',
    'description',
    'default',
    'deprecated',
    'readOnly',
    'writeOnly',
    'examples',
    'format',
    'contentEncoding',
    'contentMediaType',
    'contentSchema',
  ],
} as const;

export type KeywordKind = keyof typeof kinds;

const kindByKeyword: ReadonlyMap<string, KeywordKind> = new Map(
  (Object.keys(kinds) as KeywordKind[]).flatMap((kind) => kinds[kind].map((keyword) => [keyword, kind] as const)),
);

/** What stands in a keyword; `undefined`: it is not taken. */
export function kindOf(keyword: string): KeywordKind | undefined {
  return kindByKeyword.get(keyword);
}

export const allKeywords: readonly string[] = [...kindByKeyword.keys()];

/** Keywords of JSON Schema that are not taken here, and what to write instead. */
export const keywordHints: ReadonlyMap<string, string> = new Map([
  ['$anchor', 'refer by a JSON Pointer, such as #/$defs/boat'],
  ['$dynamicRef', 'refer by `$ref`'],
  ['$dynamicAnchor', 'refer by `$ref`'],
  ['$recursiveRef', 'refer by `$ref`'],
  ['nullable', 'write `type: [string, "null"]`'],
  ['additionalItems', 'write `items`, beside `prefixItems`'],
  ['dependencies', 'write `dependentRequired` or `dependentSchemas`'],
  ['id', 'schemas are referred to by their file'],
]);

/** Formats that are checked (JSON Schema 2020-12 validation, section 7.3): those with expressions known to be fast. */
export const formats = [
  'date',
  'time',
  'date-time',
  'duration',
  'email',
  'hostname',
  'ipv4',
  'ipv6',
  'uri',
  'uri-reference',
  'uri-template',
  'uuid',
  'json-pointer',
  'relative-json-pointer',
] as const;

export const schemaUri = 'https://json-schema.org/draft/2020-12/schema';

/** A schema, an object, as it is written. */
export type SchemaObject = Readonly<Record<string, unknown>>;

export function isObject(value: unknown): value is SchemaObject {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

/** The step of a JSON Pointer (RFC 6901, section 3) to a name. */
export function step(name: string | number): string {
  return `/${String(name).replaceAll('~', '~0').replaceAll('/', '~1')}`;
}

/** A schema within a schema. */
export interface Inner {
  readonly keyword: string;
  readonly kind: KeywordKind;
  /** Its pointer, from the schema that it is in. */
  readonly pointer: string;
  /** In a map: its name. */
  readonly name?: string;
  readonly schema: unknown;
}

/** The schemas that stand directly in a schema. */
export function* innerSchemas(schema: SchemaObject): Iterable<Inner> {
  for (const [keyword, value] of Object.entries(schema)) {
    const kind = kindOf(keyword);
    const pointer = step(keyword);
    if (kind === 'same' || kind === 'down') yield { keyword, kind, pointer, schema: value };
    else if ((kind === 'sameList' || kind === 'downList') && Array.isArray(value))
      for (const [index, each] of value.entries())
        yield { keyword, kind, pointer: pointer + step(index), schema: each };
    else if ((kind === 'sameMap' || kind === 'downMap' || kind === 'definitions') && isObject(value))
      for (const [name, each] of Object.entries(value))
        yield { keyword, kind, pointer: pointer + step(name), name, schema: each };
  }
}
