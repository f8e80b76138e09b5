import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect } from '@nine-bells/client';
import { reportedEvents } from '@nine-bells/core';
import { logEvents } from '@nine-bells/service';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { serve, spawnNinebells } from './support/command.js';
import { until } from './support/until.js';

const clean: (() => unknown)[] = [];
let folder: string;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'bells-log-'));
  clean.push(() => rmSync(folder, { recursive: true, force: true }));
});
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

// biome-ignore lint/suspicious/noExplicitAny: tests look into records freely
type LogRecord = any;
const recordsIn = (text: string): LogRecord[] =>
  text
    .split('\n')
    .filter((line) => line !== '')
    .map((line) => JSON.parse(line));

/** An application that answers everything with status 500. */
async function failingApplication(): Promise<string> {
  const server = createServer((_, response) => response.writeHead(500).end());
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  clean.push(() => server.close());
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
}

/** Runs a service through one of each logged event, then stops it. Returns its standard output and its log. */
async function logOf(level: string): Promise<{ out: string; records: LogRecord[] }> {
  const application = await failingApplication();
  const text = `
service: { name: Test Regatta, port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
ask: { secret: whsec_R2FubmV0U291bmRSZWdhdHRhRGVtb1NlY3JldCE= }
hooks:
  bureau: { url: "${application}/bureau", secrets: whsec_UmVzdWx0c0J1cmVhdURlbW9TZWNyZXROb3RSZWFs, channels: [talk], retry: { first: 100ms, most: 200ms, for: 1h } }
channels:
  - { pattern: talk, logbook: kept, allow: { enter: anyone, publish: anyone } }
  - { pattern: asked, allow: { enter: { ask: "${application}/may" } } }
  - { pattern: closed, allow: { enter: nobody } }
`;
  const { command, url } = await serve(folder, 0, { text, args: ['--json', '--log', level] });
  clean.push(() => command.process.kill('SIGKILL'));
  const line = connect(url);
  const talk = line.enter('talk');
  await talk.publish({ text: 'a word for members only' });
  await expect(line.enter('closed').ready).rejects.toThrow();
  const waiting = new Promise((resolve) => line.enter('asked').addEventListener('waiting', resolve));
  await waiting;
  await until(() => command.err.includes('"hook-failing"'));
  line.close();
  await until(() => level !== 'debug' || command.err.includes('"disconnected"'));
  command.process.kill('SIGTERM');
  const { out, err } = await command.ended;
  return { out, records: recordsIn(err) };
}

describe('the log', () => {
  it('has stable events, a cause, and nothing else on either stream', async () => {
    const { out, records } = await logOf('debug');
    expect(out).toBe('');
    for (const record of records)
      expect(record).toMatchObject({
        level: expect.any(Number),
        time: expect.any(String),
        event: expect.any(String),
        msg: expect.any(String),
      });
    const find = (event: string, more: object = {}): LogRecord =>
      records.find(
        (each) => each.event === event && Object.entries(more).every(([name, value]) => each[name] === value),
      );
    expect(find('listening')).toMatchObject({
      level: 30,
      url: expect.stringContaining('http'),
      keyFile: expect.stringContaining('api-key'),
    });
    expect(find('connected')).toMatchObject({
      level: 20,
      transport: 'websocket',
      user: expect.stringContaining('guest:'),
    });
    for (const act of ['enter', 'publish'])
      expect(find('request', { act })).toMatchObject({ level: 20, channel: 'talk' });
    expect(find('refused', { channel: 'closed' })).toMatchObject({ level: 25, code: 'not-allowed', act: 'enter' });
    // A failure of the application is not one of the service: there is no stack to read.
    expect(find('access-question-failed')).toMatchObject({ level: 40, cause: expect.stringContaining('status 500') });
    expect(find('hook-failing')).toMatchObject({ level: 40, hook: 'bureau', cause: 'status 500' });
    expect(records.filter(({ event }) => event === 'hook-failing')).toHaveLength(1);
    expect(find('disconnected')).toMatchObject({ level: 20, ending: 'left' });
    expect(records.map(({ event }) => event).slice(-2)).toEqual(['stopping', 'stopped']);
    expect(records.filter(({ err }) => err !== undefined)).toEqual([]);
    expect(JSON.stringify(records)).not.toContain('a word for members only');
  });

  it('shows at its default level starts, ends and failures, and neither clients nor refusals', async () => {
    const { records } = await logOf('info');
    const events = new Set(records.map(({ event }) => event));
    expect([...events]).toEqual(
      expect.arrayContaining(['started', 'listening', 'hook-failing', 'access-question-failed', 'stopping', 'stopped']),
    );
    for (const each of ['connected', 'request', 'refused', 'disconnected']) expect(events).not.toContain(each);
  });

  it('has the mistakes that prevent a start', async () => {
    const file = join(folder, 'bells.yaml');
    writeFileSync(file, 'channels: [{ patern: talk }]');
    const { code, out, err } = await spawnNinebells(['serve', '--config', file, '--json']);
    expect([code, out]).toEqual([2, '']);
    expect(recordsIn(err)).toMatchObject([
      { event: 'start-failed', cause: expect.stringContaining('did you mean "pattern"?') },
    ]);
  });

  it('is described event by event', () => {
    const [, tables = ''] = readFileSync('docs/log.md', 'utf8').split('## Events of the service');
    const written = [...tables.matchAll(/^\| `([a-z-]+)` \|/gm)].map(([, name]) => name);
    const known = [...Object.keys(logEvents), ...Object.keys(reportedEvents)].sort();
    expect(written.sort()).toEqual(known);
  });
});
