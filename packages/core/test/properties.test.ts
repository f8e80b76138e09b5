import { channelName } from '@nine-bells/wire';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { VirtualClock } from '../simulator/virtualClock.js';
import { Fanout } from '../src/delivery/fanout.js';
import { SendQueue } from '../src/delivery/sendQueue.js';
import { type Batch, ChannelRules, type Encoding, Frame, type Link } from '../src/index.js';
import { Ring } from '../src/lib/ring.js';
import { RecentLog } from '../src/record/recentLog.js';

const encoding: Encoding = { encode: (payload) => payload, join: ([first = new Uint8Array()]) => first };
const segment = fc.stringMatching(/^[a-z0-9]{1,6}$/);

describe('whatever is given', () => {
  it('a pattern matches the names made of it, with the values they were made of, and the most specific one holds', () => {
    const parts = fc.array(fc.tuple(segment, fc.boolean()), { minLength: 1, maxLength: 6 });
    fc.assert(
      fc.property(parts, fc.array(segment, { minLength: 6, maxLength: 6 }), (pieces, values) => {
        const pattern = pieces.map(([text, isParameter], index) => (isParameter ? `:p${index}` : text)).join('/');
        const name = pieces.map(([text, isParameter], index) => (isParameter ? values[index] : text)).join('/');
        const everything = pieces.map((_, index) => `:q${index}`).join('/');
        const rule = (of: string) => ({ pattern: of, logbook: { type: 'kept' }, allow: {} }) as const;
        const all = pieces.every(([, isParameter]) => isParameter);
        const rules = new ChannelRules(all ? [rule(pattern)] : [rule(everything), rule(pattern)]);
        const match = rules.match(channelName(name));
        expect(match?.rule.pattern).toBe(pattern);
        for (const [index, [, isParameter]] of pieces.entries())
          if (isParameter) expect(match?.parameters[`p${index}`]).toBe(values[index]);
      }),
      { numRuns: 500 },
    );
  });

  it('a recent record gives, after any cursor, all that is there, or says that something is gone', () => {
    const bounds = fc.record({ messages: fc.integer({ min: 1, max: 20 }), forMs: fc.integer({ min: 1, max: 100 }) });
    const steps = fc.array(fc.integer({ min: 0, max: 30 }), { maxLength: 60 });
    fc.assert(
      fc.property(bounds, steps, fc.nat({ max: 70 }), fc.integer({ min: 1, max: 10 }), (bound, waits, from, limit) => {
        const log = new RecentLog(channelName('weather/wind'), 'v');
        let atMs = 0;
        for (const [index, wait] of waits.entries()) {
          atMs += wait;
          log.append({ id: `m${index}`, type: 'message', atMs, dataText: `${index}` }, bound);
        }
        const seen: number[] = [];
        let after = { volume: 'v', number: from };
        let gap: string | undefined;
        for (let more = true; more; ) {
          const slice = log.since(after, { messages: limit, bytes: 1_000_000 });
          gap ??= slice.gap;
          seen.push(...slice.messages.map(({ place }) => place.number));
          more = slice.more;
          after = slice.messages.at(-1)?.place ?? slice.head;
        }
        const first = seen[0] ?? waits.length + 1;
        expect(seen).toEqual(Array.from({ length: seen.length }, (_, index) => first + index));
        if (seen.length > 0) expect(seen.at(-1)).toBe(waits.length);
        if (gap === undefined) expect(first).toBe(Math.min(from, waits.length) + 1);
        else expect(from > waits.length || first > from + 1).toBe(true);
      }),
      { numRuns: 500 },
    );
  });

  it('a send queue keeps its bound and its order, and loses nothing but hails until it says that there is no room', async () => {
    const act = fc.oneof(
      fc.record({ kind: fc.constant('push' as const), size: fc.integer({ min: 4, max: 60 }) }),
      fc.record({ kind: fc.constant('hail' as const), size: fc.integer({ min: 4, max: 60 }) }),
      fc.record({ kind: fc.constant('stall' as const), size: fc.constant(0) }),
      fc.record({ kind: fc.constant('drain' as const), size: fc.constant(0) }),
      fc.record({ kind: fc.constant('turn' as const), size: fc.constant(0) }),
    );
    await fc.assert(
      fc.asyncProperty(fc.array(act, { maxLength: 120 }), async (acts) => {
        const clock = new VirtualClock();
        const written: string[] = [];
        const link = {
          transport: 'test',
          encoding,
          waitingBytes: 0,
          write: (batch: Batch) => written.push(...batch.frames().map((frame) => frame.text)),
        } as unknown as Link & { waitingBytes: number };
        const queue = new SendQueue(link, new Fanout(clock), 500);
        const pushed: string[] = [];
        for (const [index, { kind, size }] of acts.entries()) {
          const text = `${kind}${index}`.padEnd(size, '.');
          if (kind === 'push') {
            if (!queue.push(new Frame(text, true))) return;
            pushed.push(text);
            expect(queue.bytes).toBeLessThanOrEqual(500);
          } else if (kind === 'hail') expect(queue.push(new Frame(text, true, undefined, true))).toBe(true);
          else if (kind === 'stall') link.waitingBytes = 1;
          else if (kind === 'drain') {
            link.waitingBytes = 0;
            queue.flush();
          } else await clock.run(0);
        }
        link.waitingBytes = 0;
        queue.flush();
        expect(written.filter((text) => text.startsWith('push'))).toEqual(pushed);
      }),
      { numRuns: 200 },
    );
  });
});

describe('a ring', () => {
  it('has the last so many, of no more than a size in sum, oldest first', () => {
    const sizes = fc.array(fc.nat(30), { maxLength: 300 });
    fc.assert(
      fc.property(
        fc.integer({ min: 1, max: 50 }),
        fc.option(fc.integer({ min: 1, max: 200 })),
        sizes,
        (max, most, all) => {
          const ring = new Ring<number>(max, most ?? undefined);
          let kept: { item: number; size: number }[] = [];
          for (const [item, size] of all.entries()) {
            ring.add(item, size);
            kept = [...kept, { item, size }].slice(-max);
            const sum = () => kept.reduce((total, each) => total + each.size, 0);
            while (most !== null && sum() > most && kept.length > 1) kept.shift();
          }
          expect(ring.all).toEqual(kept.map((each) => each.item));
          expect(ring.findLast((item) => item % 3 === 0)).toBe(kept.findLast(({ item }) => item % 3 === 0)?.item);
        },
      ),
    );
  });
});
