import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Database } from '../src/store/database.js';
import { postgresIsThere, RealPostgres } from './realPostgres.js';
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
    const database = await Database.open({
      data: '/nowhere',
      sqliteSynchronous: 'full',
      database: await postgres.makeDatabase(),
    });
    await postgres.stop();
    await expect(database.write(async (writer) => writer.query('SELECT 1'))).rejects.toThrow();
    await postgres.begin();
    const [[found]] = await database.write(async (writer) => writer.query('SELECT 1 AS one'));
    expect(found).toEqual({ one: 1 });
    await database.close();
  });
});
