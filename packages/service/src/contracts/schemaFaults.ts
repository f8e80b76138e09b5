import { valueAt } from '@nine-bells/core';
import type { Json } from '@nine-bells/wire';
import { unknownWord } from '@nine-bells/yaml';
import { RE2JS } from 're2js';
import {
  allKeywords,
  formats,
  innerSchemas,
  isObject,
  keywordHints,
  kindOf,
  type SchemaObject,
  schemaUri,
  step,
} from './keywords.js';
import { costFault } from './schemaCost.js';

/** Largest complete schema, in characters of JSON text, and most schemas in it. */
const maxChars = 262_144;
const maxSchemas = 2_000;
/** Deepest nesting of schemas. */
const maxDepth = 64;
/** Arrays of values that cannot be compared at once are looked through for doubles only up to this length. */
const maxUnique = 200;

/** A mistake in a schema, with a JSON Pointer to it. */
export interface SchemaFault {
  readonly pointer: string;
  readonly detail: string;
}

/**
 * What is wrong with a complete schema beyond its form: words that JSON Schema does not have, references to nowhere, and
 * what could take too long.
 */
export function schemaFaults(schema: Json): readonly SchemaFault[] {
  if (JSON.stringify(schema).length > maxChars)
    return [{ pointer: '', detail: `a schema has at most ${maxChars} characters, with all that it refers to` }];
  const faults: SchemaFault[] = [];
  let count = 0;
  const look = (value: unknown, pointer: string, depth: number): void => {
    if (typeof value === 'boolean') return;
    if (!isObject(value)) {
      faults.push({ pointer, detail: 'expected a schema: a map, true or false' });
      return;
    }
    count += 1;
    if (count > maxSchemas) return;
    if (depth > maxDepth) {
      faults.push({ pointer, detail: `schemas are nested at most ${maxDepth} deep` });
      return;
    }
    for (const { pointer: at, detail } of ownFaults(value, schema)) faults.push({ pointer: pointer + at, detail });
    for (const inner of innerSchemas(value)) look(inner.schema, pointer + inner.pointer, depth + 1);
  };
  look(schema, '', 0);
  if (count > maxSchemas) return [{ pointer: '', detail: `there are more than ${maxSchemas} schemas in it` }];
  if (faults.length > 0) return faults;
  const costly = costFault(schema);
  return costly === undefined ? [] : [costly];
}

/** The expression of a pattern, matched in a time that grows only with the text's length. */
export function linearPattern(pattern: string): { test(text: string): boolean; toString(): string } {
  const compiled = isPlain(pattern) ? new RegExp(pattern, 'u') : RE2JS.compile(RE2JS.translateRegExp(pattern));
  // The validator tells patterns apart by their text.
  return { test: (text) => compiled.test(text), toString: () => `/${pattern}/u` };
}

/** One part of a plain pattern: a class, a letter or digit, and how often it comes. */
const plainPart = /(?:\[(?:\^?[A-Za-z0-9 _.,:;@+-]+)\]|\\[dw]|[A-Za-z0-9 _,:;@-])(\{\d+\}|\{\d*,\d*\}|[*+?])?/y;

/**
 * Whether a pattern is matched in linear time by any engine, the fastest included: anchored at both ends, without groups
 * and alternatives, and at most one part of it may come a varying number of times.
 */
function isPlain(pattern: string): boolean {
  if (!pattern.startsWith('^') || !pattern.endsWith('$')) return false;
  let varying = 0;
  plainPart.lastIndex = 1;
  for (let at = 1; at < pattern.length - 1; at = plainPart.lastIndex) {
    const found = plainPart.exec(pattern);
    if (found === null) return false;
    if (found[1] !== undefined && !/^\{\d+\}$/.test(found[1])) varying += 1;
  }
  return varying <= 1;
}

function* ownFaults(schema: SchemaObject, whole: Json): Iterable<SchemaFault> {
  for (const keyword of Object.keys(schema)) {
    if (kindOf(keyword) !== undefined || keyword.startsWith('x-')) continue;
    const hint = keywordHints.get(keyword);
    const detail = hint === undefined ? unknownWord(keyword, allKeywords) : `\`${keyword}\` is not taken here; ${hint}`;
    yield { pointer: step(keyword), detail };
  }
  const { $schema, $ref, pattern, format, uniqueItems, maxItems } = schema;
  if ($schema !== undefined && $schema !== schemaUri)
    yield { pointer: '/$schema', detail: `expected ${schemaUri}, or nothing` };
  if (typeof $ref === 'string' && valueAt(whole, decodeURIComponent($ref.slice(1))) === undefined)
    yield { pointer: '/$ref', detail: `\`$ref\` leads nowhere: nothing is at ${$ref}` };
  if (typeof format === 'string' && !(formats as readonly string[]).includes(format))
    yield { pointer: '/format', detail: unknownWord(format, formats) };
  if (typeof pattern === 'string') yield* patternFaults(pattern, '/pattern');
  if (isObject(schema.patternProperties))
    for (const each of Object.keys(schema.patternProperties))
      yield* patternFaults(each, `/patternProperties${step(each)}`);
  if (uniqueItems === true && !isQuicklyCompared(schema) && !(typeof maxItems === 'number' && maxItems <= maxUnique))
    yield {
      pointer: '/uniqueItems',
      detail: `\`uniqueItems\` needs \`maxItems\` of at most ${maxUnique}, or \`items\` of a simple type: each element is compared with each`,
    };
}

function* patternFaults(pattern: string, pointer: string): Iterable<SchemaFault> {
  try {
    linearPattern(pattern);
  } catch (error) {
    const why = (error as Error).message.replace(/^error parsing regexp: /, '');
    yield { pointer, detail: `a pattern that cannot be matched in linear time, or at all: ${why}` };
  }
}

/** Whether doubles are found by looking elements up. */
function isQuicklyCompared({ items }: SchemaObject): boolean {
  return isObject(items) && typeof items.type === 'string' && !['object', 'array'].includes(items.type);
}
