import { MemoryStore, storeOf } from '@nine-bells/core/testing';
import { type ChannelName, channelName, defined } from '@nine-bells/wire';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { VirtualClock } from '../simulator/virtualClock.js';
import {
  type ChannelRule,
  Engine,
  type EngineOptions,
  ExchangeHub,
  type HubExchange,
  type InstanceAnswers,
  type MemberPlace,
  type ModerationAction,
  SharedRelay,
  type Table,
} from '../src/index.js';
import { Tables } from '../src/presence/tables.js';
import { Client } from './harness.js';

const bounds = { messages: 100, forMs: 60_000 };
const rules: readonly ChannelRule[] = [
  { pattern: 'race/:n', logbook: { type: 'kept' }, allow: { enter: 'anyone', publish: 'anyone' } },
  {
    pattern: 'pontoon/:n',
    logbook: { type: 'recent', bounds },
    presence: { graceMs: 2_000, crowd: 100 },
    allow: { enter: 'anyone', publish: 'anyone', hail: 'anyone', moderate: 'anyone' },
  },
];
const north = channelName('pontoon/north');
const chat = channelName('race/3');

/** Not a hmac: here nobody forges. */
const sealed = (text: string): string => Buffer.from(text).toString('base64url');

/** Instances that meet at a hub in memory, in simulated time. */
function together(count: number, options: Partial<EngineOptions> = {}) {
  const clock = new VirtualClock();
  let counter = 0;
  const next = (letter: string) => (): string => `${letter}${++counter}`;
  const ids = { message: next('m'), session: next('s'), volume: next('v'), moderation: next('n') };
  const hub = new ExchangeHub(clock, ids);
  const store = storeOf(new MemoryStore(ids));
  const reports: unknown[] = [];
  const members: HubExchange[] = [];
  const relays: SharedRelay[] = [];
  const engines = Array.from({ length: count }, (_, index) => {
    const limiter = hub.join();
    const instance = `i${index + 1}`;
    const relay = new SharedRelay(limiter, clock, {
      instance,
      incarnation: () => `x${++counter}`,
      boundsOf: () => bounds,
      report: (error) => reports.push(error),
    });
    members.push(limiter);
    relays.push(relay);
    return new Engine(
      {
        clock,
        ids,
        relay,
        store,
        hmac: { sign: sealed, matches: (text, mac) => mac === sealed(text), digest: sealed },
        tokens: {
          read: async (user) => ({
            user,
            name: user.toUpperCase(),
            guest: false,
            roles: [],
            claims: {},
            issuedAt: clock.now(),
          }),
        },
        report: (error) => reports.push(error),
      },
      rules,
      { instance, users: { watch: 'anyone' }, ...options },
    );
  });
  const come = async (
    engine: Engine | undefined,
    user: string,
    enter: readonly ChannelName[] = [],
  ): Promise<Client> => {
    const client = new Client(engine as Engine);
    client.send({ do: 'hello', token: user, enter: enter.map((channel) => ({ channel })) });
    await clock.run(20);
    return client;
  };
  return { clock, hub, store, engines, relays, members, reports, come };
}

let reports: unknown[] = [];
afterEach(() => expect(reports.splice(0)).toEqual([]));

/** Two that know each other, and two clients, one on each. */
async function two(options?: Partial<EngineOptions>) {
  const all = together(2, options);
  reports = all.reports;
  await all.clock.run(1_500);
  const [one, other] = all.engines as [Engine, Engine];
  return { ...all, one, other };
}

describe('instances', () => {
  it('know each other: who there is, since when, how busy; and when one has gone', async () => {
    const { clock, engines, relays, come } = await two();
    await come(engines[0], 'pia', [north]);
    await clock.run(1_500);
    for (const engine of engines)
      expect(engine.cluster.instances).toMatchObject([
        { instance: 'i1', connections: 1, channels: 1, isThis: engine === engines[0] },
        { instance: 'i2', connections: 0, isThis: engine === engines[1] },
      ]);
    void relays[1]?.stop();
    await clock.run(10);
    expect(engines[0]?.cluster.instances).toHaveLength(1);
  });

  it('know who came to another a moment ago, and is not written down yet', async () => {
    const { clock, one, other, come } = await two();
    await come(other, 'jory');
    const known = ['jory', 'ines'].map((user) => one.inboxes.isKnown(user));
    await clock.run(20);
    expect(await Promise.all(known)).toEqual([true, false]);
    // Clients choose the ids: the others are asked so often, and no more.
    const asked = vi.spyOn(one.cluster, 'activityOf');
    const guesses = Array.from({ length: 500 }, (_, n) => one.inboxes.isKnown(`nobody-${n}`));
    await clock.run(20);
    expect(await Promise.all(guesses)).not.toContain(true);
    expect(asked.mock.calls.length).toBeLessThan(40);
    expect(asked).toHaveBeenCalled();
  });

  it('have one order in a channel, whoever publishes where, and give what was missed from any of them', async () => {
    const { clock, one, other, come } = await two();
    const [pia, jory] = [await come(one, 'pia', [north, chat]), await come(other, 'jory', [north, chat])];
    const publishing = one.messages.publish({ channel: north, data: 'first' });
    await clock.run(10);
    const { cursor: first } = await publishing;
    for (let n = 0; n < 20; n++)
      for (const channel of [north, chat]) void (n % 3 ? one : other).messages.publish({ channel, data: n });
    await clock.run(200);
    const cursors = ({ frames }: Client): string[] =>
      frames.flatMap(({ on, cursor }) => (on === 'message' ? cursor : []));
    const of = (client: Client, channel: ChannelName): string[] =>
      client.pushes('message').flatMap((push) => (push.channel === channel ? push.cursor : []));
    expect(cursors(pia)).toHaveLength(41);
    for (const channel of [north, chat]) expect(of(pia, channel)).toEqual(of(jory, channel));
    const mira = await come(other, 'mira');
    const id = mira.send({ do: 'enter', channel: north, after: first });
    await clock.run(20);
    expect((mira.reply(id) as unknown as { messages: unknown[] }).messages).toHaveLength(20);
  });

  it('know a key of a recent channel, whichever was published to first', async () => {
    const { one, other, clock } = await two();
    const draft = { channel: north, data: 1, key: 'k', by: { user: 'pia' } };
    const first = one.messages.publish(draft);
    await clock.run(10);
    const again = other.messages.publish(draft);
    await clock.run(10);
    expect(await again).toEqual({ ...(await first), repeated: true });
  });

  it('list members by time of entering any instance, and continue behind a place', async () => {
    const { clock, one, other, come } = await two();
    for (const [at, user] of [
      [other, 'wren'],
      [one, 'pia'],
      [other, 'ines'],
      [one, 'jory'],
    ] as const) {
      await come(at, user, [north]);
      await clock.run(100);
    }
    const users = async (after?: MemberPlace) => {
      const found = one.presence.members(north, { limit: 2, ...defined({ after }) });
      await clock.run(100);
      return (await found).members;
    };
    const first = await users();
    const last = first.at(-1);
    const second = await users({ sinceMs: Date.parse(last?.since ?? ''), user: last?.user ?? '' });
    expect([...first, ...second].map(({ user }) => user)).toEqual(['wren', 'pia', 'ines', 'jory']);
  });

  it('show one list of members, with the status of a user’s most available session, and a member per user', async () => {
    const { clock, one, other, come } = await two();
    const pia = await come(one, 'pia', [north]);
    const elsewhere = await come(other, 'pia', [north]);
    await come(other, 'jory', [north]);
    await clock.run(500);
    elsewhere.send({ do: 'status', status: 'away' });
    await clock.run(500);
    expect(one.presence.membersHere(north, 10)).toMatchObject({
      count: 2,
      members: [{ user: 'pia', sessions: 2 }, { user: 'jory' }],
    });
    expect(
      other.presence
        .membersHere(north, 10)
        .members.map(({ user }) => user)
        .sort(),
    ).toEqual(['jory', 'pia']);
    expect(pia.pushes('members').at(-1)).toMatchObject({ count: 2 });
    pia.send({ do: 'leave', channel: north });
    await clock.run(500);
    expect(one.presence.membersHere(north, 10).members[0]).toMatchObject({ user: 'pia', sessions: 1, status: 'away' });
  });

  it('keep a session’s place in the list while it goes from one to the other', async () => {
    const { clock, one, other, come } = await two();
    const watcher = await come(one, 'mira', [north]);
    const before = await come(one, 'pia', [north]);
    await clock.run(500);
    const { session, secret } = before.frames[0];
    before.connection.closed(1006);
    const after = new Client(other);
    after.send({ do: 'hello', token: 'pia', session, secret, enter: [{ channel: north }] });
    await clock.run(5_000);
    expect(watcher.pushes('members').flatMap(({ left }) => left ?? [])).toEqual([]);
    expect(one.presence.membersHere(north, 10)).toMatchObject({ count: 2 });
    after.connection.closed(1000);
    await clock.run(2_500);
    expect(one.presence.membersHere(north, 10).members.map(({ user }) => user)).toEqual(['mira']);
  });

  it('end the older connection of a session that goes on on the other', async () => {
    const { clock, one, other, come } = await two();
    const before = await come(one, 'pia');
    const { session, secret } = before.frames[0];
    const after = new Client(other);
    after.send({ do: 'hello', token: 'pia', session, secret });
    await clock.run(100);
    expect(before.closedWith?.code).toBe(4901);
    expect(after.frames[0]).toMatchObject({ session, continued: true });
  });

  it('tell the watchers of a user what its sessions on the other say', async () => {
    const { clock, one, other, come } = await two();
    const [pia, jory] = [await come(one, 'pia'), await come(other, 'jory')];
    const id = pia.send({ do: 'watch', user: 'jory' });
    await clock.run(50);
    expect(pia.reply(id)).toMatchObject({ status: 'available' });
    jory.send({ do: 'status', status: 'busy' });
    await clock.run(1_000);
    jory.connection.closed(1000);
    await clock.run(3_000);
    expect(pia.pushes('user').map(({ status }) => status)).toEqual(['busy', null]);
  });

  it('answer for all, and say who did not answer in time', async () => {
    const { clock, one, come, engines, members } = await two();
    await come(engines[0], 'pia', [north]);
    const jory = await come(engines[1], 'jory', [north]);
    const asked = one.cluster.members(north, { limit: 10 });
    await clock.run(10);
    expect(await asked).toMatchObject({ count: 2, missing: [] });
    const visitor = one.cluster.visitor(jory.frames[0].session);
    await clock.run(10);
    expect(await visitor).toMatchObject({ who: { user: 'jory' } });
    // From now on the other hears nothing.
    members[1]?.listen({ heard: () => {}, broken: () => {}, resumed: () => {} });
    const again = one.cluster.sessions({ limit: 10 });
    await clock.run(1_500);
    expect(await again).toMatchObject({ sessions: [{ user: 'pia' }], missing: ['i2'] });
  });

  it('find by looking what the relay has lost, the last message too', async () => {
    const { clock, one, other, members, come } = await two();
    const jory = await come(other, 'jory', [north, chat]);
    const topics = [`c/${north}`, `c/${chat}`];
    for (const topic of topics) members[1]?.unsubscribe(topic);
    for (const channel of [north, chat]) void one.messages.publish({ channel, data: 'unheard' });
    await clock.run(100);
    expect(jory.data).toEqual([]);
    await clock.run(7_000);
    expect(jory.data).toEqual(['unheard', 'unheard']);
    // And that it is wanted was said again.
    void one.messages.publish({ channel: north, data: 'heard' });
    await clock.run(50);
    expect(jory.data.at(-1)).toBe('heard');
  });

  it('take a member off the list that was on an instance which says nothing any more, after its lease and the grace', async () => {
    const all = together(3);
    reports = all.reports;
    await all.clock.run(1_500);
    const [one, two_, dead] = all.engines as [Engine, Engine, Engine];
    const pia = await all.come(one, 'pia', [north]);
    await all.come(two_, 'jory', [north]);
    await all.come(dead, 'tomas', [north]);
    await all.clock.run(500);
    expect(one.presence.membersHere(north, 10).count).toBe(3);
    const goneAt = all.clock.monotonic();
    all.hub.close(all.members[2] as HubExchange);
    (all.members[2] as { beat: unknown }).beat = () => new Promise(() => {});
    for (const name of ['append', 'since', 'head', 'heads'] as const)
      (all.members[2] as unknown as Record<string, unknown>)[name] = () => new Promise(() => {});
    while (one.presence.membersHere(north, 10).count === 3) await all.clock.run(100);
    const tookMs = all.clock.monotonic() - goneAt;
    expect(tookMs).toBeGreaterThan(4_000);
    expect(tookMs).toBeLessThan(8_500);
    await all.clock.run(500);
    expect(pia.pushes('members').at(-1)).toMatchObject({ left: ['tomas'], count: 2 });
    all.reports.splice(0);
  });

  it('become another where the others have known them and given them up, though no answer ever said so', async () => {
    const all = together(2);
    reports = all.reports;
    const [one, other] = all.engines as [Engine, Engine];
    const limiter = all.members[1] as HubExchange;
    const { beat } = limiter;
    // Its first call is carried out; the answer is lost, and then everything is.
    limiter.beat = async (...args) => {
      await beat.apply(limiter, args);
      throw new Error('the answer is lost');
    };
    await all.clock.run(500);
    limiter.beat = () => Promise.reject(new Error('it is away'));
    await all.clock.run(7_000);
    expect(one.cluster.instances).toHaveLength(1);
    limiter.beat = beat;
    await all.clock.run(2_500);
    await all.come(one, 'pia', [north]);
    await all.come(other, 'jory', [north]);
    await all.clock.run(1_000);
    for (const engine of [one, other]) expect(engine.presence.membersHere(north, 10).count).toBe(2);
    all.reports.splice(0);
  });

  it('hear the questions of the others though the first subscription was never answered', async () => {
    const all = together(2);
    reports = all.reports;
    const limiter = all.members[1] as HubExchange;
    const { subscribe } = limiter;
    limiter.unsubscribe('all');
    // From the constructor on: what was subscribed to before is not.
    limiter.subscribe = () => new Promise(() => {});
    const late = new SharedRelay(limiter, all.clock, {
      instance: 'i3',
      incarnation: () => 'late',
      boundsOf: () => bounds,
      report: (error) => all.reports.push(error),
    });
    late.others.follow({
      answer: () => 'heard',
      hear: () => {},
      gone: () => {},
      resumed: () => {},
      status: () => (all.engines[1] as Engine).cluster.status,
    });
    await all.clock.run(1_000);
    limiter.subscribe = subscribe;
    await all.clock.run(3_500);
    const asking = (all.relays[0] as SharedRelay).others.ask({ type: 'entrants', channel: north }, 500);
    await all.clock.run(600);
    expect((await asking).answers).toContainEqual(expect.objectContaining({ instance: 'i3', answer: 'heard' }));
    all.reports.splice(0);
  });

  it('let go of members of somebody whose lease they never saw, and whose goodbye was lost', async () => {
    const { clock, hub, one, come } = await two();
    const pia = await come(one, 'pia', [north]);
    const entry = { session: 'sx', generation: 1, author: { user: 'ghost' }, sinceMs: 0 };
    const word = { channel: north, table: 'i9.x', number: 1, base: 0, changes: [{ entry }] };
    hub.publish(`c/${north}`, JSON.stringify(word));
    await clock.run(500);
    expect(one.presence.membersHere(north, 10).count).toBe(2);
    await clock.run(9_000);
    expect(one.presence.membersHere(north, 10).count).toBe(1);
    expect(pia.pushes('members').at(-1)).toMatchObject({ left: ['ghost'] });
  });

  it('do not believe what one has answered that was gone before it was looked at', async () => {
    let answer: (answered: InstanceAnswers<Table | null>) => void = () => {};
    const shown: string[] = [];
    const tables = new Tables(north, {
      self: () => 'i1.x',
      base: () => 0,
      publish: () => {},
      ask: () => new Promise((resolve) => (answer = resolve)),
      soon: (act) => act(),
      after: () => () => {},
      own: () => [],
      take: () => {},
      replace: (home, entries) => void shown.push(...entries.map(({ session }) => `${session} on ${home}`)),
    });
    const entry = (session: string) => ({ session, generation: 1, author: { user: session }, sinceMs: 0 });
    const ready = tables.ready();
    const answers = ['i2', 'i3'].map((instance) => ({
      instance,
      instanceId: `${instance}.x`,
      answer: { number: 1, entries: [entry(`of ${instance}`)] },
    }));
    // All of this came in one piece.
    answer({ answers, missing: [] });
    tables.forget('i2.x');
    await ready;
    expect(shown).toEqual(['of i3 on i3.x']);
  });

  it('refuse messages and newcomers while they are cut off, keep who is there, and go on after it', async () => {
    const { clock, one, members, come } = await two();
    const pia = await come(one, 'pia', [north]);
    const limiter = members[0] as HubExchange;
    const whole = { beat: limiter.beat, append: limiter.append, since: limiter.since, heads: limiter.heads };
    for (const name of ['beat', 'append', 'since', 'heads'] as const)
      (limiter as unknown as Record<string, unknown>)[name] = () => Promise.reject(new Error('it is away'));
    await clock.run(1_500);
    await expect(one.messages.publish({ channel: north, data: 1 })).rejects.toMatchObject({ code: 'busy' });
    await expect(one.messages.publish({ channel: chat, data: 1 })).rejects.toMatchObject({ code: 'busy' });
    await clock.run(6_000);
    expect(one.isOpen).toBe(false);
    const late = new Client(one);
    await clock.run(20);
    expect(late.closedWith).toMatchObject({ code: 1013 });
    expect(pia.closedWith).toBeUndefined();
    Object.assign(limiter, whole);
    await clock.run(1_500);
    expect(one.isOpen).toBe(true);
    void one.messages.publish({ channel: north, data: 'again' });
    await clock.run(50);
    expect(pia.data).toEqual(['again']);
    reports.splice(0);
  });

  it('read anew at once what they have missed when they are linked again: who is there, and how users are', async () => {
    const { clock, one, other, members, come } = await two();
    const [pia, jory] = [await come(other, 'pia', [north]), await come(one, 'jory', [north])];
    pia.send({ do: 'watch', user: 'jory' });
    await clock.run(500);
    expect(other.presence.membersHere(north, 10).count).toBe(2);
    const limiter = members[1] as HubExchange;
    const { beat } = limiter;
    for (const topic of [`c/${north}`, 'all']) limiter.unsubscribe(topic);
    limiter.beat = () => Promise.reject(new Error('it is away'));
    await clock.run(1_500);
    jory.send({ do: 'leave', channel: north });
    jory.send({ do: 'status', status: 'busy' });
    await clock.run(500);
    expect(other.presence.membersHere(north, 10).count).toBe(2);
    limiter.beat = beat;
    for (const topic of [`c/${north}`, 'all']) await limiter.subscribe(topic);
    await clock.run(2_000);
    expect(other.presence.membersHere(north, 10).count).toBe(1);
    expect(pia.pushes('user').at(-1)).toMatchObject({ user: 'jory', status: 'busy' });
    reports.splice(0);
  });

  it('obey bans of each other, also those that they could not be told of', async () => {
    const { clock, one, other, members, come } = await two();
    const [jory, ines] = [await come(other, 'jory', [north]), await come(other, 'ines', [north])];
    void one.moderation.ban({ user: 'jory', channel: north }, { kind: 'service', id: 'test' });
    await clock.run(20);
    expect(jory.pushes('removed')).toHaveLength(1);
    const limiter = members[1] as HubExchange;
    const { beat } = limiter;
    limiter.unsubscribe('c/!control');
    limiter.beat = () => Promise.reject(new Error('it is away'));
    await clock.run(2_000);
    void one.moderation.ban({ user: 'ines' }, { kind: 'service', id: 'test' });
    await clock.run(500);
    expect(ines.closedWith).toBeUndefined();
    limiter.beat = beat;
    await clock.run(2_000);
    expect(ines.closedWith?.code).toBe(4902);
    reports.splice(0);
  });
});

describe('what was committed, and never said because its instance died,', () => {
  const by = { kind: 'key', id: 'k1' } as const;
  const atMs = Date.UTC(2031, 5, 14, 12);
  const taken = { id: 'n0', by, atMs, user: 'pia' } as const;
  const cases = [
    { of: 'a ban', action: { ...taken, type: 'ban' }, ends: true },
    { of: 'a ban from a channel', action: { ...taken, type: 'ban', channel: north }, ends: false },
    { of: 'a removal', action: { ...taken, type: 'remove', channel: north, reason: 'shouting' }, ends: false },
    { of: 'a sign-out', action: { ...taken, type: 'sign-out' }, ends: true },
    { of: 'revoked tokens', action: { ...taken, type: 'revoke-tokens' }, ends: true },
  ] as const;

  it.each(cases)('takes effect all the same: $of', async ({ action, ends }) => {
    const { clock, engines, store, come } = together(2);
    await clock.run(2_000);
    const pia = await come(engines[0], 'pia', [north]);
    const jory = await come(engines[1], 'jory', [north]);
    await clock.run(5_000);
    await store.moderation.take({ ...action, atMs: clock.now() } as ModerationAction);
    await clock.run(4_000);
    if (ends) expect(pia.closedWith).toBeDefined();
    else expect(pia.pushes('removed')).toHaveLength(1);
    expect(jory.closedWith).toBeUndefined();
    expect(jory.pushes('removed')).toEqual([]);
  });

  it('is seen at once when the others notice that the instance is gone, and a lifted ban is lifted', async () => {
    const { clock, engines, store, relays, come } = together(2);
    await clock.run(2_000);
    const { action } = await (engines[0] as Engine).moderation.ban({ user: 'pia', channel: north }, by);
    await clock.run(10);
    await store.moderation.take({ ...taken, id: 'n9', type: 'unban', ban: action.id, channel: north });
    await relays[0]?.stop();
    await clock.run(100);
    const pia = await come(engines[1], 'pia', [north]);
    expect(pia.frames[0]).toMatchObject({ entered: [{ channel: north }] });
    expect(engines[1]?.moderation.bans).toEqual([]);
  });

  it('costs one small query while nothing is missed', async () => {
    const { clock, engines, store } = together(2);
    await clock.run(2_000);
    let read = 0;
    const { inForce } = store.moderation;
    store.moderation.inForce = (at) => {
      read += 1;
      return inForce.call(store.moderation, at);
    };
    for (let n = 0; n < 20; n++) {
      await (engines[n % 2] as Engine).moderation.ban({ user: `user-${n}` }, by);
      await clock.run(700);
    }
    expect(read).toBe(0);
  });
});

it('a connection is not ended by what its own instance said late, under the name that it had before', async () => {
  const { clock, engines, hub, members, come } = together(2);
  await clock.run(2_000);
  const before = await come(engines[1], 'pia', [north]);
  const { session, secret } = before.frames[0];
  const [member] = members;
  const { append, beat } = member as HubExchange;
  // The first instance cannot say anything for so long that the others take it for dead.
  const away = (): Promise<never> => Promise.reject(new Error('the exchange is away'));
  Object.assign(member as HubExchange, { append: away, beat: away });
  before.connection.closed(1006);
  const again = new Client(engines[0] as Engine);
  again.send({ do: 'hello', token: 'pia', session, secret });
  await clock.run(4_500);
  expect(again.frames[0]).toMatchObject({ continued: true });
  Object.assign(member as HubExchange, { append, beat });
  await clock.run(10_000);
  expect(hub.beat('test', '{}', 1).leases.some(({ instanceId }) => instanceId.startsWith('i1.'))).toBe(true);
  expect(again.closedWith).toBeUndefined();
});
