/** Acts in a channel that an access rule allows or refuses. */
export const channelActs = [
  'enter',
  'read',
  'publish',
  'revise',
  'withdraw',
  'revisions',
  'react',
  'hail',
  'set',
  'invite',
  'mention',
  'moderate',
] as const;
export type ChannelAct = (typeof channelActs)[number];

/** Acts that are about one message of a channel. */
export const messageActs = ['revise', 'withdraw', 'revisions', 'react'] as const;
export type MessageAct = (typeof messageActs)[number];

/** Acts that concern another user: start a direct channel, watch a status, notify. */
export const userActs = ['direct', 'watch', 'notify'] as const;
export type UserAct = (typeof userActs)[number];
