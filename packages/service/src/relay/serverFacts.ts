import type { ServerFacts } from './terms.js';

/** How a Redis is asked something. */
export type Ask = (args: readonly string[]) => Promise<unknown>;

/** What a Redis process says of itself, of the replication and of what it writes to disk. */
export async function readFacts(ask: Ask): Promise<ServerFacts & { readonly evicts?: string }> {
  const info = String(await ask(['INFO', 'server', 'replication', 'memory', 'persistence']));
  const of = (name: string): string => new RegExp(`^${name}:(.*?)\\r?$`, 'm').exec(info)?.[1] ?? '';
  const run = of('run_id');
  if (run === '') throw new Error('Redis does not say its run_id');
  if (of('role') !== 'master') throw new Error(`READONLY it is a ${of('role') || 'replica'} now`);
  const nowMs = Math.floor(Number(of('server_time_usec')) / 1000);
  const policy = of('maxmemory_policy');
  return {
    run,
    replication: of('master_replid'),
    wasReplica: of('second_repl_offset') !== '-1',
    // Redis counts whole seconds, between two clocks that are cut to seconds: the start may be up to two seconds off.
    startedAtMs: nowMs - (Number(of('uptime_in_seconds')) + 1) * 1000,
    nowMs,
    isDurable: of('aof_enabled') === '1' && (await isDurable(ask)),
    hasReplicas: of('connected_slaves') !== '0',
    ...(policy === '' || policy === 'noeviction' ? {} : { evicts: policy }),
  };
}

/**
 * Whether every write is on disk before it is answered. Where the configuration may not be read, the worse is assumed.
 */
async function isDurable(ask: Ask): Promise<boolean> {
  try {
    const text = JSON.stringify(await ask(['CONFIG', 'GET', 'appendfsync', 'no-appendfsync-on-rewrite']));
    return /"appendfsync"[,:]"always"/.test(text) && /"no-appendfsync-on-rewrite"[,:]"no"/.test(text);
  } catch {
    return false;
  }
}
