import { schemas } from '@nine-bells/wire/schemas';

/** A JSON Schema, or a part of a description, as plain data. */
export type Tree = { readonly [member: string]: unknown };

/** The types of the wire that a description needs, each once, under `#/components/schemas`. */
export class Components {
  readonly #taken = new Map<string, Tree>();

  /** All that were asked for, by name. */
  get all(): Readonly<Record<string, Tree>> {
    return Object.fromEntries([...this.#taken].sort(([one], [other]) => (one < other ? -1 : 1)));
  }

  /** A reference to a type of the wire. */
  type(name: string): Tree {
    this.#take(name);
    return { $ref: `#/components/schemas/${name}` };
  }

  /** A part of the wire's schemas, such that what it refers to is among the components. */
  part(schema: unknown): Tree {
    return this.#moved(schema) as Tree;
  }

  /** The wire's schema that a part stands for, itself a part. */
  resolved(schema: unknown): Tree {
    const { $ref } = schema as { $ref?: string };
    return $ref === undefined ? this.part(schema) : this.resolved(schemas[nameOf($ref)]);
  }

  /** A schema that is complete in itself, as a component of its own. */
  add(name: string, schema: unknown): Tree {
    this.#taken.set(name, based(schema, `#/components/schemas/${name}`) as Tree);
    return { $ref: `#/components/schemas/${name}` };
  }

  /** Adds what is known of members of a type, where those are. */
  bound(name: string, members: Readonly<Record<string, Tree>>): void {
    const found = this.#taken.get(name);
    if (found !== undefined) this.#taken.set(name, withBounds(found, members));
  }

  #take(name: string): void {
    if (this.#taken.has(name)) return;
    // First as it is: what refers to itself ends here.
    this.#taken.set(name, {});
    this.#taken.set(name, this.#moved(schemas[name]) as Tree);
  }

  #moved(schema: unknown): unknown {
    return rewritten(schema, ($ref) => ($ref.startsWith('#/definitions/') ? this.type(nameOf($ref)).$ref : $ref));
  }
}

/** Members whose value is data, not schema. */
const dataWords: ReadonlySet<string> = new Set(['const', 'enum', 'default', 'example', 'examples']);

/** A copy of a schema with bounds of its members. */
export function withBounds(schema: Tree, members: Readonly<Record<string, Tree>>): Tree {
  const { properties } = schema as { properties?: Readonly<Record<string, Tree>> };
  if (properties === undefined) return schema;
  return {
    ...schema,
    properties: Object.fromEntries(
      Object.entries(properties).map(([name, each]) => [name, { ...each, ...members[name] }]),
    ),
  };
}

function nameOf(ref: string): string {
  return ref.slice(ref.lastIndexOf('/') + 1);
}

/** References from the root of a schema, from where it stands in the description. */
function based(schema: unknown, base: string): unknown {
  return rewritten(schema, ($ref) => base + $ref.slice(1));
}

/** Members whose value is a map of schemas, by names of any kind. */
const mapWords: ReadonlySet<string> = new Set(['properties', '$defs', 'patternProperties', 'dependentSchemas']);

/** A copy of a schema with other references. What it is called and which dialect it speaks is the description's matter. */
function rewritten(value: unknown, refOf: (ref: string) => unknown, isMap = false): unknown {
  if (Array.isArray(value)) return value.map((each) => rewritten(each, refOf));
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(
    Object.entries(value).flatMap(([name, each]) => {
      if (isMap) return [[name, rewritten(each, refOf)]];
      if (name === '$schema' || name === '$id') return [];
      if (name === '$ref' && typeof each === 'string') return [[name, refOf(each)]];
      return [[name, dataWords.has(name) ? each : rewritten(each, refOf, mapWords.has(name))]];
    }),
  );
}
