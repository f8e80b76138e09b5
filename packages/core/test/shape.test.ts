import type { Json } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { type Condition, filled, filledName, holds, type Template, templateFault, without } from '../src/index.js';
import { matchesGlob } from '../src/lib/glob.js';

const body = {
  kind: 'wind',
  station: 'north',
  speed: 12.5,
  calm: false,
  note: null,
  keeper: { name: 'x', phone: '555' },
  marks: [{ id: 1, phone: '1' }, { id: 2 }],
  'a/b': { '~c': 7 },
};
const source = { body, headers: { 'x-kind': 'gale' }, method: 'POST' };

describe('conditions on events', () => {
  it.each<[boolean, Condition]>([
    [true, { at: '/kind', is: 'wind' }],
    [false, { at: '/kind', is: 'Wind' }],
    [true, { at: '/speed', is: 12.5 }],
    [false, { at: '/speed', is: '12.5' }],
    [true, { at: '/note', is: null }],
    [true, { at: '/note', exists: true }],
    [true, { at: '/none', exists: false }],
    [false, { at: '/none', is: null }],
    [true, { at: '/marks/1/id', is: 2 }],
    [true, { at: '/a~1b/~0c', is: 7 }],
    [true, { at: '/kind', oneOf: ['rain', 'wind'] }],
    [true, { at: '/kind', matches: 'w*d' }],
    [false, { at: '/speed', matches: '*' }],
    [true, { header: 'X-Kind', is: 'gale' }],
    [true, { method: true, oneOf: ['POST', 'PUT'] }],
    [true, { all: [{ at: '/kind', is: 'wind' }, { not: { at: '/calm', is: true } }] }],
    [
      false,
      {
        any: [
          { at: '/kind', is: 'rain' },
          { at: '/toString', exists: true },
        ],
      },
    ],
  ])('is %s: %j', (expected, condition) => {
    expect(holds(condition, source)).toBe(expected);
  });
});

describe('a glob', () => {
  it.each<[boolean, string, string]>([
    [true, 'weather*', 'weather.wind'],
    [true, '*', ''],
    [true, 'a*b*c', 'a-b-b-c'],
    [false, 'a*b*c', 'a-b-b'],
    [true, '**x', 'xxxx'],
    [false, '', 'x'],
    [true, 'a.c', 'a.c'],
    [false, 'a.c', 'abc'],
  ])('matches (%s): %j and %j', (expected, glob, text) => {
    expect(matchesGlob(glob, text)).toBe(expected);
  });

  it('takes no exponential time for many stars', () => {
    expect(matchesGlob(`${'*a'.repeat(200)}b`, 'a'.repeat(5_000))).toBe(false);
  });
});

describe('a template', () => {
  it.each<[Template, Json]>([
    ['/speed', 12.5],
    ['as it is', 'as it is'],
    [
      { knots: '/speed', at: ['/station', 3] },
      { knots: 12.5, at: ['north', 3] },
    ],
    [{ from: '/direction', or: 'variable' }, 'variable'],
    [{ from: '', or: 1 }, body],
    [{ header: 'x-kind' }, 'gale'],
    [{ literal: '/speed' }, '/speed'],
    [{ from: { from: '/direction', or: 'variable' } }, { from: 'variable' }],
    [
      { from: 'harbour', to: '/station' },
      { from: 'harbour', to: 'north' },
    ],
    ['/note', null],
  ])('%j is filled in', (template, expected) => {
    expect(filled(template, source)).toEqual(expected);
  });

  it.each<[Template, RegExp]>([
    ['/none', /^\/none finds nothing/],
    [{ deep: [{ from: '/keeper/none' }] }, /\/keeper\/none finds nothing/],
    [{ header: 'x-none' }, /the header x-none finds nothing/],
  ])('%j says what is missing', (template, message) => {
    expect(() => filled(template, source)).toThrow(message);
  });

  it.each<Template>(['/a~2', { x: ['/~'] }, { from: 'speed', or: 1 }])('%j is refused beforehand', (template) => {
    expect(templateFault(template)).toMatch(/is not a JSON Pointer/);
  });

  it('fills in the segments of a name, and none that would be another name', () => {
    expect(filledName('weather/:station/wind', {}, source)).toBe('weather/north/wind');
    expect(filledName('mark/:n', { n: '/marks/1/id' }, source)).toBe('mark/2');
    for (const value of ['a/b', '', null, { x: 1 }, true])
      expect(() => filledName('weather/:s', { s: { literal: value } }, source)).toThrow(/cannot stand for :s/);
  });
});

describe('what is dropped', () => {
  it.each<[string, Json]>([
    ['/keeper', { ...body, keeper: undefined }],
    ['/keeper/phone', { ...body, keeper: { name: 'x' } }],
    ['/marks/phone', { ...body, marks: [{ id: 1 }, { id: 2 }] }],
    ['/marks/0', { ...body, marks: [{ id: 2 }] }],
    ['/none/deeper', body],
    ['/a~1b', { ...body, 'a/b': undefined }],
  ] as [string, Json][])('%s is taken out', (pointer, expected) => {
    expect(without(body, [pointer])).toEqual(JSON.parse(JSON.stringify(expected)));
  });
});
