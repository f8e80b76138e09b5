import { connect } from '@nine-bells/client';
import { afterEach, describe, expect, it } from 'vitest';
import { WebSocket } from 'ws';
import { ninebells } from './support/command.js';
import { RawLine } from './support/rawLine.js';
import { type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const text = `
service: { name: Test Regatta, port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
channels:
  - pattern: race/:race/chat
    logbook: kept
    presence: { grace: 3s, noted: true }
    allow: { enter: anyone, publish: signed-in, hail: signed-in }
  - { pattern: crew/:boat, allow: { enter: anyone } }
`;

async function start(): Promise<StartedService> {
  const started = await startService({ text });
  clean.push(() => started.remove());
  return started;
}

async function enter(started: StartedService, user: string) {
  const line = connect(started.url, { token: () => started.token(user), backOff: { firstMs: 10, maxMs: 50 } });
  clean.push(() => line.close());
  const chat = line.enter('race/3/chat');
  await chat.ready;
  return { line, chat };
}

describe('who is there', () => {
  it('is the same for the SDK, the command and the call; a broken connection shows after the grace, a goodbye sooner', async () => {
    const started = await start();
    const { chat } = await enter(started, 'pia');
    const jory = await enter(started, 'jory');
    const ines = await (await RawLine.open(started.url)).hello({
      token: await started.token('ines'),
      enter: [{ channel: 'race/3/chat', status: { state: 'busy', sail: 7 } }],
    });
    await until(() => chat.count === 3);
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    const { out } = await ninebells(['who', 'race/3/chat'], env);
    expect(out).toMatch(/ines +ines of the test .* 1 +\{"state":"busy","sail":7\}/);
    expect((await ninebells(['who', '--user', 'jory'], env)).out).toMatch(/race\/3\/chat .* 1 +available/);
    expect((await ninebells(['sessions'], env)).out).toMatch(/jory of the test +s_\w+ +i1 +websocket +127.0.0.1/);
    expect((await ninebells(['sessions', '--find', 'JORY'], env)).out).toMatch(/jory of the test/);
    expect(await ninebells(['sessions', '--find', 'nowhere'], env)).toMatchObject({ code: 0, out: '' });
    expect((await ninebells(['channels', '--find', 'CHAT'], env)).out).toMatch(/race\/3\/chat/);
    expect(await ninebells(['channels', '--find', 'nowhere'], env)).toMatchObject({ code: 0, out: '' });
    expect((await started.backend.members('race/3/chat')).members.map(({ user }) => user).sort()).toEqual([
      'ines',
      'jory',
      'pia',
    ]);
    await expect(started.backend.members('crew/petrel')).rejects.toThrow('do not show who is there');
    // Within a second each has been pinged.
    await until(() => started.service.engine.stats.sessions.every(({ roundTripMs }) => roundTripMs !== undefined));
    const { sessions } = await started.backend.sessions();
    expect(sessions.every(({ roundTripMs }) => roundTripMs !== undefined)).toBe(true);

    // Who stays for a moment is noted.
    await until(async () => (await started.backend.read('race/3/chat')).messages.length === 3);
    const lefts: { user: string; at: number }[] = [];
    chat.addEventListener('members', ({ detail }) => {
      for (const { user } of detail.left) lefts.push({ user, at: Date.now() });
    });
    const brokeAt = Date.now();
    ines.socket.terminate();
    jory.line.close();
    await until(() => lefts.length === 2);
    expect(lefts.map(({ user }) => user)).toEqual(['jory', 'ines']);
    expect((lefts[1]?.at ?? 0) - brokeAt).toBeGreaterThanOrEqual(3_000);
    const { messages } = await started.backend.read('race/3/chat');
    expect(messages.map(({ type, by }) => `${by?.user} ${type}`).slice(-2)).toEqual(['jory left', 'ines left']);
  });

  it('does not change for a session that comes back in time', async () => {
    const started = await start();
    const { chat } = await enter(started, 'pia');
    const sockets: WebSocket[] = [];
    class Breakable extends WebSocket {
      constructor(url: string, protocols: string[]) {
        super(url, protocols);
        sockets.push(this);
      }
    }
    const jory = connect(started.url, {
      token: () => started.token('jory'),
      backOff: { firstMs: 10, maxMs: 50 },
      WebSocket: Breakable as never,
    });
    clean.push(() => jory.close());
    await jory.enter('race/3/chat').ready;
    await until(() => chat.count === 2);
    const changes: unknown[] = [];
    chat.addEventListener('members', ({ detail }) => changes.push(...detail.left, ...detail.joined));
    for (let round = 1; round <= 3; round++) {
      sockets.at(-1)?.terminate();
      await until(() => sockets.length === round + 1 && jory.state.name === 'open');
    }
    await new Promise((resolve) => setTimeout(resolve, 1_200));
    expect(changes).toEqual([]);
    expect(chat.count).toBe(2);
  });
});

describe('a hail', () => {
  it('reaches the others in the channel, and an unentitled client is refused', async () => {
    const started = await start();
    const pia = await enter(started, 'pia');
    const jory = await enter(started, 'jory');
    const heard = new Promise<{ detail: object }>((resolve) => jory.chat.addEventListener('hail', resolve));
    pia.chat.hail('wave', { from: 'the breakwater' });
    expect((await heard).detail).toEqual({
      type: 'wave',
      by: { user: 'pia', name: 'pia of the test' },
      data: { from: 'the breakwater' },
    });
    const guest = await (await RawLine.open(started.url)).hello();
    guest.send({ do: 'hail', channel: 'race/3/chat', type: 'wave' });
    expect(await guest.push('problem')).toMatchObject({ code: 'not-allowed' });
    guest.socket.close();
  });
});
