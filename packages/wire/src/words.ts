import type { Push, PushKind } from './pushes.js';

type MemberOf<P> = P extends unknown ? Exclude<keyof P, 'on'> : never;

/** What each push of the service holds beside `on`. */
export const pushMembers: { readonly [K in PushKind]: readonly MemberOf<Extract<Push, { readonly on: K }>>[] } = {
  message: [
    'channel',
    'cursor',
    'revision',
    'id',
    'type',
    'key',
    'by',
    'at',
    'data',
    'revisedAt',
    'revisedBy',
    'withdrawn',
    'reason',
    'unfit',
  ],
  change: ['channel', 'cursor', 'message'],
  hail: ['channel', 'type', 'by', 'data'],
  members: ['channel', 'joined', 'left', 'changed', 'whole', 'count', 'partial'],
  board: ['channel', 'after', 'version', 'whole', 'set', 'gone'],
  reactions: ['channel', 'version', 'counts'],
  passed: ['channel', 'cursor'],
  notice: ['cursor', 'id', 'title', 'data', 'at', 'key', 'until', 'unread'],
  inbox: ['done', 'unread'],
  unread: ['counts'],
  marks: ['channel', 'marks'],
  blocks: ['blocks'],
  user: ['user', 'status', 'problem'],
  gap: ['channel', 'after', 'cursor', 'why'],
  removed: ['channel', 'reason', 'by', 'until', 'problem'],
  silenced: ['channel', 'everyMs', 'reason', 'by', 'until', 'over'],
  expiring: ['withinMs'],
  drain: ['withinMs'],
  problem: ['code', 'title', 'detail', 'where', 'retryAfterMs', 'until', 'faults', 'stands', 'ends'],
  pulse: [],
};
