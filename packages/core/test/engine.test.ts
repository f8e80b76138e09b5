import { channelName, closeCodes, refusal } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { type Client, harness } from './harness.js';

const chat = channelName('race/3/chat');
const wind = channelName('weather/wind');

describe('hello', () => {
  it('welcomes a user with a session, a secret and the limits', async () => {
    const { welcomed } = harness();
    const pia = await welcomed('pia');
    expect(pia.frames[0]).toMatchObject({
      re: 1,
      user: 'pia',
      name: 'PIA',
      continued: false,
      pulseMs: 20_000,
      limits: { frameBytes: 65_536, channels: 200 },
      entered: [],
    });
  });

  it('does not read again the token of a session that comes back, unless it ended or was revoked', async () => {
    const { welcomed, clock, engine, connect, settle } = harness();
    // A pulse may come first.
    const welcomeOf = ({ frames }: Client) => frames.find(({ re }) => re !== undefined);
    const first = await welcomed('pia@60000');
    const { session, secret } = first.frames[0];
    first.connection.closed(1006);
    // Reading this one takes a second, which a session that shows it for the first time must wait.
    const again = connect();
    again.send({ do: 'hello', token: 'late:pia@60000', session, secret });
    await settle();
    expect(again.frames).toEqual([]);
    await clock.run(1_000);
    expect(welcomeOf(again)).toMatchObject({ session, continued: true });
    again.connection.closed(1006);
    const back = await welcomed('late:pia@60000', { session, secret: welcomeOf(again).secret });
    expect(back.frames[0]).toMatchObject({ session, continued: true, user: 'pia' });
    back.connection.closed(1006);
    const stranger = connect();
    stranger.send({ do: 'hello', token: 'late:jory', session, secret: back.frames[0].secret });
    await settle();
    expect(stranger.frames).toEqual([]);
    await clock.run(1_000);
    expect(welcomeOf(stranger)).toMatchObject({ user: 'jory', continued: false });
    await engine.moderation.revokeTokens('pia', { kind: 'key', id: 'k' });
    const revoked = await welcomed('late:pia@60000', { session, secret: back.frames[0].secret });
    expect(revoked.closedWith?.code).toBe(4903);
    await clock.run(61_000);
    const ended = connect();
    ended.send({ do: 'hello', token: 'late:pia@60000', session, secret: back.frames[0].secret });
    await settle();
    // It is read as any other: what was known of it has ended.
    expect(ended.frames).toEqual([]);
  });

  it('names a guest, the same for as long as its session lasts', async () => {
    const { welcomed } = harness();
    const first = (await welcomed()).frames[0];
    expect(first.user).toMatch(/^guest:/);
    expect(first.guest).toBe(true);
    const again = (await welcomed(undefined, { session: first.session, secret: first.secret })).frames[0];
    expect(again).toMatchObject({ user: first.user, name: first.name, continued: true });
  });

  it('refuses guests where none are let in, and closes', async () => {
    const { welcomed } = harness({ guests: false });
    const guest = await welcomed();
    expect(guest.frames[0].problem.code).toBe('no-guests');
    expect(guest.closedWith).toEqual({ code: closeCodes.policy, reason: 'no-guests' });
  });

  it.each([
    ['forged', 'token-invalid', closeCodes.policy],
    ['ended', 'token-ended', closeCodes.tokenEnded],
  ])('refuses a token that is %s with its code, and closes', async (token, code, close) => {
    const { welcomed } = harness();
    const client = await welcomed(token);
    expect(client.frames[0].problem.code).toBe(code);
    expect(client.closedWith).toEqual({ code: close, reason: code });
  });

  it('must come in time', async () => {
    const { connect, clock } = harness();
    const client = connect();
    await clock.run(6_000);
    expect(client.closedWith).toEqual({ code: closeCodes.policy, reason: 'hello-first' });
  });

  it('may have come in time and be read late, where the process stood still', async () => {
    const { connect, clock, settle } = harness();
    const client = connect();
    await clock.run(5_100);
    const id = client.send({ do: 'hello', token: 'pia' });
    await settle();
    await clock.run(1_000);
    expect(client.reply(id)).toMatchObject({ user: 'pia' });
    expect(client.closedWith).toBeUndefined();
  });

  it('must come first, and once; the connection survives both mistakes', async () => {
    const { connect, settle } = harness();
    const client = connect();
    const early = client.send({ do: 'enter', channel: chat });
    client.send({ do: 'hello', token: 'pia' });
    const twice = client.send({ do: 'hello', token: 'jory' });
    await settle();
    expect(client.reply(early).problem?.code).toBe('hello-first');
    expect(client.reply(twice).problem?.code).toBe('hello-twice');
    expect(client.closedWith).toBeUndefined();
    expect(client.connection.client?.who?.user).toBe('pia');
  });

  it('lets requests be sent behind it without waiting, however long the token takes', async () => {
    const { connect, clock } = harness();
    const client = connect();
    client.send({ do: 'hello', token: 'late:pia' });
    client.send({ do: 'enter', channel: chat });
    const publish = client.send({ do: 'publish', channel: chat, data: 'ahoy' });
    await clock.run(2_000);
    expect(client.reply(publish)).toHaveProperty('cursor');
    expect(client.data).toEqual(['ahoy']);
  });

  it('restores every channel after its cursor in one reply, and answers those it refuses one by one', async () => {
    const { welcomed, engine } = harness();
    const first = await engine.messages.publish({ channel: chat, data: 1 });
    await engine.messages.publish({ channel: chat, data: 2 });
    const client = await welcomed(undefined, {
      enter: [
        { channel: chat, after: first.cursor },
        { channel: 'committee' },
        { channel: 'nowhere' },
        { channel: wind },
      ],
    });
    const { entered } = client.frames[0];
    expect(entered[0].messages.map((each: { data: unknown }) => each.data)).toEqual([2]);
    expect(entered[1].problem.code).toBe('not-allowed');
    expect(entered[2].problem.code).toBe('no-such-channel');
    expect(entered[3]).toMatchObject({ messages: [], more: false });
  });
});

describe('a session', () => {
  it('is continued with its secret, and the older connection is closed', async () => {
    const { welcomed } = harness();
    const old = await welcomed('pia', { enter: [{ channel: chat }] });
    const { session, secret } = old.frames[0];
    const next = await welcomed('pia', { session, secret });
    expect(next.frames[0]).toMatchObject({ session, continued: true, ended: 'continued-elsewhere' });
    expect(old.closedWith?.code).toBe(closeCodes.continuedElsewhere);
  });

  it.each([
    ['another user', 'jory', (secret: string) => secret],
    ['a forged secret', 'pia', (secret: string) => secret.replace(/.$/, '!')],
    ['a raised generation', 'pia', (secret: string) => secret.replace('1.', '2.')],
  ])('is not continued by %s', async (_, user, forge) => {
    const { welcomed } = harness();
    const { session, secret } = (await welcomed('pia')).frames[0];
    const other = await welcomed(user, { session, secret: forge(secret) });
    expect(other.frames[0]).toMatchObject({ continued: false });
    expect(other.frames[0].session).not.toBe(session);
  });

  it('takes the secret before once more, if the newest never arrived, and none older than one that was used', async () => {
    const { welcomed } = harness();
    const first = (await welcomed('pia')).frames[0];
    const { session } = first;
    const unseen = (await welcomed('pia', { session, secret: first.secret })).frames[0];
    const third = (await welcomed('pia', { session, secret: first.secret })).frames[0];
    expect([unseen.continued, third.continued]).toEqual([true, true]);
    await welcomed('pia', { session, secret: third.secret });
    expect((await welcomed('pia', { session, secret: first.secret })).frames[0].continued).toBe(false);
  });

  it('goes on on another instance that has the same key, and is gone after a clean goodbye', async () => {
    const { welcomed, restarted } = harness();
    const client = await welcomed('pia');
    const { session, secret } = client.frames[0];
    expect((await welcomed('pia', { session, secret }, restarted())).frames[0].continued).toBe(true);
    client.connection.closed(closeCodes.normal);
    expect((await welcomed('pia', { session, secret })).frames[0].continued).toBe(false);
  });

  it('ends on this connection when its token does', async () => {
    const { welcomed, clock } = harness();
    const client = await welcomed('pia@30000');
    await clock.run(29_000);
    expect(client.closedWith).toBeUndefined();
    await clock.run(2_000);
    expect(client.closedWith).toEqual({ code: closeCodes.tokenEnded, reason: 'token-ended' });
  });
});

describe('refresh', () => {
  it('comes after a word that the token is about to end, and lets the connection stay', async () => {
    const { welcomed, clock } = harness({ pulseMs: 3_600_000 });
    const pia = await welcomed('pia@300000');
    await clock.run(239_000);
    expect(pia.pushes('expiring')).toEqual([]);
    await clock.run(1_500);
    expect(pia.pushes('expiring')).toHaveLength(1);
    expect(pia.pushes('expiring')[0].withinMs).toBeGreaterThan(59_000);
    const id = pia.send({ do: 'refresh', token: 'pia@600000' });
    await clock.run(300_000);
    expect(pia.reply(id)).toMatchObject({ lost: [], expiresAt: expect.stringMatching(/Z$/) });
    expect(pia.closedWith).toBeUndefined();
    expect(pia.pushes('expiring')).toHaveLength(1);
  });

  it('leaves the channels that the new token does not allow', async () => {
    const { welcomed, settle, engine } = harness();
    const enter = [{ channel: 'crew/petrel' }, { channel: chat }];
    const pia = await welcomed('pia+petrel', { enter });
    const id = pia.send({ do: 'refresh', token: 'pia' });
    await settle();
    await engine.messages.publish({ channel: channelName('crew/petrel'), data: 'aboard' });
    await engine.messages.publish({ channel: chat, data: 'ashore' });
    await settle();
    expect(pia.reply(id)).toMatchObject({ lost: ['crew/petrel'] });
    expect(pia.data).toEqual(['ashore']);
  });

  it.each([
    ['jory', 'user-mismatch'],
    ['forged', 'token-invalid'],
    ['ended', 'token-ended'],
  ])('with the token %s is refused, and changes nothing', async (token, code) => {
    const { welcomed, settle } = harness();
    const pia = await welcomed('pia');
    const id = pia.send({ do: 'refresh', token });
    await settle();
    expect(pia.reply(id).problem?.code).toBe(code);
    expect([pia.connection.client?.who?.user, pia.closedWith]).toEqual(['pia', undefined]);
  });

  it('makes no user of a guest', async () => {
    const { welcomed, settle } = harness();
    const guest = await welcomed();
    const id = guest.send({ do: 'refresh', token: 'pia' });
    await settle();
    expect(guest.reply(id).problem?.code).toBe('user-mismatch');
  });
});

describe('publishing', () => {
  it('reaches everybody in the channel, in one order, the publisher included', async () => {
    const { welcomed, settle, engine } = harness();
    const pia = await welcomed('pia', { enter: [{ channel: chat }] });
    const jory = await welcomed('jory', { enter: [{ channel: chat }] });
    const elsewhere = await welcomed('ines', { enter: [{ channel: 'race/4/chat' }] });
    pia.send({ do: 'publish', channel: chat, data: 1, key: 'k' });
    jory.send({ do: 'publish', channel: chat, data: 2 });
    await engine.messages.publish({ channel: chat, data: 3, by: { user: 'mira' } });
    await settle();
    expect(pia.data).toEqual([1, 2, 3]);
    expect(jory.frames.filter((frame) => frame.on)).toEqual(pia.frames.filter((frame) => frame.on));
    expect(elsewhere.data).toEqual([]);
    expect(pia.pushes('message')[0]).toMatchObject({ by: { user: 'pia', name: 'PIA' }, key: 'k', type: 'message' });
  });

  it('goes only to others with echo false, also when they recover', async () => {
    const { welcomed, settle } = harness();
    const pia = await welcomed('pia', { enter: [{ channel: chat }] });
    const jory = await welcomed('jory', { enter: [{ channel: chat }] });
    const { session, secret, entered } = pia.frames[0];
    pia.send({ do: 'publish', channel: chat, data: 'to others', echo: false });
    await settle();
    expect([pia.data, jory.data]).toEqual([[], ['to others']]);
    const back = await welcomed('pia', { session, secret, enter: [{ channel: chat, after: entered[0].cursor }] });
    expect(back.frames[0].entered[0].messages).toEqual([]);
  });

  it('again with the same key publishes nothing, on the line and over a restart of a kept channel', async () => {
    const { welcomed, settle, restarted } = harness();
    const pia = await welcomed('pia');
    const first = pia.send({ do: 'publish', channel: chat, data: 1, key: 'k' });
    const again = pia.send({ do: 'publish', channel: chat, data: 1, key: 'k' });
    await settle();
    expect(pia.reply(again)).toMatchObject({ repeated: true, cursor: pia.reply(first).cursor });
    const later = await welcomed('pia', {}, restarted());
    const third = later.send({ do: 'publish', channel: chat, data: 1, key: 'k' });
    await settle();
    expect(later.reply(third)).toMatchObject({ repeated: true, cursor: pia.reply(first).cursor });
  });

  it('is refused where one may not, and needs a rule for the channel', async () => {
    const { welcomed, settle, engine } = harness();
    const guest = await welcomed(undefined, { enter: [{ channel: chat }] });
    const refused = guest.send({ do: 'publish', channel: chat, data: 1 });
    const nobody = guest.send({ do: 'publish', channel: 'regatta/notices', data: 1 });
    const nowhere = guest.send({ do: 'publish', channel: 'x/y', data: 1 });
    await settle();
    expect(guest.reply(refused).problem?.code).toBe('not-allowed');
    expect(guest.reply(nobody).problem?.code).toBe('not-allowed');
    expect(guest.reply(nowhere).problem?.code).toBe('no-such-channel');
    expect(guest.data).toEqual([]);
    await expect(engine.messages.publish({ channel: channelName('x/y'), data: 1 })).rejects.toMatchObject({
      code: 'no-such-channel',
    });
  });

  it('keeps to the rule’s bound on data, in bytes', async () => {
    const { welcomed, settle } = harness();
    const pia = await welcomed('pia');
    const fits = pia.send({ do: 'publish', channel: chat, data: 'ü'.repeat(499) });
    const over = pia.send({ do: 'publish', channel: chat, data: 'ü'.repeat(500) });
    await settle();
    expect(pia.reply(fits).problem).toBeUndefined();
    expect(pia.reply(over).problem?.code).toBe('too-large');
  });

  it('without an id is answered only if it fails', async () => {
    const { welcomed, settle } = harness();
    const pia = await welcomed('pia');
    const before = pia.frames.length;
    pia.connection.receive(JSON.stringify({ do: 'publish', channel: chat, data: 1 }));
    await settle();
    expect(pia.frames.length).toBe(before);
    pia.connection.receive(JSON.stringify({ do: 'publish', channel: 'x/y', data: 1 }));
    await settle();
    expect(pia.pushes('problem')).toMatchObject([{ code: 'no-such-channel' }]);
  });

  it('is seen by nobody before it is committed, and by nobody if that fails', async () => {
    let commit = (_: boolean): void => {};
    const { welcomed, settle } = harness({}, (memory) => {
      const append = memory.append.bind(memory);
      return Object.assign(memory, {
        append: async (...args: Parameters<typeof append>) => {
          const ok = await new Promise<boolean>((resolve) => (commit = resolve));
          if (!ok) throw refusal('unavailable', 'the disk is full', { retryAfterMs: 1000 });
          return append(...args);
        },
      });
    });
    const pia = await welcomed('pia', { enter: [{ channel: chat }] });
    const first = pia.send({ do: 'publish', channel: chat, data: 1 });
    await settle();
    expect([pia.data, pia.reply(first)]).toEqual([[], undefined]);
    commit(true);
    await settle();
    expect(pia.data).toEqual([1]);
    const second = pia.send({ do: 'publish', channel: chat, data: 2 });
    await settle();
    commit(false);
    await settle();
    expect(pia.reply(second).problem).toMatchObject({ code: 'unavailable', retryAfterMs: 1000 });
    expect(pia.data).toEqual([1]);
  });
});

describe('a store that does not keep up', () => {
  function slowStore(options: object) {
    const commits: (() => void)[] = [];
    const made = harness(options, (memory) => {
      const append = memory.append.bind(memory);
      return Object.assign(memory, {
        append: async (...args: Parameters<typeof append>) => {
          await new Promise<void>((resolve) => commits.push(resolve));
          return append(...args);
        },
      });
    });
    return { ...made, commit: () => commits.splice(0).forEach((each) => void each()) };
  }
  const outcome = (published: Promise<unknown>) =>
    published.then(
      () => 'published',
      (error: { code: string }) => error.code,
    );

  it('has publishers wait before memory grows, and heals by itself', async () => {
    const { engine, settle, commit } = slowStore({ backlog: { messages: 20, bytes: 10_000, perChannel: 15 } });
    const publish = (channel = chat, data: string | number = 1) => outcome(engine.messages.publish({ channel, data }));
    const first = Array.from({ length: 20 }, () => publish());
    const elsewhere = Array.from({ length: 10 }, () => publish(channelName('race/4/chat')));
    await settle();
    expect(engine.stats.backlog).toBe(20);
    commit();
    await settle();
    expect([(await Promise.all(first)).filter((each) => each === 'busy').length, engine.stats.backlog]).toEqual([5, 0]);
    expect((await Promise.all(elsewhere)).filter((each) => each === 'busy').length).toBe(5);
    const large = Array.from({ length: 15 }, () => publish(chat, 'x'.repeat(900)));
    await settle();
    expect(engine.stats.backlog).toBe(11);
    commit();
    await settle();
    expect((await Promise.all(large)).filter((each) => each === 'busy').length).toBe(4);
    const again = publish();
    await settle();
    commit();
    expect(await again).toBe('published');
  });

  it('does not hold up what is not kept', async () => {
    const { engine, settle } = slowStore({ backlog: { messages: 100, bytes: 10_000, perChannel: 5 } });
    for (let n = 0; n < 10; n++) void outcome(engine.messages.publish({ channel: chat, data: n }));
    await settle();
    expect(await outcome(engine.messages.publish({ channel: channelName('weather/wind'), data: 1 }))).toBe('published');
  });
});

describe('draining', () => {
  it('lets nobody in, asks everyone to go within a time, takes what is published, and ends', async () => {
    const { engine, welcomed, clock, connect, settle } = harness();
    const [pia, jory] = [await welcomed('pia'), await welcomed('jory')];
    let drained = false;
    void engine.drain(5_000).then(() => {
      drained = true;
    });
    await settle();
    expect(pia.pushes('drain')).toEqual([{ on: 'drain', withinMs: 5_000 }]);
    expect(connect().closedWith).toMatchObject({ code: 1012 });
    const id = jory.send({ do: 'publish', channel: chat, data: 'still here' });
    await settle();
    expect(jory.reply(id)).toMatchObject({ cursor: expect.any(String) });
    pia.connection.closed(4904);
    await clock.run(2_000);
    expect(drained).toBe(false);
    jory.connection.closed(4904);
    await clock.run(200);
    expect(drained).toBe(true);
  });

  it('waits no longer than it was told to', async () => {
    const { engine, welcomed, clock } = harness();
    const pia = await welcomed('pia');
    let drained = false;
    void engine.drain(1_000).then(() => {
      drained = true;
    });
    await clock.run(1_200);
    expect([drained, pia.closedWith]).toEqual([true, undefined]);
    await engine.stop();
    expect(pia.closedWith).toMatchObject({ code: 1012 });
  });
});

describe('entering', () => {
  it('gives the last messages and then what comes, without a seam', async () => {
    const { welcomed, settle, engine } = harness();
    for (let n = 1; n <= 5; n++) await engine.messages.publish({ channel: chat, data: n });
    const pia = await welcomed('pia');
    const id = pia.send({ do: 'enter', channel: chat, last: 2 });
    void engine.messages.publish({ channel: chat, data: 6 });
    await settle();
    const given = pia.reply(id) as unknown as { messages: { data: number }[] };
    const seen = [...given.messages.map((each) => each.data), ...pia.data];
    // The sixth is among the last two or comes behind them, depending on which was first; never twice, never not.
    expect([
      [4, 5, 6],
      [5, 6],
    ]).toContainEqual(seen);
  });

  it('gives a long backlog in parts, each within the bound, and goes live with the last', async () => {
    const { welcomed, settle, engine } = harness({ backlogBytes: 2_000 });
    const first = await engine.messages.publish({ channel: chat, data: 'first' });
    for (let n = 0; n < 30; n++) await engine.messages.publish({ channel: chat, data: 'x'.repeat(100) });
    const pia = await welcomed('pia');
    let after = first.cursor;
    let seen = 0;
    for (let more = true, parts = 0; more; parts++) {
      const id = pia.send({ do: 'enter', channel: chat, after });
      await settle();
      const part = pia.reply(id) as unknown as { cursor: typeof after; more: boolean; messages: unknown[] };
      expect(JSON.stringify(part).length).toBeLessThan(2_600);
      ({ more, cursor: after } = part);
      seen += part.messages.length;
      if (parts === 0) {
        await engine.messages.publish({ channel: chat, data: 'meanwhile' });
        expect(pia.data).toEqual([]);
      }
      expect(parts).toBeLessThan(20);
    }
    await engine.messages.publish({ channel: chat, data: 'live' });
    await settle();
    expect(seen).toBe(31);
    expect(pia.data).toEqual(['live']);
  });

  it('says what can no longer be recovered', async () => {
    const { welcomed, engine } = harness();
    const first = await engine.messages.publish({ channel: wind, data: 1 });
    for (let n = 2; n <= 10; n++) await engine.messages.publish({ channel: wind, data: n });
    const client = await welcomed(undefined, { enter: [{ channel: wind, after: first.cursor }] });
    const [entered] = client.frames[0].entered;
    expect(entered.gap).toMatchObject({ channel: wind, after: first.cursor, why: 'expired' });
    expect(entered.messages.map((each: { data: unknown }) => each.data)).toEqual([6, 7, 8, 9, 10]);
  });

  it('ends with leave: nothing of the channel comes any more', async () => {
    const { welcomed, settle, engine } = harness();
    const pia = await welcomed('pia', { enter: [{ channel: chat }] });
    pia.send({ do: 'leave', channel: chat });
    await engine.messages.publish({ channel: chat, data: 1 });
    await settle();
    expect(pia.data).toEqual([]);
  });

  it('is bounded per session', async () => {
    const { welcomed, settle } = harness({ channelsPerSession: 1 });
    const pia = await welcomed('pia', { enter: [{ channel: chat }] });
    const second = pia.send({ do: 'enter', channel: wind });
    await settle();
    expect(pia.reply(second).problem?.code).toBe('too-many-channels');
  });

  it('leaves no channel behind in memory when everybody has gone', async () => {
    const { welcomed, clock, engine } = harness();
    const pia = await welcomed('pia', { enter: [{ channel: 'race/1/chat' }, { channel: 'race/2/chat' }] });
    expect(engine.stats.enteredChannels).toBe(2);
    pia.connection.closed(1006);
    expect(engine.stats.enteredChannels).toBe(0);
    await clock.run(60_000);
    expect(await engine.channels.list('', 10)).toEqual([]);
  });
});

describe('a connection', () => {
  it('that lets too much wait is cut off, and recovers by its cursor; nobody else notices', async () => {
    const { welcomed, settle, engine } = harness({ sendQueueBytes: 2_000 });
    const slow = await welcomed('pia', { enter: [{ channel: chat }] });
    const quick = await welcomed('jory', { enter: [{ channel: chat }] });
    const { session, secret, entered } = slow.frames[0];
    slow.waitingBytes = 1;
    for (let n = 0; n < 20; n++) {
      await engine.messages.publish({ channel: chat, data: 'x'.repeat(200) });
      await settle();
    }
    expect(slow.closedWith?.code).toBe(closeCodes.tooSlow);
    expect(quick.data).toHaveLength(20);
    const back = await welcomed('pia', { session, secret, enter: [{ channel: chat, after: entered[0].cursor }] });
    expect(back.frames[0]).toMatchObject({ continued: true, ended: 'too-slow' });
    expect(back.frames[0].entered[0].messages).toHaveLength(20);
  });

  it('gets a pulse when nothing else comes, and is given up when it gives no sign of life', async () => {
    const { welcomed, clock } = harness({ pulseMs: 1_000 });
    const alive = await welcomed('pia');
    const dead = await welcomed('jory');
    for (let n = 0; n < 5; n++) {
      await clock.run(1_000);
      alive.connection.alive();
    }
    expect(alive.pushes('pulse').length).toBeGreaterThanOrEqual(3);
    expect(alive.pings).toBeGreaterThanOrEqual(4);
    expect(alive.closedWith).toBeUndefined();
    expect(dead.closedWith?.code).toBe(closeCodes.goingAway);
  });

  it.each([
    ['hello', { do: 'hello', strict: true, enter: [{ channel: 'race/3/chat', lasst: 5 }] }, '/enter/0/lasst'],
    ['a request behind it', { do: 'publish', channel: 'race/3/chat', dat: 1, data: 1 }, '/dat'],
  ])('that is strict is told of members that there are not, in %s', async (_, request, where) => {
    const { connect, settle } = harness();
    const client = connect();
    if (request.do !== 'hello') client.send({ do: 'hello', token: 'pia', strict: true });
    await settle();
    const id = client.send({ ...request, token: undefined });
    await settle();
    expect(client.reply(id).problem).toMatchObject({ code: 'bad-value', where });
  });

  it('survives a malformed frame, and is closed after a stream of them', async () => {
    const { welcomed, settle } = harness();
    const client = await welcomed('pia');
    client.connection.receive('ahoy');
    await settle();
    expect(client.pushes('problem')).toMatchObject([{ code: 'bad-frame' }]);
    expect(client.closedWith).toBeUndefined();
    for (let n = 0; n < 10; n++) client.connection.receive('ahoy');
    expect(client.closedWith).toEqual({ code: closeCodes.policy, reason: 'bad-frame' });
  });

  it('that sends faster than its acts are decided is paused, and resumed', async () => {
    const { connect, clock } = harness({ actsWaiting: 4 });
    const client = connect();
    client.send({ do: 'hello', token: 'late:pia' });
    for (let n = 0; n < 5; n++) client.send({ do: 'publish', channel: chat, data: n });
    expect(client.paused).toBe(true);
    await clock.run(2_000);
    expect(client.paused).toBe(false);
  });

  it('is one too many beyond the bound', async () => {
    const { welcomed, connect } = harness({ connections: 1 });
    await welcomed('pia');
    expect(connect().closedWith).toEqual({ code: closeCodes.tryLater, reason: 'too-many-connections' });
  });
});

describe('the list of channels', () => {
  it('holds kept ones that were published to and those entered now, by name and by pages', async () => {
    const { welcomed, engine } = harness();
    await engine.messages.publish({ channel: channelName('race/2/chat'), data: 1 });
    await engine.messages.publish({ channel: channelName('race/1/chat'), data: 1 });
    await welcomed('pia', { enter: [{ channel: 'race/1/chat' }, { channel: wind }, { channel: 'committee' }] });
    const all = await engine.channels.list('', 10);
    expect(all.map(({ channel, entered }) => [channel, entered])).toEqual([
      ['committee', 1],
      ['race/1/chat', 1],
      ['race/2/chat', 0],
      ['weather/wind', 1],
    ]);
    expect((await engine.channels.list('committee', 2)).map(({ channel }) => channel)).toEqual([
      'race/1/chat',
      'race/2/chat',
    ]);
    expect(await engine.channels.describe(channelName('race/2/chat'))).toEqual(all[2]);
    expect(await engine.channels.describe(channelName('race/9/chat'))).toMatchObject({
      pattern: 'race/:race/chat',
      entered: 0,
    });
  });
});

describe('stopping', () => {
  it('says goodbye, decides what is under way, and takes nothing new', async () => {
    const { welcomed, connect, engine } = harness();
    const pia = await welcomed('pia');
    const under = engine.messages.publish({ channel: chat, data: 1 });
    await engine.stop();
    await expect(under).resolves.toHaveProperty('cursor');
    expect(pia.closedWith?.code).toBe(closeCodes.drain);
    expect(connect().closedWith?.code).toBe(closeCodes.drain);
    await expect(engine.messages.publish({ channel: chat, data: 2 })).rejects.toMatchObject({ code: 'draining' });
  });
});
