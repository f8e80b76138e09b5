import { channelName } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import {
  type AccessRule,
  type ChannelRule,
  ChannelRules,
  guestName,
  matchPattern,
  mayHold,
  parsePattern,
} from '../src/index.js';
import { GuestNames } from '../src/session/guestNames.js';

const rule = (pattern: string, more: Partial<ChannelRule> = {}): ChannelRule => ({
  pattern,
  logbook: { type: 'kept' },
  allow: {},
  ...more,
});

describe('patterns', () => {
  it('match whole segments and give the parameters', () => {
    expect(matchPattern(parsePattern('race/:race/chat'), 'race/3/chat')).toEqual({ race: '3' });
    expect(matchPattern(parsePattern('race/:race/chat'), 'race/3/4/chat')).toBeUndefined();
    expect(matchPattern(parsePattern('race/:race/chat'), 'race/3/signals')).toBeUndefined();
    expect(matchPattern(parsePattern('race/:race/chat'), 'race/3')).toBeUndefined();
  });

  it.each([
    ['', 'characters'],
    ['a//b', 'empty segment'],
    ['race/:', 'not a parameter'],
    ['race/:3', 'not a parameter'],
    ['race/:a-b', 'not a parameter'],
    ['race/*', 'cannot be a segment'],
    ['race/pre:fix?', 'cannot be a segment'],
    [':a/:a', 'stands twice'],
  ])('refuse %j', (text, why) => {
    expect(() => parsePattern(text)).toThrow(why);
  });
});

describe('channel rules', () => {
  const rules = new ChannelRules([
    rule(':any/:race/chat'),
    rule('race/:race/:kind'),
    rule('race/:race/chat'),
    rule('race/3/:kind'),
    rule('weather/wind'),
  ]);

  it.each([
    ['race/3/chat', 'race/3/:kind'],
    ['race/4/chat', 'race/:race/chat'],
    ['race/4/signals', 'race/:race/:kind'],
    ['dinghy/4/chat', ':any/:race/chat'],
    ['weather/wind', 'weather/wind'],
  ])('the most specific one wins for %s, whatever their order', (name, pattern) => {
    expect(rules.match(channelName(name))?.rule.pattern).toBe(pattern);
  });

  it('match nothing else', () => {
    expect(rules.match(channelName('weather/tide'))).toBeUndefined();
  });

  it('cannot be two for the same names', () => {
    expect(() => new ChannelRules([rule('race/:a/chat'), rule('race/:b/chat')])).toThrow('same names');
  });
});

describe('the names of guests', () => {
  it('are unlike each other, and free again when given back', () => {
    const names = new GuestNames();
    const first = names.take('guest:abc');
    expect([names.take('guest:abc'), names.take('guest:abc')]).toEqual([`${first} 2`, `${first} 3`]);
    names.giveBack(`${first} 2`);
    names.giveBack(first);
    expect([names.take('guest:abc'), names.take('guest:abc'), names.take('guest:abc')]).toEqual([
      first,
      `${first} 2`,
      `${first} 4`,
    ]);
    const many = Array.from({ length: 5000 }, (_, index) => names.take(`guest:${index}`));
    expect(new Set(many).size).toBe(5000);
  });
});

describe('guest names', () => {
  it('stay the same for an id and are two words', () => {
    expect(guestName('guest:abc')).toBe(guestName('guest:abc'));
    expect(guestName('guest:abc')).toMatch(/^[A-Z][a-z]+ [A-Z][a-z]+$/);
  });
});

describe('an access rule in some channel of a pattern', () => {
  const ines = { user: 'ines', guest: false, roles: ['crew'], claims: { boats: ['petrel'], none: [] } };
  const guest = { user: 'guest:1', guest: true, roles: [], claims: {} };
  const pattern = parsePattern('crew/:boat');
  const grants = [{ pattern: parsePattern(':any/petrel'), allow: { enter: 'anyone' as const } }];
  it.each<[AccessRule, boolean, boolean]>([
    ['anyone', true, true],
    ['nobody', false, false],
    ['signed-in', true, false],
    ['token-allows', false, false],
    [{ role: 'crew' }, true, false],
    [{ role: 'jury' }, false, false],
    [{ role: ':boat' }, true, false],
    [{ user: 'ines' }, true, false],
    [{ user: ':boat' }, true, false],
    [{ claim: 'boats', holds: ':boat' }, true, false],
    [{ claim: 'boats', holds: 'knot' }, false, false],
    [{ claim: 'none', holds: ':boat' }, false, false],
    [{ claim: 'toString', holds: ':boat' }, false, false],
    [{ among: ':boat' }, true, false],
    [{ ask: 'https://club.example/may' }, true, true],
    [() => false, true, true],
    [{ not: 'signed-in' }, false, true],
    [{ not: { claim: 'boats', holds: ':boat' } }, true, true],
    [{ any: [{ role: 'jury' }, { claim: 'boats', holds: ':boat' }] }, true, false],
    [{ all: [{ role: 'jury' }, { ask: 'https://club.example/may' }] }, false, false],
  ])('%j may hold for a user: %s, for a guest: %s', (enter, forUser, forGuest) => {
    expect([ines, guest].map((who) => mayHold({ enter }, 'enter', who, pattern))).toEqual([forUser, forGuest]);
  });

  it("counts the token's own rules where both patterns match some name, and lets an observer look", () => {
    const allow = { enter: 'token-allows' as const };
    expect(mayHold(allow, 'enter', { ...ines, grants }, pattern)).toBe(true);
    expect(mayHold(allow, 'enter', { ...ines, grants }, parsePattern('crew/knot'))).toBe(false);
    expect(mayHold(allow, 'enter', { ...ines, grants }, parsePattern('crew/:boat/radio'))).toBe(false);
    expect(mayHold({}, 'enter', { ...ines, observer: true }, pattern)).toBe(true);
    expect(mayHold({ publish: 'anyone' }, 'publish', { ...ines, observer: true }, pattern)).toBe(false);
  });
});
