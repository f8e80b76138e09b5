import type { ChannelRule } from '@nine-bells/core';
import { channelName } from '@nine-bells/wire';
import type { BoardTruth, SetValue } from './boardTruth.js';
import type { SimulatedClient } from './simulatedClient.js';

const board = { everyMs: 100, entries: 100, valueBytes: 1_000, boardBytes: 20_000 };
const logbook = { type: 'recent', bounds: { messages: 1000, forMs: 600_000 } } as const;
const allow = { enter: 'anyone', publish: 'anyone', revise: 'anyone', withdraw: 'anyone', set: 'anyone' } as const;

/** Channels with a board: one in the relay's memory only, one kept. */
export const boardRules: readonly ChannelRule[] = [
  { pattern: 'board/quick/:n', logbook, allow, board: { ...board, everyMs: 0 } },
  { pattern: 'board/kept/:n', logbook, allow, board: { ...board, kept: true } },
];
export const boardChannels = ['board/quick/1', 'board/kept/1'].map(channelName);

/** Checks that all clients in a channel end with the same board, without entries of sessions that have left. */
export function checkBoards(clients: readonly SimulatedClient[], truth: BoardTruth): void {
  for (const channel of boardChannels) {
    const there = clients.filter((client) => client.channels.includes(channel));
    const sessions = new Set(there.map(({ session }) => session));
    let first: string | undefined;
    for (const client of there) {
      const view = client.boards.get(channel);
      if (view === undefined) throw new Error(`${client.name} has no board in ${channel}`);
      const { volume, number } = view.place;
      if (!view.echo) continue;
      if (number !== truth.length(channel, volume))
        throw new Error(`${client.name}: ${channel} ends at ${volume}:${truth.length(channel, volume)}, not ${number}`);
      first ??= volume;
      if (volume !== first) throw new Error(`${client.name}: ${channel} has two volumes in the end`);
      for (const [entry, value] of view.entries) {
        const { held } = value as unknown as SetValue;
        if (held !== undefined && !sessions.has(held))
          throw new Error(`${client.name}: ${channel}: ${entry} is held by ${held}, which is no longer there`);
        if (entry.startsWith('brief')) throw new Error(`${client.name}: ${channel}: ${entry} has outlived its time`);
      }
    }
  }
}
