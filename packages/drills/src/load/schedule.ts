import type { LoadAct } from '../format/drill.js';
import type { Random } from '../run/network.js';

/**
 * When an act is due, in milliseconds since the load began: the plan depends on nothing that the service does. Times of
 * answers are counted from here, so that a service that holds up its clients does not look fast.
 */
export function* dueTimes(
  act: LoadAct,
  forMs: number,
  share: { index: number; of: number },
  random: Random,
): Iterable<number> {
  if (!('rate' in act)) return;
  const { from, to } = act.rate;
  const slope = (to - from) / forMs;
  for (let n = share.index; ; n += share.of) {
    // Evenly, with a random place within each slot: acts of several clients do not fall together.
    const wanted = (n + random()) * 1000;
    const atMs = slope === 0 ? wanted / from : (-from + Math.sqrt(from * from + 2 * slope * wanted)) / slope;
    // A rate that falls to 0 is never due again.
    if (!(atMs < forMs)) return;
    yield atMs;
  }
}

/** When one client is due, with pauses between. */
export function* pausedTimes(pause: { least: number; most: number }, forMs: number, random: Random): Iterable<number> {
  let atMs = random() * pause.most;
  while (atMs < forMs) {
    yield atMs;
    atMs += pause.least + random() * (pause.most - pause.least);
  }
}
