import type { EveryStore, MemoryStore } from '@nine-bells/core/testing';
import { channelName } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { Random } from '../simulator/random.js';
import { type ChannelRule, directAllow } from '../src/index.js';
import { type Client, harness } from './harness.js';

const chat = channelName('race/3/chat');
const other = channelName('race/4/chat');
const rules: readonly ChannelRule[] = [
  {
    pattern: 'race/:race/chat',
    logbook: { type: 'kept' },
    presence: { graceMs: 1_000, crowd: 200, noted: true },
    showsMarks: true,
    allow: { enter: 'anyone', publish: 'anyone' },
  },
  { pattern: 'wind', logbook: { type: 'recent', bounds: { messages: 9, forMs: 9_000 } }, allow: { enter: 'anyone' } },
  { pattern: 'crew/:boat', logbook: { type: 'kept' }, allow: { enter: { claim: 'boat', is: ':boat' } } },
  { pattern: 'direct/:users', logbook: { type: 'kept' }, direct: true, allow: directAllow('users') },
];
const setUp = (options: object = {}, store?: (memory: MemoryStore) => EveryStore) =>
  harness({ pulseMs: 3_600_000, users: { direct: 'anyone' }, ...options }, store, { rules });

type Harness = ReturnType<typeof setUp>;

/** Publishes for an application; gives the cursors. */
async function say({ engine, settle }: Harness, channel: string, ...by: (string | undefined)[]): Promise<string[]> {
  const published = [];
  for (const user of by)
    published.push(
      await engine.messages.publish({
        channel: channelName(channel),
        data: 1,
        ...(user === undefined ? {} : { by: { user } }),
      }),
    );
  await settle();
  return published.map(({ cursor }) => cursor);
}

/** What a session was told of counts, one push after another. */
const told = (client: Client) => client.pushes('unread').map(({ counts }) => counts);

async function answer({ settle }: Harness, client: Client, request: object) {
  const id = client.send(request);
  await settle();
  return client.reply(id) as unknown as { problem?: { code: string; detail: string } };
}

describe('a read mark', () => {
  it('says how much is unread: not one’s own, and not who comes and goes', async () => {
    const all = setUp();
    const pia = await all.welcomed('pia');
    const [first] = await say(all, chat, 'ines', 'pia', undefined, 'pia');
    // Jory’s coming is noted in the record.
    await all.welcomed('jory', { enter: [{ channel: chat }] });
    await all.clock.run(3_000);
    expect(await answer(all, pia, { do: 'mark', channel: chat, cursor: first })).toMatchObject({
      channel: chat,
      cursor: first,
      unread: 1,
    });
    expect(await all.engine.marks.unread('pia')).toMatchObject([{ channel: chat, unread: 1, counted: 4 }]);
    expect(await all.engine.marks.unread('ines')).toEqual([]);
  });

  it('moves forward only, never beyond the last message, and not in what is not kept', async () => {
    const all = setUp();
    const pia = await all.welcomed('pia');
    const [first, , third] = await say(all, chat, 'ines', 'ines', 'ines', 'ines');
    await answer(all, pia, { do: 'mark', channel: chat, cursor: third });
    // Another device lags behind.
    expect(await answer(all, pia, { do: 'mark', channel: chat, cursor: first })).toMatchObject({
      cursor: third,
      unread: 1,
    });
    const [volume] = (third as string).split(':');
    for (const cursor of [`${volume}:5`, 'elsewhere:1'])
      expect(await answer(all, pia, { do: 'mark', channel: chat, cursor })).toMatchObject({
        problem: { code: 'bad-cursor' },
      });
    expect(await answer(all, pia, { do: 'mark', channel: 'wind', cursor: third })).toMatchObject({
      problem: { code: 'bad-value', detail: expect.stringContaining('not kept') },
    });
    expect(await answer(all, pia, { do: 'mark', channel: 'crew/petrel', cursor: third })).toMatchObject({
      problem: { code: 'not-allowed' },
    });
    const guest = await all.welcomed();
    expect(await answer(all, guest, { do: 'mark', channel: chat, cursor: third })).toMatchObject({
      problem: { code: 'not-allowed', detail: expect.stringContaining('guests') },
    });
    expect(await answer(all, guest, { do: 'unread' })).toMatchObject({ problem: { code: 'not-allowed' } });
  });

  it('can be taken away, and a user has only so many', async () => {
    const all = setUp({ marksPerUser: 1 });
    const pia = await all.welcomed('pia');
    const [here] = await say(all, chat, 'ines');
    const [there] = await say(all, other, 'ines');
    await answer(all, pia, { do: 'mark', channel: chat, cursor: here });
    const next = { do: 'mark', channel: other, cursor: there };
    expect(await answer(all, pia, next)).toMatchObject({ problem: { code: 'too-many-channels' } });
    expect(await answer(all, pia, { do: 'mark', channel: chat, cursor: null })).toMatchObject({ re: 4, unread: 0 });
    expect(await answer(all, pia, next)).toMatchObject({ cursor: there, unread: 0 });
  });

  it('is seen by those who have entered, where the rule shows it, until it is a crowd', async () => {
    const all = setUp({ marksShown: 2 });
    const [first, second] = await say(all, chat, 'ines', 'ines');
    await all.engine.marks.move('jory', chat, { volume: (first as string).split(':')[0] as string, number: 1 });
    const ines = await all.welcomed('ines', { enter: [{ channel: chat }] });
    expect(ines.frames[0].entered[0].marks).toEqual({ jory: first });
    const jory = await all.welcomed('jory');
    await answer(all, jory, { do: 'mark', channel: chat, cursor: second });
    await all.clock.run(600);
    expect(ines.pushes('marks')).toEqual([{ on: 'marks', channel: chat, marks: { jory: second } }]);
    await answer(all, jory, { do: 'mark', channel: chat, cursor: null });
    await all.clock.run(600);
    expect(ines.pushes('marks').at(-1).marks).toEqual({ jory: null });
    for (const user of ['a', 'b', 'c'])
      await answer(all, await all.welcomed(user), { do: 'mark', channel: chat, cursor: second });
    await all.clock.run(600);
    expect(ines.pushes('marks').length).toBe(2);
    expect((await all.welcomed('d', { enter: [{ channel: chat }] })).frames[0].entered[0]).not.toHaveProperty('marks');
  });
});

describe('unread counts', () => {
  it('are told at most once a second, changes only, also of channels that were not entered', async () => {
    const all = setUp();
    const [here] = await say(all, chat, 'ines');
    const [there] = await say(all, other, 'ines');
    const desk = await all.welcomed('pia');
    const phone = await all.welcomed('pia');
    await answer(all, desk, { do: 'mark', channel: chat, cursor: here });
    await answer(all, desk, { do: 'mark', channel: other, cursor: there });
    for (const each of [desk, phone])
      expect(await answer(all, each, { do: 'unread' })).toMatchObject({ counts: { [chat]: 0, [other]: 0 } });
    await say(all, chat, 'ines', 'jory', 'pia');
    await all.clock.run(100);
    expect(told(desk)).toEqual([{ [chat]: 2 }]);
    const many = await say(all, chat, ...Array.from({ length: 50 }, () => 'ines'));
    await all.clock.run(500);
    expect(told(desk).length).toBe(1);
    await all.clock.run(500);
    expect(told(desk).slice(1)).toEqual([{ [chat]: 52 }]);
    await answer(all, phone, { do: 'mark', channel: chat, cursor: many.at(-1) });
    await all.clock.run(1_100);
    for (const each of [desk, phone]) expect(told(each).at(-1)).toEqual({ [chat]: 0 });
    expect(told(phone)).toEqual(told(desk));
    await all.clock.run(10_000);
    expect(told(desk).length).toBe(3);
  });

  it('of a direct channel begin by themselves, for all its users', async () => {
    const all = setUp();
    const jory = await all.welcomed('jory');
    const pia = await all.welcomed('pia');
    await all.clock.run(2_000);
    for (const each of [jory, pia]) await answer(all, each, { do: 'unread' });
    await answer(all, pia, { do: 'publish', channel: 'direct/jory,pia', data: 'hello' });
    await answer(all, pia, { do: 'publish', channel: 'direct/jory,pia', data: 'are you there?' });
    await all.clock.run(1_100);
    expect(told(jory)).toEqual([{ 'direct/jory,pia': 2 }]);
    expect(told(pia)).toEqual([{ 'direct/jory,pia': 0 }]);
  });

  it('say nothing of a channel that one may not enter any more', async () => {
    const all = setUp();
    const [place] = await say(all, 'crew/petrel', 'ines');
    const tomas = await all.welcomed('tomas+petrel');
    await answer(all, tomas, { do: 'mark', channel: 'crew/petrel', cursor: place });
    await answer(all, tomas, { do: 'unread' });
    const elsewhere = await all.welcomed('tomas+skua');
    expect(await answer(all, elsewhere, { do: 'unread' })).toMatchObject({ counts: {} });
    await say(all, 'crew/petrel', 'ines');
    await all.clock.run(1_100);
    expect([told(tomas), told(elsewhere)]).toEqual([[{ 'crew/petrel': 1 }], []]);
    await all.engine.moderation.ban({ user: 'tomas', channel: channelName('crew/petrel') }, { kind: 'key', id: 'k' });
    await say(all, 'crew/petrel', 'ines');
    await all.clock.run(1_100);
    expect(told(tomas).length).toBe(1);
  });

  it('are asked for again when the store did not answer', async () => {
    let broken = true;
    const all = setUp({}, (memory) => {
      const unread = memory.unread.bind(memory);
      memory.unread = (...of) => (broken ? Promise.reject(new Error('the disk does not answer')) : unread(...of));
      return memory;
    });
    const pia = await all.welcomed('pia');
    expect(await answer(all, pia, { do: 'unread' })).toMatchObject({ problem: { code: 'internal' } });
    broken = false;
    const [place] = await say(all, chat, 'ines');
    await answer(all, pia, { do: 'mark', channel: chat, cursor: place });
    expect(await answer(all, pia, { do: 'unread' })).toMatchObject({ counts: { [chat]: 0 } });
    broken = true;
    // Only the store knows that one of the two is her own.
    await say(all, chat, 'pia', 'ines');
    await all.clock.run(3_000);
    expect(told(pia)).toEqual([]);
    broken = false;
    await all.clock.run(2_000);
    expect(told(pia)).toEqual([{ [chat]: 1 }]);
  });

  it('are what counting by hand gives, whatever happens: 100 seeds', async () => {
    for (let seed = 1; seed <= 100; seed++) await runOf(seed);
  });

  async function runOf(seed: number): Promise<void> {
    const random = new Random(seed);
    const all = setUp();
    const users = ['ines', 'jory', 'pia'];
    const channels = [chat, other, channelName('direct/ines,jory')];
    const clients = new Map<string, Client>();
    const shown = new Map<Client, Record<string, number>>();
    for (let step = 0; step < 60; step++) {
      const user = random.pick(users);
      const channel = random.pick(channels);
      const client = clients.get(user);
      const dice = random.between(0, 9);
      if (dice < 4) await say(all, channel, random.pick([...users, undefined]));
      else if (client === undefined) {
        const come = await all.welcomed(user);
        const id = come.send({ do: 'unread' });
        if (random.chance(0.5)) await say(all, channel, random.pick(users));
        await all.settle();
        shown.set(come, { ...(come.reply(id) as unknown as { counts: object }).counts });
        clients.set(user, come);
      } else if (dice < 7) {
        const { cursor } = await all.engine.channels.describe(channel);
        const [volume, head] = (cursor ?? 'v:0').split(':');
        if (cursor !== undefined)
          client.send({ do: 'mark', channel, cursor: `${volume}:${random.between(0, Number(head))}` });
      } else if (dice === 7) {
        client.connection.closed(1006);
        clients.delete(user);
      } else await all.clock.run(random.between(0, 1_500));
    }
    await all.clock.run(5_000);
    for (const [user, client] of clients) {
      const known = Object.assign({}, shown.get(client), ...told(client));
      const real = Object.fromEntries(
        (await all.engine.marks.unread(user)).map(({ channel, unread }) => [channel, unread]),
      );
      expect(known, `seed ${seed}, ${user}`).toEqual(real);
    }
    expect(all.reports, `seed ${seed}`).toEqual([]);
  }
});
