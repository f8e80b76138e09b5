import { spawn } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Database } from '../../packages/service/dist/store/database.js';
import { browserArguments, chromiumFile } from './browser.js';
import { RealPostgres } from './realPostgres.js';
import { addressName, migratedName, type SharedName } from './shared.js';

/** An engine that runs, as tests reach it. */
interface Started {
  readonly address: string;
  stop(): Promise<void>;
}

const starters: Readonly<Record<SharedName, () => Promise<Started>>> = {
  postgres: startPostgres,
  browser: startBrowser,
};

/**
 * Serves the engines that all test files of a run share. The first file that asks for one starts it; the end of the run stops
 * all.
 */
export default async function perRun(): Promise<() => Promise<void>> {
  // Another project of this run has done so.
  if (process.env[addressName] !== undefined) return async () => {};
  const started = new Map<string, Promise<Started>>();
  const server = createServer((request, response) => {
    const name = request.url?.slice(1) as SharedName;
    const engine = started.get(name) ?? starters[name]();
    started.set(name, engine);
    engine.then(
      ({ address }) => response.end(address),
      (error: Error) => response.writeHead(500).end(error.stack),
    );
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  process.env[addressName] = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  return async () => {
    server.close();
    server.closeAllConnections();
    for (const engine of started.values()) await engine.then(({ stop }) => stop()).catch(() => {});
  };
}

/** A PostgreSQL with a database that has all tables, for tests to copy. */
async function startPostgres(): Promise<Started> {
  const postgres = await RealPostgres.start();
  await postgres.query(`CREATE DATABASE ${migratedName}`);
  const database = `postgres://bells@127.0.0.1:${postgres.port}/${migratedName}`;
  await (await Database.open({ data: '/nowhere', sqliteSynchronous: 'full', database })).close();
  return { address: String(postgres.port), stop: () => postgres.remove() };
}

async function startBrowser(): Promise<Started> {
  const folder = mkdtempSync(join(tmpdir(), 'bells-browser-'));
  const args = [...browserArguments, '--headless', '--remote-debugging-port=0', `--user-data-dir=${folder}`];
  const child = spawn(chromiumFile, args, { stdio: ['ignore', 'ignore', 'pipe'] });
  const ended = new Promise((resolve) => child.once('exit', resolve));
  let said = '';
  const address = await new Promise<string>((resolve, reject) => {
    child.stderr.on('data', (data) => {
      said += data;
      const found = /DevTools listening on (\S+)/.exec(said)?.[1];
      if (found !== undefined) resolve(found);
    });
    child.once('error', reject);
    child.once('exit', () => reject(new Error(`Chromium did not start: ${said}`)));
  });
  const stop = async (): Promise<void> => {
    child.kill('SIGKILL');
    await ended;
    rmSync(folder, { recursive: true, force: true, maxRetries: 5 });
  };
  return { address, stop };
}
