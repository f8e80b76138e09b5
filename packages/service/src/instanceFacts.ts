import { hostname, networkInterfaces } from 'node:os';
import { monitorEventLoopDelay } from 'node:perf_hooks';
import type { Configuration } from './config/configuration.js';
import { randomText } from './system/ids.js';

/** What the instance is called: as configured, `i1` where it is alone, else by its machine and port. */
export function instanceName({ engine, relay, port }: Configuration): string {
  if (engine.instance !== undefined) return engine.instance;
  if (relay === undefined) return 'i1';
  const machine = hostname()
    .replaceAll(/[^A-Za-z0-9_.-]/g, '-')
    .slice(0, 40);
  return `${machine}-${port === 0 ? randomText(4) : port}`;
}

/** Where other instances reach this one, if the configuration does not say: the machine's first address, where it listens on all. */
export function reachedAt(host: string, port: number): string {
  if (host !== '0.0.0.0' && host !== '::') return `http://${host.includes(':') ? `[${host}]` : host}:${port}`;
  const outside = Object.values(networkInterfaces())
    .flat()
    .find((each) => each !== undefined && !each.internal && each.family === 'IPv4');
  return `http://${outside?.address ?? '127.0.0.1'}:${port}`;
}

/** p99 event-loop delay over the last seconds, in milliseconds. */
export function loopDelay(): { readonly p99Ms: () => number; readonly stop: () => void } {
  const resolutionMs = 10;
  const histogram = monitorEventLoopDelay({ resolution: resolutionMs });
  histogram.enable();
  let sinceMs = Date.now();
  return {
    p99Ms: () => {
      const late = Math.max(0, histogram.percentile(99) / 1e6 - resolutionMs);
      if (Date.now() - sinceMs > 10_000) {
        histogram.reset();
        sinceMs = Date.now();
      }
      return Math.round(late * 10) / 10;
    },
    stop: () => histogram.disable(),
  };
}
