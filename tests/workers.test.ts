import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type Line, type ReceivedMessage } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { parseConfiguration, signToken } from '@nine-bells/service';
import { afterEach, describe, expect, it } from 'vitest';
import { type Command, ninebells, serve, startNinebells } from './support/command.js';
import { RawLine } from './support/rawLine.js';
import { Receiver, secret, signed } from './support/receiver.js';
import { configurationText } from './support/service.js';
import { until } from './support/until.js';

const text = `${configurationText}
  - { pattern: pontoon/:name, presence: { grace: 1s }, allow: { enter: anyone, publish: anyone } }
`;
const quick = { backOff: { firstMs: 50, maxMs: 300 } };

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

async function start(folder = mkdtempSync(join(tmpdir(), 'bells-workers-')), port = 0, more = '') {
  const started = await serve(folder, port, { text: text + more, args: ['--workers', '2'] });
  clean.push(async () => {
    started.command.process.kill('SIGKILL');
    await started.command.ended;
  });
  return { ...started, folder, backend: new Backend(started.url, { key: started.key }) };
}

function tokenOf(user: string): Promise<string> {
  return signToken(parseConfiguration(text, 'bells.yaml').tokens, { user, forMs: 600_000 });
}

/** Lines to a service until both workers have some. */
async function linesTo(url: string, backend: Backend, count = 6): Promise<Line[]> {
  const lines = Array.from({ length: count }, (_, n) => connect(url, { token: () => tokenOf(`user-${n}`), ...quick }));
  clean.push(() => lines.forEach((line) => void line.close()));
  await Promise.all(lines.map((line) => line.opened()));
  // A worker that is busy answers later.
  await until(async () => {
    const { sessions } = await backend.sessions();
    return new Set(sessions.map(({ instance }) => instance)).size === 2;
  });
  return lines;
}

/** The process of a worker. */
function workerOf(command: Command): number {
  const children = readFileSync(`/proc/${command.process.pid}/task/${command.process.pid}/children`, 'utf8');
  return Number(children.trim().split(' ')[0]);
}

function remembering(lines: readonly Line[], channel: string): Promise<ReceivedMessage[][]> {
  return Promise.all(
    lines.map(async (line) => {
      const seen: ReceivedMessage[] = [];
      const entry = line.enter(channel);
      entry.addEventListener('message', ({ detail }) => seen.push(detail));
      entry.addEventListener('gap', ({ detail }) => seen.push({ cursor: `gap ${detail.why}` } as ReceivedMessage));
      await entry.ready;
      return seen;
    }),
  );
}

describe('workers', () => {
  it('are one service with nothing else installed: one order, one list of members, one outcome of a drain', async () => {
    const { command, url, key, backend, folder } = await start();
    const lines = await linesTo(url, backend);
    for (const channel of ['pontoon/north', 'race/3/chat']) {
      const seen = await remembering(lines, channel);
      const published = [];
      for (let n = 0; n < 60; n++) published.push((lines[n % lines.length] as Line).publish(channel, n));
      await Promise.all(published);
      await until(() => seen.every((each) => each.length === 60));
      for (const each of seen) expect(each.map(({ cursor }) => cursor)).toEqual(seen[0]?.map(({ cursor }) => cursor));
    }
    await until(async () => (await backend.members('pontoon/north')).count === lines.length);
    const env = { NINEBELLS_URL: url, NINEBELLS_KEY: key };
    // Under load one of them may answer too late to be listed.
    await until(async () => /^INSTANCE[\s\S]*\nw1[\s\S]*\nw2/.test((await ninebells(['instances'], env)).out));
    // One link signs in once, whichever worker is asked.
    const { url: link } = await backend.signInLink();
    const signIn = (): Promise<number> =>
      fetch(`${url}/console/session`, {
        method: 'POST',
        headers: { 'content-type': 'application/json', connection: 'close' },
        body: JSON.stringify({ code: link.split('sign-in=')[1] }),
      }).then(({ status }) => status);
    expect([await signIn(), await signIn(), await signIn()]).toEqual([200, 401, 401]);
    const before = await backend.read('pontoon/north');
    expect((await ninebells(['drain', '--within', '300ms'], env)).code).toBe(0);
    expect((await command.ended).code).toBe(0);
    // Recent channels are as they were.
    const again = await start(folder, Number(new URL(url).port));
    const { messages } = await again.backend.read('pontoon/north');
    expect(messages.map(({ cursor }) => cursor)).toEqual(before.messages.map(({ cursor }) => cursor));
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
  });

  it('make a call that is repeated once, forward it, take each event once and deliver each message once', async () => {
    const application = await Receiver.start(async (_, response) => {
      await new Promise((resolve) => setTimeout(resolve, 300));
      response.end('{"data":"yes"}');
    });
    const bureau = await Receiver.start();
    const mine = await Receiver.start();
    clean.push(...[application, bureau, mine].map((each) => () => each.stop()));
    const folder = mkdtempSync(join(tmpdir(), 'bells-workers-'));
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
    const { url, key, backend } = await start(
      folder,
      0,
      `
ask: { secret: ${secret} }
calls: { turn: { url: "${application.url}/turn", allow: signed-in } }
hooks: { bureau: { url: "${bureau.url}", secrets: ${secret}, channels: [committee], order: channel } }
intakes: { buoy: { verify: { standard: ${secret} }, routes: [{ message: { channel: committee, data: /wind } }] } }
`,
    );
    // Raw lines, until each worker has one.
    const lines = new Map<string, RawLine>();
    await until(async () => {
      const line = await RawLine.open(url);
      await line.hello({ token: await tokenOf('tomas') });
      lines.set((await line.reply(1)).instance, line);
      return lines.size === 2;
    });
    const both = [...lines.values()] as [RawLine, RawLine];
    const forward = startNinebells(['forward', 'turn', mine.url, '--count', '1'], {
      NINEBELLS_URL: url,
      NINEBELLS_KEY: key,
    });
    await until(() => forward.err.includes('from now on'));
    both[0].send({ do: 'call', id: 2, name: 'turn', data: 'port', key: 'c1' });
    await until(() => application.got.length > 0);
    both[1].send({ do: 'call', id: 2, name: 'turn', data: 'port', key: 'c1', again: true });
    for (const line of both) expect(await line.reply(2)).toMatchObject({ data: 'yes' });
    expect(application.got).toHaveLength(1);
    await forward.ended;
    const [first, copy] = [application.got[0], mine.got[0]];
    expect(copy).toMatchObject({ isSigned: true, headers: { 'idempotency-key': 'c1' } });
    expect(copy?.headers['webhook-id']).toBe(first?.headers['webhook-id']);
    expect(JSON.parse(copy?.body ?? '').data).toEqual(JSON.parse(first?.body ?? '').data);

    const winds = Array.from({ length: 30 }, (_, n) => n);
    for (const n of [...winds, ...winds]) {
      const body = JSON.stringify({ wind: n });
      const headers = { 'content-type': 'application/json', connection: 'close', ...signed(`wind-${n}`, body) };
      expect((await fetch(`${url}/in/buoy`, { method: 'POST', body, headers })).status).toBe(202);
    }
    const data = () => bureau.events.map((event) => (event.data as { data: number }).data);
    await until(() => data().length >= winds.length);
    const { messages } = await backend.read('committee');
    expect(data()).toEqual(messages.map((each) => each.data));
    expect([...data()].sort((a, b) => a - b)).toEqual(winds);
  });

  it('that die are replaced, and whoever was there goes on elsewhere without a gap', async () => {
    const { command, url, backend, folder } = await start();
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
    const lines = await linesTo(url, backend);
    const seen = [await remembering(lines, 'pontoon/north'), await remembering(lines, 'race/3/chat')].flat();
    const published: Promise<unknown>[] = [];
    for (let n = 0; n < 150; n++) {
      const line = lines[n % lines.length] as Line;
      published.push(line.publish('pontoon/north', n), line.publish('race/3/chat', n));
      if (n === 50) process.kill(workerOf(command), 'SIGKILL');
      await new Promise((resolve) => setTimeout(resolve, 10));
    }
    await Promise.all(published);
    await until(() => seen.every((each) => each.length >= 150));
    for (const each of seen) expect(new Set(each.map(({ data }) => data)).size).toBe(150);
    for (const each of seen) expect(each).toHaveLength(150);
    await until(async () => (await backend.instances()).instances.length === 2);
  });

  it('end with the first process, and nothing kept is lost when all are started again', async () => {
    const first = await start();
    const lines = await linesTo(first.url, first.backend);
    const kept = await remembering(lines, 'race/3/chat');
    const recent = await remembering(lines, 'pontoon/north');
    for (let n = 0; n < 20; n++) {
      await first.backend.publish({ channel: 'race/3/chat', data: n });
      await first.backend.publish({ channel: 'pontoon/north', data: n });
    }
    const worker = workerOf(first.command);
    first.command.process.kill('SIGKILL');
    await until(() => !isRunning(worker));
    const again = await start(first.folder, Number(new URL(first.url).port));
    clean.push(() => rmSync(first.folder, { recursive: true, force: true }));
    await until(() => lines.every(({ state }) => state.name === 'open'));
    await again.backend.publish({ channel: 'race/3/chat', data: 20 });
    await again.backend.publish({ channel: 'pontoon/north', data: 20 });
    await until(() => [...kept, ...recent].every((each) => each.at(-1)?.data === 20));
    for (const each of kept) expect(each.map(({ data }) => data)).toEqual(Array.from({ length: 21 }, (_, n) => n));
    // What was in memory is gone, and that is said.
    for (const each of recent) expect(each.at(-2)?.cursor).toBe('gap new-volume');
  });

  it.each(['stream', 'poll'] as const)('pass on what comes to the wrong one of them, by %s', async (transport) => {
    const { url, backend, folder } = await start();
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
    const line = connect(url, { token: () => tokenOf('pia'), transport, ...quick });
    clean.push(() => line.close());
    await line.opened();
    const [seen] = (await remembering([line], 'pontoon/north')) as [ReceivedMessage[]];
    // Each request is a connection of its own, which the runtime hands to one or the other.
    for (let n = 0; n < 12; n++) await line.publish('pontoon/north', n);
    await backend.publish({ channel: 'pontoon/north', data: 'from outside' });
    await until(() => seen.at(-1)?.data === 'from outside');
    expect(seen).toHaveLength(13);
    expect(line.state).toMatchObject({ name: 'open', transport });
  });
});

function isRunning(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch {
    return false;
  }
}
