import { channelName, formatCursor } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import type { Fate } from '../src/index.js';
import { fatesOf } from '../src/record/fates.js';
import { harness } from './harness.js';

const chat = channelName('race/3/chat');

/** What became of a message for a user, as the one instance tells it. */
async function fateOf(
  { engine, settle }: ReturnType<typeof harness>,
  id: string,
  user: string,
): Promise<Fate | undefined> {
  await settle();
  const trace = await engine.cluster.trace(id, user);
  expect(trace?.user?.fates.length ?? 0).toBeLessThan(2);
  return trace?.user?.fates[0];
}

describe('a trace', () => {
  it('says where a message was taken in, when it had its place, and to how many it was handed', async () => {
    const all = harness();
    const { engine, welcomed, clock } = all;
    await welcomed('pia', { enter: [{ channel: chat }] });
    await welcomed('jory', { enter: [{ channel: chat }] });
    const { id, cursor } = await engine.messages.publish({
      channel: chat,
      data: 1,
      by: { user: 'mira', name: 'Mira Holt' },
    });
    await clock.run(10);
    expect(await engine.cluster.trace(id)).toMatchObject({
      id,
      channel: chat,
      cursor,
      accepted: { instance: 'i1', by: { user: 'mira' }, repeats: 0 },
      instances: [{ instance: 'i1', connections: 2, confirmed: 0 }],
      sentence: expect.stringMatching(/^Taken in from Mira Holt by i1 at .*handed on by i1 at .* to 2 connections/),
    });
  });

  it('counts who has said that they got it, and how often it was published again', async () => {
    const all = harness();
    const { engine, welcomed, clock } = all;
    const pia = await welcomed('pia', { enter: [{ channel: chat }] });
    const draft = { channel: chat, data: 1, key: 'k', by: { user: 'mira' } };
    const { id, cursor } = await engine.messages.publish(draft);
    await engine.messages.publish(draft);
    await clock.run(10);
    pia.send({ do: 'pulse', got: { [chat]: cursor } });
    expect(await fateOf(all, id, 'pia')).toMatchObject({
      outcome: 'got',
      sentence: expect.stringMatching(/has said so$/),
    });
    expect(await engine.cluster.trace(id)).toMatchObject({
      accepted: { repeats: 1 },
      instances: [{ confirmed: 1 }],
    });
  });

  it('says of who was not there why: left, entered later, may not, was removed, was never there', async () => {
    const all = harness();
    const { engine, welcomed, clock } = all;
    const pia = await welcomed('pia', { enter: [{ channel: chat }] });
    pia.send({ do: 'leave', channel: chat });
    const jory = await welcomed('jory');
    const crew = channelName('crew/petrel');
    await welcomed('ines+dunlin', { enter: [{ channel: crew }] });
    await welcomed('tomas', { enter: [{ channel: chat }] });
    await engine.moderation.remove(
      { channel: chat, user: 'tomas', reason: 'shouting' },
      { kind: 'service', id: 'test' },
    );
    await clock.run(10);
    const { id } = await engine.messages.publish({ channel: chat, data: 1 });
    await clock.run(10);
    jory.send({ do: 'enter', channel: chat });
    const sentences = async (user: string): Promise<string | undefined> => (await fateOf(all, id, user))?.sentence;
    expect(await sentences('pia')).toMatch(/^PIA did not get it: the session left race\/3\/chat at \d\d:\d\d:\d\d/);
    expect(await sentences('jory')).toMatch(/^JORY did not get it: the session entered race\/3\/chat only at /);
    expect(await sentences('tomas')).toMatch(/was removed from race\/3\/chat at .* \(shouting\)$/);
    const secret = await engine.messages.publish({ channel: crew, data: 1 });
    await clock.run(10);
    expect(await fateOf(all, secret.id, 'ines')).toMatchObject({
      outcome: 'refused',
      problem: { code: 'not-allowed' },
      sentence: expect.stringMatching(/^INES did not get it: the session is not allowed to enter crew\/petrel/),
    });
    // Who has not tried is told all the same what would stand in the way.
    expect(await fateOf(all, secret.id, 'pia')).toMatchObject({ outcome: 'refused' });
    expect((await engine.cluster.trace(id, 'nobody'))?.user?.sentence).toMatch(/no session of this user is known/);
  });

  it('says when somebody was cut off, and recovered it', async () => {
    const all = harness({ sendQueueBytes: 2_000 });
    const { engine, welcomed, clock } = all;
    const slow = await welcomed('pia', { enter: [{ channel: chat }] });
    const { session, secret } = slow.frames[0];
    const cursor = (await engine.messages.publish({ channel: chat, data: 'first' })).cursor;
    await clock.run(10);
    slow.waitingBytes = 1;
    const ids = [];
    for (let n = 0; n < 30; n++) ids.push((await engine.messages.publish({ channel: chat, data: 'x'.repeat(100) })).id);
    await clock.run(10);
    expect(slow.closedWith?.code).toBe(4900);
    expect(await fateOf(all, ids[0] as string, 'pia')).toMatchObject({ outcome: 'too-slow' });
    await clock.run(1_000);
    await welcomed('pia', { session, secret, enter: [{ channel: chat, after: cursor }] });
    for (const id of [ids[0], ids[29]] as string[])
      expect(await fateOf(all, id, 'pia')).toMatchObject({
        recoveredAtMs: clock.now(),
        sentence: expect.stringMatching(/^PIA was cut off as too slow at .* and recovered it at /),
      });
  });

  it('says of a connection that broke whether its client came back with the message or without', async () => {
    const all = harness();
    const { engine, welcomed, clock } = all;
    const pia = await welcomed('pia', { enter: [{ channel: chat }] });
    const first = await engine.messages.publish({ channel: chat, data: 1 });
    const second = await engine.messages.publish({ channel: chat, data: 2 });
    await clock.run(10);
    pia.connection.closed(1006);
    expect(await fateOf(all, first.id, 'pia')).toMatchObject({
      outcome: 'lost',
      sentence: expect.stringMatching(/may not have got it/),
    });
    const { session, secret } = pia.frames[0];
    await clock.run(500);
    await welcomed('pia', { session, secret, enter: [{ channel: chat, after: first.cursor }] });
    expect(await fateOf(all, first.id, 'pia')).toMatchObject({ outcome: 'got' });
    expect(await fateOf(all, second.id, 'pia')).toMatchObject({ outcome: 'recovered' });
  });

  it('knows a cursor for what it is, though the instance of before learns late that the session has gone on elsewhere', () => {
    const stay = { session: 's', user: 'pia', channel: chat, volume: 'v' };
    const message = { channel: chat, cursor: formatCursor({ volume: 'v', number: 5 }), atMs: 50 };
    const fate = (entered: object) =>
      fatesOf({ ...message, handedAtMs: new Map([['i1', 50]]), except: [] }, [
        {
          instance: 'i1',
          sessions: [],
          events: [
            { ...stay, atMs: 10, type: 'entered', from: 0, upTo: 0, returned: false },
            { ...stay, atMs: 90, type: 'ended', why: 'continued-elsewhere', upTo: 6 },
          ],
        },
        {
          instance: 'i2',
          sessions: [{ session: 's', isIn: true }],
          events: [{ ...stay, atMs: 70, type: 'entered', upTo: 6, from: 6, returned: true, ...entered }],
        },
      ]).fates[0]?.outcome;
    expect(fate({})).toBe('got');
    expect(fate({ from: 4 })).toBe('recovered');
    expect(fate({ returned: false })).toBe('lost');
  });

  it('says of what had gone from the record when somebody came back that it has, whatever was given after it', async () => {
    const all = harness();
    const { engine, welcomed, clock } = all;
    const wind = channelName('weather/wind');
    const pia = await welcomed('pia', { enter: [{ channel: wind }] });
    const { cursor } = await engine.messages.publish({ channel: wind, data: 0 });
    await clock.run(10);
    pia.connection.closed(1006);
    const ids = [];
    // Only the last five are held there.
    for (let n = 1; n <= 8; n++) ids.push((await engine.messages.publish({ channel: wind, data: n })).id);
    const { session, secret } = pia.frames[0];
    await welcomed('pia', { session, secret, enter: [{ channel: wind, after: cursor }] });
    expect(await fateOf(all, ids[0] as string, 'pia')).toMatchObject({
      outcome: 'gap',
      sentence: expect.stringMatching(/it was not in the record any more, and a gap said so$/),
    });
    expect(await fateOf(all, ids[7] as string, 'pia')).toMatchObject({ outcome: 'recovered' });
  });

  it('does not go through the sessions that had ended before: the others count, or the last of them stands for all', async () => {
    const all = harness();
    const { engine, welcomed, clock } = all;
    for (let n = 0; n < 4; n++) {
      const pia = await welcomed('pia', { enter: [{ channel: chat }] });
      pia.connection.closed(1006);
      await clock.run(1_000);
    }
    const { id: missed } = await engine.messages.publish({ channel: chat, data: 1 });
    await clock.run(10);
    expect((await engine.cluster.trace(missed, 'pia'))?.user).toMatchObject({
      fates: [{ outcome: 'lost' }],
      earlier: 3,
    });
    await welcomed('pia', { enter: [{ channel: chat }] });
    const { id } = await engine.messages.publish({ channel: chat, data: 2 });
    await clock.run(10);
    expect((await engine.cluster.trace(id, 'pia'))?.user).toMatchObject({
      fates: [{ outcome: 'handed' }],
      earlier: 4,
    });
  });

  it('says of one’s own messages published without an echo that they were not meant to come back', async () => {
    const all = harness();
    const { welcomed, clock } = all;
    const pia = await welcomed('pia', { enter: [{ channel: chat }] });
    const id = pia.send({ do: 'publish', channel: chat, data: 1, echo: false });
    await clock.run(10);
    const published = pia.reply(id) as unknown as { id: string };
    expect(await fateOf(all, published.id, 'pia')).toMatchObject({ outcome: 'not-for-it' });
  });

  it('is not there for what was never published, and forgets the oldest', async () => {
    const { engine, welcomed, clock } = harness();
    await welcomed('pia', { enter: [{ channel: chat }] });
    expect(await engine.cluster.trace('nothing')).toBeUndefined();
    const { id } = await engine.messages.publish({ channel: chat, data: 1 });
    for (let round = 0; round < 10; round++)
      await Promise.all(Array.from({ length: 4_100 }, (_, n) => engine.messages.publish({ channel: chat, data: n })));
    await clock.run(100);
    expect(await engine.cluster.trace(id)).toBeUndefined();
  });
});
