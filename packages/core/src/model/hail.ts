import type { Author, ChannelName, Json } from '@nine-bells/wire';
import { Frame } from './frame.js';

/** A short-lived word to those present: never numbered, never kept, the first to be dropped. */
export interface Hail {
  readonly channel: ChannelName;
  readonly type: string;
  readonly data?: Json;
  readonly by?: Author;
  /** The session that says it: it does not hear it. */
  readonly from?: string;
  /** Only these users. */
  readonly to?: readonly string[];
}

/** The frame that tells it, shared by all recipients. */
export function hailFrame({ channel, type, data, by }: Hail): Frame {
  const text = JSON.stringify({ on: 'hail', channel, type, by, data });
  return new Frame(text, true, channel, true);
}
