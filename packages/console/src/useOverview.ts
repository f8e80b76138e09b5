import type { Backend, Overview } from '@nine-bells/client/backend';
import { useEffect, useState } from 'react';

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
  const [live, setLive] = useState<LiveOverview>({ latest: undefined, seconds: [], trouble: undefined });
  useEffect(() => {
    let timer: number | undefined;
    let stopped = false;
    const ask = async (): Promise<void> => {
      try {
        const latest = await backend.overview();
        if (!stopped) setLive((before) => ({ latest, seconds: withSecond(before, latest), trouble: undefined }));
      } catch (error) {
        if (!stopped) setLive((before) => ({ ...before, trouble: (error as Error).message }));
      }
      if (!stopped) timer = window.setTimeout(ask, everyMs);
    };
    void ask();
    return () => {
      stopped = true;
      window.clearTimeout(timer);
    };
  }, [backend]);
  return live;
}

function withSecond({ latest: before, seconds }: LiveOverview, now: Overview): readonly Second[] {
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
