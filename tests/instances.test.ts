import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type Line, type ReceivedMessage } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { Balancer } from './balancer.js';
import { RealCluster, RealRedis, redisIsThere, wait } from './realRedis.js';
import { configurationText, RawLine, type StartedService, serve, startService, until } from './startedService.js';

const text = `${configurationText}
  - pattern: pontoon/:name
    presence: { grace: 1s }
    allow: { enter: anyone, publish: anyone, hail: anyone }
`;
const quick = { backOff: { firstMs: 20, mostMs: 200 } };

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

/** Instances of one service: the same data folder, and a Redis where they meet. */
async function startInstances(count: number, relay: string, more = ''): Promise<StartedService[]> {
  const folder = mkdtempSync(join(tmpdir(), 'bells-instances-'));
  const all: StartedService[] = [];
  for (let n = 1; n <= count; n++)
    all.push(await startService({ folder, relay, text: text.replace('port: 0,', `port: 0, instance: i${n},`) + more }));
  clean.push(async () => {
    for (const each of all) await each.stop();
    rmSync(folder, { recursive: true, force: true });
  });
  // Each has to have met the others.
  await until(() => all.every(({ service }) => service.engine.instances.length === count));
  return all;
}

async function come(started: StartedService, user: string, url = started.url): Promise<Line> {
  const line = connect(url, { token: () => started.token(user), ...quick });
  clean.push(() => line.close());
  await line.opened();
  return line;
}

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
    const left = Date.now();
    jory.close();
    await until(() => users().join() === 'pia');
    expect(Date.now() - left).toBeLessThan(1_000);
  });

  it('obey each other within a second: bans, sign-outs, revoked tokens, keys', async () => {
    const [one, two] = (await startInstances(2, redis.url)) as [StartedService, StartedService];
    const [pia, jory, mira] = [await come(two, 'pia'), await come(two, 'jory'), await come(two, 'mira')];
    const room = jory.enter('pontoon/north');
    await room.ready;
    await one.backend.ban({ user: 'jory', channel: 'pontoon/north', reason: 'shouting' });
    await until(() => room.state === 'removed', 1_000);
    await one.backend.signOut('pia');
    await until(() => pia.state.name === 'closed', 1_000);
    const revoked = Date.now();
    await one.backend.revokeTokens('mira');
    await until(() => mira.state.name !== 'open', 1_000);
    expect(Date.now() - revoked).toBeLessThan(1_000);
    expect(await two.backend.explain('enter', 'pontoon/north', { user: 'jory' })).toMatchObject({ allowed: false });

    const { key, id } = await one.backend.makeKey({ name: 'a second', rights: ['read'] });
    const other = new Backend(two.url, { key });
    await expect(other.overview()).resolves.toMatchObject({ instance: 'i2' });
    await one.backend.revokeKey(id);
    await expect(other.overview()).rejects.toThrow();
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
    await until(() => unread.counts.get('race/3/chat') === 1, 2_000);
    await here.mark('race/3/chat', (await one.backend.publish({ channel: 'race/3/chat', data: 3 })).cursor);
    await until(() => unread.counts.get('race/3/chat') === 0, 2_000);
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
    const before = await carried(redis);
    await (all[0] as StartedService).backend.publishAll(
      Array.from({ length: channels }, (_, n) => ({ channel: `pontoon/${n}`, data: n })),
    );
    await wait(300);
    const after = await carried(redis);
    // Half of the channels are entered, each on one instance: so many texts, and those that are said once a second.
    expect(after - before).toBeLessThan(channels / 2 + 40);
    expect(after - before).toBeGreaterThanOrEqual(channels / 2);
  });
});

/** Texts that Redis has handed to subscribers, by its count of what it has written to them. */
async function carried(redis: RealRedis): Promise<number> {
  const clients = await redis.ask<string>(['CLIENT', 'LIST', 'TYPE', 'pubsub']);
  return [...clients.matchAll(/tot-cmds=(\d+)/g)].reduce((sum, [, count]) => sum + Number(count), 0);
}
