import { describe, expect, it } from 'vitest';
import { simulate } from '../simulator/simulate.js';
import { simulatePresence } from '../simulator/simulatePresence.js';

/** Short runs, and some that last longer; a release makes more (`npm run release-check`). */
const runs = 150;
const longRuns = 12;

describe('the simulator', () => {
  it(`finds order kept, nothing lost and nothing doubled in ${runs} short runs and ${longRuns} longer ones`, async () => {
    const sums = {
      sets: 0,
      changed: 0,
      blocked: 0,
      replied: 0,
      mentioned: 0,
      called: 0,
      published: 0,
      seen: 0,
      cuts: 0,
      restarts: 0,
      cutOff: 0,
      gaps: 0,
      hostileClosed: 0,
    };
    for (let seed = 1; seed <= runs + longRuns; seed++) {
      const outcome = await simulate(seed, { durationMs: seed > runs ? 20_000 : 4_000 });
      for (const name of Object.keys(sums) as (keyof typeof sums)[]) sums[name] += outcome[name];
    }
    // Runs in which nothing happens would prove nothing.
    expect(sums.published).toBeGreaterThan(runs * 15);
    expect(sums.seen).toBeGreaterThan(sums.published);
    expect(sums.cuts).toBeGreaterThan(runs * 3);
    expect(sums.restarts).toBeGreaterThan(runs / 10);
    expect(sums.cutOff).toBeGreaterThan(5);
    expect(sums.gaps).toBeGreaterThan(0);
    expect(sums.sets).toBeGreaterThan(runs / 2);
    expect(sums.changed).toBeGreaterThan(runs / 4);
    expect(sums.replied).toBeGreaterThan(runs / 8);
    expect(sums.blocked).toBeGreaterThan(runs / 8);
    expect(sums.mentioned).toBeGreaterThan(runs / 3);
    expect(sums.called).toBeGreaterThan(runs);
    expect(sums.hostileClosed).toBeGreaterThan(runs / 10);
  });

  it('repeats a run exactly from its seed', async () => {
    expect(await simulate(4711)).toEqual(await simulate(4711));
  });

  it.each(['lose', 'double', 'swap'] as const)(
    'notices a service that would %s frames, with the seed',
    async (fault) => {
      const failures: string[] = [];
      for (let seed = 1; failures.length < 4 && seed <= 60; seed++)
        await simulate(seed, { sabotage: fault, durationMs: 8_000 }).catch((error: Error) =>
          failures.push(error.message),
        );
      expect(failures).toHaveLength(4);
      expect(failures[0]).toMatch(/^seed \d+: /);
      const seed = Number(/\d+/.exec(failures[0] as string)?.[0]);
      await expect(simulate(seed, { sabotage: fault, durationMs: 8_000 })).rejects.toThrow(failures[0] as string);
    },
  );
});

describe('members in simulation', () => {
  it('end with the same, right list for all clients, in 60 runs', async () => {
    const outcomes = [];
    for (let seed = 1; seed <= 58; seed++) outcomes.push(await simulatePresence(seed, { sessions: 2 + (seed % 60) }));
    for (const seed of [60, 198]) outcomes.push(await simulatePresence(seed, { sessions: 1000 }));
    expect(outcomes.some(({ crowd }) => crowd)).toBe(true);
    expect(outcomes.some(({ crowd, members }) => !crowd && members > 100)).toBe(true);
  });

  it('are found wrong for a client that forgets who leaves, with the seed', async () => {
    const runs = Array.from({ length: 20 }, (_, index) =>
      simulatePresence(index + 1, { sessions: 20, sabotage: 'forgets-leaves' }),
    );
    const failed = (await Promise.allSettled(runs)).filter(({ status }) => status === 'rejected');
    expect(failed.length).toBeGreaterThan(0);
    expect(String((failed[0] as PromiseRejectedResult).reason)).toMatch(/seed \d+: user-0/);
  });
});
