import { RealRedis } from './realRedis.js';
import { type StartedService, startInstances } from './service.js';
import { makeMigratedDatabase } from './shared.js';

/**
 * Two instances of one service that meet in a Redis, with an SQLite file or a PostgreSQL database of their own.
 *
 * @param clean - what ends all of it is added to it
 */
export async function startTwo(
  text: string,
  clean: (() => unknown)[],
  kind: string,
): Promise<readonly [StartedService, StartedService]> {
  const redis = await RealRedis.start();
  clean.push(() => redis.remove());
  const database = kind === 'PostgreSQL' ? await makeMigratedDatabase() : undefined;
  return (await startInstances(text, clean, { count: 2, relay: redis.url, database })) as [
    StartedService,
    StartedService,
  ];
}
