import { connect, type Socket } from 'node:net';
import { deflateRawSync, gzipSync } from 'node:zlib';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { WebSocket } from 'ws';
import { RawLine } from './support/rawLine.js';
import { configurationText, type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

let started: StartedService;
beforeEach(async () => {
  started = await startService({
    text: configurationText.replace(
      'guests: true',
      'guests: true, compress: 200B, limits: { connectionsPerAddress: 10000, failedHellos: 100000/m }',
    ),
  });
});
afterEach(() => started.remove());

const handshake = (more = '') =>
  `GET /line HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\nSec-WebSocket-Version: 13\r\n${more}\r\n`;

/** A socket to the service's port that says whatever it is told. */
async function open(first?: string): Promise<{ socket: Socket; heard: () => string; ended: () => boolean }> {
  const parts: Buffer[] = [];
  let isEnded = false;
  const socket = connect(Number(new URL(started.url).port), '127.0.0.1');
  socket.on('error', () => {});
  socket.on('data', (data) => parts.push(data));
  socket.on('close', () => {
    isEnded = true;
  });
  await new Promise((resolve) => socket.once('connect', resolve));
  if (first !== undefined) socket.write(first);
  return { socket, heard: () => Buffer.concat(parts).toString('latin1'), ended: () => isEnded };
}

/** One frame of a client (RFC 6455, section 5.2), right or wrong. */
function frame(first: number, payload: Buffer, { masked = true, length = payload.length } = {}): Buffer {
  const head =
    length < 126
      ? [length]
      : length < 65_536
        ? [126, length >> 8, length & 255]
        : [127, 0, 0, 0, 0, ...[24, 16, 8, 0].map((by) => (length >>> by) & 255)];
  head[0] = (head[0] as number) | (masked ? 0x80 : 0);
  return Buffer.concat([Buffer.from([first, ...head]), masked ? Buffer.alloc(4) : Buffer.alloc(0), payload]);
}

const text = (value: unknown) => Buffer.from(JSON.stringify(value));
const hello = frame(0x81, text({ do: 'hello', id: 1 }));

/** It serves as before. */
async function isAlive(): Promise<void> {
  const line = await (await RawLine.open(started.url)).hello();
  line.send({ do: 'publish', id: 2, channel: 'weather/wind', data: 'alive' });
  expect(await line.reply(2)).toMatchObject({ cursor: expect.any(String) });
  line.socket.terminate();
}

describe('a client with megabytes waiting', () => {
  it.each([
    ['is closed when it reads nothing, however much it was given', 0, 4900],
    ['stays as long as it reads a little', 200, undefined],
  ])('%s', async (_, readEveryMs, code) => {
    await started.remove();
    started = await startService({
      text: configurationText.replace('guests: true', 'guests: true, limits: { unreadFor: 2s, backlog: 4MiB }'),
    });
    const data = 'x'.repeat(30_000);
    for (let n = 0; n < 10; n++)
      await started.backend.publishAll(Array.from({ length: 20 }, () => ({ channel: 'committee', data })));
    const slow = await (await RawLine.open(started.url)).hello({ token: await started.token('pia') });
    slow.socket.pause();
    for (let id = 2; id < 12; id++) slow.send({ do: 'read', id, channel: 'committee', limit: 1000 });
    const session = () => started.service.engine.stats.sessions.find((each) => each.user === 'pia');
    await until(() => (session()?.waitingBytes ?? 0) > 1_000_000);
    const reading = setInterval(() => {
      if (readEveryMs === 0) return;
      slow.socket.resume();
      setTimeout(() => slow.socket.pause(), 1);
    }, readEveryMs || 1_000);
    // At 8 KiB/s, what it was given would take more than two minutes.
    const endMs = Date.now() + (code === undefined ? 6_000 : 60_000);
    while (session() !== undefined && Date.now() < endMs) await new Promise((resolve) => setTimeout(resolve, 50));
    clearInterval(reading);
    expect(session() === undefined ? 4900 : undefined).toBe(code);
    slow.socket.terminate();
  });
});

describe('the door, byte by byte', () => {
  it('takes frames however they are split', async () => {
    const client = await open();
    const bytes = Buffer.concat([
      Buffer.from(handshake()),
      hello,
      frame(0x81, text({ do: 'enter', id: 2, channel: 'weather/wind' })),
    ]);
    for (const byte of bytes) {
      client.socket.write(Buffer.from([byte]));
      if (byte % 7 === 0) await new Promise((resolve) => setImmediate(resolve));
    }
    await until(() => client.heard().includes('"re":2'));
    client.socket.destroy();
  });

  it.each([
    ['an unmasked frame', frame(0x81, text({ do: 'hello', id: 1 }), { masked: false }), 1002],
    ['a reserved bit', frame(0xa1, Buffer.from('{}')), 1002],
    ['an unknown opcode', frame(0x83, Buffer.from('{}')), 1002],
    ['a control frame that is too long', frame(0x89, Buffer.alloc(126)), 1002],
    ['a continuation of nothing', frame(0x80, Buffer.from('{}')), 1002],
    ['a binary frame', frame(0x82, Buffer.from('{}')), 1003],
    ['text that is not UTF-8', frame(0x81, Buffer.from([0xc3, 0x28])), 1007],
    ['a frame above the limit', frame(0x81, Buffer.alloc(10), { length: 70_000 }), 1009],
    ['a length beyond all numbers', Buffer.from([0x81, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff]), 1009],
  ])('ends %s with its registered code', async (_, bytes, code) => {
    const client = await open(handshake());
    await until(() => client.heard().includes('101 Switching'));
    client.socket.write(bytes);
    const told = await until(() => {
      const at = client.heard().indexOf('\x88');
      return at === -1 ? undefined : Buffer.from(client.heard(), 'latin1').readUInt16BE(at + 2);
    });
    expect(told).toBe(code);
    client.socket.destroy();
    await isAlive();
  });

  it('does not unfold what is small on the wire and huge behind it', async () => {
    const client = await open(
      handshake('Sec-WebSocket-Extensions: permessage-deflate; client_no_context_takeover\r\n'),
    );
    await until(() => client.heard().includes('101 Switching'));
    const bomb = deflateRawSync(Buffer.alloc(100_000_000, 'x'));
    expect(bomb.length).toBeLessThan(200_000);
    const before = process.memoryUsage().rss;
    client.socket.write(frame(0xc1, bomb));
    await until(() => client.ended() || client.heard().includes('\x88'));
    expect(process.memoryUsage().rss - before).toBeLessThan(60_000_000);
    client.socket.destroy();
    await isAlive();
  });

  it('compresses for those who can, once for all, and not for others', async () => {
    const [plain, deflating] = await Promise.all(
      [false, true].map(async (perMessageDeflate) => {
        const socket = new WebSocket(`${started.url.replace('http', 'ws')}/line`, ['nine-bells.v1'], {
          perMessageDeflate,
        });
        const frames: string[] = [];
        socket.on('message', (data) => frames.push(data.toString()));
        await new Promise((resolve) => socket.once('open', resolve));
        socket.send(JSON.stringify({ do: 'hello', id: 1, enter: [{ channel: 'weather/wind' }] }));
        await until(() => frames.length > 0);
        return { socket, frames };
      }),
    );
    expect([plain?.socket.extensions, deflating?.socket.extensions]).toEqual(['', 'permessage-deflate']);
    const data = 'gusts from the south west '.repeat(100);
    for (let n = 0; n < 3; n++) await started.backend.publish({ channel: 'weather/wind', data: `${n} ${data}` });
    for (const each of [plain, deflating]) {
      await until(() => each?.frames.length === 4);
      expect(JSON.parse(each?.frames[3] as string).data).toBe(`2 ${data}`);
    }
    const taken = (each: typeof plain) => (each as unknown as { socket: { _socket: Socket } }).socket._socket.bytesRead;
    expect(taken(deflating)).toBeLessThan(taken(plain) / 2);
    for (const each of [plain, deflating]) each?.socket.terminate();
  });

  it('lives on, and keeps its memory, whatever bytes come', async () => {
    const opening = fc.constantFrom(
      handshake(),
      handshake('Sec-WebSocket-Extensions: permessage-deflate\r\n'),
      handshake('Sec-WebSocket-Protocol: nine-bells.v1\r\n').slice(0, 60),
      'POST /line/sessions HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 30\r\n\r\n',
      'GET /line/listen?channel=weather/wind HTTP/1.1\r\nHost: x\r\n\r\n',
      '',
    );
    const piece = fc.oneof(
      fc.uint8Array({ maxLength: 200 }).map((bytes) => Buffer.from(bytes)),
      fc
        .tuple(fc.integer({ min: 0, max: 255 }), fc.uint8Array({ maxLength: 100 }), fc.boolean())
        .map(([first, bytes, masked]) => frame(first, Buffer.from(bytes), { masked })),
      fc.constant(hello),
      fc.json().map((json) => frame(0x81, Buffer.from(json))),
    );
    const run = async (count: number) =>
      fc.assert(
        fc.asyncProperty(opening, fc.array(piece, { maxLength: 6 }), async (first, pieces) => {
          const client = await open(first);
          for (const each of pieces) client.socket.write(each);
          await new Promise((resolve) => setTimeout(resolve, 2));
          client.socket.destroy();
        }),
        { numRuns: count },
      );
    await run(200);
    await until(() => started.service.engine.stats.connections === 0);
    globalThis.gc?.();
    const before = process.memoryUsage().heapUsed;
    await run(600);
    await until(() => started.service.engine.stats.connections === 0);
    await isAlive();
    expect(process.memoryUsage().heapUsed - before).toBeLessThan(80_000_000);
  });

  it('does not wait for ever for headers or a hello', async () => {
    const slow = await open('GET /line HTTP/1.1\r\nHost: x\r\n');
    const nothing = await open();
    const halfBody = await open(
      'POST /line/sessions HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 90\r\n\r\n{',
    );
    const silent = await open(handshake());
    await until(() => silent.ended() || silent.heard().includes('hello-first'));
    await isAlive();
    await until(() => slow.ended() && nothing.ended());
    halfBody.socket.destroy();
  });

  it('bounds the sockets of an address, whatever they say, and names it to the operator', async () => {
    await started.remove();
    started = await startService({
      text: configurationText.replace(
        'guests: true',
        'guests: true, trustedProxies: [], limits: { connectionsPerAddress: 10 }',
      ),
    });
    const sockets = await Promise.all(Array.from({ length: 260 }, () => open()));
    await until(() => sockets.filter(({ ended }) => ended()).length >= 50);
    expect(sockets.filter(({ ended }) => !ended())).toHaveLength(210);
    expect(started.service.engine.refusals.all).toMatchObject([
      { code: 'too-many-connections', act: 'socket', count: 50, latest: expect.anything() },
    ]);
    for (const { socket } of sockets) socket.destroy();
    await until(async () => (await fetch(`${started.url}/healthz`).catch(() => undefined))?.ok);
  });
});

describe('doors that need no credential', () => {
  const post = (path: string, body: string | Buffer, headers: Record<string, string> = {}) =>
    fetch(`${started.url}${path}`, {
      method: 'POST',
      body: new Uint8Array(Buffer.from(body)),
      headers: { 'content-type': 'application/json', ...headers },
    });

  it.each(['/console/session', '/line/sessions'])('%s inflates nothing', async (path) => {
    const bomb = gzipSync(`{${Array.from({ length: 200_000 }, (_, n) => `"m${n}":1`).join()}}`);
    const answer = await post(path, bomb, { 'content-encoding': 'gzip' });
    expect(answer.status).toBe(400);
    expect((await answer.text()).length).toBeLessThan(1_000);
  });

  it.each([
    ['hello over HTTP', '/line/sessions', JSON.stringify({ token: 'x'.repeat(70_000) }), 413, 'too-large'],
    ['frames for a session that is nowhere', '/line/sessions/s_none/frames', 'x'.repeat(200_000), 401, 'token-ended'],
    ['a call without a key', '/v1/messages', 'x'.repeat(200_000), 401, 'key-invalid'],
  ])('read no more than they need: %s', async (_, path, body, status, code) => {
    const answer = await post(path, body);
    expect([answer.status, (await answer.json()).code]).toEqual([status, code]);
  });

  it('/console/session takes small bodies only, and says few of many faults', async () => {
    expect((await post('/console/session', JSON.stringify({ key: 'x'.repeat(20_000) }))).status).toBe(413);
    const answer = await post(
      '/console/session',
      JSON.stringify(Object.fromEntries([...'abcdefghijklmnopqrstuvwxyz'].map((name) => [name.repeat(200), 1]))),
    );
    expect(answer.status).toBe(400);
    const text = await answer.text();
    expect(JSON.parse(text).faults).toHaveLength(20);
    expect(text.length).toBeLessThan(20_000);
  });

  it('/console/session lets an address try only so often', async () => {
    const statuses = [];
    for (let n = 0; n < 25; n++) statuses.push((await post('/console/session', '{"key":"bells_x"}')).status);
    expect(statuses[0]).toBe(401);
    expect(statuses.at(-1)).toBe(429);
    expect(statuses.filter((each) => each === 429).length).toBeLessThan(8);
  });
});
