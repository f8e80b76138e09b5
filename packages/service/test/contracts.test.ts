import { mkdirSync, mkdtempSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Contract } from '@nine-bells/core';
import type { Json } from '@nine-bells/wire';
import { afterAll, describe, expect, it } from 'vitest';
import { ConfigurationError, faultLine, parseConfiguration } from '../src/index.js';

const folder = mkdtempSync(join(tmpdir(), 'bells-contracts-'));
const inside = join(folder, 'regatta');
mkdirSync(inside);
afterAll(() => rmSync(folder, { recursive: true }));

const files: Readonly<Record<string, string>> = {
  'boats.yaml':
    'fleet: { boat: { enum: [petrel, knot] }, pair: { type: array, items: { $ref: "#/fleet/boat" }, maxItems: 2 } }\n',
  'finish.json': '{"type": "object", "required": ["boat"], "properties": {"boat": {"$ref": "boats.yaml#/fleet/boat"}}}',
  'wrong.yaml': 'type: object\nproperties:\n  boat: { typ: string }\n',
  'broken.yaml': 'a: [\n',
  'outside.yaml': '$ref: ../secret.yaml\n',
};
for (const [name, text] of Object.entries(files)) writeFileSync(join(inside, name), text);
writeFileSync(join(folder, 'secret.yaml'), 'type: string\n');
symlinkSync(join(folder, 'secret.yaml'), join(inside, 'link.yaml'));

function read(contract: string): Contract {
  const yaml = `channels:\n  - pattern: a\n    types:\n      finish: ${contract}\n`;
  return parseConfiguration(yaml, join(inside, 'bells.yaml')).channels[0]?.types?.finish as Contract;
}

function faultsOf(contract: string): string[] {
  try {
    read(contract);
  } catch (error) {
    if (error instanceof ConfigurationError)
      return error.faults.map(faultLine).map((line) => line.replace(`${inside}/`, ''));
    throw error;
  }
  return [];
}

describe('the schemas of contracts', () => {
  const schema = (text: string): string => `{ schema: ${text} }`;
  const twice = 'it refers to itself twice for one value';
  const refused: readonly [string, string, string][] = [
    [
      'a word mistyped',
      schema('{ requird: [a] }'),
      'bells.yaml:4:36: channels[0].types.finish.schema.requird: there is no "requird" here; did you mean "required"?',
    ],
    ['a type that is none', schema('{ type: objekt }'), 'expected one of "array", "boolean", "integer"'],
    [
      'a keyword of another place',
      schema('{ properties: { a: { required: yes } } }'),
      'schema.properties.a.required: expected a list, found text',
    ],
    ['no schema at all', schema('3'), 'expected a schema: a map, true or false'],
    ['a word of an older version', schema('{ nullable: true }'), 'write `type: [string, "null"]`'],
    [
      'another version',
      schema('{ $schema: "http://json-schema.org/draft-07/schema#" }'),
      'expected https://json-schema.org/draft/2020-12/schema',
    ],
    [
      'an example that does not fit',
      '{ schema: { required: [boat] }, example: { bot: 1 } }',
      'types.finish.example: the example does not fit the schema: at /boat expected this member, found nothing',
    ],
    ['a reference to nowhere', schema('{ $ref: "#/$defs/boat" }'), '`$ref` leads nowhere: nothing is at #/$defs/boat'],
    ['a reference to no file', schema('{ $ref: boat.yaml }'), 'there is no file boat.yaml'],
    [
      'a reference to no part of a file',
      schema('{ $ref: "boats.yaml#/fleet/oar" }'),
      'nothing is at /fleet/oar in that file',
    ],
    ['a reference into the network', schema('{ $ref: "https://regatta.example/boat.json" }'), 'nothing is fetched'],
    ['a reference by name', schema('{ $ref: "#boat" }'), 'what follows # is a JSON Pointer'],
    ['a reference out of the folder', schema('{ $ref: ../secret.yaml }'), "outside the configuration's folder"],
    ['a reference out of the folder by a link', schema('{ $ref: link.yaml }'), "outside the configuration's folder"],
    [
      'a reference out of the folder from another file',
      '{ file: outside.yaml }',
      "outside.yaml:1:7: $ref: `$ref` leads nowhere: ../secret.yaml is outside the configuration's folder",
    ],
    [
      'a mistake in another file',
      '{ file: wrong.yaml }',
      'wrong.yaml:3:16: properties.boat.typ: there is no "typ" here; did you mean "type"?',
    ],
    ['a file that is broken', '{ file: broken.yaml }', 'broken.yaml:2:1: this is not YAML'],
    ['a file that is not there', '{ file: boat.yaml }', 'types.finish.file: there is no file boat.yaml'],
    ['a schema and a file', '{ file: boats.yaml, schema: true }', 'expected `schema` or `file`, found both'],
    ['a circle', schema('{ $ref: "#" }'), 'it refers to itself without going into the data'],
    [
      'a circle over several',
      schema('{ $ref: "#/$defs/a", $defs: { a: { anyOf: [{ $ref: "#/$defs/b" }] }, b: { $ref: "#/$defs/a" } } }'),
      'it refers to itself without going into the data',
    ],
    [
      'work that doubles with each level',
      schema('{ anyOf: [{ properties: { a: { $ref: "#" } }, required: [b] }, { properties: { a: { $ref: "#" } } }] }'),
      twice,
    ],
    [
      'the same by overlapping names',
      schema('{ properties: { a: { $ref: "#" } }, patternProperties: { "^a": { $ref: "#" } } }'),
      twice,
    ],
    [
      'work that doubles without a circle',
      schema(
        `{ $ref: "#/$defs/d0", $defs: { ${Array.from({ length: 12 }, (_, i) => `d${i}: { allOf: [{ $ref: "#/$defs/d${i + 1}" }, { $ref: "#/$defs/d${i + 1}" }] }`).join(', ')}, d12: {} } }`,
      ),
      'more than 1000 schemas would be tried on one value',
    ],
    ['a pattern that looks ahead', schema('{ pattern: "^(?=a)" }'), 'a pattern that cannot be matched in linear time'],
    [
      'a pattern that is none',
      schema('{ patternProperties: { "[": true } }'),
      'a pattern that cannot be matched in linear time, or at all',
    ],
    [
      'a format that is not checked',
      schema('{ format: datetime }'),
      'there is no "datetime" here; did you mean "date-time"?',
    ],
    [
      'lists whose elements are each compared with each',
      schema('{ type: array, uniqueItems: true }'),
      '`uniqueItems` needs `maxItems` of at most 200',
    ],
    [
      'very many schemas',
      schema(`{ properties: { ${Array.from({ length: 2_001 }, (_, i) => `m${i}: {}`).join(', ')} } }`),
      'more than 2000 schemas',
    ],
    ['very deep nesting', schema(`${'{ not: '.repeat(70)}true${' }'.repeat(70)}`), 'nested at most 64 deep'],
    [
      'an enormous one',
      schema(`{ const: ${JSON.stringify('x'.repeat(262_200))} }`),
      'a schema has at most 262144 characters',
    ],
  ];
  it.each(refused)('are refused with %s', (_, contract, fault) => {
    expect(faultsOf(contract).join('\n')).toContain(fault);
  });

  it.each([
    [
      'that describe trees',
      schema('{ type: object, properties: { children: { type: array, items: { $ref: "#" } } } }'),
    ],
    [
      'that describe any JSON',
      schema(
        '{ anyOf: [{ type: string }, { type: array, items: { $ref: "#" } }, { type: object, additionalProperties: { $ref: "#" } }] }',
      ),
    ],
    ['that are true', schema('true')],
    ['that are absent', '{ from: clients }'],
    ['with words of others', schema('{ x-unit: knots }')],
  ])('are taken %s', (_, contract) => {
    expect(faultsOf(contract)).toEqual([]);
  });

  it('are complete in themselves, whatever files they refer to', () => {
    for (const contract of ['{ file: finish.json }', '{ schema: { $ref: finish.json } }', '{ file: "finish.json#" }']) {
      const { schema: complete, fits, faults } = read(contract);
      expect(JSON.stringify(complete)).not.toContain('.yaml');
      expect(fits?.({ boat: 'petrel' })).toBe(true);
      expect(faults?.({ boat: 'gannet' }, true)).toEqual([
        { where: '/boat', expected: 'one of "petrel", "knot"', found: 'text' },
      ]);
    }
    const { fits } = read('{ file: "boats.yaml#/fleet/pair" }');
    expect([fits?.(['knot']), fits?.(['tern']), fits?.(['knot', 'knot', 'knot'])]).toEqual([true, false, false]);
  });
});

describe('what does not fit a schema', () => {
  const cases: readonly [string, string, Json, string][] = [
    ['a missing member', '{ required: [boat] }', {}, '/boat this member (nothing)'],
    [
      'a member mistyped',
      '{ properties: { boat: {} }, additionalProperties: false }',
      { bot: 1 },
      '/bot no member of this name; did you mean boat?',
    ],
    [
      'a member in a list',
      '{ items: { type: object, properties: { at: { type: number } } } }',
      [{}, { at: 'x' }],
      '/1/at a number (text)',
    ],
    ['a name with a slash', '{ properties: { "a/b": { type: boolean } } }', { 'a/b': 1 }, '/a~1b true or false (1)'],
    ['several types', '{ type: [string, "null"] }', 1, ' text or null (1)'],
    ['a length', '{ maxLength: 2 }', 'abc', ' at most 2 characters (3 characters)'],
    ['a bound', '{ minimum: 3 }', 1, ' at least 3 (1)'],
    ['a format', '{ format: date-time }', 'soon', ' a date-time (text)'],
    ['a pattern, without what stands there', '{ pattern: "^[a-z]+$" }', 'SECRET', ' text that matches ^[a-z]+$ (text)'],
    [
      'doubles',
      '{ uniqueItems: true, items: { type: string } }',
      ['a', 'b', 'a'],
      ' elements that differ; 2 and 0 are equal',
    ],
    [
      'the nearest of several alternatives',
      '{ oneOf: [{ properties: { kind: { const: wind }, knots: { type: number } }, required: [kind, knots] }, { properties: { kind: { const: rain } }, required: [kind] }] }',
      { kind: 'wind', knots: 'x' },
      '/knots a number (text)',
    ],
  ];
  it.each(cases)('is said of %s', (_, schema, data, expected) => {
    const { faults, fits } = read(`{ schema: ${schema} }`);
    expect(fits?.(data)).toBe(false);
    const texts = faults?.(data, true).map(
      ({ where, expected: text, found }) => `${where} ${text}${found === undefined ? '' : ` (${found})`}`,
    );
    expect(texts).toEqual([expected]);
  });

  it('is found in a bounded time, with patterns that explode elsewhere and with a million faults', () => {
    const exploding = read('{ schema: { pattern: "^(a+)+$" } }');
    const manyFaults = read('{ schema: { type: array, items: { type: string } } }');
    const beganMs = performance.now();
    expect(exploding.fits?.(`${'a'.repeat(30_000)}!`)).toBe(false);
    expect(
      manyFaults.faults?.(
        Array.from({ length: 1_000_000 }, () => 1),
        false,
      ),
    ).toHaveLength(1);
    expect(
      manyFaults.faults?.(
        Array.from({ length: 16_000 }, () => 1),
        true,
      ),
    ).toHaveLength(16_000);
    // It takes half a second; what is not linear would take hours.
    expect(performance.now() - beganMs).toBeLessThan(60_000);
  });
});
