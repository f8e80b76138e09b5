import { type ChildProcess, spawn } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type Line, type LineOptions } from '@nine-bells/client';
import { afterEach, describe, expect, it } from 'vitest';
import { root } from './support/command.js';
import { accepts, freePort } from './support/ports.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { configurationText, type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const quick = { backOff: { firstMs: 30, maxMs: 300 } };
const programs = { haproxy: '/usr/sbin/haproxy', nginx: '/usr/sbin/nginx' } as const;
type Kind = keyof typeof programs;

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

/** The configuration that stands in docs/deploying.md, with the addresses of this test and without TLS. */
function documented(kind: Kind, port: number, instances: readonly StartedService[]): string {
  const guide = readFileSync(join(root, 'docs/deploying.md'), 'utf8');
  let text = new RegExp(`\`\`\`${kind}\n([\\s\\S]*?)\`\`\``).exec(guide)?.[1] as string;
  for (const [index, { url }] of instances.entries())
    text = text.replace(`10.0.0.${5 + index}:9119`, new URL(url).host);
  return text
    .replace(/bind :443.*/, `bind 127.0.0.1:${port}`)
    .replace(/listen 443.*/, `listen 127.0.0.1:${port};`)
    .replaceAll(/^ *ssl_.*\n/gm, '');
}

async function balance(kind: Kind, instances: readonly StartedService[]): Promise<string> {
  const folder = mkdtempSync(join(tmpdir(), `bells-${kind}-`));
  const port = await freePort();
  const file = join(folder, `${kind}.conf`);
  const text = documented(kind, port, instances);
  let args = ['-f', file, '-db'];
  if (kind === 'haproxy') writeFileSync(file, text);
  else {
    mkdirSync(join(folder, 'logs'));
    const paths = ['client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi'].map(
      (each) => `${each}_temp_path ${folder}/${each};`,
    );
    writeFileSync(
      file,
      `daemon off; pid ${folder}/nginx.pid; events {} http { access_log off; ${paths.join(' ')} ${text} }`,
    );
    args = ['-p', folder, '-c', file, '-e', join(folder, 'logs/error.log')];
  }
  const child: ChildProcess = spawn(programs[kind], args, { stdio: 'ignore' });
  clean.push(async () => {
    const ended = new Promise((resolve) => child.once('exit', resolve));
    // Killed outright, nginx would leave its worker behind.
    child.kill('SIGTERM');
    await ended;
    rmSync(folder, { recursive: true, force: true });
  });
  await until(() => accepts(port));
  return `http://127.0.0.1:${port}`;
}

async function startTwo(): Promise<StartedService[]> {
  const redis = await RealRedis.start();
  clean.push(() => redis.remove());
  const folder = mkdtempSync(join(tmpdir(), 'bells-balanced-'));
  const all: StartedService[] = [];
  for (const name of ['i1', 'i2'])
    all.push(
      await startService({
        folder,
        relay: redis.url,
        text: configurationText.replace('port: 0,', `port: 0, instance: ${name},`),
      }),
    );
  clean.push(async () => {
    for (const each of all) await each.stop();
    rmSync(folder, { recursive: true, force: true });
  });
  await until(() => all.every(({ service }) => service.engine.cluster.instances.length === 2));
  return all;
}

async function entered(url: string, started: StartedService, user: string, options: LineOptions = {}) {
  const line: Line = connect(url, { token: () => started.token(user), ...quick, ...options });
  clean.push(() => line.close());
  const seen: unknown[] = [];
  const entry = line.enter('race/3/chat');
  entry.addEventListener('message', ({ detail }) => seen.push(detail.data));
  entry.addEventListener('gap', () => seen.push('gap'));
  await entry.ready;
  return { line, seen };
}

describe.each(['haproxy', 'nginx'] as const)('behind %s, configured as documented', (kind) => {
  it.skipIf(!redisIsThere || !existsSync(programs[kind]))(
    'clients are spread, cross over to the other instance while one drains, and miss nothing, by any transport',
    async () => {
      const all = await startTwo();
      const [one, two] = all as [StartedService, StartedService];
      const url = await balance(kind, all);
      await until(async () => (await fetch(`${url}/readyz`).catch(() => undefined))?.status === 200);
      // On a port that is not the default, the console's pages must know themselves as the same origin.
      const signIn = await fetch(`${url}/console/session`, {
        method: 'POST',
        headers: { origin: url, 'content-type': 'application/json' },
        body: JSON.stringify({ key: one.key }),
      });
      expect(signIn.status).toBe(200);
      const clients: Awaited<ReturnType<typeof entered>>[] = [];
      for (let n = 0; n < 6; n++) clients.push(await entered(url, one, `user-${n}`));
      clients.push(await entered(url, one, 'streams', { transport: 'stream' }));
      clients.push(await entered(url, one, 'polls', { transport: 'poll' }));
      for (const { service } of all) expect(service.engine.stats.connections).toBeGreaterThan(0);
      // The address is the client's, not the balancer's, and the upgrade was passed on.
      const told = async () => (await two.backend.sessions()).sessions;
      // One that polls is known as such from its first poll on.
      await until(async () => new Set((await told()).map(({ transport }) => transport)).size === 3);
      const sessions = await told();
      expect(new Set(sessions.map(({ remote }) => remote))).toEqual(new Set(['127.0.0.1']));

      const published: Promise<unknown>[] = [];
      let drained: Promise<void> | undefined;
      for (let n = 0; n < 200; n++) {
        published.push((clients[n % clients.length] as (typeof clients)[number]).line.publish('race/3/chat', n));
        if (n === 50) drained = one.service.stop({ drainMs: 1_500 });
        await new Promise((resolve) => setTimeout(resolve, 15));
      }
      await drained;
      await Promise.all(published);
      await until(() => clients.every(({ seen }) => seen.length >= 200));
      for (const { seen } of clients) {
        expect(seen).toHaveLength(200);
        expect(seen).toEqual(clients[0]?.seen);
      }
      await until(() => two.service.engine.stats.connections === clients.length);
    },
  );
});
