import { channelName, refusal } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { type ChannelRule, ChannelRules, directAllow, type InboxEntry } from '../src/index.js';
import { type Client, harness } from './harness.js';

const chat = channelName('race/3/chat');
const rules: readonly ChannelRule[] = [
  {
    pattern: 'race/:race/chat',
    logbook: { type: 'kept' },
    presence: { graceMs: 10_000, crowd: 200 },
    allow: { enter: 'anyone' },
  },
  { pattern: 'direct/:users', logbook: { type: 'kept' }, direct: true, allow: directAllow('users') },
];

function setUp() {
  const unreached: InboxEntry[] = [];
  const made = harness(
    { pulseMs: 3_600_000, users: { watch: { not: { user: 'jory' } }, direct: { not: { user: 'jory' } } } },
    undefined,
    {
      rules,
      unreached: (entry) => unreached.push(entry),
    },
  );
  return { ...made, unreached };
}
const titles = (client: Client) => client.pushes('notice').map(({ title }) => title);

describe('a notice', () => {
  it('reaches every session of its users at once, with the count, and waits in the inbox of the others', async () => {
    const { welcomed, engine, settle } = setUp();
    const desk = await welcomed('pia');
    const phone = await welcomed('pia');
    const jory = await welcomed('jory');
    const { users, passedOver } = await engine.inboxes.notify({
      users: ['pia', 'ines', 'pia'],
      title: 'Protest hour',
      data: { hour: 16 },
    });
    await settle();
    expect([users, passedOver]).toEqual([2, 0]);
    for (const each of [desk, phone])
      expect(each.pushes('notice')).toMatchObject([{ title: 'Protest hour', data: { hour: 16 }, unread: 1 }]);
    expect(titles(jory)).toEqual([]);
    const ines = await welcomed('ines');
    expect(ines.frames[0].inbox).toMatchObject({ unread: 1, notices: [], more: false });
    const id = ines.send({ do: 'inbox' });
    await settle();
    expect(ines.reply(id)).toMatchObject({ unread: 1, more: false, notices: [{ title: 'Protest hour' }] });
  });

  it('is recovered by the inbox’s cursor, once', async () => {
    const { welcomed, engine, settle } = setUp();
    const pia = await welcomed('pia');
    await engine.inboxes.notify({ users: ['pia'], title: 'first' });
    await settle();
    const [{ cursor }] = pia.pushes('notice');
    const { session, secret } = pia.frames[0];
    pia.connection.closed(1006);
    for (const title of ['second', 'third']) await engine.inboxes.notify({ users: ['pia'], title });
    const again = await welcomed('pia', { session, secret, inbox: cursor });
    expect(again.frames[0].inbox.notices.map(({ title }: { title: string }) => title)).toEqual(['second', 'third']);
    const after = again.frames[0].inbox.cursor;
    again.connection.closed(1006);
    expect((await welcomed('pia', { inbox: after })).frames[0].inbox).toMatchObject({ notices: [], unread: 3 });
  });

  it('is done on all devices; one or all', async () => {
    const { welcomed, engine, settle } = setUp();
    const desk = await welcomed('pia');
    const phone = await welcomed('pia');
    for (const title of ['a', 'b', 'c']) await engine.inboxes.notify({ users: ['pia'], title });
    await settle();
    const [first] = desk.pushes('notice');
    const one = desk.send({ do: 'inbox', done: [first.id, 'not one'] });
    await settle();
    expect(desk.reply(one)).toMatchObject({ unread: 2, notices: [{ title: 'b' }, { title: 'c' }] });
    expect(phone.pushes('inbox')).toEqual([{ on: 'inbox', done: [first.id, 'not one'], unread: 2 }]);
    phone.send({ do: 'inbox', done: true });
    await settle();
    expect(desk.pushes('inbox').at(-1)).toEqual({ on: 'inbox', done: true, unread: 0 });
    expect((await engine.inboxes.read('pia', undefined, 10)).notices).toEqual([]);
  });

  it('takes the place of the one with its key, and goes by itself when its time is over', async () => {
    const { welcomed, engine, settle, clock } = setUp();
    const pia = await welcomed('pia');
    await engine.inboxes.notify({ users: ['pia'], title: 'sheet 1', key: 'tides' });
    await engine.inboxes.notify({ users: ['pia'], title: 'tea', forMs: 5_000 });
    await engine.inboxes.notify({ users: ['pia'], title: 'sheet 2', key: 'tides' });
    await settle();
    expect(pia.pushes('notice').map(({ title, unread }) => `${title} ${unread}`)).toEqual([
      'sheet 1 1',
      'tea 2',
      'sheet 2 2',
    ]);
    const inInbox = async () => (await engine.inboxes.read('pia', undefined, 10)).notices.map(({ title }) => title);
    expect(await inInbox()).toEqual(['tea', 'sheet 2']);
    await clock.run(5_000);
    expect(await inInbox()).toEqual(['sheet 2']);
  });

  it('is for the members of a channel, or whoever had a role when last seen', async () => {
    const { welcomed, engine, clock } = setUp();
    await welcomed('pia', { enter: [{ channel: chat }] });
    await welcomed('jory');
    const tomas = await welcomed('tomas!skipper');
    await clock.run(1_200);
    expect(await engine.inboxes.notify({ channel: chat, title: 'x' })).toMatchObject({ users: 1 });
    expect(await engine.inboxes.notify({ role: 'skipper', title: 'y' })).toMatchObject({ users: 1 });
    expect(await engine.inboxes.notify({ role: 'jury', title: 'y' })).toMatchObject({ users: 0 });
    await clock.run(0);
    expect(titles(tomas)).toEqual(['y']);
    expect(await engine.inboxes.user('tomas')).toMatchObject({ name: 'TOMAS', roles: ['skipper'] });
    expect(await engine.inboxes.user('nobody')).toBeUndefined();
  });

  it('passes over who is not available, or has the channel in view, if it is so wished', async () => {
    const { welcomed, engine, settle } = setUp();
    const pia = await welcomed('pia');
    const ines = await welcomed('ines');
    ines.send({ do: 'status', status: 'away' });
    pia.send({ do: 'status', looking: chat });
    await settle();
    const users = ['pia', 'ines', 'gone'];
    expect(await engine.inboxes.notify({ users, title: 'now', ifAvailable: true })).toMatchObject({
      users: 1,
      passedOver: 2,
    });
    expect(await engine.inboxes.notify({ users, title: 'chat', unlessLooking: chat })).toMatchObject({
      users: 2,
      passedOver: 1,
    });
    pia.send({ do: 'status', looking: null });
    await settle();
    expect(await engine.inboxes.notify({ users, title: 'chat', unlessLooking: chat })).toMatchObject({ users: 3 });
    await settle();
    expect(titles(pia)).toEqual(['now', 'chat']);
  });

  it('is held for who is busy, and told when that is over', async () => {
    const { welcomed, engine, settle } = setUp();
    const pia = await welcomed('pia');
    pia.send({ do: 'status', status: 'busy' });
    await settle();
    await engine.inboxes.notify({ users: ['pia'], title: 'later', holdWhileBusy: true });
    await engine.inboxes.notify({ users: ['pia'], title: 'at once' });
    await settle();
    expect(titles(pia)).toEqual(['at once']);
    expect((await engine.inboxes.read('pia', undefined, 10)).unread).toBe(2);
    pia.send({ do: 'status', status: { state: 'available' } });
    await settle();
    expect(titles(pia)).toEqual(['at once', 'later']);
  });

  it('tells the application when it has reached nobody’s session in time', async () => {
    const { welcomed, engine, clock, unreached } = setUp();
    await welcomed('pia');
    await engine.inboxes.notify({ users: ['pia', 'ines', 'tomas'], title: 'come', reachWithinMs: 10_000 });
    await clock.run(5_000);
    await welcomed('tomas');
    await clock.run(6_000);
    expect(unreached.map(({ user, notice }) => [user, notice.title])).toEqual([['ines', 'come']]);
  });

  it('needs somebody to be for, and guests have no inbox', async () => {
    const { engine, welcomed, settle } = setUp();
    await expect(engine.inboxes.notify({ title: 'x' })).rejects.toThrow('one of');
    await expect(engine.inboxes.notify({ users: [], title: 'x' })).rejects.toThrow('is empty');
    await expect(engine.inboxes.notify({ users: ['a'], role: 'b', title: 'x' })).rejects.toThrow('one of');
    const guest = await welcomed();
    expect(guest.frames[0]).not.toHaveProperty('inbox');
    const id = guest.send({ do: 'inbox' });
    await settle();
    expect(guest.reply(id).problem?.code).toBe('not-allowed');
  });
});

describe('a notice to many users', () => {
  const users = Array.from({ length: 1200 }, (_, n) => `user${n}`);

  it('is committed in portions, and says who is left when something fails on the way', async () => {
    const portions: number[] = [];
    let underWay = 0;
    let awayAt: number | undefined = 3;
    const { engine, clock } = harness({}, (memory) =>
      Object.assign(Object.create(memory), {
        notify: async (drafts: Parameters<typeof memory.notify>[0]) => {
          portions.push(drafts.length);
          underWay += 1;
          expect(underWay).toBe(1);
          await new Promise<void>((resolve) => void clock.setTimer(4, resolve));
          underWay -= 1;
          if (portions.length === awayAt) throw refusal('unavailable', 'away');
          return memory.notify(drafts);
        },
      }),
    );
    /** Each rests for as long as it took, so that half of the time is for others. */
    const notify = async (wish: Parameters<typeof engine.inboxes.notify>[0]) => {
      const [fromMs, said] = [clock.monotonic(), engine.inboxes.notify(wish)];
      let tookMs: number | undefined;
      void said.then(() => {
        tookMs = clock.monotonic() - fromMs;
      });
      await clock.run(20_000);
      return { ...(await said), tookMs };
    };
    const { left, tookMs, ...notified } = await notify({ users, title: 'x'.repeat(200) });
    expect(tookMs).toBe(4 + 4 + 4 + 4 + 4);
    expect(notified).toMatchObject({ users: 80, passedOver: 0, problem: { code: 'unavailable' } });
    expect([portions, left?.length, left?.[0]]).toEqual([[40, 40, 40], 1120, 'user80']);
    portions.length = 0;
    awayAt = undefined;
    // One at a time.
    const some = users.slice(0, 200);
    const both = ['all', 'and again'].map((title) => notify({ users: some, title, data: 'x'.repeat(16_000) }));
    expect(await Promise.all(both)).toMatchObject([{ users: 200 }, { users: 200 }]);
    // So are the calls that wait.
    const many = Array.from({ length: 20 }, () => engine.inboxes.notify({ users: some, title: 'x'.repeat(16_000) }));
    const codes = Promise.allSettled(many).then((all) =>
      all.map((each) => (each.status === 'fulfilled' ? 'done' : each.reason.problem.code)),
    );
    await clock.run(60_000);
    expect(await codes).toEqual([...Array(16).fill('done'), ...Array(4).fill('busy')]);
    // Their data is bounded as well as their number.
    expect(Math.max(...portions)).toBeLessThan(5);
  });

  it('is bounded in all', async () => {
    const many = Array.from({ length: 9_000 }, (_, n) => `user${n}`);
    const notify = harness().engine.inboxes.notify({ users: many, title: 'x', data: 'x'.repeat(16_000) });
    await expect(notify).rejects.toMatchObject({ code: 'too-large' });
  });
});

describe('watching a status', () => {
  it('tells what it is and when it changes, without a channel in common', async () => {
    const { welcomed, settle, clock } = setUp();
    const pia = await welcomed('pia');
    const id = pia.send({ do: 'watch', user: 'bram' });
    await settle();
    expect(pia.reply(id)).toMatchObject({ user: 'bram', status: null });
    const bram = await welcomed('bram');
    await clock.run(400);
    bram.send({ do: 'status', status: 'busy' });
    bram.send({ do: 'status', status: { state: 'away', back: 'soon' } });
    await clock.run(400);
    bram.connection.closed(1006);
    await clock.run(9_000);
    expect(pia.pushes('user').map(({ status }) => status)).toEqual(['available', { state: 'away', back: 'soon' }]);
    await clock.run(1_500);
    expect(pia.pushes('user').at(-1)).toEqual({ on: 'user', user: 'bram', status: null });
    pia.send({ do: 'unwatch', user: 'bram' });
    await welcomed('bram');
    await clock.run(1_000);
    expect(pia.pushes('user')).toHaveLength(3);
  });

  it.each([
    ['a token that does not allow it', 'refresh'],
    ['an answer that runs out', 'ask'],
  ])('ends with %s, and says so', async (_, how) => {
    let allow = true;
    const users = { watch: how === 'ask' ? { ask: 'http://regatta.example/may' } : { role: 'coach' } };
    const asker = { ask: async () => ({ allow, rememberMs: 5_000 }) };
    const { welcomed, settle, clock } = harness({ users }, undefined, { asker });
    const bram = await welcomed('bram!coach');
    const watch = bram.send({ do: 'watch', user: 'pia' });
    await settle();
    expect(bram.reply(watch).problem).toBeUndefined();
    allow = false;
    bram.send(how === 'ask' ? { do: 'leave', channel: 'none' } : { do: 'refresh', token: 'bram' });
    await clock.run(6_000);
    expect(bram.pushes('user')).toMatchObject([{ user: 'pia', status: null, problem: { code: 'not-allowed' } }]);
    await welcomed('pia');
    await clock.run(1_000);
    expect(bram.pushes('user')).toHaveLength(1);
  });

  it('does not flicker for a short break, and is a question of access', async () => {
    const { welcomed, settle, clock } = setUp();
    const pia = await welcomed('pia');
    const bram = await welcomed('bram');
    pia.send({ do: 'watch', user: 'bram' });
    await settle();
    const { session, secret } = bram.frames[0];
    bram.connection.closed(1006);
    await clock.run(5_000);
    await welcomed('bram', { session, secret });
    await clock.run(20_000);
    expect(pia.pushes('user')).toEqual([]);
    const jory = await welcomed('jory');
    const id = jory.send({ do: 'watch', user: 'bram' });
    await settle();
    expect(jory.reply(id).problem?.code).toBe('not-allowed');
  });
});

describe('a direct channel', () => {
  const channel = channelName('direct/ines,pia');

  it('is for its users alone; who is not there learns of it by one notice', async () => {
    const { welcomed, settle, clock, engine } = setUp();
    const ines = await welcomed('ines');
    const tomas = await welcomed('tomas');
    const pia = await welcomed('pia', { enter: [{ channel }] });
    // Also where all came only now, and are not written down yet.
    expect(pia.frames[0]).toMatchObject({ direct: 'direct/', entered: [{ channel, cursor: expect.anything() }] });
    await clock.run(1_200);
    const ids = [pia, tomas].map((each) => each.send({ do: 'publish', channel, data: 'Tea?' }));
    await settle();
    expect(pia.reply(ids[0] as number).problem).toBeUndefined();
    expect(tomas.reply(ids[1] as number).problem?.code).toBe('not-allowed');
    expect(ines.pushes('notice')).toMatchObject([
      { title: 'PIA wrote to you', data: { channel, from: 'pia' }, unread: 1 },
    ]);
    pia.send({ do: 'publish', channel, data: 'At four?' });
    await settle();
    expect((await engine.inboxes.read('ines', undefined, 10)).unread).toBe(1);
    const enter = ines.send({ do: 'enter', channel, last: 10 });
    await settle();
    expect((ines.reply(enter) as unknown as { messages: { data: string }[] }).messages.map(({ data }) => data)).toEqual(
      ['Tea?', 'At four?'],
    );
    const before = ines.pushes('notice').length;
    pia.send({ do: 'publish', channel, data: 'Good.' });
    await settle();
    expect(ines.pushes('notice')).toHaveLength(before);
    const read = tomas.send({ do: 'read', channel });
    await settle();
    expect(tomas.reply(read).problem?.code).toBe('not-allowed');
  });

  it.each([
    ['direct/pia', 'bad-name'],
    ['direct/pia,ines', 'bad-name'],
    ['direct/ines,ines,pia', 'bad-name'],
    ['direct/ines,=zz', 'bad-name'],
    ['direct/nobody-yet,pia', 'bad-value'],
    ['direct/guest=3Ax,pia', 'bad-value'],
    ['direct/ines,tomas', 'not-allowed'],
  ])('is not %s', async (name, code) => {
    const { welcomed, settle, clock } = setUp();
    await welcomed('ines');
    const pia = await welcomed('pia');
    await clock.run(1_200);
    const ids = [pia.send({ do: 'enter', channel: name }), pia.send({ do: 'publish', channel: name, data: 1 })];
    await settle();
    expect(ids.map((id) => pia.reply(id).problem?.code)).toEqual([code, code]);
  });

  it('is begun by whom the rule lets, and once begun used by both', async () => {
    const { welcomed, settle, clock } = setUp();
    const jory = await welcomed('jory');
    const pia = await welcomed('pia');
    await clock.run(1_200);
    const name = 'direct/jory,pia';
    const first = jory.send({ do: 'publish', channel: name, data: 1 });
    await settle();
    expect(jory.reply(first).problem?.code).toBe('not-allowed');
    pia.send({ do: 'publish', channel: name, data: 1 });
    await settle();
    const second = jory.send({ do: 'publish', channel: name, data: 2 });
    await settle();
    expect(jory.reply(second).problem).toBeUndefined();
  });

  it('is not begun without the act `direct`, when the application is asked besides', async () => {
    const asked: ChannelRule = {
      pattern: 'direct/:users',
      logbook: { type: 'kept' },
      direct: true,
      allow: { enter: async () => true, publish: async () => true },
    };
    const { welcomed, settle, clock } = harness({ pulseMs: 3_600_000 }, undefined, { rules: [asked] });
    await welcomed('ines');
    const pia = await welcomed('pia');
    await clock.run(1_200);
    const ids = [pia.send({ do: 'enter', channel }), pia.send({ do: 'publish', channel, data: 1 })];
    await settle();
    expect(ids.map((id) => pia.reply(id).problem?.code)).toEqual(['not-allowed', 'not-allowed']);
  });

  it('is explained as it is decided', async () => {
    const { welcomed, engine, clock } = setUp();
    await welcomed('jory');
    await welcomed('pia');
    await clock.run(1_200);
    const explain = async (user: string) => {
      const { allowed, problem, evaluation } = await engine.access.explain('enter', 'direct/jory,pia', {
        who: { user, guest: false, roles: [], claims: {} },
      });
      return [allowed, problem?.detail, evaluation?.holds];
    };
    expect(await explain('pia')).toEqual([true, undefined, true]);
    expect(await explain('jory')).toEqual([false, 'user jory may not start a direct channel with pia', true]);
    expect((await explain('ines')).slice(0, 1)).toEqual([false]);
  });

  it('has one parameter in its pattern, at the end', () => {
    for (const pattern of ['direct', 'direct/:a/:b', ':users/direct'])
      expect(() => new ChannelRules([{ pattern, logbook: { type: 'kept' }, direct: true, allow: {} }])).toThrow(
        'one parameter',
      );
  });
});
