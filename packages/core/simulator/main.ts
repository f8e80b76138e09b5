import { simulate } from './simulate.js';
import { simulateInstances } from './simulateInstances.js';
import { simulatePresence } from './simulatePresence.js';

/**
 * `npm run simulate`: many seeds, or one again; with `--instances`, of a service that is several instances; with
 * `--presence`, of sessions that enter and leave channels.
 */
const args = process.argv.slice(2);
const value = (name: string): number | undefined => {
  const at = args.indexOf(name);
  return at === -1 ? undefined : Number(args[at + 1]);
};
const seed = value('--seed');
const first = seed ?? value('--from') ?? 1;
const runs = seed === undefined ? (value('--runs') ?? 1000) : 1;
const run = args.includes('--presence') ? presence : args.includes('--instances') ? simulateInstances : simulate;
const sums: Record<string, number> = {};
const durationMs = value('--duration') ?? 20_000;
/** How many of the last lines of a history are shown. */
const historyLines = value('--lines') ?? 80;
let failed = 0;
for (let each = first; each < first + runs; each++) {
  try {
    const outcome = await run(each, { durationMs });
    for (const [name, count] of Object.entries(outcome)) if (name !== 'seed') sums[name] = (sums[name] ?? 0) + count;
    if (seed !== undefined) console.log(outcome);
  } catch (error) {
    failed += 1;
    console.error((error as Error).message);
    if (seed !== undefined) await printHistory(seed, (error as Error).message);
  }
}
const told = Object.entries(sums).map(([name, count]) => `${count} ${name}`);
console.log(`${runs} runs, ${failed} failed: ${told.join(', ')}`);
process.exitCode = failed > 0 ? 1 : 0;

/** Simulates up to 61 sessions, or a thousand in each hundredth run. */
async function presence(each: number): Promise<Record<string, number>> {
  const { acts, frames, members } = await simulatePresence(each, {
    sessions: each % 100 === 0 ? 1000 : 2 + (each % 60),
  });
  return { acts, frames, members };
}

/** The run repeats exactly: this time with what happened, as far as it concerns the client that the failure names. */
async function printHistory(again: number, failure: string): Promise<void> {
  const client = /client-\d+/.exec(failure)?.[0];
  const lines: string[] = [];
  const tell = (line: string): void => {
    if (client === undefined || line.includes(`${client}:`) || line.includes('the service')) lines.push(line);
  };
  await run(again, { durationMs, tell }).catch(() => {});
  console.error(`\nThe last of ${lines.length} lines of what happened${client === undefined ? '' : ` to ${client}`}:`);
  for (const line of lines.slice(-historyLines)) console.error(line);
}
