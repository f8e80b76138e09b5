import { differences, filledIn, MissingValue } from '@nine-bells/drills/values';
import { describe, expect, it } from 'vitest';

describe('a pattern', () => {
  const found = { type: 'note', by: { user: 'ines', name: 'Ines' }, list: [1, { a: 1, b: 2 }], n: 3, none: null };
  it.each([
    [{ type: 'note' }, true],
    [{ by: { user: 'ines' } }, true],
    [{ by: { user: 'jory' } }, false],
    [{ list: [1, { a: 1 }] }, true],
    [{ list: [1] }, false],
    [{ none: null }, true],
    [{ missing: null }, false],
    [{ n: { 'is at least': 3 } }, true],
    [{ n: { 'is at most': 2 } }, false],
    [{ type: { 'is one of': ['x', 'note'] } }, true],
    [{ type: { 'is not': 'note' } }, false],
    [{ missing: { 'is not': 'note' } }, true],
    [{ type: { 'is like': '^no' } }, true],
    [{ type: { 'is a': 'text' }, n: { 'is a': 'number' }, none: { 'is a': 'null' } }, true],
    [{ missing: { 'is there': false }, n: { 'is there': true } }, true],
    [{ list: { has: [{ b: 2 }] } }, true],
    [{ list: { 'has count': 2 } }, true],
  ])('%j matches: %s', (pattern, matches) => {
    expect(differences(pattern, found).length === 0).toBe(matches);
  });

  it('that does not match says where, what was expected, and what was found', () => {
    expect(differences({ by: { user: 'jory' }, list: [1, { a: 2 }], 'x/y': 1 }, found)).toEqual([
      { where: '/by/user', expected: '"jory"', found: '"ines"' },
      { where: '/list/1/a', expected: '2', found: '1' },
      { where: '/x~1y', expected: '1', found: 'nothing' },
    ]);
  });
});

describe('a reference', () => {
  const values = { said: { id: 'm1', list: [{ n: 7 }] }, own: 'k3' };
  it.each([
    ['$(said.id)', 'm1'],
    ['$(said.list.0.n)', 7],
    ['race/$(own)/chat', 'race/k3/chat'],
    [{ a: ['$(own)', 'n is $(said.list.0.n)'] }, { a: ['k3', 'n is 7'] }],
    [{ 'unread/$(own)': 1 }, { 'unread/k3': 1 }],
    ['$5 (five)', '$5 (five)'],
    ['$$(own) and $$$(own)', '$(own) and $$(own)'],
  ])('%j becomes %j', (written, meant) => {
    expect(filledIn(written, values)).toEqual(meant);
  });

  it.each(['$(other)', '$(said.cursor)', '$(said.list.1)', '$(own.x)', '$(said.constructor)'])(
    '%s is missing',
    (text) => {
      expect(() => filledIn(text, values)).toThrow(MissingValue);
    },
  );
});
