import { describe, expect, it } from 'vitest';
import {
  channelName,
  formatCursor,
  isChannelName,
  parseCursor,
  problemCatalogue,
  readServerFrame,
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
    expect(() => readServerFrame(text)).toThrow(/could not be read/);
  });
});
