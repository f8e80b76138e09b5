import { describe, expect, it } from 'vitest';
import { simulate } from '../simulator/simulate.js';

const runs = 500;

describe('the simulator', () => {
  it(`finds order kept, nothing lost and nothing doubled in ${runs} runs`, async () => {
    const sums = { published: 0, seen: 0, cuts: 0, restarts: 0, gaps: 0 };
    for (let seed = 1; seed <= runs; seed++) {
      const outcome = await simulate(seed);
      for (const name of Object.keys(sums) as (keyof typeof sums)[]) sums[name] += outcome[name];
    }
    // Runs in which nothing happens would prove nothing.
    expect(sums.published).toBeGreaterThan(runs * 50);
    expect(sums.seen).toBeGreaterThan(sums.published);
    expect(sums.cuts).toBeGreaterThan(runs * 5);
    expect(sums.restarts).toBeGreaterThan(runs / 10);
    expect(sums.gaps).toBeGreaterThan(0);
  });

  it('repeats a run exactly from its seed', async () => {
    expect(await simulate(4711)).toEqual(await simulate(4711));
  });

  it.each(['lose', 'double', 'swap'] as const)(
    'notices a service that would %s frames, with the seed',
    async (fault) => {
      const failures: string[] = [];
      for (let seed = 1; seed <= 20; seed++)
        await simulate(seed, { sabotage: fault }).catch((error: Error) => failures.push(error.message));
      expect(failures.length).toBeGreaterThan(10);
      expect(failures[0]).toMatch(/^seed \d+: /);
      const seed = Number(/\d+/.exec(failures[0] as string)?.[0]);
      await expect(simulate(seed, { sabotage: fault })).rejects.toThrow(failures[0] as string);
    },
  );
});
