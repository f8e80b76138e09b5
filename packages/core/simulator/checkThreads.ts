import type { Engine } from '@nine-bells/core';
import { formatCursor } from '@nine-bells/wire';
import type { SimulatedClient } from './simulatedClient.js';
import type { VirtualClock } from './virtualClock.js';

/** Checks that a following client has the final state of each of its threads. Returns their number. */
export async function checkThreads(
  client: SimulatedClient,
  engine: Engine,
  clock: VirtualClock,
  pruned: ReadonlySet<string>,
): Promise<number> {
  if (!client.followsThreads) return 0;
  const reading = engine.marks.threads(client.name, 1_000);
  await clock.run(500);
  // Pruning removes replies without a push.
  const all = (await reading).filter(({ channel }) => !pruned.has(channel));
  for (const { channel, volume, thread, unread, count } of all) {
    const cursor = formatCursor({ volume, number: thread });
    const known = client.threads.get(`${channel} ${cursor}`);
    if (known?.unread !== unread || known.count !== count)
      throw new Error(
        `${client.name}: ${channel}: the thread ${cursor} has ${unread} unread of ${count}, and was told as ${JSON.stringify(known)}`,
      );
  }
  return all.length;
}
