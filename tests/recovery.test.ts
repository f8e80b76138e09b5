import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type Line } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { afterEach, describe, expect, it } from 'vitest';
import { WebSocket } from 'ws';
import { ninebells, serve } from './support/command.js';
import { RawLine } from './support/rawLine.js';
import { startService } from './support/service.js';
import { until } from './support/until.js';

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

/** A WebSocket class whose sockets the test can break. */
function breakable() {
  const sockets: WebSocket[] = [];
  class Breakable extends WebSocket {
    constructor(url: string, protocols: string[]) {
      super(url, protocols);
      sockets.push(this);
    }
  }
  return { Breakable: Breakable as never, cut: () => sockets.at(-1)?.terminate() };
}

const quick = { backOff: { firstMs: 20, maxMs: 100 } };

describe('the SDK against the service', () => {
  it('goes on behind a broken connection: nothing lost, nothing doubled, one order', async () => {
    const started = await startService();
    clean.push(() => started.remove());
    const { Breakable, cut } = breakable();
    const pia = connect(started.url, { token: () => started.token('pia'), WebSocket: Breakable, ...quick });
    const jory = connect(started.url, { token: () => started.token('jory'), ...quick });
    clean.push(
      () => pia.close(),
      () => jory.close(),
    );
    const seen = new Map<Line, string[]>([
      [pia, []],
      [jory, []],
    ]);
    for (const [line, cursors] of seen)
      line.enter('race/1/chat', { last: 10 }).addEventListener('message', ({ detail }) => cursors.push(detail.cursor));
    await Promise.all([pia.opened(), jory.opened()]);

    const published: Promise<unknown>[] = [];
    for (let n = 0; n < 200; n++) {
      if (pia.state.name === 'open') published.push(pia.publish('race/1/chat', `pia ${n}`));
      published.push(jory.publish('race/1/chat', `jory ${n}`));
      if (n % 20 === 10) cut();
      await new Promise((resolve) => setTimeout(resolve, 5));
    }
    await Promise.all(published);
    const { cursor } = await started.backend.publish({ channel: 'race/1/chat', data: 'the last' });
    await until(() => [...seen.values()].every((cursors) => cursors.at(-1) === cursor));
    expect(seen.get(pia)).toEqual(seen.get(jory));
    expect(seen.get(pia)).toHaveLength(published.length + 1);
  });

  it('survives a restart of the service, in the same session, with the messages of meanwhile', async () => {
    const first = await startService();
    const { port } = new URL(first.url);
    const line = connect(first.url, { token: () => first.token('pia'), ...quick });
    clean.push(() => line.close());
    const heard: unknown[] = [];
    line.enter('race/1/chat').addEventListener('message', ({ detail }) => heard.push(detail.data));
    await line.opened();
    await first.backend.publish({ channel: 'race/1/chat', data: 'before' });
    await until(() => heard.length === 1);
    const { session } = line.state as { session: string };
    await first.stop();
    await until(() => line.state.name === 'waiting');
    const second = await startService({ folder: first.folder, port: Number(port) });
    clean.push(() => second.remove());
    await second.backend.publish({ channel: 'race/1/chat', data: 'meanwhile' });
    await until(() => heard.length === 2);
    expect(heard).toEqual(['before', 'meanwhile']);
    expect(line.state).toMatchObject({ name: 'open', session, continued: true });
  });

  const endingTokens =
    'service: {}\ntokens: { secret: the-secret-of-the-test-regatta-of-32-bytes, tolerance: 1ms }\nchannels: [{ pattern: a, allow: { enter: signed-in } }]';

  it('swaps its token before it ends, and stays connected', async () => {
    const started = await startService({ text: endingTokens, port: 0 });
    clean.push(() => started.remove());
    let tokens = 0;
    const token = () => {
      tokens += 1;
      return started.token('pia', 5000);
    };
    const line = connect(started.url, { token, ...quick });
    clean.push(() => line.close());
    const states: string[] = [];
    line.addEventListener('state', ({ detail }) => states.push(detail.name));
    const entry = line.enter('a');
    await entry.ready;
    await until(() => tokens >= 3);
    expect(states).toEqual(['open']);
    expect(entry.state).toBe('live');
  });

  it('whose token has ended gets a new one for the next connection, and stays in its channel', async () => {
    const started = await startService({ text: endingTokens, port: 0 });
    clean.push(() => started.remove());
    let asked = 0;
    const token = async () => {
      asked += 1;
      if (asked === 2) throw new Error('not now');
      return started.token('pia', 1500);
    };
    const line = connect(started.url, { token, ...quick });
    clean.push(() => line.close());
    const states: string[] = [];
    line.addEventListener('state', ({ detail }) => states.push(detail.name));
    const entry = line.enter('a');
    await entry.ready;
    await until(() => states.includes('waiting') && line.state.name === 'open');
    await until(() => entry.state === 'live');
  });
});

describe('the process of the service', () => {
  const inFolder = (): string => {
    const folder = mkdtempSync(join(tmpdir(), 'bells-process-'));
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
    return folder;
  };

  it('killed without a word loses no acknowledged message of a kept channel', async () => {
    const folder = inFolder();
    const first = await serve(folder);
    clean.push(() => first.command.process.kill('SIGKILL'));
    const backend = new Backend(first.url, { key: first.key });
    const line = await (await RawLine.open(first.url)).hello({ enter: [{ channel: 'race/1/chat' }] });
    const acknowledged = new Map<string, number>();
    // Several publishers at once, so that the kill meets commits under way.
    const publishing = Array.from({ length: 8 }, async (_, publisher) => {
      for (let n = 0; ; n++) {
        const data = publisher * 100_000 + n;
        const { cursor } = await backend.publish({ channel: 'race/1/chat', data });
        acknowledged.set(cursor, data);
        if (acknowledged.size === 300) first.command.process.kill('SIGKILL');
      }
    });
    await Promise.allSettled(publishing);
    expect(acknowledged.size).toBeGreaterThanOrEqual(300);
    const pushed = line.frames.filter((frame) => frame.on === 'message');

    const second = await serve(folder);
    clean.push(() => second.command.process.kill('SIGKILL'));
    const kept = new Map<string, unknown>();
    const again = new Backend(second.url, { key: second.key });
    for (let more = true, after: string | undefined; more; ) {
      const volume = [...acknowledged.keys()][0]?.split(':')[0];
      const page = await again.read('race/1/chat', { limit: 1000, after: after ?? `${volume}:0` });
      for (const { cursor, data } of page.messages) kept.set(cursor, data);
      ({ more } = page);
      after = page.messages.at(-1)?.cursor;
    }
    for (const [cursor, data] of acknowledged) expect(kept.get(cursor)).toBe(data);
    for (const { cursor, data } of pushed) expect(kept.get(cursor)).toBe(data);
    second.command.process.kill('SIGTERM');
    expect((await second.command.ended).code).toBe(0);
  });

  it('asked to drain lets nobody in, sends clients away in their own time, and goes on after the restart', async () => {
    const folder = inFolder();
    const { command, url, key } = await serve(folder);
    const { port } = new URL(url);
    const backend = new Backend(url, { key });
    const lines = Array.from({ length: 20 }, () => connect(url, quick));
    clean.push(() => lines.forEach((line) => void line.close()));
    const entries = lines.map((line) => line.enter('weather/wind'));
    const seen = entries.map((entry) => {
      const data: unknown[] = [];
      entry.addEventListener('message', (event) => data.push(event.detail.data));
      entry.addEventListener('gap', () => data.push('gap'));
      return data;
    });
    await Promise.all(entries.map(({ ready }) => ready));
    await backend.publish({ channel: 'weather/wind', data: 1 });
    await until(() => seen.every((data) => data.length === 1));
    const left: number[] = [];
    const drainedAt = Date.now();
    for (const line of lines) line.addEventListener('state', () => left.push(Date.now() - drainedAt), { once: true });
    const said = await ninebells(['drain', '--within', '2s'], { NINEBELLS_URL: url, NINEBELLS_KEY: key });
    expect(said.out).toContain('20 connections to go');
    expect((await fetch(`${url}/readyz`)).status).toBe(503);
    expect((await fetch(`${url}/healthz`)).status).toBe(200);
    const late = await RawLine.open(url);
    expect((await late.closed()).code).toBe(1012);
    await backend.publish({ channel: 'weather/wind', data: 2 });
    expect((await command.ended).code).toBe(0);
    expect(left).toHaveLength(20);
    expect(Math.max(...left) - Math.min(...left)).toBeGreaterThan(300);
    // A start that fails takes nothing away.
    const taken = createServer((socket) => void socket.destroy()).listen(Number(port), '127.0.0.1');
    await new Promise((resolve) => taken.once('listening', resolve));
    const file = join(folder, 'bells.yaml');
    const failed = await ninebells(['serve', '--config', file, '--port', port, '--data', join(folder, 'data')]);
    expect(failed.err).toContain('the port is taken');
    await new Promise((resolve) => taken.close(resolve));
    const again = await serve(folder, Number(port));
    await new Backend(again.url, { key: again.key }).publish({ channel: 'weather/wind', data: 3 });
    // A recent channel, and yet nothing is lost or doubled: its record was saved.
    await until(() => seen.every((data) => data.at(-1) === 3));
    for (const data of seen) expect(data).toEqual([1, 2, 3]);
    again.command.process.kill('SIGTERM');
    again.command.process.kill('SIGTERM');
    await again.command.ended;
  });

  it('told to end says goodbye, has everything committed, and exits with 0', async () => {
    const folder = inFolder();
    const { command, url, key } = await serve(folder);
    const line = await (await RawLine.open(url)).hello();
    const backend = new Backend(url, { key });
    const published = Array.from({ length: 50 }, (_, data) => backend.publish({ channel: 'race/1/chat', data }));
    await published[0];
    command.process.kill('SIGTERM');
    const settled = await Promise.allSettled(published);
    expect((await command.ended).code).toBe(0);
    expect((await line.closed()).code).toBe(1012);
    const again = await serve(folder);
    const { messages } = await new Backend(again.url, { key: again.key }).read('race/1/chat');
    const kept = new Set(messages.map(({ data }) => data));
    for (const [data, { status }] of settled.entries()) if (status === 'fulfilled') expect(kept).toContain(data);
    // What was taken in is also acknowledged: nobody is left to guess.
    expect(settled.filter(({ status }) => status === 'fulfilled')).toHaveLength(kept.size);
    again.command.process.kill('SIGTERM');
    await again.command.ended;
  });

  it('has its data folder alone: a second one is told who has it, and one that was killed gives it back', async () => {
    const folder = inFolder();
    const first = await serve(folder);
    const config = ['serve', '--config', join(folder, 'bells.yaml'), '--data', join(folder, 'data'), '--port', '0'];
    const refused = await ninebells(config);
    expect(refused.code).not.toBe(0);
    expect(refused.err).toContain(`is in use by another instance, process ${first.command.process.pid}`);
    expect(refused.err).toContain('need a relay');
    // It is in the way of instances with a relay, too.
    const linked = await ninebells([...config, '--relay', 'redis://127.0.0.1:1']);
    expect(linked.err).toContain('give it the relay too');
    first.command.process.kill('SIGKILL');
    await first.command.ended;
    const again = await serve(folder);
    again.command.process.kill('SIGTERM');
    await again.command.ended;
  });

  it('lets nobody else into its data folder, also one that was open before', async () => {
    const folder = inFolder();
    const data = join(folder, 'data');
    mkdirSync(data, { mode: 0o755 });
    writeFileSync(join(data, 'bells.sqlite'), '', { mode: 0o644 });
    const { command } = await serve(folder);
    const modes = Object.fromEntries(
      ['', ...readdirSync(data)].map((name) => [name, (statSync(join(data, name)).mode & 0o777).toString(8)]),
    );
    expect(modes['']).toBe('700');
    expect(modes['bells.sqlite']).toBe('600');
    for (const [name, mode] of Object.entries(modes)) if (name !== '') expect([name, mode]).toEqual([name, '600']);
    // A sign-in link is shown to a terminal only.
    await until(() => command.out.includes(`the link is in ${join(data, 'sign-in-link')}`));
    expect(command.out).not.toContain('sign-in=');
    expect(readFileSync(join(data, 'sign-in-link'), 'utf8')).toContain('#sign-in=');
    command.process.kill('SIGTERM');
    await command.ended;
  });
});
