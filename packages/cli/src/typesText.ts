import type { ChannelRuleInfo, ChannelRulesInfo, ContractInfo, Json } from '@nine-bells/wire';
import { compile, type JSONSchema } from 'json-schema-to-typescript';

/** Types of the service's own notes in a channel that has them. */
const noteTypes = ['joined', 'left'] as const;

/**
 * TypeScript types of what passes through channels, for `connect<NAME>()` and `new Backend<NAME>()`.
 *
 * @param name - of the interface, such as `Regatta`
 * @param about - one line for its comment
 */
export async function typesText({ rules }: ChannelRulesInfo, name: string, about: string): Promise<string> {
  const names = new TypeNames(name);
  const channels = rules.map((rule) => channelText(rule, names));
  const declarations = await names.declarations();
  const usesJson = channels.some((text) => text.includes(`: ${anyJson}`));
  return `// Written by \`ninebells types\`: what passes through the channels of a service, from its configuration. Do not edit.

${usesJson ? "import type { Json } from '@nine-bells/client';\n\n" : ''}/** ${commented(about)} */
export interface ${name} {
${channels.join('\n')}
}
${declarations}`;
}

function channelText(rule: ChannelRuleInfo, names: TypeNames): string {
  const { pattern, about, allow, types, hails, status, board, open, noted } = rule;
  const typed = (all: Readonly<Record<string, ContractInfo>> | undefined, what: string): string[] =>
    all === undefined
      ? [`[type: string]: ${anyJson}`]
      : [
          ...Object.entries(all).map(
            ([type, each]) => `${memberName(type)}: ${names.of(each, `${pattern} ${what}${type}`)}`,
          ),
          // What is not named has any data, also what is named.
          ...(open ? ['[type: string]: unknown'] : []),
        ];
  const notes = types !== undefined && !open && noted ? noteTypes.map((type) => `${type}: null`) : [];
  const from = (source: 'clients' | 'applications'): string => {
    if (source === 'clients' && isForNobody(allow.publish)) return 'never';
    if (types === undefined || open) return 'string';
    const named = Object.entries(types).filter(([, each]) => each.from === undefined || each.from === source);
    // A message that is an entry by its type is published all the same.
    return named.length === 0 ? 'never' : named.map(([type]) => quoted(type)).join(' | ');
  };
  const map = (members: readonly string[]): string =>
    members.length === 0 ? 'Record<never, never>' : `{ ${members.join('; ')} }`;
  const boardType =
    board === undefined
      ? 'never'
      : board.contract === undefined
        ? anyJson
        : names.of(board.contract, `${pattern} entry`);
  return [
    ...(about === undefined ? [] : [`  /** ${commented(about)} */`]),
    `  ${quoted(pattern)}: {`,
    `    messages: ${map([...typed(types, ''), ...notes])};`,
    `    clients: ${from('clients')};`,
    `    applications: ${from('applications')};`,
    `    hails: ${map(hails === undefined && isForNobody(allow.hail) ? [] : typed(hails, 'hail '))};`,
    `    board: ${boardType};`,
    `    status: ${status === undefined ? anyJson : names.of(status, `${pattern} status`)};`,
    '  };',
  ].join('\n');
}

function isForNobody(rule: Json | undefined): boolean {
  return rule === undefined || rule === 'nobody';
}

/** Data of which nothing is known. */
const anyJson = 'Json';

/** Schemas and the names of their types: equal schemas have one type. */
class TypeNames {
  readonly #nameBySchema = new Map<string, string>();
  readonly #schemas = new Map<string, JSONSchema>();
  readonly #taken: Set<string>;

  constructor(taken: string) {
    this.#taken = new Set([taken]);
  }

  /** The type of what a contract describes. @param hint - what its name is made of, unless the schema has a title */
  of({ schema }: ContractInfo, hint: string): string {
    if (schema === undefined) return anyJson;
    if (schema === true) return 'unknown';
    if (schema === false) return 'never';
    const simple = simpleType(schema);
    if (simple !== undefined) return simple;
    const { $defs, ...own } = schema as { readonly [member: string]: Json } & {
      readonly $defs?: { readonly [name: string]: Json };
    };
    const renamed = new Map(
      Object.entries($defs ?? {}).map(([name, each]) => [`#/$defs/${name}`, this.#define(each, $defs ?? {}, name)]),
    );
    // A contract that only refers to a definition is that definition.
    if (typeof own.$ref === 'string' && Object.keys(own).length === 1) return renamed.get(own.$ref) ?? 'unknown';
    return this.#define(own, $defs ?? {}, hint);
  }

  #define(schema: Json, $defs: { readonly [name: string]: Json }, hint: string): string {
    const { title } = (typeof schema === 'object' ? schema : {}) as { readonly title?: string };
    const key = JSON.stringify([schema, refsOf(schema).map((ref) => $defs[ref.slice('#/$defs/'.length)] ?? null)]);
    const known = this.#nameBySchema.get(key);
    if (known !== undefined) return known;
    const name = this.#free(pascal(title ?? hint));
    this.#nameBySchema.set(key, name);
    const names: Record<string, string> = {};
    for (const ref of refsOf(schema)) {
      const target = ref.slice('#/$defs/'.length);
      if ($defs[target] !== undefined) names[ref] = this.#define($defs[target], $defs, target);
    }
    this.#schemas.set(name, referring(schema, names) as JSONSchema);
    return name;
  }

  #free(wanted: string): string {
    let name = wanted;
    for (let count = 2; this.#taken.has(name); count++) name = `${wanted}${count}`;
    this.#taken.add(name);
    return name;
  }

  /** The declarations of all types, each once, in the order in which they were named. */
  async declarations(): Promise<string> {
    const definitions = Object.fromEntries(
      [...this.#schemas].map(([name, schema]) => [name, { ...schema, title: name }]),
    );
    if (this.#schemas.size === 0) return '';
    const root = {
      title: rootName,
      type: 'object',
      properties: Object.fromEntries([...this.#schemas.keys()].map((name) => [name, { $ref: `#/$defs/${name}` }])),
      additionalProperties: false,
      $defs: definitions,
    };
    const text = await compile(root as JSONSchema, rootName, {
      bannerComment: '',
      format: true,
      style: { printWidth: 120, singleQuote: true },
    });
    return `\n${withoutRoot(text)}`;
  }
}

/** The type of a schema that only names a simple one. */
function simpleType(schema: Json): string | undefined {
  const { type, ...others } = schema as { readonly [member: string]: Json };
  const isPlain = Object.keys(others).every(
    (name) => !['enum', 'const', 'title', '$ref', 'anyOf', 'oneOf', 'allOf'].includes(name),
  );
  return isPlain ? simpleTypes.get(String(type)) : undefined;
}

const simpleTypes: ReadonlyMap<string, string> = new Map([
  ['string', 'string'],
  ['boolean', 'boolean'],
  ['number', 'number'],
  ['integer', 'number'],
  ['null', 'null'],
]);

/** Holds the types together while they are made. */
const rootName = 'AllOfTheTypesTogether';

function withoutRoot(text: string): string {
  return text.replace(new RegExp(`export interface ${rootName} \\{[^}]*\\}\\n`), '').replace(/^\s+/, '');
}

/** References of a schema, each once. */
function refsOf(value: Json): readonly string[] {
  const found = new Set<string>();
  const look = (each: Json): void => {
    if (Array.isArray(each)) for (const inner of each) look(inner);
    else if (typeof each === 'object' && each !== null)
      for (const [name, inner] of Object.entries(each))
        if (name === '$ref' && typeof inner === 'string') found.add(inner);
        else look(inner);
  };
  look(value);
  return [...found];
}

/** A schema whose references lead to types by their names; titles within it would become names of their own. */
function referring(value: Json, names: Readonly<Record<string, string>>, isTop = true): Json {
  if (Array.isArray(value)) return value.map((each) => referring(each, names, false));
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(
    Object.entries(value)
      .filter(([name, each]) => name !== 'title' || isTop || typeof each !== 'string')
      .map(([name, each]) => [
        name,
        name === '$ref' && typeof each === 'string' && names[each] !== undefined
          ? `#/$defs/${names[each]}`
          : referring(each, names, false),
      ]),
  );
}

function pascal(text: string): string {
  const words = text.split(/[^A-Za-z0-9]+/).filter((each) => each !== '');
  const name = words.map((word) => `${word[0]?.toUpperCase()}${word.slice(1)}`).join('');
  return /^[A-Za-z]/.test(name) ? name : `Type${name}`;
}

function memberName(name: string): string {
  return /^[A-Za-z_$][A-Za-z0-9_$]*$/.test(name) ? name : quoted(name);
}

/** Names of types and patterns have no quotes in them. */
function quoted(text: string): string {
  return `'${text}'`;
}

function commented(text: string): string {
  return text.replaceAll('*/', '* /').replaceAll('\n', ' ');
}
