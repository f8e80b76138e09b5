import { channelName } from '@nine-bells/wire';
import { beforeEach, describe, expect, it } from 'vitest';
import { VirtualClock } from '../simulator/virtualClock.js';
import { Questions } from '../src/access/questions.js';
import type { Answer, Identity, Question } from '../src/index.js';
import type { Answered } from '../src/rules/accessRule.js';

const rule = { ask: 'http://regatta.example/may' };
const pia: Identity = { user: 'pia', guest: false, roles: ['steward'], claims: { iat: 1, exp: 2, team: 'red' } };
const asks = (who = pia, act: Question['act'] = 'enter', channel = channelName('desk/3')): Question => ({
  act,
  channel,
  parameters: {},
  who,
});

let clock: VirtualClock;
let asked: number;
let reply: () => Promise<Answer>;
let questions: Questions;

beforeEach(() => {
  clock = new VirtualClock();
  asked = 0;
  reply = async () => ({ allow: true });
  questions = new Questions({
    clock,
    report: () => {},
    admission: () => undefined,
    withinMs: 3_000,
    asker: {
      ask: () => {
        asked += 1;
        return reply();
      },
    },
  });
});

const answer = async (question = asks()): Promise<Answered> => questions.answer(rule, question);

describe('the application is asked', () => {
  it('once, for as long as its answer may be remembered', async () => {
    reply = async () => ({ allow: true, rememberMs: 10_000 });
    await answer();
    expect(questions.answer(rule, asks())).not.toBeInstanceOf(Promise);
    await clock.run(9_999);
    await answer();
    expect(asked).toBe(1);
    await clock.run(1);
    await answer();
    expect(asked).toBe(2);
  });

  it('again about another act, channel or user, or the same user with other facts', async () => {
    await answer();
    // Another token of the same user that says the same is no other fact.
    await answer(asks({ ...pia, claims: { ...pia.claims, iat: 3, exp: 4, jti: 'x' } }));
    expect(asked).toBe(1);
    await answer(asks(pia, 'publish'));
    await answer(asks(pia, 'enter', channelName('desk/4')));
    await answer(asks({ ...pia, user: 'jory' }));
    await answer(asks({ ...pia, roles: [] }));
    await answer(asks({ ...pia, claims: { team: 'blue' } }));
    expect(asked).toBe(6);
  });

  it.each([
    ['user', 250, () => pia],
    ['address', 500, (n: number) => ({ ...pia, user: `user${n}` })],
  ])('limits the questions in flight per %s, so that the others still get answers', async (_, most, userOf) => {
    reply = () => new Promise(() => {});
    const found = Array.from({ length: most + 50 }, (_, n) =>
      questions.answer(rule, asks(userOf(n), 'enter', channelName(`desk/${n}`)), '192.0.2.7'),
    );
    expect(asked).toBe(most);
    expect(found.at(-1)).toMatchObject({ verdict: 'failed', found: 'not asked: too many questions are in flight' });
    void questions.answer(rule, asks({ ...pia, user: 'oona' }), '192.0.2.8');
    expect(asked).toBe(most + 1);
    await clock.run(120_000);
    void questions.answer(rule, asks(pia, 'enter', channelName('desk/late')), '192.0.2.7');
    expect(asked).toBe(most + 2);
  });

  it('once about equal questions under way at a time', async () => {
    let settle = (_: Answer): void => {};
    reply = () => new Promise((resolve) => (settle = resolve));
    const all = Promise.all([answer(), answer(), answer()]);
    settle({ allow: false, reason: 'full' });
    expect((await all).map(({ reason }) => reason)).toEqual(['full', 'full', 'full']);
    expect(asked).toBe(1);
  });

  it('each time, if its answer may not be remembered', async () => {
    reply = async () => ({ allow: true, rememberMs: 0 });
    await answer();
    const { untilMs } = await answer();
    expect(asked).toBe(2);
    // Who has entered is asked about again all the same, though not at once.
    expect((untilMs as number) - clock.now()).toBe(5_000);
  });

  it('remembering a refusal for less long than a yes', async () => {
    reply = async () => ({ allow: false });
    await answer();
    await clock.run(4_999);
    await answer();
    expect(asked).toBe(1);
    await clock.run(1);
    await answer();
    expect(asked).toBe(2);
  });
});

describe('an application that does not answer', () => {
  it('means no after the time limit', async () => {
    reply = () => new Promise(() => {});
    const waiting = answer();
    await clock.run(2_999);
    let settled = false;
    void waiting.then(() => (settled = true));
    await clock.run(1);
    expect(settled).toBe(true);
    expect(await waiting).toMatchObject({ verdict: 'failed', found: 'failed: no answer within 3000 ms' });
  });

  it('is left alone after five failures in a row, then tried with one question, and trusted again', async () => {
    reply = () => Promise.reject(new Error('refused'));
    const other = (n: number) => asks({ ...pia, user: `pia${n}` });
    for (let n = 0; n < 5; n++) await answer(other(n));
    const left = await answer(other(5));
    expect([asked, left.verdict]).toEqual([5, 'failed']);
    expect(left.retryAfterMs).toBeLessThanOrEqual(5_000);
    await clock.run(5_000);
    const [probe, beside] = await Promise.all([answer(other(6)), answer(other(7))]);
    expect([asked, probe.verdict, beside.found]).toEqual([6, 'failed', expect.stringContaining('not asked')]);
    // It failed again: it is left alone for longer.
    await clock.run(9_999);
    await answer(other(8));
    expect(asked).toBe(6);
    await clock.run(1);
    reply = async () => ({ allow: true });
    expect((await answer(other(9))).verdict).toBe('yes');
    await Promise.all([answer(other(10)), answer(other(11))]);
    expect(asked).toBe(9);
  });

  it('is not remembered as a no', async () => {
    reply = () => Promise.reject(new Error('refused'));
    await answer();
    reply = async () => ({ allow: true });
    expect((await answer()).verdict).toBe('yes');
  });
});
