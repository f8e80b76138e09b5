import { execFileSync } from 'node:child_process';
import { cpSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Line, ReceivedMessage } from '@nine-bells/client';
import { parseConfiguration, Service, signToken } from '@nine-bells/service';
import { afterEach, describe, expect, it } from 'vitest';
import { blocksIn } from './support/docsBlocks.js';
import { quietLog } from './support/log.js';
import { postgresIsThere } from './support/realPostgres.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { openLine } from './support/service.js';
import { makeMigratedDatabase, sharedPostgres } from './support/shared.js';
import { until } from './support/until.js';

const text = `
service: { port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
channels:
  - { pattern: "race/:race/chat", logbook: kept, allow: { enter: anyone, publish: signed-in } }
  - { pattern: weather/wind, allow: { enter: anyone, publish: anyone } }
`;
const chat = 'race/3/chat';
const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

/** The commands of the page on backups: to back up and to restore SQLite, and PostgreSQL. */
const [backUpFile, restoreFile, backUpPostgres, restorePostgres] = blocksIn('sh')
  .filter(({ page }) => page === 'docs/backup.md')
  .map(({ code }) => code);

interface Where {
  /** Folder with the data folder `data`. */
  readonly folder: string;
  readonly relay?: string;
  readonly database?: string;
}

async function start({ folder, relay, database }: Where, newVolumes = false) {
  const overrides = { data: join(folder, 'data'), port: 0, relay, database };
  const configuration = parseConfiguration(text, join(folder, 'bells.yaml'), overrides);
  const service = await Service.start(configuration, { log: quietLog(), newVolumes });
  clean.push(() => service.stop());
  const token = (user: string) => signToken(configuration.tokens, { user, forMs: 600_000 });
  return { url: service.url, token, stop: () => service.stop() };
}

function makeFolder(): string {
  const folder = mkdtempSync(join(tmpdir(), 'bells-restore-'));
  clean.push(() => rmSync(folder, { recursive: true, force: true }));
  return folder;
}

function run(code: string | undefined, { folder, database }: Where): void {
  const env = { ...process.env, NINEBELLS_DATABASE: database };
  execFileSync('bash', ['-ec', code as string], { cwd: folder, env });
}

/** Publishes so many messages, one after the other. */
async function publish(line: Line, count: number, what: string, channel = chat): Promise<void> {
  for (let n = 0; n < count; n++) await line.publish(channel, `${what} ${n}`);
}

/** Follows a channel, and notes its messages and gaps. */
async function follow(line: Line, after?: string) {
  const entry = line.enter(chat, after === undefined ? {} : { after });
  const messages: ReceivedMessage[] = [];
  const gaps: string[] = [];
  entry.addEventListener('message', ({ detail }) => messages.push(detail));
  entry.addEventListener('gap', ({ detail }) => gaps.push(detail.why));
  await entry.ready;
  return { messages, gaps };
}

/** A client that has seen three messages from before the backup, and three that the backup lacks. */
async function live(where: Where, backUp: () => Promise<void> | void) {
  const before = await start(where);
  const line = await openLine(clean, before, 'pia');
  const { messages } = await follow(line);
  await publish(line, 3, 'kept');
  await backUp();
  await publish(line, 3, 'lost');
  await until(() => messages.length === 6);
  line.close();
  return { ...before, cursor: messages.at(-1)?.cursor as string };
}

/** The client receives all four new messages, also those with numbers that it has seen, and a gap. */
async function expectGap(where: Where, cursor: string, newVolumes = false): Promise<void> {
  const after = await start(where, newVolumes);
  await publish(await openLine(clean, after, 'jory'), 4, 'new');
  const { messages, gaps } = await follow(await openLine(clean, after, 'pia'), cursor);
  const texts = Array.from({ length: 4 }, (_, n) => `new ${n}`);
  await until(() => messages.some(({ data }) => data === texts[3]));
  expect(gaps).toEqual(['new-volume']);
  expect(messages.map(({ data }) => data)).toEqual(expect.arrayContaining(texts));
}

describe('a client that had seen more than a restored backup has', () => {
  it('gets a gap, and all new messages, after the steps for SQLite', async () => {
    const where = { folder: makeFolder() };
    const { stop, cursor } = await live(where, () => run(backUpFile, where));
    await stop();
    run(restoreFile, where);
    await expectGap(where, cursor);
  });

  it('gets a gap where the whole data folder was restored and the operator says so', async () => {
    const where = { folder: makeFolder() };
    const { stop, cursor } = await live(where, () =>
      cpSync(join(where.folder, 'data'), join(where.folder, 'copy'), { recursive: true }),
    );
    await stop();
    rmSync(join(where.folder, 'data'), { recursive: true });
    cpSync(join(where.folder, 'copy'), join(where.folder, 'data'), { recursive: true });
    await expectGap(where, cursor, true);
  });

  it.runIf(redisIsThere)('gets a gap where the data folder is empty and Redis remembers', async () => {
    const redis = await RealRedis.start();
    clean.push(() => redis.remove());
    const where = { folder: makeFolder(), relay: redis.url };
    const { stop, cursor } = await live(where, () => run(backUpFile, where));
    await stop();
    rmSync(join(where.folder, 'data'), { recursive: true });
    run(`mkdir data; ${restoreFile}`, where);
    await expectGap(where, cursor);
  });

  it.runIf(postgresIsThere)('gets a gap, and all new messages, after the steps for PostgreSQL', async () => {
    const where = { folder: makeFolder(), database: await makeMigratedDatabase() };
    const { stop, cursor } = await live(where, () => run(backUpPostgres, where));
    await stop();
    run(restorePostgres, where);
    await expectGap(where, cursor);
  });

  it.runIf(postgresIsThere)(
    'gets a gap while it is connected, where the database is restored under the service',
    async () => {
      const postgres = await sharedPostgres();
      const database = await makeMigratedDatabase();
      const name = new URL(database).pathname.slice(1);
      const where = { folder: makeFolder(), database };
      const { url, token } = await live(where, () => run(backUpPostgres, where));
      const line = await openLine(clean, { url, token }, 'pia');
      const { gaps } = await follow(line);
      const lost = await line.publish(chat, 'lost too');
      const copy = `${name}_copy`;
      await postgres.query(`CREATE DATABASE ${copy}`);
      run(restorePostgres, { ...where, database: database.replace(name, copy) });
      await postgres.query(`DROP DATABASE ${name} WITH (FORCE)`);
      await postgres.query(`ALTER DATABASE ${copy} RENAME TO ${name}`);
      // Not even the first message gets a number that was given out.
      const { cursor } = await line.publish(chat, 'new');
      expect(cursor.split(':')[0]).not.toBe(lost.cursor.split(':')[0]);
      await until(() => gaps.includes('new-volume'));
    },
  );
});

it('a database that was not restored keeps its volume over restarts', async () => {
  const where = { folder: makeFolder() };
  const { stop, cursor } = await live(where, () => {});
  await stop();
  for (let n = 0; n < 2; n++) {
    const again = await start(where);
    const { messages, gaps } = await follow(await openLine(clean, again, 'pia'), cursor);
    expect([messages.length, gaps]).toEqual([0, []]);
    await again.stop();
  }
});

it('the operator can have recent channels begin new volumes, too', async () => {
  const where = { folder: makeFolder() };
  const before = await start(where);
  const line = await openLine(clean, before, 'pia');
  const { cursor } = await line.publish('weather/wind', 'before');
  await before.stop();
  const after = await start(where, true);
  const entry = (await openLine(clean, after, 'jory')).enter('weather/wind', { after: cursor });
  const gaps: string[] = [];
  entry.addEventListener('gap', ({ detail }) => gaps.push(detail.why));
  await entry.ready;
  expect(gaps).toEqual(['new-volume']);
});
