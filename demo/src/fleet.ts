import { connect } from '@nine-bells/client';
import type { Backend } from '@nine-bells/client/backend';
import { boats, positionAt, raceMs, sequence } from './course.js';
import type { Regatta } from './regatta.js';
import { signals } from './script.js';
import { authorOf } from './seed.js';

/** Report interval of a boat's position, in milliseconds. */
const reportMs = 100;

/**
 * Lets eight boats sail one race after another: each reports its position over a line of its own, as its tracker would, and
 * the committee makes the signals of the start. Returns what stops them.
 */
export function sailRaces(
  url: string,
  backend: Backend<Regatta>,
  tokenOf: (boat: string) => Promise<string>,
  complain: (error: unknown) => void,
): () => void {
  const fleet = boats.map((boat) => {
    const line = connect<Regatta>(url, { token: () => tokenOf(boat) });
    // A tracker need not hear of itself, and of the others seldom.
    return { boat, line, race: line.enter('race/3/positions', { quiet: true, echo: false, pace: 10_000 }) };
  });
  const beganMs = Date.now();
  let reports = 0;
  let made = 0;
  const timer = setInterval(() => {
    const sinceMs = Date.now() - beganMs;
    const atMs = sinceMs % raceMs;
    reports += 1;
    for (const { boat, race } of fleet)
      race.set(boat, positionAt(boat, atMs, reports), { whileHere: true }).catch(ignoreEnd);
    const due = Math.floor(sinceMs / raceMs) * sequence.length + sequence.filter((each) => each.atMs <= atMs).length;
    if (made >= due) return;
    made = due;
    const { signal } = sequence[(due - 1) % sequence.length] as (typeof sequence)[number];
    const data = signals.find((each) => each.signal === signal);
    if (data !== undefined)
      backend.publish({ channel: 'race/3/signals', type: 'signal', by: authorOf('mira'), data }).catch(complain);
  }, reportMs);
  return () => {
    clearInterval(timer);
    for (const { line } of fleet) line.close();
  };
}

/** What was not acknowledged when the boats go home needs no answer. */
function ignoreEnd(): void {}
