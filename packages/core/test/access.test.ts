import { channelName } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { VirtualClock } from '../simulator/virtualClock.js';
import { Access } from '../src/access/access.js';
import { ActiveBans } from '../src/access/activeBans.js';
import { Questions } from '../src/access/questions.js';
import {
  type AccessRule,
  type Answer,
  type ChannelRule,
  ChannelRules,
  channelActs,
  channelRule,
  guestIdentity,
  type Identity,
  readGrants,
  userActs,
} from '../src/index.js';
import { nextOpen, verdictOf } from '../src/rules/accessRule.js';

const pia: Identity = { user: 'pia', guest: false, roles: [], claims: {} };
const tomas: Identity = {
  user: 'tomas',
  guest: false,
  roles: ['skipper'],
  claims: { boats: ['petrel', 'knot'], sail: 7 },
};
const bram: Identity = { user: 'bram', guest: false, roles: ['coach', 'skipper'], claims: { boats: 'petrel' } };
const guest = guestIdentity('guest:1');
const people = { pia, tomas, bram, guest };
const observer: Identity = { ...pia, user: 'observer:first', observer: true };
const petrel = channelName('crew/petrel');

const rule = (pattern: string, allow: ChannelRule['allow'] = {}): ChannelRule => ({
  pattern,
  logbook: { type: 'kept' },
  allow,
});

function access(
  rules: readonly ChannelRule[],
  users: Parameters<typeof makeAccess>[1] = {},
  ask: (url: string) => Promise<Answer> = () => Promise.reject(new Error('nobody is to be asked')),
) {
  const clock = new VirtualClock();
  const standing = new ActiveBans(clock);
  const reports: unknown[] = [];
  const report = (error: unknown): void => void reports.push(error);
  const questions = new Questions({ clock, report, asker: { ask }, admission: () => undefined, withinMs: 3000 });
  return { ...makeAccess(rules, users, standing, questions), clock, standing, reports };
}
function makeAccess(
  rules: readonly ChannelRule[],
  users: ConstructorParameters<typeof Access>[1],
  standing: ActiveBans,
  questions: Questions,
) {
  const all = new ChannelRules(rules);
  const made = new Access(all, users, standing, questions);
  const match = (name = petrel) => all.match(name) as NonNullable<ReturnType<typeof all.match>>;
  return {
    made,
    decide: async (act: (typeof channelActs)[number], who: Identity, name = petrel) =>
      (await made.decide(act, match(name), { who })).problem,
    match,
  };
}
const refused = (act: (typeof channelActs)[number], allow: ChannelRule['allow'], who: Identity) =>
  access([rule('crew/:boat', allow)]).decide(act, who);

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
    ['token-allows', ''],
    [({ who, parameters }) => who.user === 'pia' && parameters.boat === 'petrel', 'pia'],
    [{ not: async ({ who }) => who.guest }, 'pia tomas bram'],
  ])('%j lets in: %s, for every act', async (given, names) => {
    for (const act of channelActs)
      for (const [name, who] of Object.entries(people))
        expect([act, name, (await refused(act, { [act]: given }, who)) === undefined]).toEqual([
          act,
          name,
          names.split(' ').includes(name),
        ]);
  });

  it('refuse what is not said, and decide `read` as `enter` unless it is said', async () => {
    for (const act of channelActs) expect((await refused(act, {}, pia))?.code).toBe('not-allowed');
    for (const act of channelActs.filter((each) => each !== 'enter' && each !== 'read'))
      expect((await refused(act, { enter: 'anyone' }, pia))?.code).toBe('not-allowed');
    expect(await refused('read', { enter: 'anyone' }, guest)).toBeUndefined();
    expect((await refused('read', { enter: 'anyone', read: 'signed-in' }, guest))?.code).toBe('not-allowed');
  });

  it('let an observer look everywhere and do nothing', async () => {
    const everything = Object.fromEntries(channelActs.map((act) => [act, 'anyone' as const]));
    for (const act of channelActs) {
      const looks = act === 'enter' || act === 'read';
      expect([act, (await refused(act, looks ? {} : everything, observer)) === undefined]).toEqual([act, looks]);
    }
  });

  it('tell a client which rule refused, and not what would satisfy it', async () => {
    const { detail } =
      (await refused('publish', { publish: { any: [{ role: 'coach' }, { user: 'mira' }] } }, pia)) ?? {};
    expect(detail).toBe('user pia may not publish in channels of the rule crew/:boat');
    expect((await refused('enter', { enter: 'signed-in' }, guest))?.detail).toBe(
      'only signed-in users may enter channels of the rule crew/:boat, and this is a guest',
    );
    expect(detail).not.toMatch(/coach|mira/);
  });

  it.each<[AccessRule, string]>([
    [{ claim: 'boats', holds: ':baot' }, 'no parameter :baot'],
    [{ any: [{ not: { role: ':race' } }] }, 'no parameter :race'],
    [{ all: [] }, 'at least one'],
  ])('%j are refused before they can let anybody in', (given, why) => {
    expect(() => new ChannelRules([rule('crew/:boat', { enter: given })])).toThrow(why);
  });

  it('are decided for acts that concern a user, whose id is the parameter :user', async () => {
    const { made } = access([], { watch: { any: [{ user: ':user' }, { role: 'coach' }] } });
    const watched = async (who: Identity) => (await made.decideAbout('watch', 'tomas', { who })).problem?.detail;
    expect([await watched(tomas), await watched(bram)]).toEqual([undefined, undefined]);
    expect(await watched(pia)).toBe('user pia may not watch the status of tomas');
    for (const act of userActs.filter((each) => each !== 'watch'))
      expect((await made.decideAbout(act, 'tomas', { who: bram })).problem?.code).toBe('not-allowed');
  });
});

describe("a token's own access rules", () => {
  const grants = readGrants([
    { pattern: 'crew/knot', allow: { enter: 'anyone' } },
    { pattern: 'crew/:boat', allow: { enter: { claim: 'boats', holds: ':boat' }, publish: 'anyone' } },
  ]);
  const bringing = (who: Identity): Identity => ({ ...who, grants });

  it('count where the channel rule honours them, and nowhere else', async () => {
    expect(await refused('enter', { enter: 'token-allows' }, bringing(tomas))).toBeUndefined();
    expect(await refused('publish', { publish: 'token-allows' }, bringing(pia))).toBeUndefined();
    expect((await refused('enter', { enter: 'token-allows' }, bringing(pia)))?.code).toBe('not-allowed');
    expect((await refused('hail', { hail: 'token-allows' }, bringing(tomas)))?.code).toBe('not-allowed');
    expect((await refused('enter', { enter: { role: 'jury' } }, bringing(tomas)))?.code).toBe('not-allowed');
    const both: AccessRule = { all: ['token-allows', { role: 'coach' }] };
    expect((await refused('enter', { enter: both }, bringing(tomas)))?.code).toBe('not-allowed');
  });

  it.each([
    [{}, 'a list'],
    [[{ pattern: 'crew//x', allow: {} }], 'no empty segment'],
    [[{ pattern: 'crew/:boat', allow: { entr: 'anyone' } }], 'no act "entr"'],
    [[{ pattern: 'crew/:boat', allow: { watch: 'anyone' } }], 'no act "watch"'],
    [[{ pattern: 'crew/:boat', allow: { enter: 'everyone' } }], '"everyone" is no condition'],
    [[{ pattern: 'crew/:boat', allow: { enter: 'token-allows' } }], 'is no condition'],
    [[{ pattern: 'crew/:boat', allow: { enter: { ask: 'http://x.example' } } }], '"ask" is no condition of a token'],
    [[{ pattern: 'crew/:boat', allow: { enter: { role: ':race' } } }], 'no parameter :race'],
    [[{ pattern: 'crew/:boat', allow: { enter: { claim: 'boats' } } }], 'a claim goes with'],
    [[{ pattern: 'crew/:boat', allow: { enter: { role: 'a', user: 'b' } } }], 'there is no "user" there'],
    [[{ pattern: 'x', allow: { enter: JSON.parse(`${'{"not":'.repeat(20)}"anyone"${'}'.repeat(20)}`) } }], 'deep'],
    [Array.from({ length: 101 }, () => ({ pattern: 'x', allow: {} })), 'at most 100'],
  ])('%j are refused', (value, why) => {
    expect(() => readGrants(value as never)).toThrow(why);
  });
});

describe('conditions that somebody else decides', () => {
  const first: AccessRule = { ask: 'http://regatta.example/first' };
  const second: AccessRule = { ask: 'http://regatta.example/second' };
  const question = { act: 'enter', channel: petrel, parameters: {}, who: pia } as const;
  const answers = (...verdicts: ('yes' | 'no' | 'failed' | undefined)[]) =>
    new Map(
      [first, second].flatMap((each, index) => {
        const verdict = verdicts[index];
        return verdict === undefined ? [] : [[each, { verdict, found: '' }] as const];
      }),
    );

  it.each<[string, AccessRule, ReturnType<typeof answers>, string, AccessRule | undefined]>([
    ['a failure is no no under not', { not: first }, answers('failed'), 'failed', undefined],
    ['any: one yes is enough', { any: [first, second] }, answers('failed', 'yes'), 'yes', undefined],
    ['any: asks on after a failure', { any: [first, second] }, answers('failed'), 'open', second],
    ['any: a failure and a no', { any: [first, second] }, answers('failed', 'no'), 'failed', undefined],
    ['all: asks no more after a failure', { all: [first, second] }, answers('failed'), 'failed', undefined],
    ['all: a no decides beside a failure', { all: [first, second] }, answers('failed', 'no'), 'no', undefined],
    ['all: asks on after a yes', { all: [first, second] }, answers('yes'), 'open', second],
    ['what the rest decides is not asked', { any: [first, 'signed-in'] }, answers(), 'yes', undefined],
    ['nor what it refuses', { all: [first, { role: 'coach' }] }, answers(), 'no', undefined],
  ])('%s', (_, given, known, verdict, next) => {
    expect(verdictOf(given, question, known)).toBe(verdict);
    expect(nextOpen(given, question, known)).toBe(next);
  });

  it('say the application refused in its own words, or that it gave no answer', async () => {
    const asking = (ask: () => Promise<Answer>) =>
      access([rule('crew/:boat', { enter: first })], {}, ask).decide('enter', pia);
    expect((await asking(async () => ({ allow: false, reason: 'crew lists close at noon' })))?.detail).toBe(
      'crew lists close at noon',
    );
    expect(await asking(async () => ({ allow: true }))).toBeUndefined();
    expect(await asking(() => Promise.reject(new Error('ECONNREFUSED')))).toMatchObject({
      code: 'ask-failed',
      retryAfterMs: expect.any(Number),
      detail: expect.not.stringContaining('ECONNREFUSED'),
    });
  });

  it('give functions the very parameters of their pattern, and take a failure for no', async () => {
    const seen: string[] = [];
    const rules = [
      channelRule({
        pattern: 'crew/:boat/:day',
        logbook: { type: 'kept' },
        allow: {
          enter: ({ parameters }) => {
            // The compiler knows both, and no others.
            seen.push(parameters.boat, parameters.day);
            return { allow: true, member: { berth: 3 } };
          },
          publish: () => Promise.reject(new Error('broken')),
          read: () => {
            throw new Error('broken at once');
          },
          hail: () => new Promise<boolean>(() => {}),
        },
      }),
    ];
    const name = channelName('crew/petrel/2');
    const { made, match, decide, reports, clock } = access(rules);
    expect(await made.decide('enter', match(name), { who: pia })).toEqual({ member: { berth: 3 } });
    expect(seen).toEqual(['petrel', '2']);
    expect((await decide('publish', pia, name))?.code).toBe('ask-failed');
    expect((await decide('read', pia, name))?.code).toBe('ask-failed');
    expect(reports).toHaveLength(2);
    const never = decide('hail', pia, name);
    await clock.run(3000);
    expect((await never)?.code).toBe('ask-failed');
  });
});

describe('an example of a user who may do something', () => {
  const yes: [string, AccessRule, object][] = [
    ['anyone', 'anyone', {}],
    ['those signed in', 'signed-in', {}],
    ['a role', { role: 'coach' }, { roles: ['coach'] }],
    ['a user', { user: ':boat' }, { user: 'petrel' }],
    ['a claim that is a value', { claim: 'sail', is: '7' }, { claims: { sail: '7' } }],
    ['a claim that holds a parameter', { claim: 'boats', holds: ':boat' }, { claims: { boats: ['petrel'] } }],
    [
      'two values of one claim',
      {
        all: [
          { claim: 'b', holds: '1' },
          { claim: 'b', holds: '2' },
        ],
      },
      { claims: { b: ['1', '2'] } },
    ],
    ['all of several', { all: [{ role: 'jury' }, { role: 'chair' }] }, { roles: ['jury', 'chair'] }],
    [
      'any of several, of which one must be asked',
      { any: [{ ask: 'http://x/' }, { role: 'coach' }] },
      { roles: ['coach'] },
    ],
    ['what must not be', { all: [{ role: 'a' }, { not: { role: 'b' } }] }, { roles: ['a'] }],
  ];
  it.each(yes)('is worked out from %s', (_, enter, wanted) => {
    const found = access([rule('crew/:boat', { enter })]).made.exampleUser('enter', petrel);
    expect(found).toEqual({ roles: [], claims: {}, ...wanted });
  });

  it('is one of the users that a name lists', () => {
    const { made } = access([rule('direct/:users', { enter: { among: ':users' } })]);
    expect(made.exampleUser('enter', channelName('direct/jory,pia'))).toEqual({ user: 'jory', roles: [], claims: {} });
  });

  const no: [string, AccessRule | undefined, string][] = [
    ['no rule', undefined, 'nobody'],
    ['nobody', 'nobody', 'nobody'],
    ['the application', { ask: 'http://x/' }, 'application'],
    ['a function', () => true, 'function'],
    ['the token', 'token-allows', 'token'],
    ['two users at once', { all: [{ user: 'pia' }, { user: 'jory' }] }, 'two users'],
    ['parts that exclude each other', { all: [{ role: 'a' }, { not: { role: 'a' } }] }, 'exclude'],
  ];
  it.each(no)('is not found, with the reason, for %s', (_, enter, why) => {
    const { made } = access([rule('crew/:boat', enter === undefined ? {} : { enter })]);
    expect(made.exampleUser('enter', petrel)).toEqual({ why: expect.stringContaining(why) });
    expect(made.exampleUser('enter', channelName('elsewhere'))).toEqual({
      why: expect.stringContaining('no channel rule'),
    });
  });
});

describe('an explanation', () => {
  const rules = [
    rule('crew/:boat', { enter: { any: [{ claim: 'boats', holds: ':boat' }, { role: 'coach' }] } }),
    rule(':kind/petrel', { enter: 'anyone' }),
    rule('race/:race/chat'),
  ];
  const { made } = access(rules, { notify: { role: 'coach' } });

  it('names the rule that decided, the facts, and why the other rules did not hold', async () => {
    expect(await made.explain('enter', petrel, { who: pia })).toEqual({
      act: 'enter',
      channel: 'crew/petrel',
      user: 'pia',
      allowed: false,
      problem: expect.objectContaining({ code: 'not-allowed' }),
      rule: { pattern: 'crew/:boat', parameters: { boat: 'petrel' } },
      evaluation: {
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

  it('agrees with what is decided, for everybody and every act', async () => {
    const { made: all, match } = access([
      rule('crew/:boat', {
        enter: { any: [{ claim: 'boats', holds: ':boat' }, ({ who }) => who.user === 'pia'] },
        publish: { not: { ask: 'http://regatta.example/absent' } },
        hail: { all: ['signed-in', { ask: 'http://regatta.example/absent' }] },
      }),
    ]);
    for (const act of channelActs)
      for (const who of [...Object.values(people), observer]) {
        const { problem } = await all.decide(act, match(), { who });
        const explained = await all.explain(act, petrel, { who });
        // When it is worth asking again changes from one moment to the next.
        expect(explained.problem?.code).toEqual(problem?.code);
        expect(explained.allowed).toBe(problem === undefined);
        expect(explained.evaluation?.holds).toBe(explained.allowed);
      }
  });

  it('shows what was asked, what was not, and what the token brings', async () => {
    const asked: string[] = [];
    const { made: asking } = access(
      [
        rule('crew/:boat', {
          enter: { any: ['token-allows', { ask: 'http://a.example' }, { ask: 'http://b.example' }] },
        }),
      ],
      {},
      async (url) => {
        asked.push(url);
        return { allow: true, rememberMs: 30_000 };
      },
    );
    const grants = readGrants([{ pattern: 'crew/:boat', allow: { enter: { role: 'coach' } } }]);
    const { evaluation } = await asking.explain('enter', petrel, { who: { ...pia, grants } });
    expect(asked).toEqual(['http://a.example']);
    expect(evaluation?.parts).toMatchObject([
      { holds: false, parts: [{ asks: 'crew/:boat: role coach', holds: false, found: 'no roles' }] },
      { asks: 'ask http://a.example', holds: true, found: 'answered yes, remembered for 30 s' },
      { asks: 'ask http://b.example', holds: false, found: 'not asked: the rest decides' },
    ]);
  });

  it('shows a ban before any rule, and an act that concerns a user', async () => {
    const { made: own, standing } = access(rules, { notify: { role: 'coach' } });
    expect(await own.explain('notify', 'pia', { who: bram })).toMatchObject({ whom: 'pia', allowed: true });
    const by = { kind: 'user', id: 'sunniva', name: 'Sunniva Dahl' } as const;
    standing.take({ type: 'ban', id: 'b1', user: 'bram', channel: petrel, by, atMs: 0, reason: 'shouting' });
    expect(await own.explain('enter', petrel, { who: bram })).toMatchObject({
      allowed: false,
      problem: { code: 'banned', detail: 'banned from crew/petrel by Sunniva Dahl: shouting' },
      ban: { id: 'b1' },
      evaluation: { holds: true },
    });
    expect(await own.explain('notify', 'pia', { who: bram })).toMatchObject({ allowed: true });
  });

  it('says so when no rule matches', async () => {
    const { allowed, problem, others } = await made.explain('enter', 'crew', { who: pia });
    expect([allowed, problem?.code, others.length]).toEqual([false, 'no-such-channel', 3]);
  });
});
