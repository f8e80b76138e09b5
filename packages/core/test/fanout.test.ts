import { describe, expect, it } from 'vitest';
import { VirtualClock } from '../simulator/virtualClock.js';
import { Fanout } from '../src/fanout/fanout.js';
import { SendQueue } from '../src/fanout/sendQueue.js';
import { Batch, type Encoding, Frame, type Link } from '../src/index.js';
import { ActQueue } from '../src/session/actQueue.js';
import { Wheel } from '../src/time/wheel.js';

function countingEncoding(): Encoding & { calls: number } {
  return {
    calls: 0,
    encode(payload) {
      this.calls += 1;
      return payload;
    },
  };
}

class RecordingLink implements Link {
  readonly transport = 'recording';
  readonly encoding = countingEncoding();
  readonly batches: Batch[] = [];
  waitingBytes = 0;
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

describe('the queue of acts', () => {
  it('never lets a later act overtake one that takes time', async () => {
    const done: string[] = [];
    let finish = (): void => {};
    const acts = new ActQueue(() => done.push('idle'));
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

describe('the wheel', () => {
  it('calls each once, not early, at most a tick late, and not at all when cancelled', async () => {
    const clock = new VirtualClock();
    const wheel = new Wheel(clock);
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
