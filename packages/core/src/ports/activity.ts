import type { ChannelName } from '@nine-bells/wire';
import type { UserActivity } from '../model/info.js';

/** Looks up, on all instances, what users are doing. */
export interface ActivityReader {
  /** The status of each user that is connected anywhere; with a channel, also whether it is in it or has it in view. */
  activityOf(
    users: readonly string[],
    channel?: ChannelName,
  ): Promise<{ readonly users: ReadonlyMap<string, UserActivity> }>;
}
