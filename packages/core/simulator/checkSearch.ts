import type { Engine } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { VirtualClock } from './virtualClock.js';

/** After so long everything that was published can be found, in milliseconds. */
const withinMs = 3_000;

/**
 * Checks that in the end the messages of a kept channel that were revised are found by the mark of their last revision, and nothing
 * else is. Gives how many they are.
 */
export async function checkSearch(engine: Engine, channel: ChannelName, clock: VirtualClock): Promise<number> {
  await clock.run(withinMs);
  const search = engine.search.find(
    { words: 'change', in: [channel], limit: 1_000 },
    { mayRead: async () => undefined },
  );
  const reading = engine.messages.read(channel, {}, { messages: 1_000, bytes: 10_000_000 });
  await clock.run(500);
  const found = (await search).hits.map(({ cursor, text }) => `${cursor} ${text}`).sort();
  const wanted = (await reading).messages.flatMap((each) => {
    const { mark } = (each.isMessage && !each.message.withdrawn ? (each.message.data as { mark?: string }) : {}) ?? {};
    return mark === undefined ? [] : [`${each.cursor} ${mark}`];
  });
  if (found.join() !== wanted.sort().join())
    throw new Error(`${channel}: found are ${JSON.stringify(found)}, and there are ${JSON.stringify(wanted)}`);
  return found.length;
}
