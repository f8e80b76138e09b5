import type { EveryStore, MemoryStore } from '@nine-bells/core/testing';
import { channelName, type Json } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import type { ChannelRule, ReviewAnswer, ReviewQuestion } from '../src/index.js';
import { type Client, harness, storeWith } from './harness.js';

const chat = channelName('race/3/chat');
const moderator = { kind: 'key', id: 'k' } as const;
const allow = { enter: 'anyone', publish: 'anyone', revise: 'anyone', withdraw: 'anyone' } as const;
type Otherwise = 'refuse' | 'pass' | 'hold';
const rule = (otherwise: Otherwise): ChannelRule => ({
  pattern: 'race/:race/chat',
  logbook: { type: 'kept' },
  review: { ask: 'https://app/review', withinMs: 2_000, otherwise },
  allow,
});

/** The application answers by what a message holds: `no`, `later`, `never`, `fail`, `hold` and `rude`. */
function setUp(
  otherwise: Otherwise = 'refuse',
  change: Partial<ChannelRule> = {},
  store?: Parameters<typeof harness>[1],
  isAway: () => boolean = () => false,
) {
  const asked: ReviewQuestion[] = [];
  const review = async (_: string, question: ReviewQuestion): Promise<ReviewAnswer> => {
    asked.push(question);
    const { data } = question;
    if (isAway()) throw new Error('away');
    if (data === 'never') return new Promise(() => {});
    if (data === 'later') await new Promise<void>((resolve) => void all.clock.setTimer(1_000, resolve));
    if (data === 'fail') throw new Error('dead');
    if (data === 'hold') return { allow: false, hold: true, reason: 'somebody looks at it' };
    if (data === 'no') return { allow: false, reason: 'not here' };
    return data === 'rude' ? { allow: true, data: 'r***' } : { allow: true };
  };
  const all = harness({ pulseMs: 3_600_000 }, store, {
    rules: [{ ...rule(otherwise), ...change }],
    ports: { reviewer: { review } },
  });
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

  it('is refused as busy where its author has too many under review, in all channels together', async () => {
    const all = setUp();
    const [mira, pia] = await meet(all);
    const ids = Array.from({ length: 25 }, (_, n) =>
      mira.send({ do: 'publish', channel: channelName(`race/${n}/chat`), data: 'never' }),
    );
    await all.settle();
    expect(ids.filter((id) => reply(mira, id)?.problem?.code === 'busy')).toHaveLength(5);
    send(pia, 'yes');
    await all.settle();
    expect(pia.data).toEqual(['yes']);
  });

  it('is refused as busy where the authors at one address have too many under review', async () => {
    const all = setUp();
    const [, pia] = await meet(all);
    const from = async (user: string, address: string): Promise<boolean[]> => {
      const client = await all.welcomed(user, {}, undefined, address);
      const ids = Array.from({ length: 10 }, () => send(client, 'never'));
      await all.settle();
      return ids.map((id) => reply(client, id)?.problem?.code === 'busy');
    };
    const refused: boolean[] = [];
    for (let n = 0; n < 21; n++) refused.push(...(await from(`user${n}`, '192.0.2.7')));
    expect(refused.filter(Boolean)).toHaveLength(10);
    expect(await from('ines', '192.0.2.8')).not.toContain(true);
    send(pia, 'yes');
    await all.settle();
    expect(pia.data).toEqual(['yes']);
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

describe('a message that a moderator looks at', () => {
  const first = async (all: Harness) => {
    const [one] = (await all.engine.pending.list({ isWaiting: true, limit: 10, chars: 10_000 })).messages;
    if (one === undefined) throw new Error('nothing waits');
    return one;
  };
  const events = (client: Client) => client.pushes('pending').map(({ data, state, reason }) => [data, state, reason]);

  it.each([
    ['refuse', 'hold', 'somebody looks at it'],
    ['hold', 'fail', 'the application did not answer'],
    ['hold', 'never', 'the application did not answer'],
  ] as const)(
    'waits, is seen by its author, and is published once: without an answer %s, %s',
    async (otherwise, data, why) => {
      const all = setUp(otherwise);
      const [mira, pia] = await meet(all);
      const id = send(mira, data, { key: 'k1' });
      await all.clock.run(2_000);
      expect(reply(mira, id).problem).toMatchObject({ code: 'pending', pending: expect.any(String) });
      expect([pia.data, events(mira), events(pia)]).toEqual([[], [[data, 'waiting', why]], []]);
      const again = send(mira, data, { key: 'k1' });
      const own = mira.send({ do: 'pending' });
      const others = pia.send({ do: 'pending' });
      await all.settle();
      expect(reply(mira, again).problem.pending).toBe(reply(mira, id).problem.pending);
      expect(all.asked).toHaveLength(1);
      expect(reply(mira, own).pending).toMatchObject([{ data, key: 'k1', state: 'waiting', by: { user: 'mira' } }]);
      expect(reply(pia, others).pending).toEqual([]);
      const { id: waiting } = await first(all);
      const approved = all.engine.pending.approve(waiting, moderator);
      const second = all.engine.pending.approve(waiting, moderator).catch((error) => error.code);
      await all.settle();
      expect(await approved).toMatchObject({ state: 'published' });
      // Two moderators at once: the second gets the result, or `no-such-id`.
      expect(['no-such-id', 'published']).toContain(
        ((s) => s.state ?? s)((await second) as { state?: string } & string),
      );
      expect([pia.data, events(mira).at(-1)]).toEqual([[data], [data, 'published', undefined]]);
      const late = send(mira, data, { key: 'k1' });
      await all.settle();
      expect([reply(mira, late).repeated, all.asked.length]).toEqual([true, 1]);
    },
  );

  it.each([
    ['yes', ['yes', 'one']],
    ['rude', ['r***', 'one']],
    ['no', ['one']],
    ['hold', []],
  ])('without an answer is asked about again when the application is back: %s', async (data, published) => {
    let isAway = true;
    const all = setUp('hold', {}, undefined, () => isAway);
    const [mira, pia] = await meet(all);
    send(mira, data);
    await all.settle();
    isAway = false;
    send(mira, 'one');
    await all.clock.run(60_000);
    expect(pia.data).toEqual(published);
    expect(all.asked.filter((each) => each.data === data)).toHaveLength(2);
    expect(all.asked.at(-1)).toMatchObject({ channel: chat, parameters: { race: '3' }, who: { user: 'mira' }, data });
    if (data === 'hold') expect(events(mira).at(-1)).toEqual(['hold', 'waiting', 'somebody looks at it']);
    if (data === 'no') expect(events(mira)).toContainEqual(['no', 'refused', 'not here']);
    // Answered once, it is not asked about any more.
    await all.clock.run(60_000);
    expect(all.asked.filter((each) => each.data === data)).toHaveLength(2);
  });

  it.each(['fail', 'never'])(
    'holds up no message of others while the application cannot answer it: %s',
    async (data) => {
      let isAway = true;
      const all = setUp('hold', {}, undefined, () => isAway);
      const [mira, pia] = await meet(all);
      for (let n = 0; n < 20; n++) send(mira, data);
      const others = await Promise.all(['ines', 'tomas'].map((user) => all.welcomed(user)));
      for (const each of others) send(each, 'one');
      await all.clock.run(2_000);
      isAway = false;
      await all.clock.run(600_000);
      expect(pia.data).toEqual(['one', 'one']);
    },
  );

  it('lets later ones of its author pass where the rule says so, and is published when it is approved', async () => {
    const review = { ask: 'https://app/review', withinMs: 2_000, otherwise: 'refuse', order: 'none' } as const;
    const all = setUp('refuse', { review });
    const [mira, pia] = await meet(all);
    for (const data of ['hold', 'one', 'hold']) send(mira, data);
    await all.settle();
    expect(pia.data).toEqual(['one']);
    const { messages } = await all.engine.pending.list({ isWaiting: true, limit: 10, chars: 10_000 });
    await all.engine.pending.approve(messages[1]?.id as string, moderator);
    await all.settle();
    expect(pia.data).toEqual(['one', 'hold']);
  });

  it('keeps the order of its author, whatever is decided first, and holds up no other', async () => {
    const all = setUp();
    const [mira, pia] = await meet(all);
    for (const data of ['hold', 'one', 'hold', 'two', 'no']) send(mira, data);
    send(pia, 'other');
    await all.settle();
    const [h1, one, h2, two] = (await all.engine.pending.list({ isWaiting: true, limit: 10, chars: 10_000 })).messages;
    expect([pia.data, [h1, one, h2, two].map((each) => each?.isCleared)]).toEqual([
      ['other'],
      [false, true, false, true],
    ]);
    expect(await all.engine.pending.approve(h2?.id as string, moderator)).toMatchObject({
      state: 'waiting',
      cleared: true,
    });
    await all.settle();
    expect(pia.data).toEqual(['other']);
    await all.engine.pending.reject(h1?.id as string, moderator, 'not here');
    await all.settle();
    expect(pia.data).toEqual(['other', 'one', 'hold', 'two']);
    expect(events(mira).at(-4)).toEqual(['hold', 'refused', 'not here']);
    send(mira, 'three');
    await all.settle();
    expect(pia.data.at(-1)).toBe('three');
  });

  it('is taken back by its author alone, and what waits behind it goes on', async () => {
    const all = setUp();
    const [mira, pia] = await meet(all);
    for (const data of ['hold', 'one']) send(mira, data);
    await all.settle();
    const { id } = await first(all);
    const takeBack = async (client: Client) => {
      const asked = client.send({ do: 'take-back', pending: id });
      await all.settle();
      return reply(client, asked);
    };
    expect((await takeBack(pia)).problem).toMatchObject({ code: 'no-such-id' });
    expect(await takeBack(mira)).toMatchObject({ id, state: 'taken-back' });
    expect((await takeBack(mira)).problem).toMatchObject({ code: 'no-such-id' });
    await expect(all.engine.pending.approve(id, moderator)).rejects.toMatchObject({ code: 'no-such-id' });
    await expect(all.engine.pending.reject(id, moderator)).rejects.toMatchObject({ code: 'no-such-id' });
    expect(pia.data).toEqual(['one']);
  });

  it.each([
    ['is withdrawn', 'withdraw', 'refused', 'The message was withdrawn'],
    ['stands', undefined, 'published', undefined],
  ] as const)('revises what %s when it is approved', async (_, act, state, why) => {
    const all = setUp();
    const [mira, pia] = await meet(all);
    const id = send(mira, 'fine');
    await all.settle();
    const { cursor } = reply(mira, id);
    mira.send({ do: 'revise', channel: chat, cursor, data: 'hold' });
    await all.settle();
    const waiting = await first(all);
    expect([waiting.revises, pia.pushes('change').length]).toEqual([cursor, 0]);
    if (act !== undefined) pia.send({ do: act, channel: chat, cursor });
    await all.settle();
    const approved = all.engine.pending.approve(waiting.id, moderator);
    await all.settle();
    const now = await approved;
    expect([now.state, now.reason?.split(':')[0]]).toEqual([state, why]);
    expect(pia.pushes('change').map(({ message }) => message.data)).toEqual([act === undefined ? 'hold' : null]);
  });

  it('is not published behind a ban unless a moderator has let it pass', async () => {
    const all = setUp();
    const [mira, pia] = await meet(all);
    for (const data of ['hold', 'one']) send(mira, data);
    await all.settle();
    await all.engine.moderation.ban({ user: 'mira', channel: chat }, moderator);
    void all.engine.pending.approve((await first(all)).id, moderator);
    await all.settle();
    expect([pia.data, events(mira).at(-1)]).toEqual([['hold'], ['one', 'refused', 'Banned']]);
  });

  it('is bounded for each user, and needs a record that is kept', async () => {
    const all = setUp('hold');
    const [mira] = await meet(all);
    for (let n = 0; n < 100; n++) {
      send(mira, 'hold');
      await all.settle();
    }
    const more = send(mira, 'hold');
    await all.settle();
    expect(reply(mira, more).problem).toMatchObject({ code: 'busy' });

    const recent = setUp('hold', { logbook: { type: 'recent', bounds: { messages: 5, forMs: 60_000 } } });
    const [ines] = await meet(recent);
    const id = send(ines, 'hold');
    await recent.settle();
    expect(reply(ines, id).problem).toMatchObject({ code: 'review-failed' });
  });

  it('is withdrawn with a reason by moderators only', async () => {
    const moderate = { ...allow, moderate: { role: 'chair' } } as const;
    const all = setUp('refuse', { allow: moderate });
    const [[mira], chair] = [await meet(all), await all.welcomed('iris!chair')];
    const published = send(mira, 'yes');
    await all.settle();
    const { cursor } = reply(mira, published);
    const codes: (string | undefined)[] = [];
    for (const client of [mira, chair]) {
      const id = client.send({ do: 'withdraw', channel: chat, cursor, reason: 'rude' });
      await all.settle();
      codes.push(reply(client, id).problem?.code);
    }
    expect(codes).toEqual(['not-allowed', undefined]);
  });

  it('is gone before the messages of an author who is erased, so that it cannot be published behind them', async () => {
    let erased: (() => Promise<unknown>) | undefined;
    // A moderator approves when the last messages of the user were looked for.
    const watched = (memory: MemoryStore): EveryStore =>
      storeWith(memory, {
        messagesOf: async (...wish) => {
          const found = await memory.messagesOf(...wish);
          await erased?.();
          return found;
        },
      });
    const all = setUp('refuse', {}, watched);
    const [mira, pia] = await meet(all);
    send(mira, 'hold');
    await all.settle();
    const { id } = await first(all);
    const codes: string[] = [];
    erased = () => all.engine.pending.approve(id, moderator).catch(({ code }) => codes.push(code));
    await all.engine.eraser.begin({ user: 'mira', messages: 'withdraw' }, moderator);
    await all.clock.run(10_000);
    expect([pia.data, [...new Set(codes)]]).toEqual([[], ['no-such-id']]);
  });

  it('is published by another instance where the one that began has stopped', async () => {
    const all = setUp();
    const [mira, pia] = await meet(all);
    send(mira, 'hold');
    await all.settle();
    // A moderator has let it pass, and the instance has stopped right then.
    await all.memory.clearPending((await first(all)).id, moderator, 0);
    await all.clock.run(30_000);
    expect(pia.data).toEqual(['hold']);
  });
});
