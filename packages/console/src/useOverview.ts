import type { Backend, Overview } from '@nine-bells/client/backend';
import { useState } from 'react';
import { useAnswer } from './queries.js';

/** What went on in one second. */
export interface Second {
  /** Seconds since the Unix epoch. */
  readonly atS: number;
  readonly connections: number;
  readonly messagesIn: number;
  readonly deliveries: number;
}

export interface LiveOverview {
  readonly latest: Overview | undefined;
  /** The last five minutes, a second each, the latest last. */
  readonly seconds: readonly Second[];
  /** Why there is nothing newer. */
  readonly trouble: string | undefined;
}

const everyMs = 1000;
const maxSeconds = 300;

/** Asks for the overview every second and makes rates of its totals. */
export function useOverview(backend: Backend): LiveOverview {
  const { data: latest, error } = useAnswer(['overview'], () => backend.overview(), everyMs);
  const [history, setHistory] = useState<{ latest: Overview | undefined; seconds: readonly Second[] }>({
    latest: undefined,
    seconds: [],
  });
  if (latest !== undefined && latest !== history.latest) setHistory({ latest, seconds: withSecond(history, latest) });
  return { ...history, trouble: error?.message };
}

function withSecond(
  { latest: before, seconds }: Pick<LiveOverview, 'latest' | 'seconds'>,
  now: Overview,
): readonly Second[] {
  if (before === undefined) return [];
  const elapsedS = (Date.parse(now.at) - Date.parse(before.at)) / 1000;
  if (elapsedS <= 0) return seconds;
  // What an instance had counted goes with it.
  const rate = (name: 'messagesIn' | 'deliveries'): number =>
    Math.max(0, now.totals[name] - before.totals[name]) / elapsedS;
  const second = {
    atS: Date.parse(now.at) / 1000,
    connections: now.connections,
    messagesIn: rate('messagesIn'),
    deliveries: rate('deliveries'),
  };
  return [...seconds.slice(-(maxSeconds - 1)), second];
}
