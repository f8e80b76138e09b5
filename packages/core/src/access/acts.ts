import type { Verb } from '@nine-bells/wire';

/** What one may or may not do in a channel. */
export const channelActs = ['enter', 'read', 'publish', 'hail', 'set', 'moderate'] as const;
export type ChannelAct = (typeof channelActs)[number];

/** What one may or may not do that concerns another user: start a direct channel, watch a status, notify. */
export const userActs = ['direct', 'watch', 'notify'] as const;
export type UserAct = (typeof userActs)[number];

export type Act = ChannelAct | UserAct;

export function isUserAct(act: Act): act is UserAct {
  return (userActs as readonly Act[]).includes(act);
}

/**
 * What is decided before a verb of the line does anything: an act, or `own` for what concerns only the client's own
 * session and user. Every verb stands here; the compiler sees to it.
 */
export const decidedFor: Readonly<Record<Verb, Act | 'own'>> = {
  hello: 'enter',
  enter: 'enter',
  leave: 'own',
  publish: 'publish',
  hail: 'hail',
  set: 'set',
  read: 'read',
  status: 'own',
  mark: 'enter',
  unread: 'own',
  watch: 'watch',
  unwatch: 'own',
  inbox: 'own',
  remove: 'moderate',
  refresh: 'enter',
  pulse: 'own',
};
