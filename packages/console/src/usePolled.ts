import { useEffect, useRef, useState } from 'react';

/** Asks again and again; the last answer stays while the service cannot be reached. */
export function usePolled<T>(ask: () => Promise<T>, everyMs: number): T | undefined {
  const [answer, setAnswer] = useState<T>();
  const latest = useRef(ask);
  latest.current = ask;
  useEffect(() => {
    let stopped = false;
    let timer: number | undefined;
    const poll = async (): Promise<void> => {
      try {
        const next = await latest.current();
        if (!stopped) setAnswer(next);
      } catch {
        // The frame shows that the service cannot be reached.
      }
      if (!stopped) timer = window.setTimeout(poll, everyMs);
    };
    void poll();
    return () => {
      stopped = true;
      window.clearTimeout(timer);
    };
  }, [everyMs]);
  return answer;
}
