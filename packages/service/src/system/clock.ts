import type { Clock } from '@nine-bells/core';

/** The real time. */
export const systemClock: Clock = {
  now: Date.now,
  monotonic: () => performance.now(),
  setTimer(delayMs, act) {
    const timer = setTimeout(act, delayMs);
    return () => clearTimeout(timer);
  },
  endOfTurn(act) {
    setImmediate(act);
  },
};
