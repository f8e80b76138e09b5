import { instanceFormat } from '@nine-bells/core';
import type { Configuration } from '../config/configuration.js';
import { type Logger, logEvent } from '../log.js';
import { RedisNames } from './redisNames.js';
import { openRedis, type RedisServer } from './redisServer.js';

/** The start waits this long for instances that may have ended, and this long between two looks, in milliseconds. */
const waitMs = 6_000;
const lookMs = 500;

/** Instances of another version are running, which this one cannot run together with. */
export class OtherFormat extends Error {}

/** Another instance, as far as its card is understood. */
interface Neighbour {
  readonly instance: string;
  readonly version?: string;
  readonly format?: number;
}

/**
 * Looks for running instances of another format, before the database is changed. Waits for the leases of those that have just ended.
 *
 * @throws {OtherFormat} naming them, and what to do
 */
export async function checkNeighbours({ relay }: Pick<Configuration, 'relay'>, log: Logger): Promise<void> {
  if (relay === undefined) return;
  let server: RedisServer;
  try {
    server = await openRedis(relay.url, { ready: () => {}, lost: () => {}, error: () => {} });
  } catch {
    // It is waited for later; nothing is published until it answers.
    return;
  }
  try {
    for (const endMs = performance.now() + waitMs; ; ) {
      const others = (await neighboursOf(server, new RedisNames(relay.prefix))).filter(
        ({ format = 1 }) => format !== instanceFormat,
      );
      if (others.length === 0) return;
      const names = others.map(({ instance, version = 'unknown' }) => `${instance} (version ${version})`).join(', ');
      if (performance.now() > endMs)
        throw new OtherFormat(
          `instances of another version are running that this one cannot share the relay and the database with: ${names}. Stop them first (docs/upgrading.md)`,
        );
      logEvent(log, 'info', 'neighbours-waiting', { names });
      await new Promise((resolve) => setTimeout(resolve, lookMs));
    }
  } finally {
    server.close();
  }
}

async function neighboursOf(server: RedisServer, names: RedisNames): Promise<readonly Neighbour[]> {
  const [leases = '', cards = ''] = names.leases;
  const [seconds = '0'] = await server.send<[string, string]>(leases, ['TIME']);
  const alive = await server.send<string[]>(leases, ['ZRANGE', leases, `${seconds}000`, '+inf', 'BYSCORE']);
  if (alive.length === 0) return [];
  const texts = await server.send<(string | null)[]>(cards, ['HMGET', cards, ...alive]);
  return texts.flatMap((text) => cardOf(text) ?? []);
}

/** Other programs may write there. */
function cardOf(text: string | null): Neighbour | undefined {
  try {
    const card = JSON.parse(text ?? '') as Partial<Neighbour>;
    return typeof card.instance === 'string' ? { ...card, instance: card.instance } : undefined;
  } catch {
    return undefined;
  }
}
