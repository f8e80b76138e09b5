import { type ChannelLevel, type ChannelName, defined, type Level } from '@nine-bells/wire';

/** A user says how much it wants to hear of a channel, or with `null` no longer. */
export interface LevelWish {
  readonly user: string;
  readonly channel: ChannelName;
  readonly level: Level | null;
  readonly atMs: number;
  /** When it ends by itself, in milliseconds since the epoch; absent: it stays. */
  readonly untilMs?: number;
  /** Most channels of which one user says so. */
  readonly most: number;
}

/** A level as it is kept. */
export interface KeptLevel extends Omit<LevelWish, 'most' | 'atMs'> {
  readonly level: Level;
}

export function levelShown({ channel, level, untilMs }: Omit<KeptLevel, 'user'>): ChannelLevel {
  return { channel, level, ...defined({ until: untilMs === undefined ? undefined : new Date(untilMs).toISOString() }) };
}
