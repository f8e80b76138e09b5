import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { postgresIsThere, RealPostgres } from '../../../tests/realPostgres.js';
import { Database } from '../src/store/database.js';
import { storeSuite } from './storeSuite.js';

describe.skipIf(!postgresIsThere)('in PostgreSQL', () => {
  let postgres: RealPostgres;
  beforeAll(async () => {
    postgres = await RealPostgres.start();
  }, 60_000);
  afterAll(() => postgres.remove());

  storeSuite({
    isFile: false,
    make: async () => {
      const url = await postgres.makeDatabase();
      return { url, remove: async () => {} };
    },
  });

  it('takes its shape once, whoever starts at the same time', async () => {
    const options = { data: '/nowhere', sqliteSynchronous: 'full', database: await postgres.makeDatabase() } as const;
    const all = await Promise.all(Array.from({ length: 4 }, () => Database.open(options)));
    const facts = await Promise.all(all.map(({ models }) => models.facts.findAll({ raw: true })));
    for (const each of facts) expect(each).toEqual(facts[0]);
    for (const each of all) await each.close();
  });

  it('says `unavailable` while it is away, and goes on by itself', async () => {
    const url = await postgres.makeDatabase();
    const database = await Database.open({ data: '/nowhere', sqliteSynchronous: 'full', database: url });
    const probe = () =>
      database.write(async (reads) => ({ statements: [], result: await reads.select('SELECT 1 AS one') }));
    const read = () => database.reads.select('SELECT 1 AS one');
    expect(await read()).toEqual([{ one: 1 }]);
    await postgres.stop();
    for (const attempt of [probe, read, probe, read])
      await expect(attempt()).rejects.toMatchObject({ problem: { code: 'unavailable', retryAfterMs: 1000 } });
    expect(database.health.ailment).toMatchObject({ why: expect.stringContaining('ECONNREFUSED') });
    await postgres.begin();
    expect(await probe()).toEqual([{ one: 1 }]);
    expect(await read()).toEqual([{ one: 1 }]);
    expect(database.health.ailment).toBeUndefined();
    await database.close();
  });
});
