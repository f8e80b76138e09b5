import type { EveryStore, MemoryStore } from '@nine-bells/core/testing';
import { channelName, type Level, refusal } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { type ChannelRule, directAllow } from '../src/index.js';
import { type Client, harness, storeWith } from './harness.js';

const chat = channelName('race/3/chat');
const crew = channelName('crew/petrel');
const allow = { publish: 'anyone', revise: 'anyone', withdraw: 'anyone', mention: { role: 'umpire' } } as const;
const kept = { type: 'kept' } as const;
const rules: readonly ChannelRule[] = [
  { pattern: 'race/:race/chat', logbook: kept, hasMentions: true, allow: { ...allow, enter: 'signed-in' } },
  {
    pattern: 'crew/:boat',
    logbook: kept,
    hasMentions: true,
    allow: { ...allow, enter: { claim: 'boat', is: ':boat' } },
  },
  { pattern: 'jury', logbook: kept, hasMentions: true, allow: { ...allow, enter: { role: 'umpire' } } },
  {
    pattern: 'recent',
    logbook: { type: 'recent', bounds: { messages: 9, forMs: 60_000 } },
    hasMentions: true,
    allow: { ...allow, enter: 'anyone' },
  },
  { pattern: 'plain', logbook: kept, allow: { ...allow, enter: 'anyone' } },
  { pattern: 'direct/:users', logbook: kept, direct: true, hasMentions: true, allow: directAllow('users') },
];
const application = { kind: 'key', id: 'k' } as const;
const setUp = (options: object = {}) =>
  harness({ pulseMs: 3_600_000, users: { direct: 'anyone' }, ...options }, undefined, { rules });
type Harness = ReturnType<typeof setUp>;

async function ask({ settle }: Harness, client: Client, request: object) {
  const id = client.send(request);
  await settle();
  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  return client.reply(id) as any;
}
const say = (all: Harness, client: Client, users: readonly string[], more: object = {}) =>
  ask(all, client, { do: 'publish', channel: chat, data: { text: 'Well sailed' }, mentions: { users }, ...more });
const inboxOf = async (all: Harness, user: string) => (await all.engine.inboxes.read(user, undefined, 99)).notices;
const noticed = async (all: Harness, user: string) =>
  (await inboxOf(all, user)).map(({ title, data }) => [title, (data as { cursor?: string }).cursor]);

describe('a mention', () => {
  it.each([chat, 'recent'])(
    'is shown with the message, also revised, and notices whom it means: %s',
    async (channel) => {
      const all = setUp();
      const [mira, pia] = [await all.welcomed('mira'), await all.welcomed('pia')];
      await ask(all, pia, { do: 'enter', channel });
      const { cursor, ...reply } = await say(all, mira, ['pia', 'mira', 'nobody'], { channel });
      expect(reply).toMatchObject({ notMentioned: { users: ['nobody'] } });
      const mentions = { users: ['pia', 'mira'] };
      expect(pia.pushes('message')).toMatchObject([{ cursor, mentions }]);
      expect(pia.pushes('notice')).toMatchObject([
        {
          title: `MIRA mentioned you in ${channel}`,
          data: { channel, cursor, from: 'mira' },
          key: `mention ${channel}`,
        },
      ]);
      expect(await noticed(all, 'mira')).toEqual([]);
      await ask(all, mira, { do: 'revise', channel, cursor, data: 'again' });
      expect(pia.pushes('change').at(-1).message).toMatchObject({ data: 'again', mentions });
      // One notice for each channel, that of the last mention; it goes when that message is taken back.
      const second = await say(all, mira, ['pia'], { channel });
      expect(await noticed(all, 'pia')).toEqual([[`MIRA mentioned you in ${channel}`, second.cursor]]);
      await ask(all, mira, { do: 'withdraw', channel, cursor });
      expect(await noticed(all, 'pia')).toHaveLength(1);
      await ask(all, mira, { do: 'withdraw', channel, cursor: second.cursor });
      expect(await noticed(all, 'pia')).toEqual([]);
      expect(pia.pushes('change').at(-1).message).not.toHaveProperty('mentions');
    },
  );

  it('of a message that was taken back before its notices were there leaves none, however often the store fails', async () => {
    let fails = 3;
    const slow = (memory: MemoryStore): EveryStore =>
      storeWith(memory, {
        notify: async (...wish) => {
          await new Promise<void>((resolve) => void all.clock.setTimer(1_000, resolve));
          return memory.notify(...wish);
        },
        noticeWith: async (...wish) => {
          if (--fails >= 0) throw refusal('unavailable', 'not now');
          return memory.noticeWith(...wish);
        },
      });
    const all: Harness = harness({ pulseMs: 3_600_000 }, slow, { rules });
    const [mira, pia] = [await all.welcomed('mira'), await all.welcomed('pia')];
    const { cursor } = await say(all, mira, ['pia']);
    await ask(all, mira, { do: 'withdraw', channel: chat, cursor });
    await all.clock.run(10_000);
    expect(pia.pushes('notice')).toHaveLength(1);
    expect([await noticed(all, 'pia'), fails]).toEqual([[], -2]);
  });

  it('of a message whose withdrawal was committed without an answer leaves none', async () => {
    const unanswered = (memory: MemoryStore): EveryStore =>
      storeWith(memory, {
        append: async (...wish) => {
          const appended = await memory.append(...wish);
          if (wish[1].change !== undefined) throw refusal('unavailable', 'not now');
          return appended;
        },
      });
    const all: Harness = harness({}, unanswered, { rules });
    const [mira] = [await all.welcomed('mira'), await all.welcomed('pia')];
    const { cursor } = await say(all, mira, ['pia']);
    expect(await noticed(all, 'pia')).toHaveLength(1);
    const withdrawn = await ask(all, mira, { do: 'withdraw', channel: chat, cursor });
    expect(withdrawn).toMatchObject({ problem: { code: 'unavailable' } });
    await all.clock.run(2_000);
    expect(await noticed(all, 'pia')).toEqual([]);
  });

  it('of a role is for those who may, and for all who have it and may enter', async () => {
    const all = setUp();
    const [mira, tomas] = [await all.welcomed('mira!umpire'), await all.welcomed('tomas!umpire')];
    const pia = await all.welcomed('pia');
    await all.clock.run(1_100);
    const roles = { mentions: { roles: ['umpire', 'cook'] } };
    expect(await ask(all, pia, { do: 'publish', channel: chat, data: 1, ...roles })).toMatchObject({
      problem: {
        code: 'not-allowed',
        detail: 'user pia may not mention roles in channels of the rule race/:race/chat',
      },
    });
    expect(await ask(all, mira, { do: 'publish', channel: 'jury', data: 1, ...roles })).toMatchObject({
      notMentioned: { roles: ['cook'] },
    });
    expect([tomas.pushes('notice').length, pia.pushes('notice').length]).toEqual([1, 0]);
    expect(await say(all, mira, ['pia', 'tomas'], { channel: 'jury' })).toMatchObject({
      notMentioned: { users: ['pia'] },
    });
  });

  it('means who is away by what is known of it: its roles, and where its token decides, that it has been there', async () => {
    const all = setUp();
    const mira = await all.welcomed('mira+petrel');
    const users = ['tomas', 'ines', 'jory', 'guest:1'];
    for (const who of ['tomas+petrel', 'ines+gannet', 'jory+petrel!umpire']) {
      const client = await all.welcomed(who);
      const { cursor } = await ask(all, mira, { do: 'publish', channel: crew, data: 1 });
      if (who.startsWith('tomas')) await ask(all, client, { do: 'mark', channel: crew, cursor });
      if (who.startsWith('jory')) expect((await say(all, mira, ['jory'], { channel: crew })).problem).toBe(undefined);
      client.connection.closed(1006);
    }
    await all.clock.run(120_000);
    expect(await say(all, mira, users, { channel: crew })).toMatchObject({
      notMentioned: { users: ['ines', 'jory', 'guest:1'] },
    });
    expect(await say(all, mira, users)).toMatchObject({ notMentioned: { users: ['guest:1'] } });
    expect((await inboxOf(all, 'tomas')).length).toBe(2);
    await all.engine.moderation.ban({ user: 'tomas', channel: crew }, application);
    expect(await say(all, mira, ['tomas'], { channel: crew })).toMatchObject({ notMentioned: { users: ['tomas'] } });
  });

  it('is kept from who looks at the channel, has blocked its author, or wants to hear nothing', async () => {
    const all = setUp();
    const [mira, pia] = [await all.welcomed('mira'), await all.welcomed('pia')];
    const others = [await all.welcomed('jory'), await all.welcomed('ines'), await all.welcomed('tomas')] as const;
    await ask(all, others[0], { do: 'status', looking: chat });
    await ask(all, others[1], { do: 'block', user: 'mira' });
    await ask(all, others[2], { do: 'level', channel: chat, level: 'nothing' });
    const { notMentioned } = await say(all, mira, ['pia', 'jory', 'ines', 'tomas']);
    // Nothing of that is told to the author.
    expect(notMentioned).toBe(undefined);
    expect([pia, ...others].map((each) => each.pushes('notice').length)).toEqual([1, 0, 0, 0]);
  });

  it('waits for who is busy: the last of each channel, however many there were', async () => {
    const all = setUp();
    const [mira, pia] = [await all.welcomed('mira'), await all.welcomed('pia')];
    await ask(all, pia, { do: 'status', status: 'busy' });
    for (let n = 0; n < 3; n++) await say(all, mira, ['pia']);
    const { cursor } = await say(all, mira, ['pia'], { channel: 'recent' });
    expect(pia.pushes('notice')).toEqual([]);
    await ask(all, pia, { do: 'status', status: 'available' });
    expect(pia.pushes('notice').map(({ data }) => data.channel)).toEqual([chat, 'recent']);
    expect(pia.pushes('notice')[1].data.cursor).toBe(cursor);
  });

  it.each([
    ['where the rule has none', 'plain', { users: ['pia'] }, 'bad-value'],
    ['of too many', chat, { users: Array.from({ length: 21 }, (_, n) => `u${n}`) }, 'bad-value'],
    ['of what is no list', chat, { users: 'pia' }, 'bad-value'],
    ['of no user at all', chat, {}, undefined],
    ['of no user, in lists', chat, { users: [], roles: [] }, undefined],
    ['of no user, where the rule has none', 'plain', { users: [] }, undefined],
  ])('%s is answered', async (_, channel, mentions, code) => {
    const all = setUp();
    const mira = await all.welcomed('mira');
    const { problem, cursor } = await ask(all, mira, { do: 'publish', channel, data: 1, mentions });
    expect([problem?.code, cursor === undefined]).toEqual([code, code !== undefined]);
  });

  it('has its rate, and costs nothing where no user is mentioned', async () => {
    const all = setUp({ mentions: { count: 5, perMs: 60_000 } });
    const mira = await all.welcomed('mira!umpire');
    expect((await say(all, mira, ['a', 'b', 'c', 'd', 'e'])).problem).toBe(undefined);
    expect((await say(all, mira, ['a'])).problem).toMatchObject({ code: 'rate-limited', retryAfterMs: 12_000 });
    expect((await ask(all, mira, { do: 'publish', channel: chat, data: 1 })).problem).toBe(undefined);
  });
});

describe('a level', () => {
  it('is set on all devices, for a time, and is for users alone', async () => {
    const all = setUp({ levelsPerUser: 2 });
    const [one, two] = [await all.welcomed('pia'), await all.welcomed('pia')];
    const set = (client: Client, channel: string, level: Level | null, more: object = {}) =>
      ask(all, client, { do: 'level', channel, level, ...more });
    expect(await set(one, chat, 'nothing', { forMs: 60_000 })).toMatchObject({ channel: chat, level: 'nothing' });
    expect(two.pushes('level')).toMatchObject([{ channel: chat, level: 'nothing', until: expect.any(String) }]);
    await set(one, 'plain', 'mentions');
    expect((await set(one, 'recent', 'mentions')).problem).toMatchObject({ code: 'too-many-levels' });
    expect(await ask(all, two, { do: 'levels' })).toMatchObject({
      levels: [
        { channel: 'plain', level: 'mentions' },
        { channel: chat, level: 'nothing' },
      ],
    });
    await all.clock.run(60_000);
    expect((await ask(all, two, { do: 'levels' })).levels).toHaveLength(1);
    expect((await set(one, 'recent', 'mentions')).problem).toBe(undefined);
    expect(await set(two, 'plain', null)).toMatchObject({ level: null });
    expect(one.pushes('level').at(-1)).toEqual({ on: 'level', channel: 'plain', level: null });
    expect((await set(one, 'nowhere/at/all', 'nothing')).problem.code).toBe('no-such-channel');
    const guest = await all.welcomed();
    expect((await set(guest, chat, 'nothing')).problem.code).toBe('not-allowed');
    expect((await ask(all, guest, { do: 'levels' })).problem.code).toBe('not-allowed');
  });

  it.each([
    [null, ['direct', 'mention']],
    ['everything', ['direct', 'mention']],
    ['mentions', ['mention']],
    ['nothing', []],
  ] as const)('says which notices come of a channel: %s', async (level, keys) => {
    const all = setUp();
    const [mira, pia] = [await all.welcomed('mira'), await all.welcomed('pia')];
    const channel = 'direct/mira,pia';
    await ask(all, pia, { do: 'level', channel, level });
    await say(all, mira, ['pia'], { channel });
    expect(
      pia
        .pushes('notice')
        .map(({ key }) => key.split(' ')[0])
        .sort(),
    ).toEqual(keys);
  });
});

describe('a digest', () => {
  const setTheScene = async () => {
    const all = setUp();
    const [mira, jory, pia] = [await all.welcomed('mira'), await all.welcomed('jory'), await all.welcomed('pia')];
    const { cursor } = await say(all, mira, []);
    await ask(all, pia, { do: 'mark', channel: chat, cursor });
    await ask(all, pia, {
      do: 'mark',
      channel: 'jury',
      cursor: (await say(all, mira, [], { channel: 'jury' })).cursor,
    });
    for (const n of [1, 2, 3]) await say(all, mira, [], { data: { text: `The ${n}. start` } });
    await say(all, mira, [], { channel: 'jury' });
    const to = await say(all, jory, ['pia'], { data: { text: 'Pia, your oar' } });
    return { all, mira, jory, pia, to };
  };
  const of = ({ all }: Awaited<ReturnType<typeof setTheScene>>, wish: object = {}) =>
    all.engine.digests.of('pia', { limit: 9, lines: 2, ...wish });

  it('says what was missed where the user may enter: counts, first lines and mentions', async () => {
    const scene = await setTheScene();
    const digest = await of(scene);
    expect(digest).toMatchObject({ user: 'pia', unread: 4, mentions: 1, more: false });
    expect(digest.channels).toMatchObject([
      {
        channel: chat,
        unread: 4,
        mentions: 1,
        lines: [
          { text: 'The 1. start', by: { user: 'mira' } },
          { text: 'The 2. start' },
          { text: 'Pia, your oar', mention: true, cursor: scene.to.cursor },
        ],
      },
    ]);
    // Mentioned where it has no mark.
    await say(scene.all, scene.mira, ['pia'], { channel: 'direct/mira,pia' });
    const [direct, first] = (await of(scene)).channels;
    expect([direct, first?.channel]).toMatchObject([{ channel: 'direct/mira,pia', mentions: 1 }, chat]);
    expect(await of(scene, { limit: 1 })).toMatchObject({ channels: [{ channel: 'direct/mira,pia' }], more: true });
    expect((await of(scene, { lines: 0 })).channels[1]).toMatchObject({ unread: 4, lines: [] });
    const later = scene.all.clock.now() + 1_000;
    expect(await of(scene, { sinceMs: later })).toMatchObject({ channels: [], unread: 0 });
  });

  it.each([
    ['of what was read', async ({ all, pia, to }) => ask(all, pia, { do: 'mark', channel: chat, cursor: to.cursor })],
    ['by level', async ({ all, pia }) => ask(all, pia, { do: 'level', channel: chat, level: 'nothing' })],
    ['where the user is kept out', ({ all }) => all.engine.moderation.ban({ user: 'pia', channel: chat }, application)],
  ] as readonly [string, (scene: Awaited<ReturnType<typeof setTheScene>>) => Promise<unknown>][])(
    'says nothing %s',
    async (_, act) => {
      const scene = await setTheScene();
      await act(scene);
      expect(await of(scene)).toMatchObject({ channels: [], unread: 0, mentions: 0 });
    },
  );

  it.each([
    ['a mention withdrawn', { do: 'withdraw', channel: chat }, { unread: 3, mentions: 0 }, 2],
    ['mentions alone', { do: 'level', channel: chat, level: 'mentions' }, { unread: 0, mentions: 1 }, 1],
    ['jory blocked', { do: 'block', user: 'jory' }, { unread: 3, mentions: 0 }, 2],
    ['mira blocked', { do: 'block', user: 'mira' }, { unread: 1, mentions: 1 }, 1],
  ])('follows what has changed: %s', async (_, request, counts, lines) => {
    const scene = await setTheScene();
    await ask(scene.all, scene.pia, request.do === 'withdraw' ? { ...request, cursor: scene.to.cursor } : request);
    const digest = await of(scene);
    expect([digest, digest.channels[0]?.lines.length]).toMatchObject([counts, lines]);
  });
});
