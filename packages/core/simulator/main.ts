import { simulate } from './simulate.js';

/** `npm run simulate`: many seeds, or one again. */
const args = process.argv.slice(2);
const value = (name: string): number | undefined => {
  const at = args.indexOf(name);
  return at === -1 ? undefined : Number(args[at + 1]);
};
const seed = value('--seed');
const first = seed ?? value('--from') ?? 1;
const runs = seed === undefined ? (value('--runs') ?? 1000) : 1;
const sums = { published: 0, seen: 0, cuts: 0, restarts: 0, cutOff: 0, gaps: 0 };
const durationMs = value('--duration') ?? 20_000;
/** How many of the last lines of a history are shown. */
const historyLines = 80;
let failed = 0;
for (let each = first; each < first + runs; each++) {
  try {
    const outcome = await simulate(each, { durationMs });
    for (const name of Object.keys(sums) as (keyof typeof sums)[]) sums[name] += outcome[name];
    if (seed !== undefined) console.log(outcome);
  } catch (error) {
    failed += 1;
    console.error((error as Error).message);
    if (seed !== undefined) await printHistory(seed, (error as Error).message);
  }
}
console.log(
  `${runs} runs, ${failed} failed: ${sums.published} published, ${sums.seen} seen, ${sums.cuts} cuts, ${sums.restarts} restarts, ${sums.cutOff} cut off, ${sums.gaps} gaps`,
);
process.exitCode = failed > 0 ? 1 : 0;

/** The run repeats exactly: this time with what happened, as far as it concerns the client that the failure names. */
async function printHistory(again: number, failure: string): Promise<void> {
  const client = /client-\d+/.exec(failure)?.[0];
  const lines: string[] = [];
  const tell = (line: string): void => {
    if (client === undefined || line.includes(`${client}:`) || line.includes('the service')) lines.push(line);
  };
  await simulate(again, { durationMs, tell }).catch(() => {});
  console.error(`\nThe last of ${lines.length} lines of what happened${client === undefined ? '' : ` to ${client}`}:`);
  for (const line of lines.slice(-historyLines)) console.error(line);
}
