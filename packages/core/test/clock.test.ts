import { channelName } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { type ChannelRule, SettledTime } from '../src/index.js';
import { harness } from './harness.js';

const minute = 60_000;
const hour = 3_600_000;
const chat = channelName('race/3/chat');
const wind = channelName('weather/wind');
const operator = { kind: 'key', id: 'k1', name: 'first' } as const;
const all = { enter: 'anyone', publish: 'anyone' } as const;
const rules: readonly ChannelRule[] = [
  { pattern: 'race/:race/chat', logbook: { type: 'kept', retention: { forMs: hour } }, allow: all },
  { pattern: 'weather/:what', logbook: { type: 'recent', bounds: { messages: 5, forMs: 10 * minute } }, allow: all },
];

describe('the settled time', () => {
  it.each<[string, readonly (readonly [jumpMs: number, passMs: number])[], number]>([
    ['follows the wall clock while it runs evenly', [[0, minute]], 0],
    ['follows drift at once', [[1_500, 0]], 1_500],
    ['follows a step back at once', [[-hour, 0]], -hour],
    ['does not follow a jump ahead at once', [[3 * hour, minute]], 0],
    [
      'follows a jump ahead that has stood for ten minutes',
      [
        [3 * hour, 0],
        [0, 10 * minute],
      ],
      3 * hour,
    ],
    [
      'begins to wait again with another jump',
      [
        [3 * hour, 0],
        [0, 9 * minute],
        [hour, 9 * minute],
      ],
      0,
    ],
    [
      'forgets a jump that was undone',
      [
        [3 * hour, 0],
        [-3 * hour, 9 * minute],
        [3 * hour, minute],
      ],
      0,
    ],
  ])('%s', (_, steps, expected) => {
    let wallMs = hour;
    let monotonicMs = 0;
    const time = new SettledTime(
      () => wallMs,
      () => monotonicMs,
    );
    time.now();
    let passedMs = 0;
    for (const [jumpMs, passMs] of steps) {
      wallMs += jumpMs;
      time.now();
      wallMs += passMs;
      monotonicMs += passMs;
      passedMs += passMs;
      time.now();
    }
    expect(time.now() - hour - passedMs).toBe(expected);
  });
});

describe('a clock that jumps three hours ahead for 80 s', () => {
  it('prunes nothing, and forgets no message and no key', async () => {
    const { engine, clock, memory, welcomed } = harness({}, undefined, { rules });
    const kept = { channel: chat, data: 1, key: 'k1', by: { user: 'pia' } };
    await engine.messages.publish(kept);
    const recent = { ...kept, channel: wind };
    const { id } = await engine.messages.publish(recent);
    await clock.run(2 * minute);
    clock.jump(3 * hour);
    await clock.run(80_000);
    clock.jump(-3 * hour);
    await clock.run(2 * minute);
    expect((await memory.keptRanges('', 1))[0]?.oldest).toBe(1);
    const client = await welcomed('ines', { enter: [{ channel: wind, last: 5 }] });
    expect(client.frames[0].entered[0].messages).toMatchObject([{ data: 1 }]);
    expect((await engine.messages.publish(recent)).id).toBe(id);
  });

  it('ends no ban and no silence', async () => {
    const { engine, clock } = harness({}, undefined, { rules });
    await engine.moderation.ban({ user: 'ines', forMs: 2 * hour }, operator);
    await engine.moderation.silence({ user: 'pia', forMs: 2 * hour }, operator);
    const inForce = () => [engine.moderation.bans.length, engine.moderation.silences.length];
    clock.jump(3 * hour);
    await clock.run(80_000);
    expect(inForce()).toEqual([1, 1]);
    clock.jump(-3 * hour);
    await clock.run(minute);
    expect(inForce()).toEqual([1, 1]);
  });
});

it('a clock that was ahead for long and steps back brings bans into force again', async () => {
  const { engine, clock } = harness({}, undefined, { rules });
  await engine.moderation.ban({ user: 'ines', forMs: 2 * hour }, operator);
  clock.jump(3 * hour);
  await clock.run(15 * minute);
  expect(engine.moderation.bans).toEqual([]);
  clock.jump(-3 * hour);
  await clock.run(minute);
  expect(engine.moderation.bans.map(({ user }) => user)).toEqual(['ines']);
});

it('a jump that has stood for ten minutes counts: what is too old by then is pruned', async () => {
  const { engine, clock, memory } = harness({}, undefined, { rules });
  await engine.messages.publish({ channel: chat, data: 1 });
  clock.jump(3 * hour);
  await clock.run(13 * minute);
  expect((await memory.keptRanges('', 1))[0]?.oldest).toBe(2);
});
