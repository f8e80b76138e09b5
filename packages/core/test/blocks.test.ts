import type { EveryStore, MemoryStore } from '@nine-bells/core/testing';
import { channelName, refusal } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { type ChannelRule, directAllow } from '../src/index.js';
import { type Client, harness, storeWith } from './harness.js';

const chat = channelName('race/3/chat');
const rules: readonly ChannelRule[] = [
  {
    pattern: 'race/:race/chat',
    logbook: { type: 'kept' },
    hasReplies: true,
    allow: { enter: 'anyone', publish: 'anyone', hail: 'anyone', revise: 'anyone' },
  },
  { pattern: 'marked', logbook: { type: 'kept' }, marksBlocked: true, allow: { enter: 'anyone', publish: 'anyone' } },
  { pattern: 'direct/:users', logbook: { type: 'kept' }, direct: true, allow: directAllow('users') },
];
const setUp = (store?: (memory: MemoryStore) => EveryStore, options: object = {}) =>
  harness({ pulseMs: 3_600_000, users: { direct: 'anyone' }, ...options }, store, { rules });
type Harness = ReturnType<typeof setUp>;

async function ask({ settle }: Harness, client: Client, request: object) {
  const id = client.send(request);
  await settle();
  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  return client.reply(id) as any;
}

const publish = (all: Harness, client: Client, data: unknown, channel: string = chat) =>
  ask(all, client, { do: 'publish', channel, data });

describe('a block', () => {
  it('hides the quote in replies of others to a blocked user', async () => {
    const all = setUp();
    const [pia, jory, ines] = [await all.welcomed('pia'), await all.welcomed('jory'), await all.welcomed('ines')];
    for (const each of [pia, jory, ines]) await ask(all, each, { do: 'enter', channel: chat });
    await ask(all, pia, { do: 'block', user: 'jory', as: 'blocked' });
    const { cursor } = await publish(all, jory, 'an insult');
    for (const replyTo of [cursor, (await publish(all, ines, 'a thought')).cursor])
      await ask(all, ines, { do: 'publish', channel: chat, data: 'reply', replyTo });
    const quotes = (client: Client) => client.pushes('message').flatMap(({ answers }) => answers?.text ?? []);
    expect([quotes(pia), quotes(jory)]).toEqual([['a thought'], ['an insult', 'a thought']]);
  });

  it.each(['blocked', 'muted'] as const)(
    'keeps messages, changes and hails of one user away on all devices, until it ends: %s',
    async (as) => {
      const all = setUp();
      const [one, two] = [await all.welcomed('pia'), await all.welcomed('pia')];
      const [jory, ines] = [await all.welcomed('jory'), await all.welcomed('ines')];
      for (const each of [one, two, jory, ines]) await ask(all, each, { do: 'enter', channel: chat });
      const { cursor } = await publish(all, jory, 'before');
      expect(await ask(all, one, { do: 'block', user: 'jory', as })).toMatchObject({ blocks: [{ user: 'jory', as }] });
      expect(two.pushes('blocks')).toMatchObject([{ blocks: [{ user: 'jory', as }] }]);
      await publish(all, jory, 'hidden');
      await ask(all, jory, { do: 'revise', channel: chat, cursor, data: 'revised' });
      await ask(all, jory, { do: 'hail', channel: chat, type: 'typing' });
      await publish(all, ines, 'shown');
      for (const each of [one, two]) {
        expect(each.data).toEqual(['before', 'shown']);
        expect([each.pushes('change'), each.pushes('hail')]).toEqual([[], []]);
      }
      expect([ines.data, ines.pushes('change').length, ines.pushes('hail').length]).toEqual([
        ['before', 'hidden', 'shown'],
        1,
        1,
      ]);
      const read = async (client: Client): Promise<unknown[]> =>
        (await ask(all, client, { do: 'read', channel: chat })).messages.map(({ data }: { data: unknown }) => data);
      expect([await read(one), await read(ines)]).toEqual([['shown'], ['revised', 'hidden', 'shown']]);
      const late = await all.welcomed('pia', { enter: [{ channel: chat, after: cursor }] });
      expect(late.frames[0]).toMatchObject({
        blocks: [{ user: 'jory', as }],
        entered: [{ messages: [{ data: 'shown' }] }],
      });
      expect(late.frames[0].entered[0]).not.toHaveProperty('changes');
      // Jory learns nothing of it, and its own are as ever.
      expect(jory.data).toEqual(['before', 'hidden', 'shown']);
      expect(await ask(all, two, { do: 'unblock', user: 'jory' })).toMatchObject({ blocks: [] });
      await publish(all, jory, 'again');
      for (const each of [one, two, late]) expect(each.data.at(-1)).toBe('again');
      expect(await read(one)).toEqual(['revised', 'hidden', 'shown', 'again']);
    },
  );

  it('leaves messages to be marked where the rule says so', async () => {
    const all = setUp();
    const [pia, jory] = [await all.welcomed('pia'), await all.welcomed('jory')];
    await ask(all, pia, { do: 'enter', channel: 'marked' });
    await ask(all, pia, { do: 'block', user: 'jory' });
    await publish(all, jory, 'there', 'marked');
    expect(pia.data).toEqual(['there']);
  });

  it.each([
    ['blocked', 'not-allowed', [], 0],
    ['muted', undefined, ['hello'], 1],
  ] as const)('in direct channels, %s', async (as, refused, heard, notices) => {
    const all = setUp();
    const [pia, jory] = [await all.welcomed('pia'), await all.welcomed('jory')];
    // What the other has begun goes on, without a word to the one who is kept away.
    const begun = 'direct/jory,pia';
    await publish(all, pia, 'first', begun);
    await ask(all, pia, { do: 'block', user: 'jory', as });
    const there = await all.welcomed('pia', { enter: [{ channel: begun }] });
    expect(await publish(all, jory, 'hello', begun)).not.toHaveProperty('problem');
    expect(there.data).toEqual(heard);
    await ask(all, there, { do: 'leave', channel: begun });
    await publish(all, jory, 'and more', begun);
    expect(pia.pushes('notice')).toHaveLength(notices);
    // A new one, with others.
    await all.welcomed('ines');
    const { problem } = await publish(all, jory, 'hello', 'direct/ines,jory,pia');
    expect(problem?.code).toBe(refused);
    if (refused !== undefined) expect(problem.detail).toBe('user jory may not start a direct channel with pia');
  });

  it('takes messages off what is unread, and gives them back', async () => {
    const all = setUp();
    const [pia, jory, ines] = [await all.welcomed('pia'), await all.welcomed('jory'), await all.welcomed('ines')];
    const { cursor } = await publish(all, ines, 1);
    await ask(all, pia, { do: 'mark', channel: chat, cursor });
    await publish(all, jory, 2);
    await publish(all, ines, 3);
    const counts = async (): Promise<unknown> => {
      await all.clock.run(1_200);
      return { ...(await ask(all, pia, { do: 'unread' })).counts };
    };
    expect(await counts()).toEqual({ [chat]: 2 });
    await ask(all, pia, { do: 'block', user: 'jory' });
    expect(await counts()).toEqual({ [chat]: 1 });
    expect(pia.pushes('unread').at(-1)).toMatchObject({ counts: { [chat]: 1 } });
    await publish(all, jory, 4);
    await publish(all, ines, 5);
    expect(await counts()).toEqual({ [chat]: 2 });
    expect((await all.engine.marks.unread('pia'))[0]).toMatchObject({ unread: 2 });
    expect(await ask(all, pia, { do: 'mark', channel: chat, cursor })).toMatchObject({ unread: 2 });
    // Counting all anew has its price: a second time waits.
    await ask(all, pia, { do: 'unblock', user: 'jory' });
    expect(await counts()).toEqual({ [chat]: 2 });
    await all.clock.run(10_000);
    expect(await counts()).toEqual({ [chat]: 4 });
  });

  it.each([
    ['one of yourself', 'pia', { do: 'block', user: 'pia' }, 'bad-value'],
    ['by a guest', undefined, { do: 'block', user: 'jory' }, 'not-allowed'],
    ['of nobody', 'pia', { do: 'block' }, 'bad-value'],
    ['of a kind that is not one', 'pia', { do: 'block', user: 'jory', as: 'hated' }, 'bad-value'],
    ['of one too many', 'pia', { do: 'block', user: 'jory' }, 'too-many-blocks'],
    ['that ends and is not there', 'pia', { do: 'unblock', user: 'jory' }, undefined],
  ])('is refused: %s', async (_, user, request, code) => {
    const all = setUp(undefined, { blocksPerUser: 1, guests: true });
    const client = await all.welcomed(user);
    if (code === 'too-many-blocks') await ask(all, client, { do: 'block', user: 'bram' });
    expect((await ask(all, client, request)).problem?.code).toBe(code);
  });

  it('counts also while a channel is being entered, and what is read then', async () => {
    let waiting: (() => void) | undefined;
    const slow = (memory: MemoryStore): EveryStore =>
      storeWith(memory, {
        before: async (...args) => {
          await new Promise<void>((resolve) => {
            waiting = resolve;
          });
          return memory.before(...args);
        },
      });
    const all = setUp(slow);
    const [one, two, jory] = [await all.welcomed('pia'), await all.welcomed('pia'), await all.welcomed('jory')];
    await publish(all, jory, 'before');
    const entering = one.send({ do: 'enter', channel: chat, last: 10 });
    await all.settle();
    await ask(all, two, { do: 'block', user: 'jory' });
    waiting?.();
    await all.settle();
    expect(one.reply(entering)).toMatchObject({ messages: [] });
    await publish(all, jory, 'after');
    expect(one.data).toEqual([]);
  });

  it('lets no client into a channel before it is known whom its user keeps away', async () => {
    let fails = true;
    const broken = (memory: MemoryStore): EveryStore =>
      storeWith(memory, {
        hasBlocks: async () => {
          if (fails) throw refusal('unavailable', 'the database does not answer');
          return memory.hasBlocks();
        },
      });
    const all = setUp(broken);
    const pia = await all.welcomed('pia', { enter: [{ channel: chat }] });
    expect(pia.frames[0].entered).toMatchObject([{ channel: chat, problem: { code: 'unavailable' } }]);
    fails = false;
    expect(await ask(all, pia, { do: 'enter', channel: chat })).not.toHaveProperty('problem');
  });
});
