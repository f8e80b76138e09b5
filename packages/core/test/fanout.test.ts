import { channelName, type Member, type MembersPush } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { Random } from '../simulator/random.js';
import { VirtualClock } from '../simulator/virtualClock.js';
import { Fanout } from '../src/delivery/fanout.js';
import { SendQueue } from '../src/delivery/sendQueue.js';
import { Batch, type BulkWriter, type Encoding, Frame, joined, LatestFrame, type Link } from '../src/index.js';
import { Pacer } from '../src/lib/pacer.js';
import { TimerWheel } from '../src/lib/timerWheel.js';
import { mergedMembers } from '../src/presence/mergedMembers.js';
import { ActQueue } from '../src/session/actQueue.js';

function countingEncoding(): Encoding & { calls: number } {
  return {
    calls: 0,
    encode(payload) {
      this.calls += 1;
      return payload;
    },
    join: (frames) => Uint8Array.from(frames.flatMap((frame) => [...frame])),
  };
}

class RecordingLink implements Link {
  readonly transport = 'recording';
  readonly encoding = countingEncoding();
  readonly batches: Batch[] = [];
  waitingBytes = 0;
  bulk: BulkWriter | undefined;
  write(batch: Batch): void {
    this.batches.push(batch);
  }
  ping(): void {}
  pause(): void {}
  resume(): void {}
  close(): void {}
}

const shared = (text: string): Frame => new Frame(text, true);
const text = (bytes: Uint8Array): string => new TextDecoder().decode(bytes);

describe('batches', () => {
  it('are the same object for equal lists of shared frames, joined once', () => {
    const encoding = countingEncoding();
    const root = new Batch();
    const [a, b, c] = [shared('a'), shared('b'), shared('ü')];
    const one = root.and(a).and(b).and(c);
    root.and(b);
    root.and(c).and(a);
    const other = root.and(a).and(b).and(c);
    expect(other).toBe(one);
    expect(text(one.joined(encoding))).toBe('abü');
    expect(other.joined(encoding)).toBe(one.joined(encoding));
    expect(encoding.calls).toBe(3);
    expect(one.bytes).toBe(4);
  });

  it('do not mix up lists that differ', () => {
    const encoding = countingEncoding();
    const root = new Batch();
    const [a, b] = [shared('a'), shared('b')];
    const lists = [root.and(a).and(b), root.and(b).and(a), root.and(b), root.and(a).and(a)];
    expect(lists.map((each) => text(each.joined(encoding)))).toEqual(['ab', 'ba', 'b', 'aa']);
  });
});

describe('a send queue', () => {
  const make = (maxBytes: number) => {
    const clock = new VirtualClock();
    const link = new RecordingLink();
    const queue = new SendQueue(link, new Fanout(clock), maxBytes);
    const written = () =>
      link.batches.map((batch) =>
        batch
          .frames()
          .map((frame) => frame.text)
          .join(),
      );
    return { clock, link, queue, written };
  };

  it('writes what came within a turn at once', async () => {
    const { clock, queue, written } = make(100);
    queue.push(shared('a'));
    queue.push(shared('b'));
    await clock.run(0);
    queue.push(shared('c'));
    await clock.run(0);
    expect(written()).toEqual(['a,b', 'c']);
  });

  it('writes the same batch to links of a kind in one call, and to others beside them one by one', async () => {
    const clock = new VirtualClock();
    const fanout = new Fanout(clock);
    const calls: (readonly number[])[] = [];
    const links = Array.from({ length: 6 }, () => new RecordingLink());
    const bulk: BulkWriter = {
      write(batch, some) {
        calls.push(some.map((each) => links.indexOf(each as RecordingLink)));
        for (const each of some) each.write(batch);
        return true;
      },
    };
    for (const [index, link] of links.entries()) if (index !== 2) link.bulk = bulk;
    const queues = links.map((link) => new SendQueue(link, fanout, 100));
    const [a, b] = [fanout.root.and(shared('a')), fanout.root.and(shared('b')).and(shared('c'))];
    for (const queue of queues) queue.pushAll(a);
    queues[3]?.pushAll(b);
    queues[4]?.pushAll(b);
    (links[5] as RecordingLink).waitingBytes = 1;
    await clock.run(0);
    expect(calls).toEqual([
      [0, 1],
      [3, 4],
    ]);
    const texts = links.map(({ batches }) => batches.map((each) => text(each.joined(links[0]?.encoding as Encoding))));
    expect(texts).toEqual([['a'], ['a'], ['a'], ['abc'], ['abc'], []]);
    expect(links[3]?.batches[0]).toBe(links[4]?.batches[0]);
  });

  it('hands nothing to a transport that still has bytes waiting', async () => {
    const { clock, link, queue, written } = make(100);
    link.waitingBytes = 5;
    queue.push(shared('a'));
    await clock.run(0);
    expect(written()).toEqual([]);
    link.waitingBytes = 0;
    queue.flush();
    expect(written()).toEqual(['a']);
  });

  it('says when there is no room, but always takes one push, and replies', () => {
    const { link, queue } = make(10);
    link.waitingBytes = 1;
    expect(queue.push(shared('x'.repeat(50)))).toBe(true);
    expect(queue.push(shared('y'))).toBe(false);
    const fresh = make(10);
    fresh.link.waitingBytes = 1;
    fresh.queue.reply(new Frame('x'.repeat(500)));
    expect(fresh.queue.push(shared('y'))).toBe(true);
    expect(fresh.queue.whenBelow()).toBeInstanceOf(Promise);
  });

  it('holds pushes back behind a reply that is being made', async () => {
    const { clock, queue, written } = make(100);
    queue.hold();
    queue.push(shared('push'));
    await clock.run(0);
    queue.reply(new Frame('reply'));
    queue.release();
    await clock.run(0);
    expect(written()).toEqual(['reply,push']);
  });
});

describe('what counts only in its latest form', () => {
  const counts = (of: Record<string, number>) =>
    new LatestFrame('unread', { counts: of }, (a, b) => ({ counts: { ...a.counts, ...b.counts } }), true);

  it('is joined where a client is slow, and leaves everything else in its order', () => {
    const frames = joined([
      counts({ a: 1, b: 1 }),
      shared('x'),
      counts({ b: 2 }),
      shared('y'),
      counts({ c: 3 }),
      shared('z'),
    ]);
    expect(frames.map((frame) => frame.text)).toEqual(['x', 'y', '{"counts":{"a":1,"b":2,"c":3}}', 'z']);
    const plain = [shared('x'), shared('y')];
    expect(joined(plain)).toBe(plain);
  });

  it('keeps a client alive that would be cut off for it, and not one that is too slow for the rest', () => {
    const clock = new VirtualClock();
    const link = new RecordingLink();
    const queue = new SendQueue(link, new Fanout(clock), 1_000);
    link.waitingBytes = 1;
    for (let n = 0; n < 10_000; n++) expect(queue.push(counts({ a: n }))).toBe(true);
    expect(queue.bytes).toBeLessThanOrEqual(1_000);
    link.waitingBytes = 0;
    queue.flush();
    expect(link.batches.flatMap((batch) => batch.frames()).at(-1)?.text).toBe('{"counts":{"a":9999}}');
    link.waitingBytes = 1;
    let pushes = 0;
    while (queue.push(shared('x'.repeat(90))) && queue.push(counts({ a: 1 }))) pushes += 1;
    expect(pushes).toBeLessThan(12);
  });
});

describe('changes of a member list', () => {
  const member = (user: string, status?: string) => ({ user, since: '', sessions: 1, ...(status ? { status } : {}) });
  const on = { on: 'members', channel: channelName('race/3/chat') } as const;

  /** What a client makes of changes. */
  function applied(pushes: readonly MembersPush[]): Map<string, Member> {
    const list = new Map<string, Member>();
    for (const { whole, joined: came = [], left = [], changed = [] } of pushes) {
      if (whole) list.clear();
      for (const each of [...came, ...changed]) list.set(each.user, each);
      for (const user of left) list.delete(user);
    }
    return list;
  }

  it('come to the same joined or one by one: 500 seeds', () => {
    for (let seed = 1; seed <= 500; seed++) {
      const random = new Random(seed);
      const some = () => ['a', 'b', 'c', 'd'].filter(() => random.chance(0.4));
      const pushes = Array.from({ length: random.between(2, 6) }, (): MembersPush => {
        const [came, left] = [some(), some()];
        const changed = some().filter((user) => !left.includes(user) && !came.includes(user));
        return {
          ...on,
          ...(random.chance(0.2) ? { whole: true } : { left: left.filter((user) => !came.includes(user)) }),
          joined: came.map((user) => member(user, `${random.between(0, 9)}`)),
          changed: changed.map((user) => member(user, `${random.between(0, 9)}`)),
          count: random.between(0, 4),
        };
      });
      const one = pushes.reduce(mergedMembers);
      const sorted = (list: Map<string, Member>) => [...list].sort(([a], [b]) => (a < b ? -1 : 1));
      expect(sorted(applied([one])), `seed ${seed}`).toEqual(sorted(applied(pushes)));
      expect(one.count).toBe(pushes.at(-1)?.count);
    }
  });
});

describe('the queue of acts', () => {
  it('never lets a later act overtake one that takes time', async () => {
    const done: string[] = [];
    let finish = (): void => {};
    const acts = new ActQueue<() => void | Promise<void>>({
      act: (each) => each(),
      idle: () => void done.push('idle'),
    });
    acts.add(() => void done.push('first'));
    acts.add(() => new Promise<void>((resolve) => (finish = resolve)).then(() => void done.push('slow')));
    acts.add(() => void done.push('last'));
    expect(done).toEqual(['first', 'idle']);
    expect(acts.length).toBe(2);
    finish();
    await new Promise((resolve) => setImmediate(resolve));
    expect(done).toEqual(['first', 'idle', 'slow', 'last', 'idle']);
  });
});

describe('the pacer', () => {
  /** A clock on which everything takes a little longer than asked for, as on a real machine. */
  class LateClock extends VirtualClock {
    override setTimer(delayMs: number, act: () => void): () => void {
      return super.setTimer(delayMs + 1.5, act);
    }
  }

  it.each([300, 1_000, 10_000, 60_000])(
    'calls each at its pace of %d ms, however late its timers are',
    async (everyMs) => {
      const clock = new LateClock();
      const pacer = new Pacer(clock, new TimerWheel(clock), everyMs);
      const counts = [0, 0, 0];
      const slots: number[] = [];
      for (const [index] of counts.entries()) {
        const member = {
          beat: () => {
            counts[index] = (counts[index] as number) + 1;
          },
        };
        slots.push(pacer.add(member));
        if (index === 2) pacer.remove(member, slots[2] as number);
        await clock.run(everyMs / 3);
      }
      await clock.run(everyMs * 20);
      for (const count of counts.slice(0, 2)) expect([20, 21, 22]).toContain(count);
      expect(counts[2]).toBe(0);
    },
  );
});

describe('the wheel', () => {
  it('calls each once, not early, at most a tick late, and not at all when cancelled', async () => {
    const clock = new VirtualClock();
    const wheel = new TimerWheel(clock);
    const started = clock.now();
    const called: number[] = [];
    const act = (): void => void called.push(clock.now() - started);
    wheel.after(250, act);
    wheel.after(250, act);
    wheel.after(5000, act);
    wheel.after(300, act)();
    await clock.run(10_000);
    expect(called).toHaveLength(3);
    expect(called[0]).toBeGreaterThanOrEqual(250);
    expect(called[0]).toBeLessThanOrEqual(350);
    expect(called[2]).toBeGreaterThanOrEqual(5000);
  });
});
