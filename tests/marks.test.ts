import { connect, type LineError, type Problem } from '@nine-bells/client';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { WebSocket } from 'ws';
import { ninebells } from './support/command.js';
import { RawLine } from './support/rawLine.js';
import { type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const text = `
service: { name: Test Regatta, port: 0 }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
users: { direct: signed-in }
channels:
  - { pattern: "race/:race/chat", logbook: kept, marks: shown, allow: { enter: signed-in, publish: signed-in } }
  - { pattern: wind, allow: { enter: signed-in } }
  - { pattern: "direct/:users", logbook: kept, direct: true }
`;
const chat = 'race/3/chat';

let started: StartedService;
const clean: (() => unknown)[] = [];
beforeEach(async () => {
  started = await startService({ text });
});
afterEach(async () => {
  for (const each of clean.splice(0)) await each();
  await started.remove();
});

function open(user: string) {
  const sockets: WebSocket[] = [];
  class Breakable extends WebSocket {
    constructor(url: string, protocols: string[]) {
      super(url, protocols);
      sockets.push(this);
    }
  }
  const line = connect(started.url, {
    token: () => started.token(user),
    backOff: { firstMs: 10, maxMs: 50 },
    WebSocket: Breakable as never,
  });
  clean.push(() => line.close());
  return { line, unread: line.unread(), cut: () => sockets.at(-1)?.terminate() };
}

describe('read marks', () => {
  it('move on all devices, survive a break and a restart, and are seen by others', async () => {
    const pia = open('pia');
    const phone = open('pia');
    const jory = open('jory');
    const chats = [pia, jory].map(({ line }) => line.enter(chat));
    const [piasChat, jorysChat] = chats as [(typeof chats)[0], (typeof chats)[0]];
    await Promise.all(chats.map(({ ready }) => ready));
    piasChat.addEventListener('message', () => piasChat.mark());
    const { cursor: first } = await jorysChat.publish('ready about');
    await until(() => phone.unread.counts.has(chat));
    // Each message is marked; what is sent is one mark a second.
    for (let n = 0; n < 20; n++) await jorysChat.publish(n);
    const { cursor: last } = await jorysChat.publish('done');
    await until(() => jorysChat.readBy(last).includes('pia'));
    expect(jorysChat.readBy(first)).toEqual(['pia']);
    expect([phone.unread.of(chat), pia.unread.total]).toEqual([0, 0]);
    piasChat.leave();
    phone.cut();
    await jorysChat.publish('one more');
    await until(() => phone.unread.of(chat) === 1 && pia.unread.of(chat) === 1);
    await started.stop();
    started = await startService({ text, folder: started.folder, port: Number(new URL(started.url).port) });
    await until(() => phone.line.state.name === 'open');
    await started.backend.publish({ channel: chat, data: 'after the restart' });
    await until(() => phone.unread.of(chat) === 2);
    expect((await phone.line.mark(chat, first)).unread).toBe(2);
    await phone.line.mark(chat, null);
    expect(phone.unread.counts.has(chat)).toBe(false);
  });

  it('wait while the line is broken, and count in direct channels by themselves', async () => {
    const pia = open('pia');
    const jory = open('jory');
    await Promise.all([pia.line.opened(), jory.line.opened()]);
    await until(() => started.service.engine.stats.sessions.length === 2);
    await new Promise((resolve) => setTimeout(resolve, 1_200));
    const talk = pia.line.direct(['jory']);
    const { cursor } = await talk.publish('hello');
    await until(() => jory.unread.of('direct/jory,pia') === 1);
    jory.cut();
    const marked = jory.line.mark('direct/jory,pia', cursor);
    expect(await marked).toMatchObject({ unread: 0, cursor });
    expect(jory.unread.total).toBe(0);
  });

  it('are refused with a reason, and never silently', async () => {
    const pia = open('pia');
    await pia.line.opened();
    const problems: Problem[] = [];
    pia.line.addEventListener('problem', ({ detail }) => problems.push(detail));
    const { cursor } = await started.backend.publish({ channel: chat, data: 1 });
    const refusal = (act: Promise<unknown>) => act.catch((error: LineError) => error.problem?.code);
    expect(await refusal(pia.line.mark('wind', cursor))).toBe('bad-value');
    expect(await refusal(pia.line.mark(chat, cursor.replace(/:.*/, ':99')))).toBe('bad-cursor');
    expect(await refusal(pia.line.mark(chat, 'nothing'))).toBe('bad-cursor');
    const entry = pia.line.enter(chat);
    await entry.ready;
    entry.mark('elsewhere:7');
    expect((await until(() => problems[0])).code).toBe('bad-cursor');
    const raw = await (await RawLine.open(started.url)).hello({ token: await started.token('jory') });
    raw.send({ do: 'mark', id: 2, channel: chat });
    raw.send({ do: 'mark', id: 3, channel: chat, cursor: 7 });
    expect((await raw.reply(2)).problem.where).toBe('/cursor');
    expect((await raw.reply(3)).problem.code).toBe('bad-cursor');
  });

  it('are read and moved by call and command', async () => {
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    expect((await ninebells(['unread', 'pia'], env)).err).toContain('pia has no read marks');
    expect((await ninebells(['marks', chat], env)).err).toContain('No user has a read mark');
    const { cursor } = await started.backend.publish({ channel: chat, data: 1 });
    await started.backend.publish({ channel: chat, data: 2, by: { user: 'ines' } });
    expect(await started.backend.mark('pia', chat, cursor)).toMatchObject({ user: 'pia', channel: chat, unread: 1 });
    expect(await started.backend.unread('pia')).toMatchObject({ unread: 1, channels: [{ channel: chat, cursor }] });
    const listed = await ninebells(['unread', 'pia'], env);
    expect(listed.out).toMatch(new RegExp(`${chat} +1 +${cursor}`));
    expect((await ninebells(['marks', chat], env)).out).toMatch(new RegExp(`pia +${cursor}`));
    expect(JSON.parse((await ninebells(['marks', chat, '--json'], env)).out)).toEqual({ user: 'pia', cursor });
    for (const [path, body, code] of [
      ['/v1/marks', { user: 'pia', channel: 'wind', cursor }, 'bad-value'],
      ['/v1/marks', { user: 'guest:x', channel: chat, cursor }, 'bad-value'],
      ['/v1/marks', { user: 'pia', channel: chat }, 'bad-cursor'],
      ['/v1/marks', { user: 'pia', channel: chat, cursor: 'x' }, 'bad-cursor'],
      ['/v1/marks?channel=wind', undefined, 'bad-value'],
      ['/v1/unread', undefined, 'bad-value'],
    ] as const) {
      const response = await fetch(started.url + path, {
        method: body === undefined ? 'GET' : 'POST',
        headers: { authorization: `Bearer ${started.key}`, 'content-type': 'application/json' },
        ...(body === undefined ? {} : { body: JSON.stringify(body) }),
      });
      expect([path, ((await response.json()) as Problem).code]).toEqual([path, code]);
    }
  });
});
