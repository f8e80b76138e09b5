import { Backend } from '@nine-bells/client/backend';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { RawLine } from './support/rawLine.js';
import { configurationText, pontoonText, type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

let started: StartedService;

beforeAll(async () => {
  started = await startService({ text: pontoonText });
});
afterAll(() => started.remove());

// biome-ignore lint/suspicious/noExplicitAny: tests look into answers freely
async function call(path: string, init: RequestInit = {}): Promise<{ status: number; headers: Headers; body: any }> {
  const response = await fetch(started.url + path, {
    ...init,
    headers: { authorization: `Bearer ${started.key}`, 'content-type': 'application/json', ...init.headers },
  });
  const text = await response.text();
  return { status: response.status, headers: response.headers, body: text === '' ? undefined : JSON.parse(text) };
}

const post = (body: unknown, headers: Record<string, string> = {}) =>
  call('/v1/messages', { method: 'POST', body: typeof body === 'string' ? body : JSON.stringify(body), headers });

describe('publishing over HTTP', () => {
  it('reaches clients, with the author named or with none, and not the sessions that are excepted', async () => {
    const line = await (await RawLine.open(started.url)).hello({ enter: [{ channel: 'race/1/signals' }] });
    const other = await (await RawLine.open(started.url)).hello({ enter: [{ channel: 'race/1/signals' }] });
    const except = [line.frames[0].session];
    await post({ channel: 'race/1/signals', data: 1, except });
    const first = await post({
      channel: 'race/1/signals',
      type: 'start',
      data: { gun: true },
      by: { user: 'mira', name: 'Mira Holt' },
    });
    expect(first.status).toBe(201);
    const push = await line.push('message');
    expect(push).toMatchObject({ cursor: first.body.cursor, type: 'start', by: { user: 'mira', name: 'Mira Holt' } });
    await until(() => other.frames.filter((frame) => frame.on === 'message').length === 2);
    expect(other.frames.find((frame) => frame.on === 'message')).not.toHaveProperty('by');
    line.socket.close();
    other.socket.close();
  });

  it('takes a list in its order, and nothing of it if one element has a mistake', async () => {
    const good = await post([1, 2, 3].map((data) => ({ channel: 'race/2/chat', data })));
    expect(good.status).toBe(200);
    expect(good.body.map(({ cursor }: { cursor: string }) => cursor.split(':')[1])).toEqual(['1', '2', '3']);
    const bad = await post([{ channel: 'race/2/chat', data: 4 }, { channel: 'race/2/chat' }]);
    expect(bad).toMatchObject({ status: 400, body: { code: 'bad-value', where: '/1/data' } });
    const nowhere = await post([
      { channel: 'race/2/chat', data: 4 },
      { channel: 'x', data: 1 },
    ]);
    expect(nowhere).toMatchObject({ status: 404, body: { code: 'no-such-channel', where: '/1' } });
    expect((await started.backend.read('race/2/chat')).messages).toHaveLength(3);
  });

  it('publishes once under an Idempotency-Key', async () => {
    const message = { channel: 'race/3/chat', data: 1 };
    const first = await post(message, { 'Idempotency-Key': 'abc' });
    const again = await post({ ...message, key: 'abc' });
    expect([first.status, again.status, again.body.repeated]).toEqual([201, 200, true]);
    expect(again.body.cursor).toBe(first.body.cursor);
    expect((await post({ ...message, key: 'x' }, { 'Idempotency-Key': 'abc' })).body.code).toBe('bad-value');
  });

  it.each(['race/3/chat', 'weather/wind'])(
    'takes the same key of two applications for two messages, in %s',
    async (channel) => {
      const { key } = await started.backend.makeKey({ name: 'results bureau', rights: ['publish'] });
      const bureau = new Backend(started.url, { key });
      const message = { channel, data: 1, key: 'order-7' };
      const [ours, theirs] = [await started.backend.publish(message), await bureau.publish(message)];
      expect(theirs.id).not.toBe(ours.id);
      expect([await started.backend.publish(message), await bureau.publish(message)]).toEqual([
        { ...ours, repeated: true },
        { ...theirs, repeated: true },
      ]);
    },
  );

  it.each<[string, unknown, number, string, string | undefined]>([
    ['what is not JSON', '{"a', 400, 'bad-value', undefined],
    ['a body that is a word', '"x"', 400, 'bad-value', undefined],
    ['nothing', {}, 400, 'bad-name', '/channel'],
    ['an odd name', { channel: 'a b', data: 1 }, 400, 'bad-name', '/channel'],
    ['a mistyped member', { channel: 'race/1/chat', dat: 1 }, 400, 'bad-value', '/dat'],
    [
      'a member of the prototype',
      '{"channel":"race/1/chat","data":1,"__proto__":{"x":1}}',
      400,
      'bad-value',
      '/__proto__',
    ],
    ['a wrong type', { channel: 'race/1/chat', data: 1, type: 'a b' }, 400, 'bad-value', '/type'],
    ['an author without a user', { channel: 'race/1/chat', data: 1, by: { name: 'x' } }, 400, 'bad-value', '/by/user'],
    ['an author that is a word', { channel: 'race/1/chat', data: 1, by: 'mira' }, 400, 'bad-value', '/by'],
    ['data over the limit', { channel: 'race/1/chat', data: 'x'.repeat(5000) }, 413, 'too-large', '/data'],
    [
      'data nested too deep',
      `{"channel":"race/1/chat","data":${'['.repeat(5000)}${']'.repeat(5000)}}`,
      400,
      'bad-value',
      '/data',
    ],
    ['a body beyond all bounds', JSON.stringify({ data: 'x'.repeat(5_000_000) }), 413, 'too-large', undefined],
    ['a channel without a rule', { channel: 'nowhere', data: 1 }, 404, 'no-such-channel', undefined],
  ])('refuses %s with a problem', async (_, body, status, code, where) => {
    const answer = await post(body);
    expect(answer.headers.get('content-type')).toContain('application/problem+json');
    expect(answer).toMatchObject({
      status,
      body: { status, code, title: expect.any(String), detail: expect.any(String) },
    });
    if (where !== undefined) expect(answer.body.where).toBe(where);
  });

  it('lists all the faults of a body', async () => {
    const { body } = await post({ chanel: 'x', type: '', data: 1 });
    expect(body.faults.map(({ where }: { where: string }) => where)).toEqual(
      expect.arrayContaining(['/chanel', '/channel', '/type']),
    );
  });
});

describe('reading over HTTP', () => {
  it('gives the last, those after and those before, and says if there are more', async () => {
    await started.backend.publishAll([1, 2, 3, 4, 5].map((data) => ({ channel: 'race/5/chat', data })));
    const data = (reading: { messages: readonly { data: unknown }[] }) => reading.messages.map((each) => each.data);
    const last = await started.backend.read('race/5/chat', { limit: 2 });
    expect([data(last), last.more]).toEqual([[4, 5], true]);
    const before = await started.backend.read('race/5/chat', { before: last.messages[0]?.cursor as string });
    expect([data(before), before.more]).toEqual([[1, 2, 3], false]);
    const after = await started.backend.read('race/5/chat', { after: before.messages[0]?.cursor as string, limit: 2 });
    expect([data(after), after.more]).toEqual([[2, 3], true]);
  });

  it('says which part of a recent logbook is gone', async () => {
    const first = await started.backend.publish({ channel: 'weather/wind', data: 0 });
    await started.backend.publishAll(Array.from({ length: 9 }, (_, data) => ({ channel: 'weather/wind', data })));
    const reading = await started.backend.read('weather/wind', { after: first.cursor });
    expect(reading.gap).toMatchObject({ after: first.cursor, why: 'expired' });
    expect(reading.messages).toHaveLength(5);
  });

  it.each([
    ['?', 'bad-name'],
    ['?channel=a%20b', 'bad-name'],
    ['?channel=a&channel=b', 'bad-value'],
    ['?channel=race/1/chat&after=x', 'bad-cursor'],
    ['?channel=race/1/chat&limit=0', 'bad-value'],
    ['?channel=race/1/chat&limit=1e3', 'bad-value'],
    ['?channel=race/1/chat&after=a:1&before=a:2', 'bad-value'],
    ['?channel=nowhere', 'no-such-channel'],
  ])('refuses %s', async (query, code) => {
    expect((await call(`/v1/messages${query}`)).body.code).toBe(code);
  });
});

describe('looking around over HTTP', () => {
  it('keeps idle connections open for longer than proxies and clients reuse them', async () => {
    const { headers } = await call('/healthz');
    const [, seconds] = /timeout=(\d+)/.exec(headers.get('keep-alive') ?? '') ?? [];
    expect(Number(seconds)).toBeGreaterThan(60);
  });

  it('lists channels, by pages', async () => {
    const all = (await call('/v1/channels')).body;
    expect(all.channels.map(({ channel }: { channel: string }) => channel)).toContain('race/5/chat');
    const page = (await call('/v1/channels?limit=1')).body;
    expect(page.channels).toHaveLength(1);
    const next = (await call(`/v1/channels?limit=1&after=${page.next}`)).body;
    expect(next.channels[0]).toEqual(all.channels[1]);
    expect(await started.backend.channel('race/5/chat')).toMatchObject({ channel: 'race/5/chat', logbook: 'kept' });
    await expect(started.backend.channel('nowhere')).rejects.toMatchObject({ problem: { code: 'no-such-channel' } });
  });

  it('says that it is well and ready without a key, and nothing else', async () => {
    for (const path of ['/healthz', '/readyz']) expect((await fetch(started.url + path)).status).toBe(200);
    for (const path of ['/v1/messages?channel=race/1/chat', '/v1/channels', '/v1/sessions', '/v1/overview', '/v1/x'])
      expect((await fetch(started.url + path)).status).toBe(401);
  });

  it.each([
    ['no key', undefined, 'Authorization: Bearer KEY'],
    ['a wrong key', 'Bearer bells_abcdefgh_x', 'not one of this service'],
    ['another scheme', 'Basic abc', 'not of the form'],
  ])('refuses %s and says what is expected', async (_, authorization, detail) => {
    const response = await fetch(`${started.url}/v1/channels`, { headers: authorization ? { authorization } : {} });
    expect(response.headers.get('www-authenticate')).toBe('Bearer');
    expect(await response.json()).toMatchObject({ code: 'key-invalid', detail: expect.stringContaining(detail) });
  });
});

describe('long lists', () => {
  const users = ['pia', 'jory', 'ines', 'tomas', 'wren'];
  let lines: RawLine[] = [];

  beforeAll(async () => {
    lines = await Promise.all(users.map(() => RawLine.open(started.url)));
    for (const [index, line] of lines.entries())
      await line.hello({
        token: await started.token(users[index] as string),
        enter: [{ channel: index === 2 ? 'weather/wind' : 'race/70/chat' }],
      });
    for (const user of users) await started.backend.ban({ user, channel: 'committee', reason: `a word about ${user}` });
  });
  afterAll(() => {
    for (const { socket } of lines) socket.close();
  });

  it('of sessions come in pages, each once, and are searched, whatever the case', async () => {
    const seen: string[] = [];
    let after: string | undefined;
    do {
      const page = await started.backend.sessions({ limit: 2, find: 'of the TEST', ...(after && { after }) });
      expect(page.sessions.length).toBeLessThanOrEqual(2);
      seen.unshift(...page.sessions.map(({ user }) => user));
      after = page.next;
    } while (after !== undefined);
    expect([...seen].sort()).toEqual([...users].sort());
    const found = async (find: string) => (await started.backend.sessions({ find })).sessions.map(({ user }) => user);
    expect(await found('Weather/')).toEqual(['ines']);
    expect(await found('jor')).toEqual(['jory']);
    expect(await found('no such text')).toEqual([]);
    expect((await started.backend.sessions({ user: 'wren', find: 'jor' })).sessions).toEqual([]);
  });

  it('of members are paged, each member once, even if the first one leaves between two pages', async () => {
    const channel = 'pontoon/north';
    for (const line of lines) line.send({ do: 'enter', id: 2, channel });
    await Promise.all(lines.map((line) => line.reply(2)));
    const all = (await started.backend.members(channel)).members.map(({ user }) => user);
    const first = await started.backend.members(channel, { limit: 2 });
    const leaver = lines[users.indexOf(all[0] as string)] as RawLine;
    leaver.send({ do: 'leave', id: 3, channel });
    await leaver.reply(3);
    const seen = first.members.map(({ user }) => user);
    for (let after = first.next; after !== undefined; ) {
      const page = await started.backend.members(channel, { limit: 1, after });
      seen.push(...page.members.map(({ user }) => user));
      expect(page.count).toBe(users.length - 1);
      after = page.next;
    }
    expect(seen).toEqual(all);
    expect([...seen].sort()).toEqual([...users].sort());
    await expect(started.backend.members(channel, { after: 'nonsense' })).rejects.toMatchObject({
      problem: { code: 'bad-value', where: '?after' },
    });
  });

  it('of a user’s channels are paged by name', async () => {
    const line = await RawLine.open(started.url);
    const channels = ['pontoon/b', 'pontoon/a', 'pontoon/c'];
    await line.hello({ token: await started.token('teal'), enter: channels.map((channel) => ({ channel })) });
    const first = await started.backend.memberships('teal', { limit: 2 });
    const rest = await started.backend.memberships('teal', { after: first.next ?? '' });
    const names = [...first.channels, ...rest.channels].map(({ channel }) => channel);
    expect([names, rest.next]).toEqual([[...channels].sort(), undefined]);
    line.socket.close();
  });

  it('of channels are searched by name, kept and entered ones', async () => {
    for (const n of [71, 72, 73]) await started.backend.publish({ channel: `race/${n}/chat`, data: n });
    const page = await started.backend.channels({ find: 'ACE/7', limit: 2 });
    expect(page).toMatchObject({
      channels: [{ channel: 'race/70/chat' }, { channel: 'race/71/chat' }],
      next: 'race/71/chat',
    });
    const rest = await started.backend.channels({ find: 'ACE/7', after: 'race/71/chat' });
    expect(rest.channels.map(({ channel }) => channel)).toEqual(['race/72/chat', 'race/73/chat']);
    expect((await started.backend.channels({ find: 'THER/w' })).channels).toMatchObject([{ entered: 1 }]);
  });

  it('of bans come in pages, and are searched', async () => {
    const first = await started.backend.bans({ find: 'WORD ABOUT', limit: 3 });
    const second = await started.backend.bans({ find: 'WORD ABOUT', after: first.next ?? '' });
    expect(second.next).toBeUndefined();
    expect([...first.bans, ...second.bans].map(({ user }) => user)).toEqual([...users].reverse());
    expect((await started.backend.bans({ find: 'about wren' })).bans).toMatchObject([{ user: 'wren' }]);
  });

  it('of the audit log tell what was done about one user', async () => {
    await started.backend.signOut('tomas', 'a lost phone');
    const { entries } = await started.backend.audit({ user: 'tomas' });
    expect(entries.map(({ type, user }) => `${type} ${user}`)).toEqual(['sign-out tomas', 'ban tomas']);
    const first = await started.backend.audit({ user: 'tomas', limit: 1 });
    expect((await started.backend.audit({ user: 'tomas', after: first.next ?? '' })).entries).toEqual(entries.slice(1));
  });

  it.each([
    ['/v1/sessions?after=nonsense', '?after'],
    ['/v1/sessions?after=12', '?after'],
    ['/v1/audit?after=x', '?after'],
    ['/v1/bans?after=no-ban', '?after'],
    ['/v1/bans?before=1:a', '?before'],
    ['/v1/channels?find=a&find=b', '?find'],
  ])('refuse %s with the member that is wrong', async (path, where) => {
    expect(await call(path)).toMatchObject({ status: 400, body: { code: 'bad-value', where } });
  });
});

describe('explaining over HTTP', () => {
  const explain = async (question: object) =>
    (await call('/v1/explain', { method: 'POST', body: JSON.stringify(question) })).body;
  const petrel = { act: 'enter', channel: 'crew/petrel' };

  it('answers for a user made up, a guest, a token and a session', async () => {
    expect(await explain({ ...petrel, user: 'tomas', claims: { boats: ['petrel'] } })).toMatchObject({
      allowed: true,
      rule: { pattern: 'crew/:boat', parameters: { boat: 'petrel' } },
      evaluation: { asks: 'any of', holds: true },
    });
    expect(await explain({ ...petrel, guest: true })).toMatchObject({
      allowed: false,
      problem: { code: 'not-allowed' },
    });
    const token = await started.token('bram', 60_000, { roles: ['coach'] });
    expect(await explain({ ...petrel, token })).toMatchObject({ allowed: true, user: 'bram' });
    const line = await (await RawLine.open(started.url)).hello({ token });
    expect(await explain({ ...petrel, session: line.frames[0].session })).toMatchObject({
      allowed: true,
      user: 'bram',
    });
    line.socket.close();
    const ended = await started.token('bram', -60_000);
    expect(await explain({ ...petrel, token: ended })).toMatchObject({
      allowed: false,
      problem: { code: 'token-ended' },
    });
  });

  it.each([
    [{ ...petrel }, 'one of'],
    [{ ...petrel, user: 'a', guest: true }, 'one of'],
    [{ ...petrel, act: 'shout', user: 'a' }, 'act must be one of'],
    [{ ...petrel, user: 'a', roles: 'coach' }, 'roles must be an array'],
  ])('refuses %j', async (question, detail) => {
    expect(await explain(question)).toMatchObject({ code: 'bad-value', detail: expect.stringContaining(detail) });
  });
});

describe('the console’s door', () => {
  const session = (init: RequestInit = {}) =>
    fetch(`${started.url}/console/session`, {
      ...init,
      headers: { 'content-type': 'application/json', ...init.headers },
    });
  const signIn = (body: object) => session({ method: 'POST', body: JSON.stringify(body) });

  it.each<[string, string, Record<string, string>, RegExp]>([
    ['its own address', '', {}, /^http:\/\/127\.0\.0\.1:\d+\/console\/#sign-in=/],
    [
      'that of a trusted proxy',
      '',
      { 'x-forwarded-host': 'bells.regatta.example', 'x-forwarded-proto': 'https' },
      /^https:\/\/bells\.regatta\.example\/console\//,
    ],
    [
      'not that of a proxy it does not trust',
      ', trustedProxies: []',
      { 'x-forwarded-host': 'evil.example' },
      /^http:\/\/127\.0\.0\.1:/,
    ],
    [
      'the configured one before all',
      ', publicUrl: "https://bells.regatta.example:8443"',
      { 'x-forwarded-host': 'other.example' },
      /^https:\/\/bells\.regatta\.example:8443\/console\//,
    ],
  ])('gives sign-in links with %s', async (_, members, headers, url) => {
    const other = await startService({ text: configurationText.replace('guests: true', `guests: true${members}`) });
    const answer = await fetch(`${other.url}/v1/sign-in-links`, {
      method: 'POST',
      headers: { ...headers, authorization: `Bearer ${other.key}` },
    });
    await other.remove();
    expect(((await answer.json()) as { url: string }).url).toMatch(url);
  });

  it.each([[['pia']], [['s_ok', 'guest:4711']]])(
    'refuses `except` with what is no id of a session: %j',
    async (except) => {
      const { status, body } = await post({ channel: 'race/1/chat', data: 1, except });
      expect([status, JSON.stringify(body)]).toEqual([
        400,
        expect.stringContaining('expected ids of sessions, such as s_'),
      ]);
    },
  );

  it('opens with a key to a cookie that scripts cannot read and other sites cannot send', async () => {
    const answer = await signIn({ key: started.key });
    expect(answer.status).toBe(200);
    const cookie = answer.headers.get('set-cookie') ?? '';
    expect(cookie).toMatch(/HttpOnly/);
    expect(cookie).toMatch(/SameSite=Strict/);
    expect(cookie).not.toMatch(/Secure/);
    const behindTls = await session({
      method: 'POST',
      body: JSON.stringify({ key: started.key }),
      headers: { 'x-forwarded-proto': 'https' },
    });
    expect(behindTls.headers.get('set-cookie')).toMatch(/Secure/);
    const own = { cookie: cookie.split(';')[0] as string };
    expect((await fetch(`${started.url}/v1/channels`, { headers: own })).status).toBe(200);
    const publish = (origin?: string) =>
      fetch(`${started.url}/v1/messages`, {
        method: 'POST',
        body: JSON.stringify({ channel: 'race/1/chat', data: 1 }),
        headers: { ...own, 'content-type': 'application/json', ...(origin === undefined ? {} : { origin }) },
      });
    expect((await publish(started.url)).status).toBe(201);
    expect((await publish('https://other.example')).status).toBe(401);
    expect((await publish()).status).toBe(401);
  });

  it('opens once with a link', async () => {
    const { url } = await started.backend.signInLink();
    const code = url.split('#sign-in=')[1] as string;
    expect((await signIn({ code })).status).toBe(200);
    const again = await signIn({ code });
    expect(again.status).toBe(401);
    expect(await again.json()).toMatchObject({ code: 'key-invalid', detail: expect.stringContaining('used before') });
  });

  it('opens once with a link, also after a restart', async () => {
    const before = await startService();
    const [used, unused] = await Promise.all(
      [1, 2].map(async () => (await before.backend.signInLink()).url.split('#sign-in=')[1]),
    );
    const post = (url: string, code?: string) =>
      fetch(`${url}/console/session`, {
        method: 'POST',
        body: JSON.stringify({ code }),
        headers: { 'content-type': 'application/json' },
      });
    expect((await post(before.url, used)).status).toBe(200);
    await before.stop();
    const after = await startService({ folder: before.folder });
    const statuses = [await post(after.url, used), await post(after.url, unused)].map(({ status }) => status);
    await after.remove();
    expect(statuses).toEqual([401, 200]);
  });

  it.each([{ key: 'x' }, { code: 'x' }, {}])('stays shut for %j', async (body) => {
    expect((await signIn(body)).status).toBe(401);
    expect((await session()).status).toBe(401);
  });
});
