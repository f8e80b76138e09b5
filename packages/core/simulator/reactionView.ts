import type { ReactionStore } from '@nine-bells/core';
import {
  type ChannelName,
  type Cursor,
  type EnteredReactions,
  parseCursor,
  type ReactionCounts,
  type ReactionsPush,
} from '@nine-bells/wire';
import type { SimulatedClient, Stretch } from './simulatedClient.js';

/** How a client has been told that users have reacted in a channel. */
export class ReactionView {
  /** To ask with after a break. */
  version: Cursor | undefined;
  readonly counts = new Map<string, ReactionCounts>();
  /** Changes before the version are still missing. */
  #isBehind = false;

  /** Takes what came with the reply to `enter`. Says whether to enter again at once. */
  entered(given: EnteredReactions): boolean {
    if (given.version !== undefined) {
      this.version = given.version;
      this.#isBehind = given.more === true;
    }
    this.#load(given.counts);
    return given.more === true;
  }

  pushed({ version, counts }: ReactionsPush): void {
    if (!this.#isBehind) this.version = version;
    this.#load(counts);
  }

  #load(counts: ReactionsPush['counts']): void {
    for (const [cursor, each] of Object.entries(counts)) this.counts.set(cursor, each);
  }
}

/** All who are there agree how many have reacted to the messages that they have. Gives how many messages were compared. */
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
