import { RealPostgres } from './realPostgres.js';
import { RealRedis } from './realRedis.js';
import { type StartedService, startInstances } from './startedService.js';

/**
 * Two instances of one service that meet in a Redis, with an SQLite file or a PostgreSQL of their own.
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
  const postgres = kind === 'PostgreSQL' ? await RealPostgres.start() : undefined;
  if (postgres !== undefined) clean.push(() => postgres.remove());
  const database = await postgres?.makeDatabase();
  return (await startInstances(text, clean, { count: 2, relay: redis.url, database })) as [
    StartedService,
    StartedService,
  ];
}
