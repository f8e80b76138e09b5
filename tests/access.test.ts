import { readFileSync } from 'node:fs';
import { createServer, type IncomingMessage, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { text } from 'node:stream/consumers';
import { connect, type SilenceChange } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { channelRule, parseConfiguration, Service } from '@nine-bells/service';
import { Webhook } from 'standardwebhooks';
import { afterEach, describe, expect, it } from 'vitest';
import { WebSocket } from 'ws';
// The very table that the service serves from.
import { routesOf } from '../packages/service/dist/http/app.js';
import { ninebells } from './support/command.js';
import { RawLine } from './support/rawLine.js';
import { type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const [askSecret, nextSecret] = [7, 8].map((byte) => `whsec_${Buffer.alloc(32, byte).toString('base64')}`) as [
  string,
  string,
];
const configuration = (askUrl = 'http://127.0.0.1:9/may', service = '', protest = '') => `
service: { name: Test Regatta, port: 0, guests: true, ${service} }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
ask: { secret: [${askSecret}, ${nextSecret}], within: 300ms }
users: { watch: { any: [{ user: ":user" }, { role: coach }] } }
channels:
  - { pattern: "race/:race/chat", logbook: kept, allow: { enter: anyone, publish: signed-in } }
  - { pattern: "protest/:case", logbook: kept, ${protest} allow: { enter: anyone, publish: signed-in, moderate: { role: chair } } }
  - { pattern: "desk/:race", allow: { enter: { ask: "${askUrl}" }, publish: { ask: "${askUrl}" } } }
  - { pattern: "crew/:boat", allow: { enter: token-allows, publish: token-allows } }
`;

async function start(options: Parameters<typeof startService>[0] = { text: configuration() }): Promise<StartedService> {
  const started = await startService(options);
  clean.push(() => started.remove());
  return started;
}

async function hello(started: StartedService, user: string | undefined, more: object = {}, claims: object = {}) {
  const line = await RawLine.open(started.url);
  clean.push(() => line.socket.terminate());
  const token = user === undefined ? {} : { token: await started.token(user, 60_000, claims) };
  return line.hello({ ...token, ...more });
}

describe('every door of the HTTP interface', () => {
  it('asks for its right: none without a key, none with a key that has every other right', async () => {
    const started = await start();
    // They are only looked at here: who serves them is of no matter.
    const routes = routesOf({ engine: started.service.engine, facts: { name: 'x' } } as Parameters<typeof routesOf>[0]);
    expect(routes.length).toBeGreaterThan(15);
    const call = async (method: string, path: string, key?: string) => {
      const response = await fetch(`${started.url}${path.replace(/:(id|name)/, 'x')}`, {
        method: method.toUpperCase(),
        headers: {
          'content-type': 'application/json',
          ...(key === undefined ? {} : { authorization: `Bearer ${key}` }),
        },
        ...(method === 'post' ? { body: '{}' } : {}),
      });
      return { status: response.status, code: ((await response.json()) as { code?: string }).code };
    };
    const plain = ['read', 'publish', 'notify', 'moderate', 'hooks'];
    const keyWithout = new Map<string, string>();
    for (const right of [...plain, 'administer']) {
      const rights = plain.filter((each) => each !== right);
      keyWithout.set(right, (await started.backend.makeKey({ name: `without ${right}`, rights })).key);
    }
    // Who has no key waits a second for each answer: so several are asked at once.
    for (let first = 0; first < routes.length; first += 8) {
      const some = routes.slice(first, first + 8);
      const without = await Promise.all(some.map(({ method, path }) => call(method, path)));
      expect([some, without]).toEqual([some, some.map(() => ({ status: 401, code: 'key-invalid' }))]);
    }
    for (const { method, path, right } of routes) {
      if (right === 'any') continue;
      const name = typeof right === 'string' ? right : right.perChannel;
      const refused = await call(method, path, keyWithout.get(name));
      expect([method, path, refused]).toEqual([method, path, { status: 403, code: 'not-allowed' }]);
      // To end it comes last.
      if (path !== '/v1/drain') expect((await call(method, path, started.key)).status).not.toBe(403);
    }
    // What is in no route is not served, and not even denied to whoever has no key.
    expect(await call('get', '/v1/nothing')).toEqual({ status: 401, code: 'key-invalid' });
    expect(await call('get', '/v1/nothing', started.key)).toEqual({ status: 404, code: 'no-such-path' });
    expect((await call('post', '/v1/drain', started.key)).status).toBe(202);
  });

  it('lets a key publish where its patterns match, alone and in a list, and nowhere else', async () => {
    const started = await start();
    const { key } = await started.backend.makeKey({ name: 'bureau', rights: ['publish:protest/:case'] });
    const bureau = new Backend(started.url, { key });
    expect((await bureau.publish({ channel: 'protest/7', data: 1 })).cursor).toMatch(/:1$/);
    await expect(bureau.publish({ channel: 'race/3/chat', data: 1 })).rejects.toMatchObject({
      status: 403,
      problem: { code: 'not-allowed', detail: expect.stringContaining('publish:protest/:case') },
    });
    await expect(
      bureau.publishAll([
        { channel: 'protest/7', data: 2 },
        { channel: 'race/3/chat', data: 2 },
      ]),
    ).rejects.toMatchObject({ problem: { code: 'not-allowed', where: '/1' } });
    expect((await started.backend.read('protest/7')).messages).toHaveLength(1);
  });
});

describe('a key for the channels of a pattern', () => {
  const wanted = 'protest/7';
  const other = 'race/3/chat';
  const here = (channel: string) => `channel=${encodeURIComponent(channel)}`;
  const cases: [string, string, (channel: string) => [path: string, body?: object]][] = [
    ['read', 'messages', (channel) => [`/messages?${here(channel)}`]],
    ['read', 'one channel', (channel) => [`/channels?${here(channel)}`]],
    ['read', 'members', (channel) => [`/members?${here(channel)}`]],
    ['read', 'marks', (channel) => [`/marks?${here(channel)}`]],
    ['read', 'bans', (channel) => [`/bans?${here(channel)}`]],
    ['read', 'an explanation', (channel) => ['/explain', { act: 'enter', channel, user: 'ines' }]],
    ['publish', 'to publish', (channel) => ['/messages', { channel, data: 1 }]],
    ['moderate', 'a removal', (channel) => ['/removals', { channel, user: 'ines' }]],
    ['moderate', 'a ban', (channel) => ['/bans', { channel, user: 'ines', forMs: 60_000 }]],
  ];
  const all: [string, string, string, object?][] = [
    ['read', 'all channels', '/channels'],
    ['read', 'the channels of a user', '/members?user=ines'],
    ['read', 'all bans', '/bans'],
    ['read', 'sessions', '/sessions'],
    ['read', 'who may notify whom', '/explain', { act: 'direct', whom: 'ines', user: 'pia' }],
    ['moderate', 'a ban of the whole service', '/bans', { user: 'ines' }],
    ['moderate', 'a sign-out', '/sign-outs', { user: 'ines' }],
    ['moderate', 'the audit log', '/audit'],
  ];

  /** Calls with a key that has one right in `protest/:case`. */
  async function opened() {
    const started = await start({ text: configuration(undefined, undefined, 'presence: true,') });
    const keys = new Map<string, string>();
    for (const right of ['read', 'publish', 'moderate'])
      keys.set(right, (await started.backend.makeKey({ name: right, rights: [`${right}:protest/:case`] })).key);
    const call = async (right: string, path: string, body?: object, method = body === undefined ? 'GET' : 'POST') => {
      const response = await fetch(`${started.url}/v1${path}`, {
        method,
        headers: { 'content-type': 'application/json', authorization: `Bearer ${keys.get(right)}` },
        ...(body === undefined ? {} : { body: JSON.stringify(body) }),
      });
      return { status: response.status, ...((await response.json()) as { code?: string; id?: string }) };
    };
    return { started, call };
  }

  it('does there what its right says, and nothing in other channels or over all', async () => {
    const { call } = await opened();
    for (const [right, what, request] of cases) {
      const good = await call(right, ...request(wanted));
      expect([what, good.status < 300]).toEqual([what, true]);
      expect([what, await call(right, ...request(other))]).toMatchObject([what, { status: 403, code: 'not-allowed' }]);
      const wrong = right === 'read' ? 'publish' : 'read';
      expect([what, (await call(wrong, ...request(wanted))).status]).toEqual([what, 403]);
    }
    for (const [right, what, path, body] of all)
      expect([what, await call(right, path, body)]).toMatchObject([what, { status: 403, code: 'not-allowed' }]);
  });

  it('neither lifts a ban of another channel nor learns of it, and sees no trace from there', async () => {
    const { started, call } = await opened();
    const [mine, other] = await Promise.all(
      ['protest/7', 'race/3/chat'].map((channel) => started.backend.ban({ channel, user: 'ines' })),
    );
    const lift = (id = '') => call('moderate', `/bans/${id}`, undefined, 'DELETE');
    expect(await lift(other?.id)).toEqual(await lift('nothing'));
    expect((await lift(mine?.id)).status).toBe(200);
    expect((await started.backend.bans()).bans).toHaveLength(1);
    const [seen, hidden] = await Promise.all(
      ['protest/7', 'race/3/chat'].map((channel) => started.backend.publish({ channel, data: 1 })),
    );
    expect((await call('read', `/traces/${seen?.id}`)).status).toBe(200);
    expect(await call('read', `/traces/${hidden?.id}`)).toEqual(
      await call('read', '/traces/01JZX4T9QK0V5R8M2N3P4Q5R6S'),
    );
  });
});

describe('API keys', () => {
  it('end when they are revoked or their time is over, lines that look on with them too; the last stays', async () => {
    const started = await start();
    const { backend } = started;
    const { id, key } = await backend.makeKey({ name: 'looker', rights: ['read'] });
    const looker = new Backend(started.url, { key });
    const { token } = await looker.observerToken();
    const line = await RawLine.open(started.url);
    await line.hello({ token, enter: [{ channel: 'protest/7' }] });
    expect(line.frames[0].entered[0].cursor).toBeDefined();
    expect((await backend.keys()).keys.find((each) => each.id === id)?.lastUsedAt).toBeDefined();
    await backend.revokeKey(id);
    await expect(looker.channels()).rejects.toMatchObject({ status: 401, problem: { code: 'key-invalid' } });
    expect((await line.closed()).code).toBe(4902);
    await expect(backend.revokeKey(id)).rejects.toMatchObject({ problem: { code: 'no-such-id' } });
    const [first] = (await backend.keys()).keys.filter(({ revokedAt }) => revokedAt === undefined);
    await expect(backend.revokeKey(first?.id as string)).rejects.toThrow('the last key that may administer');
    const short = await backend.makeKey({ name: 'short', rights: ['read'], forMs: 1000 });
    const shortly = new Backend(started.url, { key: short.key });
    await shortly.channels();
    await new Promise((resolve) => setTimeout(resolve, 1050));
    await expect(shortly.channels()).rejects.toMatchObject({ status: 401 });
    expect((await backend.audit()).entries.map(({ type, about }) => `${type} ${about ?? ''}`)).toEqual([
      expect.stringMatching(/^make-key short/),
      expect.stringMatching(/^sign-out/),
      expect.stringMatching(/^revoke-key looker/),
      expect.stringMatching(/^make-key looker .*: read$/),
      expect.stringMatching(/^make-key first/),
    ]);
  });

  it('take along those made up in the workbench, and not the users whose ids these have', async () => {
    const started = await start();
    const { backend } = started;
    const { id, key } = await backend.makeKey({ name: 'tester', rights: ['administer'] });
    const tester = new Backend(started.url, { key });
    const { token } = await tester.workbenchToken({ user: 'pia', claims: { boats: ['petrel'] } });
    const [made, real] = [await RawLine.open(started.url), await RawLine.open(started.url)];
    await made.hello({ token });
    await real.hello({ token: await started.token('pia') });
    // An observer with the same key must not hide the others from the sign-out.
    const looks = await RawLine.open(started.url);
    await looks.hello({ token: (await tester.observerToken()).token });
    expect((await backend.sessions()).sessions.filter(({ workbench }) => workbench)).toMatchObject([{ user: 'pia' }]);
    await backend.revokeKey(id);
    expect((await made.closed()).code).toBe(4902);
    await looks.closed();
    const again = await (await RawLine.open(started.url)).hello({ token });
    expect(again.frames[0].problem).toMatchObject({ code: 'token-invalid' });
    expect((await backend.sessions()).sessions.map(({ user }) => user)).toEqual(['pia']);
    expect((await backend.audit()).entries.map(({ type }) => type)).toContain('use-workbench');
    for (const right of ['read', 'moderate'] as const) {
      const less = new Backend(started.url, { key: (await backend.makeKey({ name: right, rights: [right] })).key });
      await expect(less.workbenchToken({ user: 'pia' })).rejects.toMatchObject({ status: 403 });
      await expect(less.exampleUser('enter', 'protest/7')).rejects.toMatchObject({ status: 403 });
    }
  });

  it('are not in the database as they are, and the right ones come back after a restart', async () => {
    const started = await start();
    const { key } = await started.backend.makeKey({ name: 'bureau', rights: ['read'] });
    await started.stop();
    for (const file of ['bells.sqlite', 'bells.sqlite-wal'])
      try {
        expect(readFileSync(join(started.folder, file)).includes(key.slice(15))).toBe(false);
      } catch (error) {
        expect((error as NodeJS.ErrnoException).code).toBe('ENOENT');
      }
    const again = await start({ text: configuration(), folder: started.folder });
    expect((await new Backend(again.url, { key }).channels()).channels).toEqual([]);
  });

  it.each([
    [{ name: 'x', rights: [] }, 'rights'],
    [{ name: 'x', rights: ['raed'] }, '"raed" is not a right'],
    [{ name: 'x', rights: ['publish:a//b'] }, 'no empty segment'],
    [{ name: 'x', rights: ['moderate:'] }, 'moderate:'],
    [{ name: 'x', rights: ['notify:race/:race/chat'] }, 'is not a right'],
    [{ name: '', rights: ['read'] }, 'name'],
    [{ name: 'x', rights: ['read'], forMs: 5 }, 'forMs'],
  ])('are not made of %j', async (wish, detail) => {
    const started = await start();
    await expect(started.backend.makeKey(wish)).rejects.toThrow(detail);
  });

  it('may be used as often as the configuration says', async () => {
    const started = await start({ text: configuration(undefined, 'limits: { keyRequests: 20/m }') });
    const all = await Promise.allSettled(Array.from({ length: 25 }, () => started.backend.overview()));
    const refused = all.filter((each) => each.status === 'rejected').map(({ reason }) => reason.problem);
    expect(refused).toHaveLength(5);
    expect(refused[0]).toMatchObject({ code: 'rate-limited', retryAfterMs: expect.any(Number) });
  });
});

describe('a ban', () => {
  it('from a channel keeps a member out on a new connection and after a restart, and says who, why and until when', async () => {
    const started = await start();
    const enter = [{ channel: 'protest/7' }];
    const sunniva = await hello(started, 'sunniva', { enter }, { roles: ['chair'], name: 'Sunniva Dahl' });
    const ines = connect(started.url, { token: () => started.token('ines') });
    clean.push(() => ines.close());
    const hearing = ines.enter('protest/7');
    await hearing.ready;
    const removed = new Promise<{ detail: object }>((resolve) => hearing.addEventListener('removed', resolve));
    sunniva.send({ do: 'remove', id: 2, channel: 'protest/7', user: 'ines', reason: 'interrupting', banMs: 60_000 });
    const { until: end } = await sunniva.reply(2);
    expect((await removed).detail).toEqual({
      reason: 'interrupting',
      by: { user: 'sunniva', name: 'Sunniva Dahl' },
      until: end,
    });
    expect([hearing.state, ines.state.name]).toEqual(['removed', 'open']);
    await expect(hearing.publish({ text: 'But!' })).rejects.toMatchObject({ code: 'banned' });
    await expect(ines.enter('protest/7').ready).rejects.toMatchObject({ code: 'banned', problem: { until: end } });
    const fresh = await hello(started, 'ines', { enter });
    expect(fresh.frames[0].entered[0].problem).toMatchObject({
      code: 'banned',
      detail: `banned from protest/7 by Sunniva Dahl until ${end}: interrupting`,
    });
    await started.stop();
    const again = await start({ text: configuration(), folder: started.folder });
    const after = await hello(again, 'ines', { enter });
    expect(after.frames[0].entered[0].problem.code).toBe('banned');
    const [ban] = (await again.backend.bans({ user: 'ines' })).bans;
    await again.backend.unban(ban?.id as string, 'said sorry');
    after.send({ do: 'enter', id: 2, channel: 'protest/7' });
    expect(await after.reply(2)).not.toHaveProperty('problem');
    expect((await again.backend.audit()).entries.slice(0, 2)).toMatchObject([
      {
        type: 'unban',
        user: 'ines',
        channel: 'protest/7',
        reason: 'said sorry',
        by: { key: expect.any(String), name: 'first' },
      },
      { type: 'remove', user: 'ines', by: { user: 'sunniva', name: 'Sunniva Dahl' }, until: end },
    ]);
  });

  it('of its words lets a member read and not write, on every transport and after a restart', async () => {
    const started = await start();
    const enter = [{ channel: 'protest/7' }];
    const sunniva = await hello(started, 'sunniva', { enter }, { roles: ['chair'], name: 'Sunniva Dahl' });
    const lines = (['websocket', 'stream', 'poll'] as const).map((transport) =>
      connect(started.url, { token: () => started.token('ines'), transport }),
    );
    clean.push(() => lines.forEach((line) => void line.close()));
    const told: SilenceChange[] = [];
    const entries = lines.map((line) => line.enter('protest/7'));
    for (const entry of entries) {
      await entry.ready;
      entry.addEventListener('silenced', ({ detail }) => told.push(detail));
    }
    sunniva.send({ do: 'silence', id: 2, channel: 'protest/7', user: 'ines', reason: 'shouting', forMs: 60_000 });
    const { until: end } = await sunniva.reply(2);
    await until(() => told.length === 3);
    const expected = {
      channel: 'protest/7',
      reason: 'shouting',
      by: { user: 'sunniva', name: 'Sunniva Dahl' },
      until: end,
    };
    expect(told).toEqual([expected, expected, expected]);
    for (const entry of entries)
      await expect(entry.publish({ text: 'But!' })).rejects.toMatchObject({
        code: 'silenced',
        problem: { until: end },
      });
    await started.stop();
    const again = await start({ text: configuration(), folder: started.folder });
    const after = await hello(again, 'ines', { enter });
    expect(await after.push('silenced')).toEqual({ on: 'silenced', ...expected });
    after.send({ do: 'publish', id: 2, channel: 'protest/7', data: { text: 'But!' } });
    expect((await after.reply(2)).problem.code).toBe('silenced');
    const [silence] = (await again.backend.silences({ user: 'ines' })).silences;
    await again.backend.endSilence(silence?.id as string);
    await until(() => after.frames.some((each) => each.over === true));
    after.send({ do: 'publish', id: 3, channel: 'protest/7', data: { text: 'Sorry.' } });
    expect(await after.reply(3)).not.toHaveProperty('problem');
  });

  it('from the service ends the SDK’s line for good, with the reason; a sign-out too; revoked tokens are replaced', async () => {
    const started = await start();
    const open = async (user: string) => {
      const line = connect(started.url, { token: () => started.token(user), backOff: { firstMs: 20, maxMs: 100 } });
      clean.push(() => line.close());
      await line.opened();
      return line;
    };
    const [ines, tomas, pia] = [await open('ines'), await open('tomas'), await open('pia')];
    expect(await started.backend.ban({ user: 'ines', reason: 'threats', by: { user: 'mira' } })).toMatchObject({
      sessions: 1,
    });
    await until(() => ines.state.name === 'closed');
    expect(ines.state).toMatchObject({
      closedBy: 'service',
      problem: { code: 'banned', detail: 'banned from this service by mira: threats' },
    });
    await started.backend.signOut('tomas', 'lost phone');
    await until(() => tomas.state.name === 'closed');
    expect(tomas.state).toMatchObject({ closedBy: 'service', reason: 'signed out: lost phone' });
    const old = await started.token('pia');
    // Whoever is meant is meant to the second: that is how exactly a token says when it was issued.
    await new Promise((resolve) => setTimeout(resolve, 1001));
    await started.backend.revokeTokens('pia');
    await until(() => pia.state.name !== 'open');
    await until(() => pia.state.name === 'open');
    const before = await RawLine.open(started.url);
    expect((await before.hello({ token: old })).frames[0].problem).toMatchObject({ code: 'token-ended' });
  });

  it('of an address is of where the client really is, as trusted proxies say', async () => {
    const started = await start({ text: configuration(undefined, 'trustedProxies: [127.0.0.1]') });
    await started.backend.ban({ address: '192.0.2.7' });
    const from = async (forwarded: string) => {
      const socket = new WebSocket(`${started.url.replace('http', 'ws')}/line`, ['nine-bells.v1'], {
        headers: { 'x-forwarded-for': forwarded },
      });
      const closed = new Promise<number>((resolve) => socket.on('close', resolve));
      const welcomed = new Promise<string>((resolve) => socket.on('message', (data) => resolve(data.toString())));
      socket.on('open', () => socket.send('{"do":"hello","id":1}'));
      const first = await Promise.race([closed, welcomed]);
      const code = typeof first === 'string' && first.includes('"on":"problem"') ? await closed : first;
      socket.terminate();
      return code;
    };
    expect(await from('192.0.2.7')).toBe(4902);
    // What comes before the first hop that is not trusted, the client itself may have written.
    expect(await from('192.0.2.7, 203.0.113.1')).toContain('"re":1');
    expect((await started.backend.bans()).bans).toMatchObject([{ address: '192.0.2.7' }]);
    await started.stop();
    const direct = await start({
      text: configuration(undefined, 'trustedProxies: [10.0.0.0/8]'),
      folder: started.folder,
    });
    const socket = await hello(direct, undefined);
    expect(socket.frames[0].guest).toBe(true);
    expect((await direct.backend.sessions()).sessions[0]?.remote).toBe('127.0.0.1');
  });

  it('are listed page by page, also when a ban or silence between two pages has ended', async () => {
    const { backend } = await start();
    for (const kind of ['bans', 'silences'] as const) {
      const ids: string[] = [];
      for (let n = 0; n < 5; n++) {
        const user = `user${n}`;
        ids.unshift((await (kind === 'bans' ? backend.ban({ user }) : backend.silence({ user }))).id);
      }
      const list = async (after?: string) => {
        const page = await backend[kind]({ limit: 2, ...(after === undefined ? {} : { after }) });
        const all: readonly { id: string }[] = 'bans' in page ? page.bans : page.silences;
        return { ...page, ids: all.map(({ id }) => id) };
      };
      const first = await list();
      await (kind === 'bans' ? backend.unban(ids[1] as string) : backend.endSilence(ids[1] as string));
      const second = await list(first.next);
      const third = await list(second.next);
      expect([first.ids, second.ids, third.ids, third.next]).toEqual([
        ids.slice(0, 2),
        ids.slice(2, 4),
        ids.slice(4),
        undefined,
      ]);
      await expect(list('nonsense')).rejects.toMatchObject({ problem: { code: 'bad-value' } });
    }
  });

  it.each<[string, (backend: StartedService['backend']) => Promise<unknown>]>([
    ['a ban', (backend) => backend.unban('n0ne')],
    ['a silence', (backend) => backend.endSilence('n0ne')],
    ['a report', (backend) => backend.endReport('n0ne')],
    ['a message that waits', (backend) => backend.approve('n0ne')],
    ['a key', (backend) => backend.revokeKey('n0ne')],
    ['a session to explain', (backend) => backend.explain('enter', 'protest/7', { session: 's_n0ne' })],
  ])('answer 404 with one code for an id that nothing has: %s', async (_, act) => {
    const { backend } = await start();
    await expect(act(backend)).rejects.toMatchObject({ problem: { code: 'no-such-id', status: 404 } });
  });

  it.each<[object, string]>([
    [{}, 'of a user or of an address'],
    [{ user: 'a', address: '192.0.2.1' }, 'of a user or of an address'],
    [{ address: 'here' }, 'expected an IPv4 or IPv6 address'],
    [{ user: 'a', forMs: 0 }, 'forMs'],
    [{ user: 'a', channel: 'nowhere' }, 'no channel rule'],
    [{ user: 'a', reason: 'x'.repeat(501) }, 'reason'],
    [{ user: 'a', by: { user: 'observer:x' } }, 'no user has such an id'],
    [{ user: 'a', by: 'mira' }, 'a JSON object is expected'],
  ])('is not of %j', async (wish, detail) => {
    const started = await start();
    await expect(started.backend.ban(wish)).rejects.toThrow(detail);
    expect((await started.backend.bans()).bans).toEqual([]);
  });
});

describe('guests', () => {
  it('have names unlike each other, which stay with the session', async () => {
    const started = await start();
    const all = await Promise.all(Array.from({ length: 60 }, () => hello(started, undefined)));
    const names = all.map(({ frames }) => frames[0].name);
    expect(new Set(names).size).toBe(60);
    const { session, secret, name, user } = all[7]?.frames[0] ?? {};
    all[7]?.socket.terminate();
    const again = await hello(started, undefined, { session, secret });
    expect(again.frames[0]).toMatchObject({ name, user, guest: true, continued: true });
  });

  it('cannot be users, nor users guests', async () => {
    const started = await start();
    const guest = await hello(started, undefined);
    const { session, secret } = guest.frames[0];
    const stolen = await hello(started, 'pia', { session, secret });
    expect(stolen.frames[0]).toMatchObject({ user: 'pia', continued: false });
    const other = await hello(started, undefined, { session, secret: secret.replace(/.$/, 'x') });
    expect(other.frames[0].user).not.toBe(guest.frames[0].user);
    expect(() => started.token(guest.frames[0].user)).toThrow('may begin with');
  });
});

/** An application that answers questions as the test says. */
async function application(answer: (question: { data: { user: string } }, request: IncomingMessage) => unknown) {
  const asked: { headers: IncomingMessage['headers']; body: string }[] = [];
  const server: Server = createServer(async (request, response) => {
    const body = await text(request);
    asked.push({ headers: request.headers, body });
    const said = await answer(JSON.parse(body), request);
    if (said === undefined) return;
    if (typeof said === 'number') response.writeHead(said, { location: '/elsewhere' }).end();
    else response.end(typeof said === 'string' ? said : JSON.stringify(said));
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  clean.push(() => new Promise((resolve) => server.close(resolve).closeAllConnections()));
  return { asked, url: `http://127.0.0.1:${(server.address() as AddressInfo).port}/may`, server };
}

describe('asking the application', () => {
  it('hands it the question, signed as Standard Webhooks says, and its answer to the client', async () => {
    const { asked, url } = await application(({ data }) =>
      data.user === 'oona' ? { allow: true, rememberMs: 60_000 } : { allow: false, reason: 'only stewards on duty' },
    );
    const started = await start({ text: configuration(url) });
    const enter = [{ channel: 'desk/3' }];
    const oona = await hello(started, 'oona', { enter }, { roles: ['steward'] });
    expect(oona.frames[0].entered[0].cursor).toBeDefined();
    const pia = await hello(started, 'pia', { enter });
    expect(pia.frames[0].entered[0].problem).toMatchObject({ code: 'not-allowed', detail: 'only stewards on duty' });
    const [first] = asked;
    // Each of the secrets signs: so the application can change to the next one.
    const [verified, again] = [askSecret, nextSecret].map((each) =>
      new Webhook(each).verify(first?.body as string, first?.headers as never),
    );
    expect(again).toEqual(verified);
    expect(verified).toEqual({
      type: 'access.ask',
      timestamp: expect.stringMatching(/Z$/),
      data: {
        act: 'enter',
        channel: 'desk/3',
        parameters: { race: '3' },
        user: 'oona',
        name: 'oona of the test',
        guest: false,
        roles: ['steward'],
        claims: expect.objectContaining({ sub: 'oona' }),
      },
    });
    const before = asked.length;
    oona.send({ do: 'enter', id: 2, channel: 'desk/3' });
    await oona.reply(2);
    expect(asked.length).toBe(before);
    const explained = await started.backend.explain('enter', 'desk/3', { user: 'oona' });
    expect(explained).toMatchObject({ user: 'oona', session: oona.frames[0].session });
    const { evaluation } = await started.backend.explain('enter', 'desk/3', { user: 'pia' });
    expect(evaluation).toMatchObject({
      asks: `ask ${url}`,
      holds: false,
      found: expect.stringContaining('only stewards on duty'),
    });
  });

  it.each<[string, unknown, string]>([
    ['what is not JSON', 'yes', 'not JSON'],
    ['a word', '"yes"', 'a JSON object is expected'],
    ['no answer in it', { allowed: true }, 'there is no such member'],
    ['an answer of the wrong kind', { allow: 'true' }, 'allow must be a boolean'],
    ['a time that is none', { allow: true, rememberMs: -1 }, 'rememberMs'],
    ['far too much', { allow: true, member: 'x'.repeat(5000) }, 'more than 4096'],
    ['without end', `{"allow":true,"reason":"${'x'.repeat(70_000)}"}`, 'longer than 65536'],
    ['another status', 503, 'status 503'],
    ['a no by status', 403, 'status 403'],
    ['a redirection', 302, 'cannot be reached'],
    ['nothing', undefined, 'no answer within 300 ms'],
  ])('takes %s for no, and says so', async (_, said, found) => {
    const { url } = await application(() => said);
    const started = await start({ text: configuration(url) });
    const pia = await hello(started, 'pia', { enter: [{ channel: 'desk/3' }] });
    expect(pia.frames[0].entered[0].problem).toMatchObject({ code: 'ask-failed', retryAfterMs: expect.any(Number) });
    expect(JSON.stringify(pia.frames)).not.toContain(url);
    const { evaluation } = await started.backend.explain('enter', 'desk/3', { user: 'pia' });
    expect(evaluation?.found).toContain(found);
  });

  it('keeps nobody else waiting for a dead application, and the SDK comes in when it is back', async () => {
    let alive = false;
    const { url } = await application(() => (alive ? { allow: true } : 500));
    const started = await start({ text: configuration(url) });
    const oona = connect(started.url, { token: () => started.token('oona') });
    clean.push(() => oona.close());
    const desk = oona.enter('desk/3');
    const waiting = new Promise<{ detail: { code: string; retryAfterMs?: number } }>((resolve) =>
      desk.addEventListener('waiting', resolve),
    );
    expect((await waiting).detail).toMatchObject({ code: 'ask-failed' });
    const chat = oona.enter('race/3/chat');
    await chat.ready;
    alive = true;
    await desk.ready;
    expect(desk.state).toBe('live');
  });
});

describe('rules in code', () => {
  it('decide beside the configuration, with the parameters of their pattern', async () => {
    const folder = join((await start()).folder, 'beside');
    const written = parseConfiguration(configuration(), join(folder, 'bells.yaml'), { data: folder });
    const rule = channelRule({
      pattern: 'heat/:day/:number',
      logbook: { type: 'kept' },
      allow: {
        enter: async ({ who, parameters }) =>
          parameters.day === 'saturday' || { allow: false, reason: `${who.user} sails on saturday` },
      },
    });
    const service = await Service.start({ ...written, channels: [...written.channels, rule] });
    clean.push(() => service.stop());
    const backend = new Backend(service.url, { key: readFileSync(join(folder, 'api-key'), 'utf8').trim() });
    expect((await backend.explain('enter', 'heat/saturday/1', { user: 'ines' })).allowed).toBe(true);
    expect((await backend.explain('enter', 'heat/sunday/1', { user: 'ines' })).problem?.detail).toBe(
      'ines sails on saturday',
    );
  });
});

describe('a token’s own access rules', () => {
  it('open what the channel rule leaves to them, until a new token says otherwise', async () => {
    const started = await start();
    const access = [{ pattern: 'crew/:boat', allow: { enter: { claim: 'boats', holds: ':boat' } } }];
    const claims = { claims: { boats: ['petrel'], access } };
    const tomas = await hello(
      started,
      'tomas',
      { enter: [{ channel: 'crew/petrel' }, { channel: 'crew/knot' }] },
      claims,
    );
    expect(tomas.frames[0].entered).toMatchObject([
      { cursor: expect.any(String) },
      { problem: { code: 'not-allowed' } },
    ]);
    tomas.send({
      do: 'refresh',
      id: 2,
      token: await started.token('tomas', 60_000, { claims: { boats: ['petrel'] } }),
    });
    expect(await tomas.reply(2)).toMatchObject({ lost: ['crew/petrel'] });
    const wrong = await hello(started, 'tomas', {}, { claims: { access: [{ channels: 'x' }] } });
    expect(wrong.frames[0].problem).toMatchObject({
      code: 'token-invalid',
      detail: expect.stringContaining('"channels"'),
    });
  });
});

describe('pages of other origins', () => {
  it('may call the HTTP interface only where the configuration names them', async () => {
    const started = await start({ text: configuration(undefined, 'apiOrigins: ["https://office.example"]') });
    const preflight = async (origin: string) => {
      const response = await fetch(`${started.url}/v1/messages`, {
        method: 'OPTIONS',
        headers: { origin, 'access-control-request-method': 'POST', 'access-control-request-headers': 'authorization' },
      });
      return response.headers.get('access-control-allow-origin');
    };
    expect(await preflight('https://office.example')).toBe('https://office.example');
    expect(await preflight('https://other.example')).toBeNull();
    const page = await fetch(`${started.url}/console/`);
    expect(page.headers.get('content-security-policy')).toContain("frame-ancestors 'none'");
    expect(page.headers.get('x-content-type-options')).toBe('nosniff');
    expect(page.headers.get('x-powered-by')).toBeNull();
  });
});

describe('people who may look, and not act', () => {
  it('sign in by a link that gives no more, and cannot pass on more', async () => {
    const started = await start();
    const { url } = await started.backend.signInLink({ looksOnly: true });
    const signIn = async (link: string) => {
      const answer = await fetch(`${started.url}/console/session`, {
        method: 'POST',
        headers: { 'content-type': 'application/json', origin: started.url },
        body: JSON.stringify({ code: link.split('#sign-in=')[1] }),
      });
      const cookie = (answer.headers.get('set-cookie') ?? '').split(';')[0] as string;
      return { rights: ((await answer.json()) as { rights: string[] }).rights, cookie };
    };
    const { rights, cookie } = await signIn(url);
    expect(rights).toEqual(['read']);
    const call = (method: string, path: string, body?: object) =>
      fetch(`${started.url}${path}`, {
        method,
        headers: { cookie, origin: started.url, 'content-type': 'application/json' },
        ...(body === undefined ? {} : { body: JSON.stringify(body) }),
      });
    expect((await call('GET', '/v1/channels')).status).toBe(200);
    expect((await call('POST', '/v1/messages', { channel: 'protest/7', data: 1 })).status).toBe(403);
    expect((await call('POST', '/v1/bans', { user: 'a' })).status).toBe(403);
    const passedOn = (await (await call('POST', '/v1/sign-in-links', {})).json()) as { url: string };
    expect((await signIn(passedOn.url)).rights).toEqual(['read']);
  });
});

describe('the commands about people and keys', () => {
  it('do what they say, and say what they did', async () => {
    const started = await start();
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    const run = (line: string) => ninebells(line.split(' '), env);
    const ines = await hello(started, 'ines', { enter: [{ channel: 'protest/7' }] });
    expect((await run('remove protest/7 ines --ban 10m --reason interrupting')).out).toMatch(
      /^Removed ines from protest\/7, out until .*\. It reached one session\.\n$/,
    );
    expect(await ines.push('removed')).toMatchObject({ reason: 'interrupting' });
    const bans = await run('bans --json');
    const { id } = JSON.parse(bans.out);
    expect((await run('bans')).out).toMatch(new RegExp(`${id} +ines +protest/7 .*key first +interrupting`));
    const explained = await run('explain enter protest/7 --user ines');
    expect(explained.code).toBe(3);
    expect(explained.out).toContain('refused, banned');
    expect(explained.out).toContain(`ninebells unban ${id}`);
    expect((await run(`unban ${id}`)).out).toBe(`Lifted the ban ${id}.\n`);
    expect((await run('ban --address 192.0.2.7 --for 1h')).out).toContain('Banned 192.0.2.7 from the service until');
    const silenced = await run('silence pia --channel protest/7 --for 10m --reason shouting --json');
    const { id: silence } = JSON.parse(silenced.out);
    expect((await run('silences')).out).toMatch(new RegExp(`${silence} +pia +protest/7 .*key first +shouting`));
    const quiet = await run('explain publish protest/7 --user pia');
    expect([quiet.code, quiet.out]).toEqual([3, expect.stringContaining(`ninebells end-silence ${silence}`)]);
    expect((await run('explain enter protest/7 --user pia')).code).toBe(0);
    expect((await run(`end-silence ${silence}`)).out).toContain(`Ended the silence ${silence} of pia.`);
    expect((await run('silences')).out).toBe('');
    expect((await run(`end-silence ${silence}`)).code).toBe(3);
    expect((await run('silence jory --every 30s')).out).toContain(
      'Slowed to one message in 30 s: jory everywhere until it is ended.',
    );
    expect((await run('silences')).out).toMatch(/jory +everywhere +publish once in 30 s +it is ended/);
    expect(JSON.parse(silenced.out)).toMatchObject({ type: 'silence', user: 'pia' });
    const { cursor } = await started.backend.publish({
      channel: 'protest/7',
      data: 'a loose word',
      by: { user: 'pia' },
    });
    const { report } = await started.backend.report({
      channel: 'protest/7',
      cursor,
      reason: 'rude',
      by: { user: 'ines' },
    });
    expect((await run('reports')).out).toMatch(new RegExp(`${report} .*protest/7 +"a loose word" +pia +ines +rude`));
    expect((await run(`end-report ${report} --note settled`)).out).toBe(`Ended the report ${report} of protest/7.\n`);
    expect((await run(`end-report ${report}`)).err).toContain('no report of this id is open');
    expect([(await run('reports')).out, (await run('reports --ended')).out]).toEqual([
      '',
      expect.stringContaining('key first: settled'),
    ]);
    expect((await run('sign-out tomas')).out).toContain('No sessions were affected');
    expect((await run('revoke-tokens tomas')).out).toContain('Revoked the tokens of tomas');
    expect((await run('audit --limit 2')).out).toMatch(/revoke-tokens +tomas[\s\S]*sign-out +tomas/);
    expect((await run('audit --user tomas')).out).not.toMatch(/ines/);
    expect((await run('silence pai')).out).toContain(
      'No sessions were affected: pai is not connected. Check the id if you expected otherwise.',
    );
    expect((await run('explain watch tomas --user bram --role coach')).out).toContain('watch tomas by bram: allowed');

    const made = await run('make-key bureau --right publish:protest/:case --for 90d');
    expect(made.out).toMatch(/^bells_\w{8}_[\w-]{43}\n$/);
    expect((await run('keys')).out).toMatch(/bureau +publish:protest\/:case .* never/);
    const bureau = { ...env, NINEBELLS_KEY: made.out.trim() };
    expect((await ninebells(['publish', 'protest/7', '--text', 'x'], bureau)).code).toBe(0);
    const refused = await ninebells(['ban', 'ines'], bureau);
    expect([refused.code, refused.err]).toEqual([3, expect.stringContaining('does not have the right `moderate`')]);
    expect((await run(`revoke-key ${made.out.split('_')[1]}`)).out).toContain(', bureau.');
    expect((await ninebells(['publish', 'protest/7', '--text', 'x'], bureau)).err).toContain('was revoked');
    expect((await run('keys')).out).not.toContain('bureau');
    expect((await run('keys --all')).out).toMatch(/bureau.*\(revoked\)/);
  });

  it.each([
    ['ban', 'say whom'],
    ['ban ines --for 3x', 'A time such as'],
    ['make-key x', "required option '--right <right>'"],
    ['explain watch', "missing required argument 'where'"],
  ])('refuse `%s` with what is missing', async (line, said) => {
    const { code, err } = await ninebells(line.split(' '));
    expect([code, err]).toEqual([2, expect.stringContaining(said)]);
  });
});
