import { channelName } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import {
  type AccessRule,
  type Act,
  type ChannelRule,
  ChannelRules,
  decide,
  explain,
  guestIdentity,
  type Identity,
  weigh,
} from '../src/index.js';

const pia: Identity = { user: 'pia', guest: false, roles: [], claims: {} };
const tomas: Identity = {
  user: 'tomas',
  guest: false,
  roles: ['skipper'],
  claims: { boats: ['petrel', 'knot'], sail: 7 },
};
const bram: Identity = { user: 'bram', guest: false, roles: ['coach', 'skipper'], claims: { boats: 'petrel' } };
const guest = guestIdentity('guest:1');
const overseer: Identity = { ...pia, user: 'oversight:first', oversight: true };
const petrel = { boat: 'petrel' };

const rule = (pattern: string, allow: ChannelRule['allow'] = {}): ChannelRule => ({
  pattern,
  logbook: { keep: 'kept' },
  allow,
});
const refused = (act: Act, allow: ChannelRule['allow'], who: Identity) =>
  decide(act, { rule: rule('crew/:boat', allow), parameters: petrel }, who).problem;

describe('access rules', () => {
  it.each<[AccessRule, string]>([
    ['anyone', 'pia tomas bram guest'],
    ['signed-in', 'pia tomas bram'],
    ['nobody', ''],
    [{ role: 'coach' }, 'bram'],
    [{ user: 'pia' }, 'pia'],
    [{ user: 'guest:1' }, ''],
    [{ claim: 'boats', holds: ':boat' }, 'tomas bram'],
    [{ claim: 'boats', holds: 'knot' }, 'tomas'],
    [{ claim: 'boats', is: ':boat' }, 'bram'],
    [{ claim: 'sail', is: '7' }, 'tomas'],
    [{ claim: 'toString', is: 'x' }, ''],
    [{ any: [{ user: 'pia' }, { role: 'coach' }] }, 'pia bram'],
    [{ all: [{ role: 'skipper' }, { not: { role: 'coach' } }] }, 'tomas'],
    [{ all: ['signed-in', { not: { claim: 'boats', holds: ':boat' } }] }, 'pia'],
    [{ not: 'signed-in' }, 'guest'],
  ])('%j lets in: %s', (access, names) => {
    const people = { pia, tomas, bram, guest };
    const let_in = Object.entries(people).filter(([, who]) => weigh(access, who, petrel).holds);
    expect(let_in.map(([name]) => name).join(' ')).toBe(names);
    for (const act of ['enter', 'read', 'publish'] as const)
      for (const [name, who] of Object.entries(people))
        expect(refused(act, { enter: access, publish: access }, who) === undefined).toBe(
          names.split(' ').includes(name),
        );
  });

  it('refuse what is not said, and decide `read` as `enter` unless it is said', () => {
    expect(refused('enter', {}, pia)?.code).toBe('not-allowed');
    expect(refused('publish', { enter: 'anyone' }, pia)?.code).toBe('not-allowed');
    expect(refused('read', { enter: 'anyone' }, guest)).toBeUndefined();
    expect(refused('read', { enter: 'anyone', read: 'signed-in' }, guest)?.code).toBe('not-allowed');
  });

  it('let oversight look everywhere and publish nowhere', () => {
    expect(refused('enter', {}, overseer)).toBeUndefined();
    expect(refused('read', {}, overseer)).toBeUndefined();
    expect(refused('publish', { publish: 'anyone' }, overseer)).toBeDefined();
  });

  it('tell a client which rule refused, and not what would satisfy it', () => {
    const { detail } = refused('publish', { publish: { any: [{ role: 'coach' }, { user: 'mira' }] } }, pia) ?? {};
    expect(detail).toBe('user pia may not publish in channels of the rule crew/:boat');
    expect(refused('enter', { enter: 'signed-in' }, guest)?.detail).toBe(
      'only signed-in users may enter channels of the rule crew/:boat, and this is a guest',
    );
    expect(detail).not.toMatch(/coach|mira/);
  });

  it.each<[AccessRule, string]>([
    [{ claim: 'boats', holds: ':baot' }, 'no parameter :baot'],
    [{ any: [{ not: { role: ':race' } }] }, 'no parameter :race'],
    [{ all: [] }, 'at least one'],
  ])('%j are refused before they can let anybody in', (access, why) => {
    expect(() => new ChannelRules([rule('crew/:boat', { enter: access })])).toThrow(why);
  });
});

describe('an explanation', () => {
  const rules = new ChannelRules([
    rule('crew/:boat', { enter: { any: [{ claim: 'boats', holds: ':boat' }, { role: 'coach' }] } }),
    rule(':kind/petrel', { enter: 'anyone' }),
    rule('race/:race/chat'),
  ]);

  it('names the rule that decided, the facts, and why the other rules did not hold', () => {
    expect(explain(rules, 'enter', channelName('crew/petrel'), pia)).toEqual({
      act: 'enter',
      channel: 'crew/petrel',
      user: 'pia',
      allowed: false,
      problem: expect.objectContaining({ code: 'not-allowed' }),
      rule: { pattern: 'crew/:boat', parameters: { boat: 'petrel' } },
      weighed: {
        asks: 'any of',
        holds: false,
        parts: [
          { asks: 'claim boats holds petrel (:boat)', holds: false, found: 'no such claim' },
          { asks: 'role coach', holds: false, found: 'no roles' },
        ],
      },
      others: [
        { pattern: 'race/:race/chat', why: 'it has 3 segments, the name has 2' },
        { pattern: ':kind/petrel', why: 'it matches too, but crew/:boat is more specific' },
      ],
    });
  });

  it('agrees with what is decided', () => {
    expect(explain(rules, 'enter', channelName('crew/petrel'), tomas)).toMatchObject({ allowed: true });
    expect(explain(rules, 'enter', channelName('crew/dunlin'), tomas)).toMatchObject({ allowed: false });
  });

  it('says so when no rule matches', () => {
    const { allowed, problem, others } = explain(rules, 'enter', channelName('crew'), pia);
    expect([allowed, problem?.code, others.length]).toEqual([false, 'no-such-channel', 3]);
  });
});
