import { describe, expect, it } from 'vitest';
import {
  channelName,
  channelNameFault,
  directSegment,
  formatCursor,
  isChannelName,
  parseCursor,
  problemCatalogue,
  readServerFrame,
  usersOfDirect,
} from '../src/index.js';

describe('channel names', () => {
  it.each(['race/3/chat', 'a', 'crew/petrel', 'x-1._~@+=,/a:b', 'X'.repeat(200)])('takes %s', (name) => {
    expect(isChannelName(name)).toBe(true);
  });

  it.each(['', '/', 'a/', '/a', 'a//b', '.', 'a/..', 'ä', 'a b', ':a', 'a/:b', 'a?b', 'a#b', 'a%20b', 'a\\b'])(
    'refuses %j',
    (name) => {
      expect(() => channelName(name)).toThrow(RangeError);
    },
  );
});

describe('cursors', () => {
  it('come back as they were written', () => {
    expect(parseCursor(formatCursor({ volume: 'k3f', number: 118 }))).toEqual({ volume: 'k3f', number: 118 });
  });

  it.each([
    '',
    ':',
    'k3f:',
    ':1',
    'K3F:1',
    'k3f:-1',
    'k3f:1.5',
    'k3f:01',
    'k3f:1e3',
    'k3f:99999999999999999',
    'k3f:1 ',
  ])('are not %j', (text) => {
    expect(parseCursor(text)).toBeUndefined();
  });
});

describe('the catalogue of problems', () => {
  it('has a title and an HTTP error status for each code', () => {
    for (const [code, { title, status }] of Object.entries(problemCatalogue)) {
      expect(code).toMatch(/^[a-z]+(-[a-z]+)*$/);
      expect(title.length).toBeGreaterThan(5);
      expect(status).toBeGreaterThanOrEqual(400);
    }
  });
});

describe('readServerFrame', () => {
  it.each(['x', '1', 'null', '{}', '{"re":"1"}'])('refuses %s', (text) => {
    expect(() => readServerFrame(text)).toThrow(/Malformed frame/);
  });
});

describe('the name of a direct channel', () => {
  it.each<[readonly string[], string]>([
    [['pia', 'jory'], 'jory,pia'],
    [['jory', 'pia', 'jory'], 'jory,pia'],
    [['Zoë Ahl', 'a,b=c', 'x/y'], 'Zo=C3=AB=20Ahl,a=2Cb=3Dc,x=2Fy'],
    [["o'(*)!", ':x'], '=3Ax,o=27=28=2A=29=21'],
  ])('of %j is the same whoever begins, and gives them back', (users, segment) => {
    expect(directSegment(users)).toBe(segment);
    expect(directSegment([...users].reverse())).toBe(segment);
    expect(usersOfDirect(segment)).toEqual([...new Set(users)].sort());
    expect(channelNameFault(`direct/${segment}`)).toBeUndefined();
  });

  it.each(['pia', 'pia,jory', 'jory,jory', '', ',', 'a,=zz', 'a,=7a', 'a,b=2c'])('is not %s', (segment) => {
    expect(usersOfDirect(segment)).toBeUndefined();
  });

  it('is of two at least, and fits', () => {
    expect(() => directSegment(['pia', 'pia'])).toThrow(RangeError);
    expect(() => directSegment(['x'.repeat(120), 'y'.repeat(120)])).toThrow(RangeError);
  });
});
