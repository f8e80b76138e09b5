import type { Line, ReceivedMessage } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { RawLine } from './support/rawLine.js';
import { RealCluster, RealRedis, redisIsThere } from './support/realRedis.js';
import { openLine, pontoonText, type StartedService, startInstances as startAll } from './support/service.js';
import { until, wait } from './support/until.js';

const quick = { backOff: { firstMs: 20, maxMs: 200 } };

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

/** Starts instances of one service that meet in a Redis. */
const startInstances = (count: number, relay: string, more = ''): Promise<StartedService[]> =>
  startAll(pontoonText + more, clean, { count, relay });

const come = ({ token, ...started }: StartedService, user: string, url = started.url): Promise<Line> =>
  openLine(clean, { url, token }, user, quick);

/** What a line sees of a channel, once it has entered. */
async function heard(line: Line, channel: string): Promise<ReceivedMessage[]> {
  const seen: ReceivedMessage[] = [];
  const entry = line.enter(channel);
  entry.addEventListener('message', ({ detail }) => seen.push(detail));
  await entry.ready;
  return seen;
}

describe.skipIf(!redisIsThere)('two instances that meet in Redis', () => {
  let redis: RealRedis;
  beforeAll(async () => {
    redis = await RealRedis.start();
  });
  afterAll(() => redis.remove());
  afterEach(async () => {
    await redis.ask(['FLUSHALL']);
  });

  it('are one service: whoever is where, all see all messages of a channel in one order, kept or not', async () => {
    const [one, two] = (await startInstances(2, redis.url)) as [StartedService, StartedService];
    const pia = await come(one, 'pia');
    const jory = await come(two, 'jory');
    for (const channel of ['race/3/chat', 'pontoon/north']) {
      const seen = [await heard(pia, channel), await heard(jory, channel)];
      const published = [];
      for (let n = 0; n < 100; n++) {
        published.push(pia.publish(channel, `pia ${n}`), jory.publish(channel, `jory ${n}`));
        if (n % 10 === 0) published.push(one.backend.publish({ channel, data: n }));
        if (n % 7 === 0) await wait(1);
      }
      await Promise.all(published);
      await until(() => seen.every((each) => each.length === published.length));
      expect(seen[0]?.map(({ cursor }) => cursor)).toEqual(seen[1]?.map(({ cursor }) => cursor));
      expect(new Set(seen[0]?.map(({ id }) => id)).size).toBe(published.length);
    }
  });

  it('show the members and carry the hails of both, and answer for both', async () => {
    const [one, two] = (await startInstances(2, redis.url)) as [StartedService, StartedService];
    const [pia, jory] = [await come(one, 'pia'), await come(two, 'jory')];
    const north = { pia: pia.enter('pontoon/north'), jory: jory.enter('pontoon/north') };
    const hails: unknown[] = [];
    north.jory.addEventListener('hail', ({ detail }) => hails.push(detail.data));
    await Promise.all([north.pia.ready, north.jory.ready]);
    const users = (): string[] => north.pia.members.map(({ user }) => user).sort();
    await until(() => users().join() === 'jory,pia' && north.jory.count === 2);
    north.pia.hail('typing', { at: 1 });
    await until(() => hails.length === 1);
    expect(await one.backend.members('pontoon/north')).toMatchObject({ count: 2 });
    expect(await two.backend.memberships('pia')).toMatchObject({ channels: [{ channel: 'pontoon/north' }] });
    const { sessions } = await two.backend.sessions();
    expect(sessions.map(({ user, instance }) => `${user} at ${instance}`).sort()).toEqual(['jory at i2', 'pia at i1']);
    expect(await one.backend.channel('pontoon/north')).toMatchObject({ entered: 2 });
    north.jory.setStatus('away');
    await until(() => north.pia.members.some(({ user, status }) => user === 'jory' && status === 'away'));
    jory.close();
    await until(() => users().join() === 'pia');
  });

  it('obey each other: bans, sign-outs, revoked tokens, keys', async () => {
    const [one, two] = (await startInstances(2, redis.url)) as [StartedService, StartedService];
    const [pia, jory, mira] = [await come(two, 'pia'), await come(two, 'jory'), await come(two, 'mira')];
    const room = jory.enter('pontoon/north');
    await room.ready;
    const ban = { user: 'jory', channel: 'pontoon/north', reason: 'shouting' };
    expect(await one.backend.ban(ban)).toMatchObject({ sessions: 1 });
    await until(() => room.state === 'removed');
    await one.backend.signOut('pia');
    await until(() => pia.state.name === 'closed');
    await one.backend.revokeTokens('mira');
    await until(() => mira.state.name !== 'open');
    expect(await two.backend.explain('enter', 'pontoon/north', { user: 'jory' })).toMatchObject({ allowed: false });

    const { key, id } = await one.backend.makeKey({ name: 'a second', rights: ['read'] });
    const other = new Backend(two.url, { key });
    await until(() => tried(() => other.overview()));
    await one.backend.revokeKey(id);
    await until(async () => !(await tried(() => other.overview())));
  });

  it('silence a user as one, and slow a user whichever of them it writes to', async () => {
    const slow = '  - { pattern: "slow/:n", slow: 1h, allow: { enter: anyone, publish: anyone } }\n';
    const [one, two] = (await startInstances(2, redis.url, slow)) as [StartedService, StartedService];
    const [pia, tablet] = [await come(one, 'pia'), await come(two, 'pia')];
    const told: string[] = [];
    for (const line of [pia, tablet])
      line.addEventListener('silenced', ({ detail }) => told.push(detail.over ? 'over' : (detail.reason ?? '')));
    const { id } = await one.backend.silence({ user: 'pia', reason: 'shouting' });
    await until(() => told.length >= 2);
    for (const line of [pia, tablet])
      await expect(line.publish('pontoon/north', 1)).rejects.toMatchObject({ code: 'silenced' });
    await two.backend.endSilence(id);
    await until(() => told.filter((each) => each === 'over').length === 2);
    // The service repeats a silence in force to a line that reconnects.
    expect([...new Set(told)]).toEqual(['shouting', 'over']);
    for (const line of [pia, tablet]) await line.publish('pontoon/north', 1);
    const raw = await Promise.all(
      [one, two].map(async ({ url, token }) => (await RawLine.open(url)).hello({ token: await token('jory') })),
    );
    clean.push(() => raw.forEach(({ socket }) => void socket.close()));
    const answers = [];
    for (const line of raw) {
      line.send({ do: 'publish', id: 2, channel: 'slow/1', data: 1 });
      answers.push((await line.reply(2)).problem?.code);
    }
    expect(answers).toEqual([undefined, 'rate-limited']);
  });

  it('take a session over from each other, and the one of before ends', async () => {
    const [one, two] = (await startInstances(2, redis.url)) as [StartedService, StartedService];
    const before = await (await RawLine.open(one.url)).hello({ token: await one.token('pia') });
    const { session, secret } = before.frames[0];
    const after = await RawLine.open(two.url);
    after.send({ do: 'hello', id: 1, token: await one.token('pia'), session, secret });
    expect(await after.reply(1)).toMatchObject({ session, continued: true });
    expect(await before.closed()).toMatchObject({ code: 4901 });
    // And back again.
    const back = await RawLine.open(one.url);
    const { secret: newer } = await after.reply(1);
    back.send({ do: 'hello', id: 1, token: await one.token('pia'), session, secret: newer });
    expect(await back.reply(1)).toMatchObject({ session, continued: true });
    expect(await after.closed()).toMatchObject({ code: 4901 });
    back.socket.close();
  });

  it('tell a user of notices, marks and what it has not read, wherever it is', async () => {
    const [one, two] = (await startInstances(2, redis.url)) as [StartedService, StartedService];
    const [here, there] = [await come(one, 'pia'), await come(two, 'pia')];
    const titles: string[] = [];
    there.inbox().addEventListener('notice', ({ detail }) => titles.push(detail.title));
    await one.backend.notify({ users: ['pia'], title: 'Your berth is ready' });
    await until(() => titles.length === 1);
    const { cursor } = await one.backend.publish({ channel: 'race/3/chat', data: 1, by: { user: 'jory' } });
    await here.mark('race/3/chat', cursor);
    const unread = there.unread();
    await until(() => unread.counts.get('race/3/chat') === 0);
    await one.backend.publish({ channel: 'race/3/chat', data: 2, by: { user: 'jory' } });
    await until(() => unread.counts.get('race/3/chat') === 1);
    await here.mark('race/3/chat', (await one.backend.publish({ channel: 'race/3/chat', data: 3 })).cursor);
    await until(() => unread.counts.get('race/3/chat') === 0);
  });

  it('pass over what a stranger writes into their topics', async () => {
    const [one, two] = (await startInstances(2, redis.url)) as [StartedService, StartedService];
    const jory = await come(two, 'jory');
    const seen = await heard(jory, 'pontoon/north');
    const garbage = ['', 'x', '{', 'null', '{"from":1}', '{"from":"x","word":{"say":"?"}}', 'v1:999\n', 'v1:1\n\t\t{'];
    for (const text of garbage)
      for (const topic of ['{bells}all', '{bells:pontoon/north}c', '{bells:!control}c'])
        await redis.ask(['SPUBLISH', topic, text]);
    await one.backend.publish({ channel: 'pontoon/north', data: 'sound' });
    await until(() => seen.at(-1)?.data === 'sound');
    expect(seen).toHaveLength(1);
    for (const { url } of [one, two]) expect((await fetch(`${url}/readyz`)).status).toBe(200);
  });

  it('tell who watches how a user is, who is on the other', async () => {
    const [one, two] = (await startInstances(2, redis.url, '\nusers: { watch: signed-in }\n')) as [
      StartedService,
      StartedService,
    ];
    const [pia, jory] = [await come(one, 'pia'), await come(two, 'jory')];
    const told: unknown[] = [];
    pia.addEventListener('user', ({ detail }) => told.push(detail.status));
    expect(await pia.watch('jory')).toBe('available');
    jory.setStatus('busy');
    await until(() => told.includes('busy'));
  });

  it('get only what somebody there has entered', async () => {
    const all = await startInstances(4, redis.url);
    const channels = 400;
    for (const [index, started] of all.entries()) {
      const line = await (await RawLine.open(started.url)).hello({ token: await started.token(`user-${index}`) });
      for (let n = index; n < channels / 2; n += 4) line.send({ do: 'enter', id: n + 2, channel: `pontoon/${n}` });
      await until(() => line.frames.length >= channels / 8 + 1);
      clean.push(() => line.socket.close());
    }
    const heard = (): number => all.reduce((sum, { service }) => sum + service.engine.cluster.relayedTexts, 0);
    // That members have come is told, too.
    for (let last = -1; last !== heard(); await wait(600)) last = heard();
    const before = heard();
    await (all[0] as StartedService).backend.publishAll(
      Array.from({ length: channels }, (_, n) => ({ channel: `pontoon/${n}`, data: n })),
    );
    // Half of the channels are entered, each on one instance: so many texts, and now and then reminders of who is there, one for
    // each channel. Four instances that got everything would have four for each message.
    await until(() => heard() - before >= channels / 2);
    await wait(300);
    expect(heard() - before).toBeLessThan(channels * 3);
  });
});

describe.skipIf(!redisIsThere)('while Redis', () => {
  it.each(['is away', 'does not answer'] as const)(
    '%s, clients stay, messages are refused, members stay; then all catches up',
    async (how) => {
      const redis = await RealRedis.start();
      clean.push(() => redis.remove());
      const [one, two] = (await startInstances(2, redis.url)) as [StartedService, StartedService];
      const [pia, jory] = [await come(one, 'pia'), await come(two, 'jory')];
      const north = pia.enter('pontoon/north');
      const seen = { recent: await heard(jory, 'pontoon/north'), kept: await heard(jory, 'race/3/chat') };
      await north.ready;
      await until(() => north.count === 2);
      await one.backend.publish({ channel: 'pontoon/north', data: 'before' });
      await one.backend.publish({ channel: 'race/3/chat', data: 'before' });
      await until(() => seen.recent.length + seen.kept.length === 2);

      if (how === 'is away') await redis.kill();
      else redis.pause();
      await wait(3_500);
      const raw = await RawLine.open(one.url);
      await expect(one.backend.publish({ channel: 'pontoon/north', data: 'x' })).rejects.toMatchObject({
        problem: { code: 'busy', retryAfterMs: 1000 },
      });
      await expect(one.backend.publish({ channel: 'race/3/chat', data: 'x' })).rejects.toMatchObject({ status: 429 });
      // The SDK keeps what is published until it can be taken.
      const later = pia.publish('pontoon/north', 'later');
      later.catch(() => {});
      expect(pia.state.name).toBe('open');
      expect(jory.state.name).toBe('open');
      await wait(2_500);
      // There may be bans that this instance has not heard of.
      raw.send({ do: 'hello', id: 1, token: await one.token('mira') });
      expect(await raw.reply(1)).toMatchObject({ problem: { code: 'busy' } });
      expect((await raw.closed()).code).toBe(1013);
      expect((await fetch(`${one.url}/readyz`)).status).toBe(503);
      expect(north.count).toBe(2);

      if (how === 'is away') await redis.begin();
      else redis.resume();
      await later;
      await until(async () => (await fetch(`${one.url}/readyz`)).status === 200);
      await one.backend.publish({ channel: 'race/3/chat', data: 'after' });
      await until(() => seen.recent.at(-1)?.data === 'later' && seen.kept.at(-1)?.data === 'after');
      expect(north.count).toBe(2);
      expect(seen.kept.map(({ data }) => data)).toEqual(['before', 'after']);
    },
  );

  it('comes back empty, recent channels say so by a gap, kept ones lose nothing', async () => {
    const redis = await RealRedis.start();
    clean.push(() => redis.remove());
    const [one, two] = (await startInstances(2, redis.url)) as [StartedService, StartedService];
    const jory = await come(two, 'jory');
    const gaps: string[] = [];
    const north = jory.enter('pontoon/north');
    north.addEventListener('gap', ({ detail }) => gaps.push(detail.why));
    await north.ready;
    const kept = await heard(jory, 'race/3/chat');
    for (let n = 0; n < 5; n++) {
      await one.backend.publish({ channel: 'pontoon/north', data: n });
      await one.backend.publish({ channel: 'race/3/chat', data: n });
    }
    await until(() => kept.length === 5);
    await redis.kill();
    await redis.begin();
    await until(() => one.service.engine.isOpen && two.service.engine.isOpen);
    await until(() => tried(() => one.backend.publish({ channel: 'race/3/chat', data: 5 })));
    await until(() => tried(() => one.backend.publish({ channel: 'pontoon/north', data: 5 })));
    await until(() => kept.length === 6 && gaps.length > 0);
    expect(gaps).toEqual(['new-volume']);
    expect(kept.map(({ data }) => data)).toEqual([0, 1, 2, 3, 4, 5]);
  });

  it('is started again and has every write on disk before it answers, not even recent channels have a gap', async () => {
    const redis = await RealRedis.start(['--appendonly', 'yes', '--appendfsync', 'always', '--save', '']);
    clean.push(() => redis.remove());
    const [one, two] = (await startInstances(2, redis.url)) as [StartedService, StartedService];
    const jory = await come(two, 'jory');
    const gaps: string[] = [];
    const north = jory.enter('pontoon/north');
    const seen: unknown[] = [];
    north.addEventListener('gap', ({ detail }) => gaps.push(detail.why));
    north.addEventListener('message', ({ detail }) => seen.push(detail.data));
    await north.ready;
    for (let n = 0; n < 5; n++) await one.backend.publish({ channel: 'pontoon/north', data: n });
    // A start within two seconds of the first meeting cannot be told from one before it, and is taken for the worse.
    await new Promise((resolve) => setTimeout(resolve, 2_100));
    await redis.kill();
    await redis.begin();
    await until(() => tried(() => one.backend.publish({ channel: 'pontoon/north', data: 5 })));
    await until(() => seen.length === 6);
    expect(gaps).toEqual([]);
    expect(seen).toEqual([0, 1, 2, 3, 4, 5]);
  });
});

describe.skipIf(!redisIsThere)('a Redis cluster of three', () => {
  it('serves as one does, also while the slot of a channel is moved under load', async () => {
    const cluster = await RealCluster.start();
    clean.push(() => cluster.remove());
    const [one, two] = (await startInstances(2, cluster.url)) as [StartedService, StartedService];
    const [pia, jory] = [await come(one, 'pia'), await come(two, 'jory')];
    const channels = ['pontoon/north', 'pontoon/south', 'pontoon/east'];
    const gaps: string[] = [];
    const seen = await Promise.all(
      channels.map(async (channel) => {
        const entry = jory.enter(channel);
        const messages: ReceivedMessage[] = [];
        entry.addEventListener('message', ({ detail }) => messages.push(detail));
        entry.addEventListener('gap', ({ detail }) => gaps.push(`${channel} ${detail.why}`));
        await entry.ready;
        return messages;
      }),
    );
    const published: Promise<unknown>[] = [];
    const endMs = Date.now() + 3_000;
    let moving: Promise<void> | undefined;
    for (let n = 0; Date.now() < endMs; n++) {
      for (const channel of channels) published.push(pia.publish(channel, n));
      await wait(20);
      if (moving === undefined && Date.now() > endMs - 2_000) moving = cluster.moveSlotOf('{bells:pontoon/north}head');
    }
    await moving;
    await Promise.all(published);
    const count = published.length / channels.length;
    await until(() => seen.every((messages) => messages.length === count));
    expect(gaps).toEqual([]);
    for (const messages of seen)
      expect(messages.map(({ data }) => data)).toEqual(Array.from({ length: count }, (_, n) => n));
  });
});

/** `true` once it no longer fails. */
function tried(act: () => Promise<unknown>): Promise<boolean> {
  return act().then(
    () => true,
    () => false,
  );
}
