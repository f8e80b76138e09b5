import { channelName } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { VirtualClock } from '../simulator/virtualClock.js';
import { SoloRelay } from '../src/index.js';
import type { Draft, LogBounds, LogSlice } from '../src/model/message.js';
import { RecentLog } from '../src/record/recentLog.js';

const channel = channelName('weather/wind');
const wide: LogBounds = { messages: 100, forMs: 60_000 };
const all = { messages: 1000, bytes: 1_000_000 };
const draft = (n: number, more: Partial<Draft> = {}): Draft => ({
  id: `m${n}`,
  type: 'message',
  atMs: n,
  dataText: JSON.stringify(n),
  ...more,
});
const numbers = ({ messages }: LogSlice): number[] => messages.map((each) => each.place.number);
const at = (number: number, volume = 'v') => ({ volume, number });

function logOf(count: number, bounds = wide): RecentLog {
  const log = new RecentLog(channel, 'v');
  for (let n = 1; n <= count; n++) log.append(draft(n), bounds);
  return log;
}

describe('recent records over a clean stop', () => {
  it('go on in their volume, with their keys, without what is too old by then', async () => {
    const ids = { message: String, session: () => 's', volume: () => 'v', moderation: () => 'n' };
    const clock = new VirtualClock();
    const before = new SoloRelay(clock, ids);
    const atMs = clock.now();
    const bounds = { messages: 3, forMs: 60_000 };
    for (let n = 1; n <= 5; n++)
      await before.append(
        channel,
        draft(n, {
          atMs: atMs + n * 1_000,
          key: `k${n}`,
          by: { user: 'pia' },
          except: ['s'],
          ...(n === 5 ? { owner: 'bureau' } : {}),
        }),
        bounds,
      );
    before.stop();
    const text = JSON.stringify([...before.saved()]);
    await clock.run(64_000);
    const after = new SoloRelay(clock, { ...ids, volume: () => 'other' }, JSON.parse(text));
    expect(await after.recent.head(channel)).toEqual(at(5));
    const slice = await after.recent.since(channel, at(2), all);
    expect(numbers(slice)).toEqual([4, 5]);
    expect(slice.gap).toBe('expired');
    expect(slice.messages[0]).toMatchObject({ atMs: atMs + 4_000, except: ['s'], message: { by: { user: 'pia' } } });
    // Its first message has fallen out, and its key is known all the same.
    const again = await after.append(channel, draft(9, { atMs: clock.now(), key: 'k1', by: { user: 'pia' } }), bounds);
    expect([again.repeated, again.logged.place.number]).toEqual([true, 1]);
    // An application's key is its own, after a restart too.
    const theirs = { atMs: clock.now(), key: 'k5', by: { user: 'pia' } };
    expect((await after.append(channel, draft(9, { ...theirs, owner: 'bureau' }), bounds)).repeated).toBe(true);
    expect((await after.append(channel, draft(9, theirs), bounds)).logged.place).toEqual(at(6));
    expect((await after.append(channel, draft(10, { atMs: clock.now() }), bounds)).logged.place).toEqual(at(7));
    after.stop();
  });
});

describe('recent records', () => {
  it('know keys for their time, however the machine’s clock is set meanwhile', async () => {
    let volumes = 0;
    const ids = { message: String, session: () => 's', volume: () => `v${++volumes}`, moderation: () => 'n' };
    const clock = new VirtualClock();
    const relay = new SoloRelay(clock, ids);
    const bounds = { messages: 3, forMs: 60_000 };
    const publish = async () => relay.append(channel, draft(1, { atMs: clock.now(), key: 'k' }), bounds);
    await publish();
    clock.jump(86_400_000);
    await clock.run(60_000);
    expect((await publish()).repeated).toBe(true);
    await clock.run(700_000);
    expect((await publish()).repeated).toBe(false);
    relay.stop();
  });
});

describe('a recent logbook', () => {
  it('numbers without holes, and gives what came after a cursor', () => {
    expect(numbers(logOf(5).since(at(2), all))).toEqual([3, 4, 5]);
    expect(logOf(5).since(at(5), all)).toEqual({ messages: [], more: false, head: at(5) });
  });

  it('forgets by count, and says so to a cursor from before', () => {
    const log = logOf(10, { messages: 3, forMs: 60_000 });
    expect(log.since(at(2), all)).toMatchObject({ gap: 'expired', more: false });
    expect(numbers(log.since(at(2), all))).toEqual([8, 9, 10]);
    expect(log.since(at(7), all).gap).toBeUndefined();
  });

  it('forgets by age, also with nothing left', () => {
    const log = logOf(3, { messages: 100, forMs: 10 });
    log.forget({ messages: 100, forMs: 10 }, 1000);
    expect(log.since(at(1), all)).toEqual({ messages: [], more: false, head: at(3), gap: 'expired' });
    expect(log.since(at(3), all).gap).toBeUndefined();
  });

  it('calls a cursor of another volume, or from the future, one of a lost record', () => {
    expect(logOf(3).since(at(2, 'old'), all)).toMatchObject({ gap: 'new-volume' });
    expect(numbers(logOf(3).since(at(2, 'old'), all))).toEqual([1, 2, 3]);
    expect(logOf(3).since(at(9), all)).toEqual({ messages: [], more: false, head: at(3), gap: 'new-volume' });
  });

  it('keeps to limits by number and by bytes, and gives at least one', () => {
    expect(numbers(logOf(9).since(at(0), { messages: 2, bytes: 1e6 }))).toEqual([1, 2]);
    expect(logOf(9).since(at(0), { messages: 2, bytes: 1e6 }).more).toBe(true);
    expect(numbers(logOf(9).since(at(0), { messages: 9, bytes: 1 }))).toEqual([1]);
    expect(numbers(logOf(9).before(undefined, { messages: 9, bytes: 1 }))).toEqual([9]);
  });

  it('reads backwards', () => {
    expect(numbers(logOf(9).before(at(5), { messages: 2, bytes: 1e6 }))).toEqual([3, 4]);
    expect(logOf(9).before(at(5), { messages: 2, bytes: 1e6 }).more).toBe(true);
    expect(logOf(9).before(at(1), all)).toEqual({ messages: [], more: false, head: at(9) });
    expect(logOf(9, { messages: 3, forMs: 1e6 }).before(at(8), all)).toMatchObject({ messages: [{}], gap: 'expired' });
  });

  it('knows a key of the same author again, and not that of another', () => {
    const log = logOf(0);
    const first = log.append(draft(1, { key: 'k', by: { user: 'pia' } }), wide);
    expect(log.append(draft(2, { key: 'k', by: { user: 'pia' } }), wide)).toEqual({
      logged: first.logged,
      repeated: true,
    });
    expect(log.append(draft(3, { key: 'k', by: { user: 'jory' } }), wide).repeated).toBe(false);
    expect(log.append(draft(4, { key: 'k' }), wide).repeated).toBe(false);
    expect(log.head.number).toBe(3);
  });

  it('remembers keys for ten minutes, and the last thousand longer', () => {
    const log = logOf(0);
    const hour = 3_600_000;
    log.append(draft(0, { key: 'old' }), wide);
    for (let n = 0; n < 999; n++) log.append(draft(hour, { key: `k${n}` }), wide);
    expect(log.append(draft(hour, { key: 'old' }), wide).repeated).toBe(true);
    log.append(draft(hour, { key: 'one more' }), wide);
    expect(log.append(draft(hour, { key: 'old' }), wide).repeated).toBe(false);
  });
});

describe('the solo relay', () => {
  it('lets go of records nobody needs any more', async () => {
    const clock = new VirtualClock();
    let volumes = 0;
    const ids = { message: () => 'm', session: () => 's', volume: () => `v${volumes++}`, moderation: () => 'n' };
    const relay = new SoloRelay(clock, ids);
    await relay.append(channel, draft(0, { atMs: clock.now() }), { messages: 10, forMs: 1000 });
    expect(await relay.recent.head(channel)).toEqual({ volume: 'v0', number: 1 });
    await clock.run(5_000);
    expect((await relay.recent.since(channel, at(0, 'v0'), all)).gap).toBe('expired');
    await clock.run(3_600_000);
    expect((await relay.recent.head(channel)).volume).toBe('v1');
    relay.stop();
  });
});
