import { describe, expect, it } from 'vitest';
import { simulateInstances } from '../simulator/simulateInstances.js';

describe('the simulator of several instances', () => {
  it('finds order, nothing lost, nothing doubled and one list of members, whatever is cut, stopped, killed and lost, in 650 runs', async () => {
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
    for (let seed = 1; seed <= 650; seed++) {
      const outcome = await simulateInstances(seed, { durationMs: seed > 630 ? 20_000 : 3_000 });
      for (const name of Object.keys(sums) as (keyof typeof sums)[]) sums[name] += outcome[name];
    }
    // Runs in which nothing happens would prove nothing.
    expect(sums.instances).toBeGreaterThan(1_250);
    expect(sums.published).toBeGreaterThan(8_000);
    expect(sums.seen).toBeGreaterThan(sums.published);
    expect(sums.kills).toBeGreaterThan(125);
    expect(sums.pauses).toBeGreaterThan(125);
    expect(sums.partitions).toBeGreaterThan(250);
    expect(sums.emptied).toBeGreaterThan(2);
    expect(sums.failovers).toBeGreaterThan(2);
    expect(sums.evictions).toBeGreaterThan(5);
    expect(sums.brokenTransactions).toBeGreaterThan(0);
    expect(sums.bans).toBeGreaterThan(30);
    expect(sums.gaps).toBeGreaterThan(1);
    expect(sums.sets).toBeGreaterThan(400);
    expect(sums.changed).toBeGreaterThan(150);
    expect(sums.replied).toBeGreaterThan(50);
    expect(sums.blocked).toBeGreaterThan(100);
    expect(sums.called).toBeGreaterThan(500);
    expect(sums.taken).toBeGreaterThan(5_000);
  }, 300_000);

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
