import type { Verb } from '@nine-bells/wire';

/** The request member that the value of the verb sets, as in `enter: CHANNEL`. */
export const firstMember: Partial<Record<Verb, string>> = {
  enter: 'channel',
  leave: 'channel',
  publish: 'channel',
  hail: 'channel',
  set: 'channel',
  read: 'channel',
  mark: 'channel',
  remove: 'channel',
  silence: 'channel',
  report: 'channel',
  watch: 'user',
  unwatch: 'user',
  refresh: 'token',
  status: 'status',
  inbox: 'done',
  pulse: 'got',
};
