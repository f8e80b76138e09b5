import type { Json } from '@nine-bells/wire';
import { accessText, keepText, membersOf, snippetsOf, typeText } from '@nine-bells/wire/describe';
import { describe, expect, it } from 'vitest';

describe('the page of channel rules', () => {
  it.each<[Json, string]>([
    [true, 'anything'],
    [{ const: 3 }, '3'],
    [{ enum: ['jib', 2] }, 'one of "jib", 2'],
    [{ type: 'string', minLength: 1, maxLength: 9, format: 'date' }, 'text, 1 to 9 characters, date'],
    [{ type: 'number', minimum: 0 }, 'a number, at least 0'],
    [{ type: ['integer', 'null'] }, 'a whole number or null'],
    [
      { type: 'array', items: { $ref: '#/$defs/boat' }, $defs: { boat: { enum: ['knot'] } } },
      'a list of one of "knot"',
    ],
    [{ anyOf: [{ type: 'string' }, { type: 'boolean' }, { type: 'string' }] }, 'text or true or false'],
    [{ type: 'array', items: { type: 'object' }, maxItems: 9 }, 'a list of objects, at most 9 elements'],
    [{ $ref: '#/$defs/a', $defs: { a: { $ref: '#/$defs/a' } } }, 'anything'],
  ])('says in a few words what %j takes', (schema, text) => {
    expect(typeText(schema, schema)).toBe(text);
  });

  it.each([
    [{ forMs: 90 * 86_400_000 }, '90 d'],
    [{ forMs: 5_400_000, messages: 1_000_000 }, '90 min, at most 1,000,000 messages'],
    [{ bytes: 2 * 1_073_741_824 }, 'at most 2 GiB'],
    [{ forMs: 1, bytes: 5 }, '1 ms, at most 5 B'],
  ])('says for how long %j keeps', (keep, text) => {
    expect(keepText(keep)).toBe(text);
  });

  it('makes a field of each member, by its schema', () => {
    const schema = {
      $ref: '#/$defs/finish',
      $defs: {
        sailor: { properties: { name: {} } },
        finish: {
          required: ['boat'],
          properties: {
            boat: { enum: ['knot'] },
            place: { type: 'integer', description: 'From 1' },
            late: { type: 'boolean' },
            crew: { anyOf: [{ type: 'null' }, { type: 'array', items: { $ref: '#/$defs/sailor' } }] },
          },
        },
      },
    };
    expect(membersOf(schema)?.map(({ name, field, required }) => [name, field, required])).toEqual([
      ['boat', 'choice', true],
      ['place', 'number', false],
      ['late', 'flag', false],
      ['crew', 'json', false],
    ]);
    expect(membersOf(schema)?.[1]?.about).toBe('From 1');
    expect(membersOf(schema)?.map(({ inner }) => inner)).toEqual([
      ...[undefined, undefined, undefined],
      { properties: { name: {} } },
    ]);
    expect(membersOf({ type: 'string' })).toBeUndefined();
  });

  it('says how to publish the same from elsewhere, with quotes as a shell wants them', () => {
    const [curl, sdk, backend, command] = snippetsOf('https://bells.example', 'race/3/chat', 'note', { text: "it's" });
    expect(curl?.text).toContain(`-d '{"channel":"race/3/chat","type":"note","data":{"text":"it'\\''s"}}'`);
    expect(sdk?.text).toBe(`await line.publish("race/3/chat", {"text":"it's"}, { type: "note" });`);
    expect(backend?.text).toContain('"type":"note"');
    expect(command?.text).toBe(`npx ninebells publish race/3/chat '{"text":"it'\\''s"}' --type note`);
  });

  it.each<[Json, string]>([
    ['anyone', 'anyone'],
    [
      { any: [{ role: 'jury' }, { all: ['signed-in', { not: { user: 'jory' } }] }] },
      'the role jury or signed-in and not the user jory',
    ],
    [{ claim: 'boats', holds: ':boat' }, 'whose claim boats holds :boat'],
    [{ ask: 'https://regatta.example/may' }, 'as https://regatta.example/may answers'],
  ])('puts the access rule %j in words', (rule, text) => {
    expect(accessText(rule)).toBe(text);
  });
});
