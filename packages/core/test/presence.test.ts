import { channelName, closeCodes, type Member } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import type { ChannelRule, EngineOptions } from '../src/index.js';
import { type Client, harness } from './harness.js';

const chat = channelName('race/3/chat');
const rules: readonly ChannelRule[] = [
  {
    pattern: 'race/:race/chat',
    logbook: { type: 'kept' },
    presence: { graceMs: 10_000, crowd: 3, noted: true },
    allow: { enter: 'anyone', publish: 'signed-in', hail: 'signed-in', moderate: { role: 'chair' } },
  },
  { pattern: 'quiet', logbook: { type: 'kept' }, allow: { enter: 'anyone', hail: 'nobody' } },
];
const enter = { enter: [{ channel: chat }] };
const operator = { kind: 'key', id: 'k1', name: 'first' } as const;

function setUp(options: Partial<EngineOptions> = {}) {
  const made = harness({ pulseMs: 3_600_000, ...options }, undefined, { rules });
  /** Runs until what has changed has been told. */
  const told = () => made.clock.run(400);
  return { ...made, told };
}

/** The list of members that a client has by what it was told. */
function membersSeenBy(client: Client, channel = chat): { users: string[]; count: number; partial: boolean } {
  const entered = [...client.frames.flatMap((frame) => frame.entered ?? []), ...client.frames].filter(
    (each) => each.channel === channel && each.members !== undefined,
  );
  const { members, count, partial } = entered.at(-1);
  let list = new Map<string, Member>(members.map((each: Member) => [each.user, each]));
  let seen = { count, partial: partial === true };
  for (const push of client.pushes('members')) {
    if (push.whole) list = new Map();
    for (const each of [...(push.joined ?? []), ...(push.changed ?? [])]) list.set(each.user, each);
    for (const user of push.left ?? []) list.delete(user);
    seen = { count: push.count, partial: push.partial === true };
  }
  return { users: [...list.keys()].sort(), ...seen };
}

describe('presence', () => {
  it.each([
    ['in the channel', chat],
    ['everywhere', undefined],
  ])('hides the status of a user who is silenced %s, also one that was set before', async (_, channel) => {
    const { welcomed, told, engine, settle, clock } = setUp();
    const jory = await welcomed('jory', enter);
    const pia = await welcomed('pia', enter);
    const shown = async (): Promise<unknown> => {
      await told();
      const late = await welcomed('late', enter);
      late.connection.closed(1000);
      const { members } = late.frames[0].entered[0];
      return members.find(({ user }: Member) => user === 'pia')?.status;
    };
    pia.send({ do: 'status', status: { text: 'rude' } });
    expect(await shown()).toEqual({ text: 'rude' });
    await engine.moderation.silence({ user: 'pia', ...(channel && { channel }), forMs: 600_000 }, operator);
    expect(await shown()).toBeUndefined();
    expect(
      jory
        .pushes('members')
        .flatMap(({ changed = [] }) => changed)
        .at(-1),
    ).not.toHaveProperty('status');
    // Leaving and entering does not restore it.
    pia.send({ do: 'leave', channel: chat });
    pia.send({ do: 'enter', channel: chat });
    await settle();
    expect(await shown()).toBeUndefined();
    const { session, secret } = pia.frames[0];
    pia.connection.closed(1006);
    const again = await welcomed('pia', { session, secret, ...enter });
    expect(await shown()).toBeUndefined();
    await clock.run(600_000);
    again.send({ do: 'status', status: 'busy' });
    await settle();
    expect(await shown()).toBe('busy');
  });

  it('shows one member per user with the number of its sessions, and oneself as oneself', async () => {
    const { welcomed, told } = setUp();
    const pia = await welcomed('pia', enter);
    expect(pia.frames[0].entered[0]).toMatchObject({
      members: [{ user: 'pia', name: 'PIA', sessions: 1, since: '2031-06-14T12:00:00.000Z' }],
      count: 1,
    });
    await told();
    await welcomed('jory', enter);
    const second = await welcomed('pia', enter);
    await told();
    expect(pia.pushes('members').at(-1)).toEqual({
      on: 'members',
      channel: chat,
      joined: [expect.objectContaining({ user: 'jory', sessions: 1 })],
      changed: [expect.objectContaining({ user: 'pia', sessions: 2 })],
      count: 2,
    });
    expect(second.frames[0].entered[0].members.map((each: Member) => [each.user, each.sessions])).toEqual([
      ['pia', 2],
      ['jory', 1],
    ]);
  });

  it('tells what has changed merged', async () => {
    const { welcomed, told } = setUp();
    const pia = await welcomed('pia', enter);
    await told();
    const before = pia.pushes('members').length;
    for (const user of ['jory', 'ines']) {
      const client = await welcomed(user, enter);
      if (user === 'ines') client.send({ do: 'leave', channel: chat });
    }
    await told();
    // Whoever came and went is told as gone: somebody who entered in between may have seen it.
    expect(pia.pushes('members').slice(before)).toMatchObject([
      { joined: [{ user: 'jory' }], left: ['ines'], count: 2 },
    ]);
  });

  it.each([
    ['said goodbye', 1000, 2_500],
    ['left the page', 1001, 2_500],
    ['lost the connection', 1006, 11_000],
  ])(
    'shows and watches one who has %s until the grace is over, and one who comes back in it all along',
    async (_, code, goneMs) => {
      const { welcomed, clock, told, settle } = setUp({ users: { watch: 'anyone' } });
      const pia = await welcomed('pia', enter);
      const [jory, ines] = [await welcomed('jory', enter), await welcomed('ines', enter)];
      for (const user of ['jory', 'ines']) pia.send({ do: 'watch', user });
      await settle();
      await told();
      const before = pia.pushes('members').length;
      for (const each of [jory, ines]) each.connection.closed(code);
      await clock.run(goneMs - 1_500);
      expect(pia.pushes('members').slice(before)).toEqual([]);
      const again = await welcomed('ines', enter);
      expect(again.frames[0].entered[0].members.map(({ user }: Member) => user)).toContain('jory');
      await clock.run(1_500 + 400);
      const pushes = pia.pushes('members').slice(before);
      expect(pushes.flatMap(({ left = [] }) => left)).toEqual(['jory']);
      expect(pia.pushes('user').map(({ user, status }) => [user, status])).toEqual([['jory', null]]);
    },
  );

  it('shows a leave at once, and a broken connection only after the grace', async () => {
    const { welcomed, clock, told } = setUp();
    const pia = await welcomed('pia', enter);
    const jory = await welcomed('jory', enter);
    const ines = await welcomed('ines', enter);
    await told();
    jory.send({ do: 'leave', channel: chat });
    ines.connection.closed(1006);
    await told();
    expect(membersSeenBy(pia).users).toEqual(['ines', 'pia']);
    await clock.run(9_500);
    expect(membersSeenBy(pia).users).toEqual(['ines', 'pia']);
    await clock.run(500);
    expect(membersSeenBy(pia)).toEqual({ users: ['pia'], count: 1, partial: false });
  });

  it('does not flicker for a session that comes back within the grace, on any connection', async () => {
    const { welcomed, clock, told } = setUp();
    const pia = await welcomed('pia', enter);
    let ines = await welcomed('ines', enter);
    await told();
    const before = pia.pushes('members').length;
    for (let round = 0; round < 5; round++) {
      const { session, secret } = ines.frames[0];
      if (round % 2 === 0) ines.connection.closed(1006);
      await clock.run(9_000);
      ines = await welcomed('ines', { session, secret, ...enter });
      expect(ines.frames[0].continued).toBe(true);
    }
    await clock.run(60_000);
    expect(pia.pushes('members').slice(before)).toEqual([]);
  });

  it('lets go of channels that a returning session does not name', async () => {
    const { welcomed, told } = setUp();
    const pia = await welcomed('pia', enter);
    const ines = await welcomed('ines', enter);
    const { session, secret } = ines.frames[0];
    ines.connection.closed(1006);
    await welcomed('ines', { session, secret });
    await told();
    expect(membersSeenBy(pia).users).toEqual(['pia']);
  });

  it('counts a session once, however often it enters; quiet clients and observers not at all', async () => {
    const { welcomed, told, engine } = setUp();
    const pia = await welcomed('pia', enter);
    await welcomed('jory', { enter: [{ channel: chat, quiet: true }] });
    pia.send({ do: 'enter', channel: chat });
    await told();
    expect(engine.presence.membersHere(chat, 10)).toMatchObject({ members: [{ user: 'pia', sessions: 1 }], count: 1 });
    pia.send({ do: 'enter', channel: chat, quiet: true });
    await told();
    expect(engine.presence.membersHere(chat, 10).count).toBe(0);
  });

  it('ends at once for whoever is removed, banned or signed out', async () => {
    const { welcomed, told, engine } = setUp();
    const by = { kind: 'key', id: 'k' } as const;
    const pia = await welcomed('pia', enter);
    await welcomed('ines', enter);
    await welcomed('tomas', enter);
    await engine.moderation.remove({ channel: chat, user: 'ines' }, by);
    await engine.moderation.signOut('tomas', by);
    await told();
    expect(membersSeenBy(pia).users).toEqual(['pia']);
    expect(engine.presence.membershipsHere('pia')).toMatchObject([{ channel: chat, member: { user: 'pia' } }]);
    expect(engine.presence.membershipsHere('ines')).toEqual([]);
  });

  it('is not asked of channels that do not show it', () => {
    const { engine } = setUp();
    expect(() => engine.presence.membersHere(channelName('quiet'), 10)).toThrow('do not show who is there');
    expect(() => engine.presence.membersHere(channelName('nowhere'), 10)).toThrow('no channel rule');
  });

  it('is noted in the record where the rule wants it, each coming and going once', async () => {
    const { welcomed, told, clock } = setUp();
    const pia = await welcomed('pia', enter);
    const first = await welcomed('ines', enter);
    await welcomed('ines', enter);
    await told();
    first.connection.closed(1006);
    await clock.run(20_000);
    expect(pia.pushes('message').map(({ type, by }) => `${by.user} ${type}`)).toEqual(['pia joined', 'ines joined']);
  });
});

it.each(['joined', 'left'])('nobody else publishes what looks like a note of the service: %s', async (type) => {
  const { welcomed, engine, settle } = setUp();
  const pia = await welcomed('pia', enter);
  const id = pia.send({ do: 'publish', channel: chat, type, data: null });
  await settle();
  expect(pia.reply(id)).toMatchObject({ problem: { code: 'bad-value', where: '/type' } });
  await expect(engine.messages.publish({ channel: chat, type, data: null })).rejects.toMatchObject({
    code: 'bad-value',
  });
});

describe('a member who comes back to an instance that was killed', () => {
  it('is not noted as coming a second time, and is noted when it leaves and comes again', async () => {
    const { welcomed, restarted, clock, engine } = setUp();
    const pia = await welcomed('pia', enter);
    const { session, secret } = pia.frames[0];
    await clock.run(3_000);
    const again = restarted();
    const back = await welcomed('pia', { ...enter, session, secret }, again);
    const other = await welcomed('pia', enter, again);
    await clock.run(3_000);
    for (const each of [back, other]) each.send({ do: 'leave', channel: chat });
    await clock.run(1_000);
    back.send({ do: 'enter', channel: chat });
    await clock.run(61_000);
    const { messages } = await engine.messages.read(chat, {}, { messages: 10, bytes: 10_000 });
    expect(messages.map(({ message: { type, by } }) => `${by?.user} ${type}`)).toEqual([
      'pia joined',
      'pia left',
      'pia joined',
    ]);
  });
});

describe('that members come and go', () => {
  it('is noted of each once a minute, after a moment, and of so many in a channel', async () => {
    const { welcomed, clock, engine } = setUp();
    const notes = async () => {
      const { messages } = await engine.messages.read(chat, {}, { messages: 1000, bytes: 1e6 });
      return messages.map(({ message: { type, by } }) => `${by?.user} ${type}`);
    };
    const pia = await welcomed('pia', enter);
    await clock.run(3_000);
    // In and out as fast as she may, for a minute: it stays with what was noted, and how it is in the end.
    for (let n = 0; n < 100; n++) {
      pia.send({ do: 'leave', channel: chat });
      await clock.run(200);
      pia.send({ do: 'enter', channel: chat });
      await clock.run(200);
    }
    expect(await notes()).toEqual(['pia joined', 'pia left']);
    await clock.run(61_000);
    expect(await notes()).toEqual(['pia joined', 'pia left', 'pia joined']);
    for (let n = 0; n < 100; n++) await welcomed(`guest${n}`, enter);
    await clock.run(3_000);
    expect((await notes()).length).toBeLessThanOrEqual(3 + 60);
  });
});

describe('a crowd', () => {
  it('is a count with a sample, and everybody is told anew when it has gone', async () => {
    const { welcomed, told } = setUp();
    const pia = await welcomed('pia', enter);
    await told();
    const others = [];
    for (let n = 0; n < 30; n++) others.push(await welcomed(`guest${n}`, enter));
    const late = others.at(-1) as Client;
    expect(late.frames[0].entered[0]).toMatchObject({ count: 31, partial: true });
    expect(late.frames[0].entered[0].members).toHaveLength(20);
    await told();
    expect(pia.pushes('members').at(-1)).toEqual({ on: 'members', channel: chat, count: 31, partial: true });
    for (const each of others.slice(0, 29)) each.send({ do: 'leave', channel: chat });
    await told();
    for (const each of [pia, late]) {
      expect(each.pushes('members').at(-1)).toMatchObject({ whole: true, count: 2 });
      expect(membersSeenBy(each)).toEqual({ users: ['guest29', 'pia'], count: 2, partial: false });
    }
  });

  it('that comes and goes within one interval leaves everybody with the right list', async () => {
    const { welcomed, told } = setUp();
    const pia = await welcomed('pia', enter);
    const jory = await welcomed('jory', enter);
    await told();
    const others = [];
    for (let n = 0; n < 5; n++) others.push(await welcomed(`guest${n}`, enter));
    for (const each of [...others.slice(1), jory]) each.send({ do: 'leave', channel: chat });
    await told();
    expect(membersSeenBy(pia)).toEqual({ users: ['guest0', 'pia'], count: 2, partial: false });
    expect(membersSeenBy(others[0] as Client)).toEqual({ users: ['guest0', 'pia'], count: 2, partial: false });
  });
});

describe('a status', () => {
  const statusOf = (client: Client, user: string) => {
    const all = client.pushes('members').flatMap((push) => [...(push.joined ?? []), ...(push.changed ?? [])]);
    return all.filter((each: Member) => each.user === user).at(-1)?.status;
  };

  it('is that of the most available of the sessions; of equal ones, the latest', async () => {
    const { welcomed, told } = setUp();
    const jory = await welcomed('jory', enter);
    const phone = await welcomed('pia', { enter: [{ channel: chat, status: 'away' }] });
    const desk = await welcomed('pia', { enter: [{ channel: chat, status: { state: 'busy', with: 'results' } }] });
    await told();
    expect(statusOf(jory, 'pia')).toEqual({ state: 'busy', with: 'results' });
    phone.send({ do: 'status', status: 'available' });
    await told();
    expect(statusOf(jory, 'pia')).toBe('available');
    desk.send({ do: 'status', status: { place: 'desk A' }, channel: chat });
    await told();
    expect(statusOf(jory, 'pia')).toEqual({ place: 'desk A' });
    phone.send({ do: 'status', status: 'away' });
    desk.connection.closed(1000);
    await told();
    expect(statusOf(jory, 'pia')).toBe('away');
  });

  it('given without a channel holds for those entered later, too', async () => {
    const { welcomed, settle } = setUp();
    const pia = await welcomed('pia');
    pia.send({ do: 'status', status: 'busy' });
    const id = pia.send({ do: 'enter', channel: chat });
    await settle();
    expect((pia.reply(id) as unknown as { members: Member[] }).members[0]).toMatchObject({ status: 'busy' });
  });

  it.each([
    ['sleepy', 'bad-value'],
    [5, 'bad-value'],
    [null, 'bad-value'],
    [['away'], 'bad-value'],
    [{ text: 'x'.repeat(3000) }, 'too-large'],
  ])('%j is refused', async (status, code) => {
    const { welcomed, settle } = setUp();
    const pia = await welcomed('pia', enter);
    const ids = [
      pia.send({ do: 'status', status }),
      pia.send({ do: 'enter', channel: chat, ...(status === null ? { status: 7 } : { status }) }),
    ];
    await settle();
    expect(ids.map((id) => pia.reply(id).problem?.code)).toEqual([code, code]);
  });
});

describe('a hail', () => {
  it('reaches everybody in the channel but its session, or the users named, and is nowhere kept', async () => {
    const { welcomed, settle, engine } = setUp();
    const pia = await welcomed('pia', enter);
    const jory = await welcomed('jory', enter);
    const ines = await welcomed('ines', enter);
    const id = pia.send({ do: 'hail', channel: chat, type: 'typing', data: { on: true } });
    pia.send({ do: 'hail', channel: chat, type: 'wave', to: ['ines', 'nobody'] });
    await settle();
    expect(pia.reply(id)).toEqual({ re: id });
    expect(jory.pushes('hail')).toEqual([
      { on: 'hail', channel: chat, type: 'typing', by: { user: 'pia', name: 'PIA' }, data: { on: true } },
    ]);
    expect(ines.pushes('hail').map(({ type }) => type)).toEqual(['typing', 'wave']);
    expect(pia.pushes('hail')).toEqual([]);
    const { messages } = await engine.messages.read(chat, {}, { messages: 10, bytes: 1e6 });
    expect(messages).toEqual([]);
  });

  it('is a question of access, of size, and of a rate of its own', async () => {
    const { welcomed, settle } = setUp({ hails: { count: 2, perMs: 1000 } });
    const pia = await welcomed('pia', enter);
    const guest = await welcomed(undefined, enter);
    const ids = [1, 2, 3].map(() => pia.send({ do: 'hail', channel: chat, type: 'typing' }));
    const publish = pia.send({ do: 'publish', channel: chat, data: 1 });
    const refused = guest.send({ do: 'hail', channel: chat, type: 'typing' });
    await settle();
    expect(ids.map((id) => pia.reply(id).problem?.code)).toEqual([undefined, undefined, 'rate-limited']);
    expect(pia.reply(publish).problem).toBeUndefined();
    expect(guest.reply(refused).problem?.code).toBe('not-allowed');
    const other = await welcomed('jory', enter);
    const large = other.send({ do: 'hail', channel: chat, type: 'typing', data: 'x'.repeat(40_000) });
    await settle();
    expect(other.reply(large).problem?.code).toBe('too-large');
  });

  it('is the first to be dropped for a client that does not keep up', async () => {
    const { welcomed, engine, settle } = setUp({ sendQueueBytes: 4_000, hails: { count: 1000, perMs: 1000 } });
    const slow = await welcomed('jory', enter);
    const pia = await welcomed('pia', enter);
    await settle();
    const before = slow.pushes('hail').length;
    slow.waitingBytes = 1;
    for (let n = 0; n < 100; n++) pia.send({ do: 'hail', channel: chat, type: 'typing', data: 'x'.repeat(100) });
    await settle();
    for (let n = 0; n < 12; n++) await engine.messages.publish({ channel: chat, data: `message ${n}` });
    await settle();
    expect(slow.closedWith).toBeUndefined();
    slow.waitingBytes = 0;
    slow.connection.drained();
    expect(slow.data.filter((each) => each !== null)).toHaveLength(12);
    expect(slow.pushes('hail').length - before).toBeLessThan(20);
  });
});

describe('the time that a ping takes', () => {
  it('is told for each connection', async () => {
    const { welcomed, clock, engine } = setUp({ pulseMs: 1_000 });
    const pia = await welcomed('pia');
    await clock.run(600);
    expect(pia.pings).toBe(1);
    await clock.run(40);
    pia.connection.alive();
    expect(engine.stats.sessions[0]?.roundTripMs).toBeGreaterThanOrEqual(40);
    expect(engine.stats.sessions[0]?.roundTripMs).toBeLessThanOrEqual(200);
    expect(pia.closedWith?.code).not.toBe(closeCodes.goingAway);
  });
});
