import type { ReactionStore } from '@nine-bells/core';
import { type ChannelName, parseCursor, type ReactionCounts } from '@nine-bells/wire';
import type { SimulatedClient, Stretch } from './simulatedClient.js';

/**
 * Checks that a client received the current reactions to each of its messages. Returns the number of messages compared.
 *
 * @throws {Error} for a message whose reactions differ from the store's
 */
export async function checkReactions(client: SimulatedClient, store: ReactionStore): Promise<number> {
  const last = new Map<ChannelName, Stretch>(client.stretches.map((stretch) => [stretch.channel, stretch]));
  let compared = 0;
  for (const channel of client.channels) {
    const { seen } = last.get(channel) as Stretch;
    const view = client.reactions.get(channel);
    if (view === undefined) continue;
    const numbers = seen.map(({ cursor }) => parseCursor(cursor)?.number ?? 0);
    const { reacted } = await store.reactions(channel, numbers);
    const counts = new Map(reacted.map((each) => [each.number, each.counts]));
    for (const { cursor, withdrawn } of seen) {
      if (withdrawn) continue;
      const expected = sorted(counts.get(parseCursor(cursor)?.number ?? 0));
      const told = sorted(view.counts.get(cursor));
      if (told !== expected)
        throw new Error(`${client.name}: ${channel}: ${cursor} has ${expected}, and was told last with ${told}`);
      if (expected !== '[]') compared += 1;
    }
  }
  return compared;
}

function sorted(counts: ReactionCounts | undefined): string {
  return JSON.stringify(Object.entries(counts ?? {}).sort(([a], [b]) => (a < b ? -1 : 1)));
}
