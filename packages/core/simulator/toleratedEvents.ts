import type { ReportedEvent } from '@nine-bells/core';

/** Failures that faults of the store and the application may cause, and that the engine must survive. */
export const toleratedEvents: readonly ReportedEvent[] = [
  'arrival-prune-failed',
  'arrival-result-unsaved',
  'bans-unread',
  'blocks-unread',
  'board-cleanup-failed',
  'board-unread',
  'board-unsaved',
  'call-failed',
  'call-publication-failed',
  'channel-unread',
  'delivery-prune-failed',
  'hook-state-unsaved',
  'hooks-unread',
  'inbox-unread',
  'index-failed',
  'index-unread',
  'mention-notice-failed',
  'mention-withdrawal-failed',
  'reaction-check-failed',
  'reactions-unread',
  'thread-news-failed',
];
