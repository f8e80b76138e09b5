import type { Verb } from '@nine-bells/wire';
import type { TokenBucket } from '../lib/tokenBucket.js';

/** What a session does at a rate of its own (`EngineOptions`). */
export type SessionRate = 'requests' | 'publishes' | 'hails' | 'newChannels' | 'given';

/** The buckets of a session, each made when it is first used. */
export type SessionRates = Partial<Record<SessionRate, TokenBucket>>;

/** How many requests a request counts for (`EngineOptions.requests`): by what it costs the service. */
export const costs: Readonly<Record<Exclude<Verb, 'hello'>, number>> = {
  publish: 1,
  hail: 1,
  set: 1,
  pulse: 1,
  leave: 1,
  unwatch: 1,
  enter: 2,
  status: 2,
  mark: 2,
  watch: 2,
  read: 5,
  inbox: 5,
  remove: 10,
  refresh: 25,
  unread: 25,
};
