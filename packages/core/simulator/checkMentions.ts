import type { Engine } from '@nine-bells/core';
import { parseCursor } from '@nine-bells/wire';
import type { Truth } from './faultyPorts.js';
import { mentionedClient } from './simulatedClient.js';
import type { VirtualClock } from './virtualClock.js';

/**
 * Checks that what notices say of mentions stands in the end: a message that mentions the client, and was not taken back. Gives
 * how many there are.
 */
export async function checkMentions(engine: Engine, truth: Truth, clock: VirtualClock): Promise<number> {
  const reading = engine.inboxes.read(mentionedClient, undefined, 100);
  await clock.run(500);
  const found = (await reading).notices.filter(({ key }) => key?.startsWith('mention '));
  for (const { data } of found) {
    const { channel, cursor } = data as { readonly channel: string; readonly cursor: string };
    const place = parseCursor(cursor);
    const standing = place && truth.standing(channel, place.volume).get(place.number);
    if (!standing?.mentions?.users?.includes(mentionedClient))
      throw new Error(`a notice says that ${channel}: ${cursor} mentions ${mentionedClient}, which it does not`);
  }
  return found.length;
}
