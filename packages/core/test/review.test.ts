import { channelName, type Json } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import type { ChannelRule, ReviewAnswer, ReviewQuestion } from '../src/index.js';
import { type Client, harness } from './harness.js';

const chat = channelName('race/3/chat');
const allow = { enter: 'anyone', publish: 'anyone', revise: 'anyone', withdraw: 'anyone' } as const;
const rule = (otherwise: 'refuse' | 'pass'): ChannelRule => ({
  pattern: 'race/:race/chat',
  logbook: { type: 'kept' },
  review: { ask: 'https://app/review', withinMs: 2_000, otherwise },
  allow,
});

/** The application answers by what a message holds: `no`, `later`, `never`, `fail` and `rude`. */
function setUp(otherwise: 'refuse' | 'pass' = 'refuse') {
  const asked: ReviewQuestion[] = [];
  const review = async (_: string, question: ReviewQuestion): Promise<ReviewAnswer> => {
    asked.push(question);
    const { data } = question;
    if (data === 'never') return new Promise(() => {});
    if (data === 'later') await new Promise<void>((resolve) => void all.clock.setTimer(1_000, resolve));
    if (data === 'fail') throw new Error('dead');
    if (data === 'no') return { allow: false, reason: 'not here' };
    return data === 'rude' ? { allow: true, data: 'r***' } : { allow: true };
  };
  const all = harness({ pulseMs: 3_600_000 }, undefined, { rules: [rule(otherwise)], ports: { reviewer: { review } } });
  return { ...all, asked };
}
type Harness = ReturnType<typeof setUp>;

const send = (client: Client, data: Json, more: object = {}) =>
  client.send({ do: 'publish', channel: chat, data, ...more });
// biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
const reply = (client: Client, id: number): any => client.reply(id);
const meet = async (all: Harness) =>
  [await all.welcomed('mira'), await all.welcomed('pia', { enter: [{ channel: chat }] })] as const;

describe('a message that is reviewed', () => {
  it.each([
    ['refuse', 'yes', undefined, ['yes']],
    ['refuse', 'rude', undefined, ['r***']],
    ['refuse', 'no', 'review-refused', []],
    ['refuse', 'fail', 'review-failed', []],
    ['refuse', 'never', 'review-failed', []],
    ['pass', 'no', 'review-refused', []],
    ['pass', 'fail', undefined, ['fail']],
    ['pass', 'never', undefined, ['never']],
  ] as const)('without an answer %s: %s', async (otherwise, data, code, shown) => {
    const all = setUp(otherwise);
    const [mira, pia] = await meet(all);
    const id = send(mira, data, { key: 'k1' });
    await all.clock.run(2_000);
    const { problem, data: changed } = reply(mira, id);
    expect([problem?.code, pia.data, changed]).toEqual([code, shown, data === 'rude' ? 'r***' : undefined]);
    if (code === 'review-refused') expect(problem.detail).toBe('not here');
    expect(all.asked).toMatchObject([
      { channel: chat, parameters: { race: '3' }, who: { user: 'mira' }, data, key: 'k1' },
    ]);
  });

  it('keeps its place among those of its author, and lets others go on', async () => {
    const all = setUp();
    const [mira, pia] = await meet(all);
    const again = await all.welcomed('mira');
    for (const [client, data] of [
      [mira, 'later'],
      [mira, 'one'],
      [again, 'two'],
      [pia, 'other'],
      [mira, 'no'],
    ] as const)
      send(client, data);
    await all.settle();
    expect([pia.data, all.asked.length]).toEqual([['other'], 5]);
    await all.clock.run(1_000);
    expect(pia.data).toEqual(['other', 'later', 'one', 'two']);
  });

  it('is reviewed again when it is revised, and not when it is taken back or the application publishes', async () => {
    const all = setUp();
    const [mira, pia] = await meet(all);
    await all.engine.messages.publish({ channel: chat, data: 'no' });
    const id = send(mira, 'fine');
    await all.settle();
    const { cursor } = reply(mira, id);
    const revise = async (data: string) => {
      const asked = mira.send({ do: 'revise', channel: chat, cursor, data });
      await all.settle();
      return reply(mira, asked);
    };
    expect((await revise('no')).problem.code).toBe('review-refused');
    expect((await revise('rude')).data).toBe('r***');
    expect(pia.pushes('change').map(({ message }) => message.data)).toEqual(['r***']);
    mira.send({ do: 'withdraw', channel: chat, cursor });
    await all.settle();
    expect(all.asked.map(({ data, revises }) => [data, revises])).toEqual([
      ['fine', undefined],
      ['no', cursor],
      ['rude', cursor],
    ]);
    expect(pia.pushes('change')).toHaveLength(2);
  });

  it('is not published if its author was banned meanwhile', async () => {
    const all = setUp();
    const [mira, pia] = await meet(all);
    send(mira, 'later');
    await all.settle();
    await all.engine.moderation.ban({ user: 'mira', channel: chat }, { kind: 'key', id: 'k' });
    await all.clock.run(2_000);
    expect(pia.data).toEqual([]);
  });

  it('is bounded, and a dead application is left alone for a while', async () => {
    const all = setUp('pass');
    const [mira, pia] = await meet(all);
    const ids = Array.from({ length: 21 }, () => send(mira, 'never'));
    await all.settle();
    expect(reply(mira, ids[20] as number).problem).toMatchObject({ code: 'busy' });
    await all.clock.run(2_000);
    expect([pia.data.length, all.asked.length]).toEqual([20, 20]);
    send(mira, 'yes');
    await all.settle();
    expect([pia.data.at(-1), all.asked.length]).toEqual(['yes', 20]);
    await all.clock.run(5_000);
    send(mira, 'yes');
    await all.settle();
    expect(all.asked).toHaveLength(21);
  });

  it('needs a way to ask', () => {
    expect(() => harness({}, undefined, { rules: [rule('pass')] })).toThrow('race/:race/chat: messages are reviewed');
  });
});
