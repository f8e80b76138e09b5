// A relay through Redis as an instance has it, without the instance.
import { setTimeout as wait } from 'node:timers/promises';
import { SharedRelay } from '@nine-bells/core';
import { MemoryTermBook, RedisExchange } from '@nine-bells/service';

const clock = {
  now: Date.now,
  settled: Date.now,
  monotonic: () => performance.now(),
  setTimer(delayMs, act) {
    const timer = setTimeout(act, delayMs);
    return () => clearTimeout(timer);
  },
  endOfTurn: (act) => setImmediate(act),
};

export async function openRelay(url, instance) {
  const report = (error) => console.error(error.message);
  const exchange = new RedisExchange({ url, prefix: 'bench', report, terms: new MemoryTermBook() });
  const relay = new SharedRelay(exchange, clock, {
    instance,
    incarnation: () => Math.random().toString(36).slice(2, 10),
    boundsOf: () => ({ messages: 1000, forMs: 600_000 }),
    report,
  });
  relay.others.follow({
    answer: () => null,
    hear: () => {},
    gone: () => {},
    resumed: () => {},
    status: () => ({ instance }),
  });
  while (relay.isCut) await wait(10);
  return {
    relay,
    stop: async () => {
      await relay.stop();
      exchange.close();
    },
  };
}
