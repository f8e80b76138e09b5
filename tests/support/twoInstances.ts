import { postgresIsThere } from './realPostgres.js';
import { RealRedis } from './realRedis.js';
import { type StartedService, startInstances } from './service.js';
import { makeMigratedDatabase } from './shared.js';

/**
 * Starts two instances of one service, with a Redis and a PostgreSQL database of their own; without PostgreSQL on this
 * machine, with an SQLite file. The store's own suite proves that both databases answer alike.
 *
 * @param clean - what ends all of it is added to it
 */
export async function startTwo(
  text: string,
  clean: (() => unknown)[],
): Promise<readonly [StartedService, StartedService]> {
  const redis = await RealRedis.start();
  clean.push(() => redis.remove());
  const database = postgresIsThere ? await makeMigratedDatabase() : undefined;
  return (await startInstances(text, clean, { count: 2, relay: redis.url, database })) as [
    StartedService,
    StartedService,
  ];
}
