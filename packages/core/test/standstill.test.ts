import { describe, expect, it } from 'vitest';
import { VirtualClock } from '../simulator/virtualClock.js';
import { Standstill } from '../src/cluster/standstill.js';

/** An instance that takes a second to catch up; what it was asked, and what it reported. */
function setUp(isCut = () => false, fails = () => false) {
  const clock = new VirtualClock();
  const calls: number[] = [];
  const reports: unknown[] = [];
  const standstill = new Standstill({
    clock,
    isCut,
    report: (error) => reports.push(error),
    catchUp: async () => {
      calls.push(clock.monotonic());
      await new Promise<void>((resolve) => void clock.setTimer(1_000, resolve));
      if (fails()) throw new Error('the relay does not answer');
    },
  });
  const isHeld = (): boolean => standstill.over() !== undefined;
  return { clock, standstill, calls, reports, isHeld };
}

describe('an instance', () => {
  it('decides at once while its turns come in time', async () => {
    const { clock, isHeld, calls } = setUp();
    await clock.run(10_000);
    expect([isHeld(), calls]).toEqual([false, []]);
  });

  it('that stood still decides nothing until it has caught up', async () => {
    const { clock, isHeld, calls } = setUp();
    await clock.run(1_000);
    clock.skip(1_500);
    // Before any timer has run.
    expect(isHeld()).toBe(true);
    await clock.run(900);
    expect(isHeld()).toBe(true);
    await clock.run(200);
    expect([isHeld(), calls.length]).toEqual([false, 1]);
  });

  it('that stands still again while it catches up reads once more', async () => {
    const { clock, isHeld, calls } = setUp();
    clock.skip(1_500);
    isHeld();
    await clock.run(500);
    clock.skip(1_500);
    expect(isHeld()).toBe(true);
    await clock.run(600);
    expect(isHeld()).toBe(true);
    await clock.run(1_000);
    expect([isHeld(), calls.length]).toEqual([false, 2]);
  });

  it('goes on trying to catch up, and reports the first failure', async () => {
    let failures = 2;
    const { clock, standstill, isHeld, reports } = setUp(undefined, () => failures-- > 0);
    standstill.doubt();
    await clock.run(3_300);
    expect([isHeld(), reports.length]).toEqual([true, 1]);
    await clock.run(200);
    expect(isHeld()).toBe(false);
  });

  it('does not wait while it is cut off: then it publishes nothing anyway', async () => {
    const { clock, standstill, isHeld, calls } = setUp(() => true);
    standstill.doubt();
    await clock.run(0);
    expect([isHeld(), calls]).toEqual([false, []]);
  });
});
