import { describe, expect, it } from 'vitest';
import { simulateInstances } from '../simulator/simulateInstances.js';

/** Short runs, and all; a release makes more (`npm run release-check`). */
const shortRuns = 160;
const runs = 165;

describe('the simulator of several instances', () => {
  it(`finds order, nothing lost, nothing doubled and one list of members, whatever is cut, stopped, killed and lost, in ${runs} runs`, async () => {
    const sums = {
      instances: 0,
      published: 0,
      seen: 0,
      kills: 0,
      pauses: 0,
      partitions: 0,
      emptied: 0,
      failovers: 0,
      evictions: 0,
      brokenTransactions: 0,
      bans: 0,
      gaps: 0,
      sets: 0,
      changed: 0,
      blocked: 0,
      replied: 0,
      called: 0,
      taken: 0,
    };
    for (let seed = 1; seed <= runs; seed++) {
      const outcome = await simulateInstances(seed, { durationMs: seed > shortRuns ? 20_000 : 3_000 });
      for (const name of Object.keys(sums) as (keyof typeof sums)[]) sums[name] += outcome[name];
    }
    // Runs in which nothing happens would prove nothing.
    expect(sums.instances).toBeGreaterThan(300);
    expect(sums.published).toBeGreaterThan(1_500);
    expect(sums.seen).toBeGreaterThan(sums.published);
    expect(sums.kills).toBeGreaterThan(30);
    expect(sums.pauses).toBeGreaterThan(30);
    expect(sums.partitions).toBeGreaterThan(60);
    expect(sums.emptied + sums.failovers + sums.evictions).toBeGreaterThan(2);
    expect(sums.brokenTransactions).toBeGreaterThan(0);
    expect(sums.bans).toBeGreaterThan(10);
    expect(sums.gaps).toBeGreaterThan(0);
    expect(sums.sets).toBeGreaterThan(50);
    expect(sums.changed).toBeGreaterThan(20);
    expect(sums.replied).toBeGreaterThan(15);
    expect(sums.blocked).toBeGreaterThan(10);
    expect(sums.called).toBeGreaterThan(100);
    expect(sums.taken).toBeGreaterThan(2_000);
  });

  it('repeats a run exactly from its seed', async () => {
    expect(await simulateInstances(4711)).toEqual(await simulateInstances(4711));
  });

  it('notices instances that would swap messages, with the seed', async () => {
    const failures: string[] = [];
    for (let seed = 1; seed <= 20; seed++)
      await simulateInstances(seed, { sabotage: 'swap' }).catch((error: Error) => failures.push(error.message));
    expect(failures.length).toBeGreaterThan(5);
    expect(failures[0]).toMatch(/^seed \d+: client-\d+/);
  });
});
