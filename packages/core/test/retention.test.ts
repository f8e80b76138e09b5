import { channelName } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import type { ChannelRule, Retention } from '../src/index.js';
import { harness, slowly, storeWith } from './harness.js';

const chat = channelName('race/3/chat');
const minute = 60_000;
const by = { kind: 'service', id: 'test' } as const;

const kept = (retention?: Retention): readonly ChannelRule[] => [
  {
    pattern: 'race/:race/chat',
    logbook: { type: 'kept', ...(retention && { retention }) },
    allow: { enter: 'anyone', publish: 'anyone' },
  },
  { pattern: 'weather', logbook: { type: 'recent', bounds: { messages: 5, forMs: minute } }, allow: {} },
];

/** A service whose chat has 40 messages, one a minute, the latest from just now. Its rounds have not begun. */
async function grown(retention?: Retention) {
  const bells = harness({}, undefined, { rules: kept(retention) });
  for (let n = 1; n <= 40; n++)
    await bells.memory.append(chat, {
      ...{ id: `m${n}`, type: 'message', dataText: String(n) },
      atMs: bells.clock.now() - (40 - n) * minute,
    });
  return bells;
}

describe('a kept logbook', () => {
  it.each<[string, Retention | undefined, number]>([
    ['stays as it is without bounds', undefined, 1],
    ['loses what is too old', { forMs: 20 * minute }, 21],
    ['loses what is too much', { messages: 15 }, 26],
    ['loses what has too many bytes', { bytes: 15 * 203 }, 26],
    ['loses what exceeds any of the bounds', { forMs: 20 * minute, messages: 15, bytes: 30 * 203 }, 26],
    ['keeps the last ten minutes in any case, in which keys are known', { messages: 2 }, 31],
  ])('%s', async (_, retention, oldest) => {
    const { engine, clock, connect, memory, reports } = await grown(retention);
    const survey = engine.pruner.survey();
    await clock.run(1_000);
    const { channels, total } = await survey;
    expect([channels[0]?.messages ?? 0, total.messages]).toEqual([oldest - 1, oldest - 1]);
    expect((await memory.keptRanges('', 1))[0]?.oldest).toBe(1);
    void engine.pruner.run();
    await clock.run(1_000);
    const [range] = await memory.keptRanges('', 1);
    expect(range?.oldest).toBe(oldest);
    expect(engine.counters.pruned.messages).toBe(oldest - 1);
    // What is held ready in memory is not shown either.
    const client = connect();
    client.send({ do: 'hello', enter: [{ channel: chat, after: `${range?.head.volume}:3` }] });
    await clock.run(0);
    const [entered] = client.frames[0].entered;
    expect(entered.gap?.why).toBe(oldest === 1 ? undefined : 'expired');
    expect(entered.messages[0].data).toBe(oldest === 1 ? 4 : oldest);
    expect(reports).toEqual([]);
  });

  it('is pruned in portions with rests between, and stops in the middle', async () => {
    const { engine, clock, memory } = harness({}, undefined, { rules: kept({ forMs: minute }) });
    for (let n = 0; n < 1_300; n++) void engine.messages.publish({ channel: chat, data: n });
    await clock.run(1_000);
    clock.skip(11 * minute);
    const oldest = async () => (await memory.keptRanges('', 1))[0]?.oldest;
    expect(await oldest()).toBe(1);
    const run = engine.pruner.run();
    expect(engine.pruner.isRunning).toBe(true);
    await clock.run(2_000);
    expect(await oldest()).toBe(1_001);
    await Promise.all([engine.pruner.stop(), clock.run(20)]);
    await run;
    expect([await oldest(), engine.pruner.isRunning]).toEqual([1_001, false]);
  });

  it('is pruned in time among fourteen others, though the database takes a second for a portion', async () => {
    const bells = harness(
      {},
      slowly(['prune'], 1_000, () => bells.clock),
      { rules: kept({ forMs: 10 * minute }) },
    );
    const { engine, clock, memory } = bells;
    for (let race = 1; race <= 15; race++)
      await engine.messages.publish({ channel: channelName(`race/${race}/chat`), data: race });
    clock.skip(10 * minute + 1);
    void engine.pruner.run();
    await clock.run(2 * minute);
    expect((await memory.keptRanges('', 20)).filter(({ oldest }) => oldest === 1)).toEqual([]);
  });

  it('does not wait until a large one has been pruned', async () => {
    const { engine, clock, memory } = harness({}, undefined, { rules: kept({ forMs: 10 * minute }) });
    for (let n = 0; n < 12_000; n++) {
      void engine.messages.publish({ channel: chat, data: n });
      if (n % 5_000 === 0) await clock.run(0);
    }
    await engine.messages.publish({ channel: channelName('race/4/chat'), data: 1 });
    await clock.run(0);
    clock.skip(10 * minute + 1);
    void engine.pruner.run();
    await clock.run(31_000);
    const [large, small] = await memory.keptRanges('', 2);
    expect(small?.oldest).toBe(2);
    expect(large?.oldest).toBeLessThan(12_001);
    expect(engine.pruner.lateMs).toBeGreaterThan(0);
    await clock.run(10_000);
    expect((await memory.keptRanges('', 2)).map(({ oldest }) => oldest)).toEqual([12_001, 2]);
    expect(engine.pruner.lateMs).toBe(0);
  });

  it('is spared while it is exempted', async () => {
    const { engine, memory } = await grown();
    await expect(engine.pruner.hold(channelName('weather'), by)).rejects.toMatchObject({
      problem: { code: 'bad-value', where: '/channel' },
    });
    await expect(engine.pruner.endHold(chat, by)).rejects.toMatchObject({ problem: { code: 'bad-value' } });
    const hold = await engine.pruner.hold(chat, by, 'an appeal');
    expect(await engine.pruner.hold(chat, by, 'another')).toEqual(hold);
    const bounded = harness({}, () => memory, { rules: kept({ messages: 1 }) });
    bounded.clock.skip(90 * minute);
    const survey = bounded.engine.pruner.survey();
    await bounded.clock.run(5_000);
    expect(await survey).toMatchObject({ channels: [], total: { messages: 0 }, held: [chat] });
    await bounded.clock.run(5 * minute);
    expect((await memory.keptRanges('', 1))[0]?.oldest).toBe(1);
    await engine.pruner.endHold(chat, by);
    await bounded.clock.run(5 * minute);
    expect((await memory.keptRanges('', 1))[0]?.oldest).toBe(40);
  });

  it('goes on to be pruned after a failure of the store, which is reported', async () => {
    let failures = 0;
    const { engine, clock, memory, reports } = harness(
      {},
      (inner) =>
        storeWith(inner, {
          prune: async (...wish) => {
            if (failures++ === 0) throw new Error('the disk is full');
            return inner.prune(...wish);
          },
        }),
      { rules: kept({ messages: 1 }) },
    );
    for (let n = 0; n < 10; n++) await engine.messages.publish({ channel: chat, data: n });
    await clock.run(15 * minute);
    expect(String(reports[0])).toContain('the disk is full');
    expect((await memory.keptRanges('', 1))[0]?.oldest).toBe(10);
  });
});
