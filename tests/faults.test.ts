import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { makeLog, parseConfiguration, Service, signToken } from '@nine-bells/service';
import sqlite3 from 'sqlite3';
import { afterEach, describe, expect, it } from 'vitest';
import { Command, ninebells } from './support/command.js';
import { FaultyWay } from './support/faultyWay.js';
import { type Acknowledged, type Heard, judge } from './support/judge.js';
import { freePort } from './support/ports.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { configurationText, startService } from './support/service.js';
import { until, wait } from './support/until.js';

const channel = 'pontoon/north';
const text = `${configurationText}
  - { pattern: pontoon/:name, allow: { enter: anyone, publish: anyone } }
`;
const quick = { backOff: { firstMs: 20, maxMs: 200 } };
const durable = ['--appendonly', 'yes', '--appendfsync', 'always', '--save', ''];

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

async function ready(url: string): Promise<{ status: number; body: { status: string; warnings: string[] } }> {
  const answer = await fetch(`${url}/readyz`);
  return { status: answer.status, body: (await answer.json()) as never };
}

describe('while another process holds the lock of the database file', () => {
  it('kept messages are refused, recent ones go on, and the instance says that it is not ready', async () => {
    const started = await startService({ text });
    clean.push(() => started.remove());
    await started.backend.publish({ channel: 'committee', data: 1 });
    expect(await ready(started.url)).toMatchObject({ status: 200, body: { status: 'ready', warnings: [] } });
    // A process that was stopped within a transaction.
    const other = new sqlite3.Database(join(started.folder, 'bells.sqlite'));
    const run = (sql: string) =>
      new Promise<void>((resolve, reject) => other.exec(sql, (e) => (e ? reject(e) : resolve())));
    await run('BEGIN IMMEDIATE');
    await expect(started.backend.publish({ channel: 'committee', data: 2 })).rejects.toMatchObject({
      status: 503,
      problem: { code: 'unavailable' },
    });
    await started.backend.publish({ channel, data: 'goes on' });
    await until(async () => (await ready(started.url)).status === 503);
    const { body } = await ready(started.url);
    expect(body).toMatchObject({ status: 'degraded', warnings: [expect.stringContaining('SQLITE_BUSY')] });
    await run('ROLLBACK');
    await until(async () => (await ready(started.url)).status === 200);
    await started.backend.publish({ channel: 'committee', data: 3 });
    await new Promise((resolve) => other.close(resolve));
  });
});

/** Instances of one service in this process, each with a way of its own to Redis. */
async function instancesOn(urls: readonly string[]) {
  const folder = mkdtempSync(join(tmpdir(), 'bells-faults-'));
  clean.push(() => rmSync(folder, { recursive: true, force: true }));
  const all: { service: Service; backend: Backend }[] = [];
  for (const [index, relay] of urls.entries()) {
    const named = text.replace('port: 0,', `port: 0, instance: i${index + 1},`);
    const configuration = parseConfiguration(named, join(folder, 'bells.yaml'), { data: folder, relay });
    const service = await Service.start(configuration, { log: makeLog({ level: 'silent', readable: false }) });
    clean.push(() => service.stop());
    const key = readFileSync(join(folder, 'api-key'), 'utf8').trim();
    all.push({ service, backend: new Backend(service.url, { key }) });
  }
  return { all, folder };
}

/** Publishes until told to stop, and remembers what was acknowledged; a client hears it. */
async function underLoad(publishTo: Backend, listenAt: string) {
  const acknowledged: Acknowledged[] = [];
  const heard: Heard[] = [];
  const { tokens } = parseConfiguration(text, 'bells.yaml');
  const line = connect(listenAt, { token: () => signToken(tokens, { user: 'jory', forMs: 600_000 }), ...quick });
  clean.push(() => line.close());
  const entry = line.enter(channel);
  entry.addEventListener('message', ({ detail: { cursor, id, data } }) =>
    heard.push({ message: { cursor, id, data } }),
  );
  entry.addEventListener('gap', ({ detail: { after, cursor, why } }) => heard.push({ gap: { after, cursor, why } }));
  await entry.ready;
  let n = 0;
  const publish = async (): Promise<void> => {
    const data = n++;
    const key = `k${data}`;
    for (;;)
      try {
        const { cursor, id } = await publishTo.publish({ channel, data, key });
        acknowledged.push({ channel, cursor, id, data });
        return;
      } catch {
        await wait(20);
      }
  };
  /** Waits until the client has what comes last, and gives what was wrong and the gaps that were told. */
  const end = async (): Promise<{ faults: string[]; gaps: string[] }> => {
    await publish();
    const last = acknowledged.at(-1)?.id;
    await until(() => heard.some((each) => 'message' in each && each.message.id === last));
    const consumed = [{ client: 'jory', channel, heard }];
    const gaps = heard.flatMap((each) => ('gap' in each ? [each.gap.why] : []));
    return { faults: judge({ acknowledged, consumed, rows: [], isKept: () => false }), gaps };
  };
  return { acknowledged, publish, end };
}

describe.skipIf(!redisIsThere)('when a replica of Redis takes over, and every write is on disk,', () => {
  it.each([
    { how: 'the master is killed', isLate: true, comesBack: false, gaps: 1 },
    { how: 'the master is killed and the replica has everything', isLate: false, comesBack: false, gaps: 1 },
    { how: 'the master is frozen', isLate: true, comesBack: false, gaps: 1 },
    { how: 'the master is frozen and then comes back as it was', isLate: true, comesBack: true, gaps: 2 },
  ])('$how: what may be lost is told by a gap', async ({ how, isLate, comesBack, gaps }) => {
    const [master, replica] = [await RealRedis.start(durable), await RealRedis.start(durable)];
    clean.push(
      () => master.remove(),
      () => replica.remove(),
    );
    await replica.follow(master);
    const ways = [await FaultyWay.start(master.port), await FaultyWay.start(master.port)];
    clean.push(() => ways.forEach((way) => void way.stop()));
    const { all } = await instancesOn(ways.map((way) => way.url(master.url)));
    const [one, two] = all;
    if (one === undefined || two === undefined) throw new Error('two instances were started');
    const load = await underLoad(one.backend, two.service.url);
    for (let n = 0; n < 20; n++) await load.publish();
    // What is acknowledged from now on the replica never hears.
    if (isLate) replica.pause();
    for (let n = 0; n < 20; n++) await load.publish();
    if (how.includes('killed')) await master.kill();
    else master.pause();
    replica.resume();
    await replica.promote();
    const leadTo = (redis: RealRedis): void =>
      ways.forEach((way) => {
        way.leadTo(redis.port);
        way.cut();
      });
    leadTo(replica);
    for (let n = 0; n < 20; n++) await load.publish();
    if (comesBack) {
      master.resume();
      leadTo(master);
      for (let n = 0; n < 20; n++) await load.publish();
    }
    const outcome = await load.end();
    expect(outcome.faults).toEqual([]);
    // A client that learns of it late may skip two changes at once.
    expect(new Set(outcome.gaps)).toEqual(new Set(['new-volume']));
    expect(outcome.gaps.length).toBeLessThanOrEqual(gaps);
    master.resume();
  });
});

describe.skipIf(!redisIsThere)('sentinels', () => {
  it('lead the instances to the new master, and what may be lost is told by a gap', async () => {
    const [master, replica] = [await RealRedis.start(), await RealRedis.start()];
    clean.push(
      () => master.remove(),
      () => replica.remove(),
    );
    await replica.follow(master);
    const folder = mkdtempSync(join(tmpdir(), 'bells-sentinel-'));
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
    const port = await freePort();
    const file = join(folder, 'sentinel.conf');
    const settings = [
      `port ${port}`,
      `dir ${folder}`,
      `sentinel monitor gannet 127.0.0.1 ${master.port} 1`,
      'sentinel down-after-milliseconds gannet 1000',
      'sentinel failover-timeout gannet 5000',
    ];
    writeFileSync(file, settings.join('\n'));
    const sentinel = spawn('/usr/bin/redis-server', [file, '--sentinel'], { stdio: 'ignore' });
    clean.push(() => sentinel.kill('SIGKILL'));
    await wait(1_500);
    const url = `redis+sentinel://127.0.0.1:1,127.0.0.1:${port}/gannet`;
    const { all } = await instancesOn([url, url]);
    const [one, two] = all;
    if (one === undefined || two === undefined) throw new Error('two instances were started');
    const load = await underLoad(one.backend, two.service.url);
    for (let n = 0; n < 20; n++) await load.publish();
    await master.kill();
    for (let n = 0; n < 20; n++) await load.publish();
    expect(await load.end()).toEqual({ faults: [], gaps: ['new-volume'] });
  });
});

describe.skipIf(!redisIsThere)('a Redis that evicts keys', () => {
  it('is warned of in readiness, on the command line, and no more once it is set right', async () => {
    const redis = await RealRedis.start();
    clean.push(() => redis.remove());
    await redis.ask(['CONFIG', 'SET', 'maxmemory-policy', 'allkeys-lru']);
    const { all, folder } = await instancesOn([redis.url]);
    const url = all[0]?.service.url ?? '';
    const warned = async (): Promise<boolean> => (await ready(url)).body.warnings.join().includes('allkeys-lru');
    await until(warned);
    expect((await ready(url)).status).toBe(200);
    const key = readFileSync(join(folder, 'api-key'), 'utf8').trim();
    const { err } = await ninebells(['instances'], { NINEBELLS_URL: url, NINEBELLS_KEY: key });
    expect(err).toContain('i1: Redis evicts keys (maxmemory-policy allkeys-lru)');
    await redis.ask(['CONFIG', 'SET', 'maxmemory-policy', 'noeviction']);
    await until(async () => !(await warned()));
  });
});

describe.skipIf(!redisIsThere)('a machine whose clock is an hour ahead', () => {
  it('goes by the time of the relay, and warns', async () => {
    const redis = await RealRedis.start();
    clean.push(() => redis.remove());
    const { now } = Date;
    Date.now = () => now() + 3_600_000;
    clean.push(() => {
      Date.now = now;
    });
    const { all, folder } = await instancesOn([redis.url]);
    const [one] = all;
    const url = one?.service.url ?? '';
    await until(async () => (await ready(url)).body.warnings.length > 0);
    expect((await ready(url)).body.warnings).toEqual([expect.stringMatching(/clock is 3600 s ahead of the relay/)]);
    await one?.backend.publish({ channel, data: 1 });
    const { messages } = (await one?.backend.read(channel)) ?? { messages: [] };
    expect(Math.abs(new Date(messages[0]?.at ?? 0).getTime() - now())).toBeLessThan(5_000);
    // A sign-out is dated by that time too: a token of a minute later is good.
    const { at } = (await one?.backend.signOut('jory')) ?? { at: '' };
    expect(Math.abs(new Date(at).getTime() - now())).toBeLessThan(5_000);
    const key = readFileSync(join(folder, 'api-key'), 'utf8').trim();
    const { out } = await ninebells(['instances'], { NINEBELLS_URL: url, NINEBELLS_KEY: key });
    expect(out).toMatch(/CLOCK[\s\S]*3600 s/);
  });
});

describe('a worker that is killed while the service starts', () => {
  it('is replaced, and the service starts', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'bells-start-'));
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
    const file = join(folder, 'bells.yaml');
    writeFileSync(file, text);
    const command = new Command(['serve', '--config', file, '--data', join(folder, 'data'), '--workers', '2']);
    clean.push(async () => {
      command.process.kill('SIGKILL');
      await command.ended;
    });
    const { pid } = command.process;
    const worker = await until(() => /\d+/.exec(readFileSync(`/proc/${pid}/task/${pid}/children`, 'utf8'))?.[0]);
    process.kill(Number(worker), 'SIGKILL');
    await until(() => command.out.includes('listening at'));
    expect(command.err).toContain('"worker-ended"');
  });
});
