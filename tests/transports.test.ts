import { createServer } from 'node:http';
import { connect as connectTcp } from 'node:net';
import { connect, type Line, type LineOptions } from '@nine-bells/client';
import { exportJWK, generateKeyPair, SignJWT } from 'jose';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { gatheringProxy, Nginx, nginxIsThere, Tunnel } from './support/proxies.js';
import { RawLine } from './support/rawLine.js';
import { configurationText, type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const chat = 'race/3/chat';
const quick = { backOff: { firstMs: 20, maxMs: 100 } };
const text = configurationText.replace('guests: true', 'guests: true, pulse: 600ms');

let started: StartedService;
const clean: (() => unknown)[] = [];
beforeEach(async () => {
  started = await startService({ text });
});
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
  await started.remove();
});

function open(user: string, options: LineOptions = {}, url = started.url) {
  const line = connect(url, { token: () => started.token(user), ...quick, ...options });
  clean.push(() => line.close());
  const entry = line.enter(chat, { last: 10 });
  const seen: unknown[] = [];
  entry.addEventListener('message', ({ detail }) => seen.push(detail.data));
  entry.addEventListener('gap', () => seen.push('gap'));
  return { line, entry, seen };
}

const via = ({ state }: Line) => (state.name === 'open' ? state.transport : state.name);

describe.each(['stream', 'poll'] as const)('a line by %s', (transport) => {
  it('does what a line does: enters, publishes, receives in order, sees who is there, is refused', async () => {
    await started.backend.publish({ channel: chat, data: 0 });
    const pia = open('pia', { transport });
    await pia.entry.ready;
    const jory = open('jory');
    await jory.entry.ready;
    for (let n = 1; n <= 20; n++) await (n % 2 ? pia : jory).entry.publish(n);
    await until(() => pia.seen.length === 21 && jory.seen.length === 21);
    expect(pia.seen).toEqual(Array.from({ length: 21 }, (_, n) => n));
    expect(jory.seen).toEqual(pia.seen);
    await expect(pia.line.publish('race/3/signals', 1)).rejects.toMatchObject({ code: 'not-allowed' });
    expect((await pia.entry.read({ limit: 2 })).messages).toHaveLength(2);
    expect(started.service.engine.stats.sessions.find(({ user }) => user === 'pia')).toMatchObject({ transport });
    pia.line.close();
    await until(() => started.service.engine.stats.connections === 1);
  });

  it('sends what waits in portions that the service takes, however large it is together', async () => {
    const large = 'x'.repeat(30_000);
    const pia = open('pia', { transport });
    await pia.entry.ready;
    const published = Array.from({ length: 30 }, (_, n) => pia.line.publish('committee', `${n} ${large}`));
    await Promise.all(published);
    const { messages } = await started.backend.read('committee', { limit: 100 });
    expect(messages.map(({ data }) => Number(String(data).split(' ')[0]))).toEqual([...Array(30).keys()]);
    expect(pia.line.state).toMatchObject({ name: 'open', transport });
  });

  it('waits for a welcome that takes longer than a pulse: the keys of tokens are being fetched', async () => {
    const { publicKey, privateKey } = await generateKeyPair('ES256');
    const keys = { keys: [{ ...(await exportJWK(publicKey)), kid: 'one', alg: 'ES256' }] };
    const application = createServer((_request, response) => {
      setTimeout(() => response.setHeader('content-type', 'application/json').end(JSON.stringify(keys)), 2_700);
    }).listen(0, '127.0.0.1');
    clean.push(() => void application.close());
    await until(() => application.listening);
    const { port } = application.address() as { port: number };
    const fetching = text
      .replace('600ms', '2s')
      .replace(/^tokens: .*$/m, `tokens: { jwks: { url: "http://127.0.0.1:${port}/keys", algorithms: [ES256] } }`);
    const slow = await startService({ text: fetching });
    clean.push(() => slow.remove());
    const token = await new SignJWT({ sub: 'pia' })
      .setProtectedHeader({ alg: 'ES256', kid: 'one' })
      .setIssuedAt()
      .setExpirationTime('1m')
      .sign(privateKey);
    const line = connect(slow.url, { token, transport, ...quick });
    clean.push(() => line.close());
    const states: string[] = [];
    line.addEventListener('state', ({ detail }) => states.push(detail.name));
    await line.opened();
    expect(states).toEqual(['open']);
  });

  it('loses nothing over a restart of the service, in the same session', async () => {
    const pia = open('pia', { transport });
    await pia.entry.ready;
    await started.backend.publish({ channel: chat, data: 1 });
    await until(() => pia.seen.length === 1);
    const { session } = pia.line.state as { session: string };
    await started.stop();
    const published = pia.entry.publish(2);
    started = await startService({ text, folder: started.folder, port: Number(new URL(started.url).port) });
    await published;
    await started.backend.publish({ channel: chat, data: 3 });
    await until(() => pia.seen.length === 3);
    expect(pia.seen).toEqual([1, 2, 3]);
    expect(pia.line.state).toMatchObject({ session, continued: true, transport });
  });

  it('stays open while nothing happens, and is ended where one is signed out', async () => {
    const pia = open('pia', { transport });
    await pia.entry.ready;
    await new Promise((resolve) => setTimeout(resolve, 2_500));
    expect(via(pia.line)).toBe(transport);
    await started.backend.signOut('pia');
    await until(() => pia.line.state.name === 'closed');
  });

  it('is refused where a WebSocket would be, with the reason', async () => {
    const forged = connect(started.url, { token: 'forged', transport });
    await expect(forged.opened()).rejects.toMatchObject({ code: 'token-invalid' });
    await started.backend.ban({ user: 'ines', reason: 'spoiling' });
    const banned = open('ines', { transport });
    await until(() => banned.line.state.name === 'closed');
    expect(banned.line.state).toMatchObject({ problem: { code: 'banned' } });
  });
});

describe('a session over HTTP', () => {
  const call = (path: string, init: RequestInit & { secret?: string } = {}) =>
    fetch(`${started.url}/line/sessions${path}`, {
      ...init,
      headers: {
        'content-type': 'application/json',
        ...(init.secret === undefined ? {} : { authorization: `Bearer ${init.secret}` }),
        ...(init.headers as object),
      },
    });
  const begin = async (more: object = {}) => {
    const response = await call('', { method: 'POST', body: JSON.stringify(more) });
    return { response, ...((await response.json()) as { session: string; secret: string; code?: string }) };
  };

  it('takes an array once, whatever the number of tries, and none before one that is missing', async () => {
    const { session, secret } = await begin();
    const requests = [{ do: 'publish', id: 1, channel: 'weather/wind', data: 1 }];
    const send = async (number: unknown, list: unknown = requests) => {
      const body = JSON.stringify({ number, requests: list });
      return (await call(`/${session}/frames`, { method: 'POST', secret, body })).status;
    };
    expect([await send(1), await send(1), await send(2), await send(4)]).toEqual([202, 202, 202, 400]);
    expect([await send('x'), await send(3, 'x'), await send(3, Array(200).fill({}))]).toEqual([400, 400, 400]);
    expect(await send(3, [{ do: 'publish', channel: 'weather/wind', data: 'x'.repeat(70_000) }])).toBe(413);
    expect((await started.backend.read('weather/wind')).messages).toHaveLength(2);
    const poll = async (got: number) =>
      (await call(`/${session}/stream`, {
        secret,
        headers: { accept: 'application/json', 'last-event-id': String(got) },
      }).then((response) => response.json())) as { number: number; frames: { re?: number }[] };
    const first = await poll(0);
    expect(first.frames.map(({ re }) => re)).toEqual([1, 1]);
    // The answer got lost: it is given again, until the client says that it has it.
    expect(await poll(0)).toEqual(first);
    expect(await poll(first.number)).toMatchObject({ number: 2, frames: [{ on: 'pulse' }] });
  });

  it('meets the same door as a WebSocket: too many connections, a banned address, a service that drains', async () => {
    const full = await startService({ text: text.replace('pulse: 600ms', 'limits: { connectionsPerAddress: 1 }') });
    clean.push(() => full.remove());
    const hello = () =>
      fetch(`${full.url}/line/sessions`, {
        method: 'POST',
        body: '{}',
        headers: { 'content-type': 'application/json' },
      });
    const code = async (response: Response) => [response.status, ((await response.json()) as { code?: string }).code];
    expect((await hello()).status).toBe(201);
    expect(await code(await hello())).toEqual([429, 'too-many-connections']);
    expect(await code(await fetch(`${full.url}/line/listen?channel=${chat}`))).toEqual([429, 'too-many-connections']);
    await started.backend.ban({ address: '127.0.0.1', reason: 'scraping' });
    expect((await begin()).code).toBe('banned');
    void full.service.engine.drain(5_000);
    expect(await code(await hello())).toEqual([503, 'draining']);
  });

  it('is nobody’s without its secret, and refuses what is no hello', async () => {
    const { session, secret } = await begin();
    for (const bad of [undefined, 'nope', `${secret}x`, secret.replace(/.$/, '!')])
      expect((await call(`/${session}/stream`, bad === undefined ? {} : { secret: bad })).status).toBe(401);
    expect((await call('/nobody/stream', { secret })).status).toBe(401);
    for (const body of ['[]', '7', '{"token":7}', '{"enter":"x"}', 'x'])
      expect((await call('', { method: 'POST', body })).status, body).toBe(400);
    expect((await begin({ token: 'forged' })).code).toBe('token-invalid');
    expect((await call(`/${session}`, { method: 'DELETE', secret })).status).toBe(204);
    await until(() => started.service.engine.stats.connections === 0);
  });
});

describe('a stream to listen to', () => {
  /** Reads events until there are so many of a kind. */
  async function listen(query: string, kind: string, count: number, headers: Record<string, string> = {}) {
    const abort = new AbortController();
    const response = await fetch(`${started.url}/line/listen?${query}`, { headers, signal: abort.signal });
    expect(response.headers.get('content-type')).toContain('text/event-stream');
    const events: { event: string; data: Record<string, unknown>; id: string | undefined }[] = [];
    let text = '';
    const decoder = new TextDecoder();
    for await (const chunk of response.body as unknown as AsyncIterable<Uint8Array>) {
      text += decoder.decode(chunk, { stream: true });
      const parts = text.split('\n\n');
      text = parts.pop() ?? '';
      for (const part of parts) {
        const lines = Object.fromEntries(part.split('\n').map((line) => line.split(/: (.*)/s) as [string, string]));
        events.push({ event: lines.event ?? '', data: JSON.parse(lines.data ?? '{}'), id: lines.id });
      }
      if (events.filter(({ event }) => event === kind).length >= count) break;
    }
    abort.abort();
    return events;
  }

  it('gives messages with a place, and goes on from it without loss', async () => {
    for (const data of [1, 2, 3]) await started.backend.publish({ channel: chat, data });
    const first = await listen(`channel=${chat}&channel=weather/wind&last=2`, 'entered', 2);
    const messages = first.filter(({ event }) => event === 'message');
    expect(messages.map(({ data }) => data.data)).toEqual([2, 3]);
    const place = first.at(-1)?.id as string;
    await started.backend.publish({ channel: 'weather/wind', data: 'gusts' });
    await started.backend.publish({ channel: chat, data: 4 });
    const again = await listen(`channel=${chat}&channel=weather/wind`, 'message', 2, { 'last-event-id': place });
    expect(again.filter(({ event }) => event === 'message').map(({ data }) => data.data)).toEqual([4, 'gusts']);
    const later = setTimeout(() => void started.backend.publish({ channel: chat, data: 5 }), 200);
    const live = await listen(`channel=${chat}`, 'message', 1);
    clearTimeout(later);
    expect(live.at(-1)).toMatchObject({ data: { data: 5 }, id: expect.stringMatching(/:5$/) });
    expect((await listen(`channel=${chat}`, 'pulse', 1)).at(-1)?.event).toBe('pulse');
  });

  it('gives a long record in parts, and a gap where something is gone', async () => {
    const long = 'x'.repeat(3_900);
    const [first] = await started.backend.publishAll(
      Array.from({ length: 400 }, (_, n) => ({ channel: chat, data: `${n} ${long}` })),
    );
    const { cursor } = first as { cursor: string };
    const all = await listen(`channel=${chat}`, 'message', 399, { 'last-event-id': cursor });
    expect(
      all.filter(({ event }) => event === 'message').map(({ data }) => Number(String(data.data).split(' ')[0])),
    ).toEqual(Array.from({ length: 399 }, (_, n) => n + 1));
    const gone = await listen(`channel=${chat}`, 'gap', 1, { 'last-event-id': 'elsewhere:7' });
    expect(gone[0]).toMatchObject({ event: 'gap', data: { why: 'new-volume' } });
  });

  it('is ended for whoever does not read it, and lets go of what waited', async () => {
    const { hostname, port } = new URL(started.url);
    const socket = connectTcp(Number(port), hostname);
    socket.write(`GET /line/listen?channel=${chat} HTTP/1.1\r\nHost: x\r\n\r\n`);
    await until(() => started.service.engine.stats.connections === 1);
    socket.pause();
    const data = 'x'.repeat(4_000);
    for (let n = 0; n < 40 && started.service.engine.stats.connections > 0; n++)
      await started.backend.publishAll(Array.from({ length: 100 }, () => ({ channel: chat, data })));
    await until(() => started.service.engine.stats.connections === 0);
    socket.resume();
    await new Promise((resolve) => socket.once('close', resolve));
  });

  it('is refused with a problem, for one’s own token too', async () => {
    const status = async (query: string, headers = {}) =>
      (await fetch(`${started.url}/line/listen?${query}`, { headers })).status;
    expect(await status('channel=crew/petrel')).toBe(403);
    expect(await status('')).toBe(400);
    expect(await status('channel=..')).toBe(400);
    expect(await status(Array.from({ length: 21 }, (_, n) => `channel=race/${n}/chat`).join('&'))).toBe(400);
    expect(await status(`channel=${chat}`, { authorization: 'Bearer forged' })).toBe(401);
    const authorization = `Bearer ${await started.token('tomas', 60_000, { claims: { boats: ['petrel'] } })}`;
    const own = await listen('channel=crew/petrel&channel=committee', 'entered', 2, { authorization });
    expect(own.map(({ event }) => event)).toEqual(['entered', 'entered']);
    await until(() => started.service.engine.stats.connections === 0);
  });
});

describe.skipIf(!nginxIsThere)('behind a proxy', () => {
  const good = 'proxy_set_header Upgrade $http_upgrade; proxy_set_header Connection $connection_upgrade;';

  async function behind(location: string): Promise<Nginx> {
    const proxy = await Nginx.start(started.url, location);
    clean.push(() => proxy.stop());
    return proxy;
  }

  it('that is configured right, a line is a WebSocket', async () => {
    const proxy = await behind(good);
    const pia = open('pia', {}, proxy.url);
    await pia.entry.ready;
    expect(via(pia.line)).toBe('websocket');
  });

  it('that lets no WebSocket through, it is a stream, and a WebSocket as soon as one gets through', async () => {
    const proxy = await behind('');
    const pia = open('pia', { webSocketAgainMs: 500 }, proxy.url);
    await pia.entry.ready;
    expect(via(pia.line)).toBe('stream');
    const { session } = pia.line.state as { session: string };
    await pia.entry.publish(1);
    proxy.change(started.url, good);
    await until(() => via(pia.line) === 'websocket');
    expect(pia.line.state).toMatchObject({ session, continued: true });
    await started.backend.publish({ channel: chat, data: 2 });
    await until(() => pia.seen.length === 2);
    expect(pia.seen).toEqual([1, 2]);
  });
});

describe('behind a proxy that holds streams back', () => {
  it('a line polls', async () => {
    const proxy = await gatheringProxy(started.url);
    clean.push(() => proxy.stop());
    const pia = open('pia', {}, proxy.url);
    await until(() => via(pia.line) === 'poll');
    await pia.entry.publish(1);
    await started.backend.publish({ channel: chat, data: 2 });
    await until(() => pia.seen.length === 2);
    expect(pia.seen).toEqual([1, 2]);
  });
});

describe('a way that swallows everything', () => {
  it('is noticed by both sides', async () => {
    const tunnel = await Tunnel.start(started.url);
    clean.push(() => tunnel.stop());
    const pia = open('pia', { transport: 'websocket' }, tunnel.url);
    await pia.entry.ready;
    await new Promise((resolve) => setTimeout(resolve, 700));
    tunnel.swallow();
    await until(() => pia.line.state.name !== 'open');
    await until(() => started.service.engine.stats.connections === 0);
    tunnel.heal();
    await started.backend.publish({ channel: chat, data: 'after' });
    // A try that was swallowed, too, is given up after 15 s.
    await until(() => pia.seen.includes('after'));
  });

  it('cut at any byte, nothing is lost or doubled', async () => {
    const tunnel = await Tunnel.start(started.url);
    clean.push(() => tunnel.stop());
    const pia = open('pia', { transport: 'websocket' }, tunnel.url);
    await pia.entry.ready;
    let published = 0;
    for (let bytes = 1; bytes < 900; bytes += 37) {
      await until(() => pia.line.state.name === 'open' && pia.entry.state === 'live');
      tunnel.cutAfter(bytes);
      for (let n = 0; n < 5; n++) await started.backend.publish({ channel: chat, data: ++published });
    }
    await until(() => pia.seen.length >= published);
    expect(pia.seen).toEqual(Array.from({ length: published }, (_, n) => n + 1));
    const raw = await RawLine.open(started.url);
    raw.socket.terminate();
  });
});
