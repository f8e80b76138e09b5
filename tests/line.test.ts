import { connect as connectTcp } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ninebells } from './support/command.js';
import { RawLine } from './support/rawLine.js';
import { type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

let started: StartedService;

beforeAll(async () => {
  started = await startService();
});
afterAll(() => started.remove());

const open = () => RawLine.open(started.url);

describe('the line over a real WebSocket', () => {
  it('is spoken as the protocol says, and also without a subprotocol offered', async () => {
    const line = await open();
    expect(line.socket.protocol).toBe('nine-bells.v1');
    await line.hello({ enter: [{ channel: 'race/1/chat', last: 10 }] });
    expect(line.frames[0]).toMatchObject({ re: 1, guest: true, entered: [{ channel: 'race/1/chat', messages: [] }] });
    const bare = await RawLine.open(started.url, { protocols: [] });
    await bare.hello({ tokn: 'mistyped' });
    expect(bare.frames[0]).toMatchObject({ ignored: ['tokn'] });
    expect(bare.frames[0]).toMatchObject({ re: 1, continued: false });
    line.socket.close();
    bare.socket.close();
  });

  it('is not for those who speak something else', async () => {
    const other = await RawLine.open(started.url, { protocols: ['chat.v9'] });
    expect((await other.closed()).code).not.toBe(1000);
  });

  it.each<[string, string | Buffer, string]>([
    ['what is not JSON', 'ahoy', 'bad-frame'],
    ['a wrong shape', '[1,2]', 'bad-frame'],
    ['an unknown verb', '{"do":"shout"}', 'unknown-verb'],
    ['an odd name', '{"do":"enter","channel":"a b"}', 'bad-name'],
    ['a name too long', JSON.stringify({ do: 'enter', channel: 'x'.repeat(500) }), 'bad-name'],
    [
      'data over the limit',
      JSON.stringify({ do: 'publish', channel: 'weather/wind', data: 'x'.repeat(40_000) }),
      'too-large',
    ],
    ['a place where one may not publish', '{"do":"publish","channel":"race/1/signals","data":1}', 'not-allowed'],
    ['a channel without a rule', '{"do":"enter","channel":"nowhere"}', 'no-such-channel'],
    ['a second hello', '{"do":"hello"}', 'hello-twice'],
    ['a cursor that is none', '{"do":"enter","channel":"race/1/chat","after":"x"}', 'bad-cursor'],
  ])('survives %s, and says so', async (_, frame, code) => {
    const line = await (await open()).hello();
    line.send(frame as string);
    expect(await line.push('problem')).toMatchObject({ code });
    line.send({ do: 'publish', id: 9, channel: 'weather/wind', data: 'still here' });
    expect(await line.reply(9)).toHaveProperty('cursor');
    line.socket.close();
  });

  it('closes on binary frames, on text that is not UTF-8, and on frames that are too big', async () => {
    const binary = await (await open()).hello();
    binary.socket.send(Buffer.from('{"do":"pulse"}'), { binary: true });
    expect((await binary.closed()).code).toBe(1003);
    const garbled = await (await open()).hello();
    garbled.socket.send(Buffer.from([0x7b, 0xff, 0xfe]), { binary: false });
    expect((await garbled.closed()).code).toBe(1007);
    const big = await (await open()).hello();
    big.send(`"${'x'.repeat(70_000)}"`);
    expect((await big.closed()).code).toBe(1009);
  });

  it('refuses expired and forged tokens with their codes', async () => {
    const expired = await open();
    expired.send({ do: 'hello', id: 1, token: await started.token('pia', -60_000) });
    expect((await expired.reply(1)).problem.code).toBe('token-ended');
    expect(await expired.closed()).toEqual({ code: 4903, reason: 'token-ended' });
    const forged = await open();
    forged.send({ do: 'hello', id: 1, token: (await started.token('pia')).replace(/....$/, 'AAAA') });
    expect((await forged.reply(1)).problem.code).toBe('token-invalid');
    expect(await forged.closed()).toEqual({ code: 1008, reason: 'token-invalid' });
  });

  it('is entered by whom the rule names, by claim and by role', async () => {
    const enter = [{ channel: 'crew/petrel' }, { channel: 'crew/dunlin' }];
    const told = async (token?: string) =>
      (await (await open()).hello({ enter, ...(token === undefined ? {} : { token }) })).frames[0].entered.map(
        (each: { problem?: { code: string } }) => each.problem?.code ?? 'in',
      );
    expect(await told(await started.token('tomas', 60_000, { claims: { boats: 'petrel' } }))).toEqual([
      'in',
      'not-allowed',
    ]);
    expect(await told(await started.token('bram', 60_000, { roles: ['coach'] }))).toEqual(['in', 'in']);
    expect(await told(await started.token('pia'))).toEqual(['not-allowed', 'not-allowed']);
    expect(await told()).toEqual(['not-allowed', 'not-allowed']);
  });

  it('lets nobody else notice a client that stops reading, and cuts it off', async () => {
    const stuck = await (await open()).hello({ enter: [{ channel: 'weather/wind' }] });
    const sound = await (await open()).hello({ enter: [{ channel: 'weather/wind' }] });
    stuck.socket.pause();
    const data = 'x'.repeat(30_000);
    let sent = 0;
    for (const endMs = Date.now() + 20_000; Date.now() < endMs; ) {
      await started.backend.publishAll(Array.from({ length: 20 }, () => ({ channel: 'weather/wind', data })));
      sent += 20;
      if (!started.service.engine.stats.sessions.some(({ session }) => session === stuck.frames[0].session)) break;
    }
    expect(started.service.engine.stats.sessions.map(({ session }) => session)).not.toContain(stuck.frames[0].session);
    await until(() => sound.frames.filter((frame) => frame.on === 'message').length === sent);
    const numbers = sound.frames
      .filter((frame) => frame.on === 'message')
      .map(({ cursor }) => Number(cursor.split(':')[1]));
    expect(numbers).toEqual(numbers.map((_, index) => (numbers[0] ?? 0) + index));
    stuck.socket.terminate();
    sound.socket.close();
  });

  it('is not upset by what is no WebSocket, nor by half of one', async () => {
    const { port } = new URL(started.url);
    for (const text of [
      'GET /line HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n',
      'GET /elsewhere HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n',
      'GET /line HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n\xff\xff\xff\xff',
      '\u0000\u0001 nonsense\r\n\r\n',
    ]) {
      const socket = connectTcp(Number(port), '127.0.0.1');
      socket.on('error', () => {});
      socket.write(text, 'latin1');
      await new Promise((resolve) => setTimeout(resolve, 50));
      socket.destroy();
    }
    const line = await (await open()).hello();
    expect(line.frames[0]).toHaveProperty('session');
    line.socket.close();
  });

  it('lets only pages of the origins in that are configured, and says so with a code', async () => {
    const strict = await startService({
      text: 'service: { guests: true, origins: ["https://regatta.example"] }\nchannels: []',
      port: 0,
    });
    const stranger = await RawLine.open(strict.url, { origin: 'https://other.example' });
    expect(await stranger.closed()).toEqual({ code: 1008, reason: 'bad-origin' });
    const own = await RawLine.open(strict.url, { origin: 'https://regatta.example' });
    await own.hello();
    // Its own pages, the console among them, need not be listed.
    await (await RawLine.open(strict.url, { origin: strict.url })).hello();
    await (await RawLine.open(strict.url)).hello();
    // An operator finds out why a client does not get in.
    const listen = await fetch(`${strict.url}/line/listen?channel=a`, { headers: { origin: 'https://other.example' } });
    expect(await listen.json()).toMatchObject({
      code: 'bad-origin',
      detail: expect.stringContaining('service.origins'),
    });
    await fetch(`${strict.url}/v1/channels`, { headers: { authorization: 'Bearer bells_wrong' } });
    const { refusals } = await strict.backend.refusals();
    expect(refusals.map(({ code, act, count }) => [code, act, count])).toEqual([
      ['key-invalid', 'GET /v1/channels', 1],
      ['bad-origin', 'connect', 2],
    ]);
    const one = { origin: 'https://other.example', address: '127.0.0.1' };
    expect(refusals[1]?.latest).toMatchObject([one, one]);
    const env = { NINEBELLS_URL: strict.url, NINEBELLS_KEY: strict.key };
    const { out } = await ninebells(['refusals', '--code', 'bad-origin'], env);
    expect(out).toMatch(/ 2 +bad-origin +connect +127\.0\.0\.1 +https:\/\/other\.example/);
    expect(out).not.toContain('bells_wrong');
    await strict.remove();
  });
});
