import { describe, expect, it } from 'vitest';
import { chaos, databases, relays } from './support/chaos.js';
import { postgresIsThere } from './support/realPostgres.js';
import { redisIsThere } from './support/realRedis.js';

describe.skipIf(!redisIsThere)('random faults', () => {
  // Each relay and each database in turn; `scripts/chaos.mjs` has all pairs of them.
  const all = relays.flatMap((relay, index) => {
    const database = databases[index % databases.length] as (typeof databases)[number];
    return [{ database: database === 'postgres' && !postgresIsThere ? ('sqlite' as const) : database, relay }];
  });
  // Most of it is waiting.
  it.concurrent.each(all)('with $database and $relay break no promise', async ({ database, relay }) => {
    const run = () => chaos({ seed: 7, forMs: 8_000, database, relay });
    // An engine that could not be started says nothing about the service; a broken promise is one at the first try.
    const { acknowledged, refused } = await run().catch((error: Error) => {
      if (error.message.includes('broken promises')) throw error;
      return run();
    });
    expect(acknowledged).toBeGreaterThan(100);
    expect(refused).toBe(0);
  });
});
