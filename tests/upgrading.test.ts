import { createHash } from 'node:crypto';
import { existsSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { instanceFormat } from '@nine-bells/core';
import { parseConfiguration, Service } from '@nine-bells/service';
import { afterEach, describe, expect, it } from 'vitest';
import { scriptsFor } from '../packages/service/src/relay/redisScripts.js';
import { migrations } from '../packages/service/src/store/migrations.js';
import { quietLog } from './support/log.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';

const text = `
service: { port: 0, guests: true }
channels: [{ pattern: chat, logbook: kept, allow: { enter: anyone, publish: anyone } }]
`;
const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

/** A data folder, and a Redis where an instance holds a lease for a while. */
async function besideInstance(card: object, forMs: number) {
  const redis = await RealRedis.start();
  clean.push(() => redis.remove());
  const folder = mkdtempSync(join(tmpdir(), 'bells-upgrading-'));
  clean.push(() => rmSync(folder, { recursive: true, force: true }));
  await redis.ask(['ZADD', '{bells}leases', String(Date.now() + forMs), 'old.x1']);
  await redis.ask(['HSET', '{bells}cards', 'old.x1', JSON.stringify(card)]);
  const configuration = parseConfiguration(text, join(folder, 'bells.yaml'), {
    data: folder,
    port: 0,
    relay: redis.url,
  });
  const start = async (): Promise<void> => {
    const service = await Service.start(configuration, { log: quietLog() });
    clean.push(() => service.stop());
  };
  return { start, database: join(folder, 'bells.sqlite') };
}

describe.runIf(redisIsThere)('an instance', () => {
  it.each([
    ['of an older version', { instance: 'old', version: '0.1.0' }, 'old (version 0.1.0)'],
    ['of a newer version', { instance: 'new', version: '9.0.0', format: 99 }, 'new (version 9.0.0)'],
  ])('does not start beside one %s, and leaves the database as it is', async (_, card, named) => {
    const { start, database } = await besideInstance(card, 60_000);
    await expect(start()).rejects.toThrow(named);
    expect(existsSync(database)).toBe(false);
  });

  it('waits for one of an older version that is about to end', async () => {
    const { start, database } = await besideInstance({ instance: 'old' }, 2_000);
    await start();
    expect(existsSync(database)).toBe(true);
  });

  it('starts beside one of its own format', async () => {
    await (await besideInstance({ instance: 'other', format: instanceFormat }, 60_000)).start();
  });
});

it('the format is raised with each migration and each change of what Redis does', () => {
  const scripts = createHash('sha256')
    .update(JSON.stringify(scriptsFor(1)))
    .digest('hex')
    .slice(0, 8);
  // If this fails, raise `instanceFormat` and the version, and write both down here.
  expect({ instanceFormat, migrations: migrations.length, scripts }).toEqual({
    instanceFormat: 3,
    migrations: 27,
    scripts: '8cfa3963',
  });
});
