import { describe, expect, it } from 'vitest';
import { VirtualClock } from '../simulator/virtualClock.js';
import { Counters } from '../src/model/counters.js';
import type { Refused } from '../src/model/refusal.js';
import { Refusals } from '../src/record/refusals.js';
import { harness } from './harness.js';

describe('what is refused', () => {
  it.each<[string, (all: ReturnType<typeof harness>) => Promise<unknown>, object]>([
    [
      'a forged token',
      ({ welcomed, engine }) => welcomed('forged', {}, engine, '192.0.2.7'),
      { code: 'token-invalid', act: 'hello', latest: [{ address: '192.0.2.7', detail: 'its signature is wrong' }] },
    ],
    [
      'a channel named in hello',
      ({ welcomed }) => welcomed('pia', { enter: [{ channel: 'crew/petrel' }] }),
      {
        code: 'not-allowed',
        act: 'enter',
        latest: [{ user: 'pia', channel: 'crew/petrel', session: expect.stringMatching(/^s/) }],
      },
    ],
    [
      'a publish',
      async ({ welcomed }) => (await welcomed('pia')).send({ do: 'publish', channel: 'regatta/notices', data: 'x' }),
      { code: 'not-allowed', act: 'publish', latest: [{ user: 'pia', channel: 'regatta/notices' }] },
    ],
    [
      'a connection too many',
      async ({ connect, engine }) => [connect(engine, '192.0.2.8'), connect(engine, '192.0.2.8')],
      { code: 'too-many-connections', act: 'connect', latest: [{ address: '192.0.2.8' }] },
    ],
    [
      'a frame that is not JSON, without quoting it',
      async ({ connect }) => connect().connection.receive('token=eyJ-secret'),
      { code: 'bad-frame', act: 'frame', latest: [expect.not.objectContaining({ detail: expect.anything() })] },
    ],
  ])('is remembered: %s', async (_, act, expected) => {
    const all = harness({ connectionsPerAddress: 1 });
    await act(all);
    await all.settle();
    expect(all.engine.refusals.all).toMatchObject([{ count: 1, ...expected }]);
    expect((await all.engine.cluster.refusals()).refusals).toHaveLength(1);
  });

  it('is bounded, by kinds, by cases of each, and by how often it is told', async () => {
    const clock = new VirtualClock();
    const told: [Refused, number][] = [];
    const refusals = new Refusals(clock, new Counters(), (refused, untold) => told.push([refused, untold]));
    for (let n = 0; n < 1000; n++)
      refusals.add({ code: 'not-allowed', act: 'enter', user: `u${n}`, detail: 'x'.repeat(5_000) });
    expect(refusals.all).toMatchObject([{ count: 1000 }]);
    const [{ latest }] = refusals.all as [(typeof refusals.all)[0]];
    expect([latest.length, latest.at(-1)?.user, latest[0]?.detail?.length]).toEqual([5, 'u999', 300]);
    expect(told).toHaveLength(1);
    await clock.run(10_000);
    refusals.add({ code: 'not-allowed', act: 'enter' });
    expect(told.map(([, untold]) => untold)).toEqual([0, 999]);
    for (let n = 0; n < 500; n++) refusals.add({ code: 'bad-value', act: `verb ${n}` });
    expect(refusals.all.length).toBe(200);
  });
});
