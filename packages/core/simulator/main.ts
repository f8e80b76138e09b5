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
const sums = { published: 0, seen: 0, cuts: 0, restarts: 0, gaps: 0 };
let failed = 0;
for (let each = first; each < first + runs; each++) {
  try {
    const outcome = await simulate(each);
    for (const name of Object.keys(sums) as (keyof typeof sums)[]) sums[name] += outcome[name];
    if (seed !== undefined) console.log(outcome);
  } catch (error) {
    failed += 1;
    console.error(seed === undefined ? (error as Error).message : error);
  }
}
console.log(
  `${runs} runs, ${failed} failed: ${sums.published} published, ${sums.seen} seen, ${sums.cuts} cuts, ${sums.restarts} restarts, ${sums.gaps} gaps`,
);
process.exitCode = failed > 0 ? 1 : 0;
