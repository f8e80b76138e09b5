import type { Json } from '@nine-bells/wire';

/** A failure or an unusual event that is reported to the operator. */
interface EventKind {
  /** One sentence, without a full stop. */
  readonly text: string;
  /** It is caused by something that the service calls: the application, the receiver of a hook, or the relay. */
  readonly isOutside?: true;
}

/** Everything that the engine and its surroundings report, by stable name. */
export const reportedEvents = {
  'access-function-failed': { text: 'An access function failed' },
  'access-question-failed': { text: 'The application did not answer an access question', isOutside: true },
  'approved-unpublished': { text: 'Approved messages could not be published yet' },
  'arrival-failed': { text: 'An arrival of an intake failed' },
  'arrival-prune-failed': { text: 'Ended arrivals could not be pruned' },
  'arrival-result-unsaved': { text: 'The result of an arrival could not be saved' },
  'arrivals-unread': { text: 'Waiting arrivals could not be read' },
  'backup-restored': { text: 'A backup was restored: channels begin new volumes' },
  'bans-unread': { text: 'The bans in force could not be read' },
  'blocks-unread': { text: 'The blocks of a user could not be read' },
  'board-check-failed': { text: 'Boards could not be compared with the relay' },
  'board-cleanup-failed': { text: 'An entry of a board could not be removed or taken over' },
  'board-event-failed': { text: 'A change of a board could not be queued for hooks' },
  'board-unread': { text: 'A board could not be read' },
  'board-unsaved': { text: 'A board could not be saved' },
  'call-failed': { text: 'The application did not answer a call', isOutside: true },
  'call-publication-failed': { text: 'A publication of a call’s answer failed', isOutside: true },
  'channel-check-failed': { text: 'Channels could not be compared with their records' },
  'channel-prune-failed': { text: 'A channel could not be pruned' },
  'channel-unread': { text: 'The record of a channel could not be read' },
  'decisions-unread': { text: 'Decisions of other instances could not be read' },
  'delivery-prune-failed': { text: 'Ended deliveries could not be pruned' },
  'direct-contact-failed': { text: 'The contacts of a user could not be saved' },
  'direct-notice-failed': { text: 'The notice of a direct message failed' },
  'erasure-interrupted': { text: 'An erasure was interrupted and will be resumed' },
  'erasure-resume-failed': { text: 'Interrupted erasures could not be resumed' },
  'hook-deliveries-unread': { text: 'Due deliveries could not be read' },
  'hook-event-failed': { text: 'An event could not be queued for hooks' },
  'hook-lease-failed': { text: 'The lease of a hook failed' },
  'hook-pause-failed': { text: 'A hook could not be paused' },
  'hook-queue-full': { text: 'The queue of a hook is full', isOutside: true },
  'hook-results-unsaved': { text: 'The results of deliveries could not be saved' },
  'hook-state-unsaved': { text: 'The state of a hook could not be saved' },
  'hooks-unread': { text: 'The hooks could not be read' },
  'inbox-unread': { text: 'An inbox could not be read' },
  'index-failed': { text: 'Messages could not be indexed' },
  'index-unread': { text: 'The messages to index could not be read' },
  'instance-question-failed': { text: 'A question of another instance could not be answered' },
  'invitations-unread': { text: 'The invitations could not be read' },
  'mention-notice-failed': { text: 'The notices of mentions failed' },
  'mention-withdrawal-failed': { text: 'Notices of mentions could not be withdrawn' },
  'occupancy-event-failed': { text: 'A first-in or last-out event failed' },
  'presence-note-failed': { text: 'A joined or left message could not be saved' },
  'prune-failed': { text: 'Old records could not be pruned' },
  'prune-lease-failed': { text: 'No instance could be chosen to prune' },
  'reaction-check-failed': { text: 'Reactions could not be compared with the database' },
  'reactions-unread': { text: 'Reactions could not be read' },
  'record-repaired': { text: 'The head of a channel did not match its record and was corrected' },
  'redis-check-failed': { text: 'The roles of the Redis servers could not be read', isOutside: true },
  'redis-silent': { text: 'Redis does not answer', isOutside: true },
  'redis-unreachable': { text: 'Redis cannot be reached', isOutside: true },
  'relay-message-unreadable': { text: 'A message of the relay could not be read' },
  'relay-publish-failed': { text: 'A message could not be sent over the relay', isOutside: true },
  'relay-scripts-unremoved': { text: 'Scripts of an earlier term could not be removed', isOutside: true },
  'relay-subscription-failed': { text: 'A subscription at the relay failed', isOutside: true },
  'relay-terms-unread': { text: 'The terms of the relay could not be read' },
  'relay-unreachable': { text: 'The relay cannot be reached', isOutside: true },
  'request-failed': { text: 'A request failed' },
  'restore-marks-unread': { text: 'The progress marks of the database could not be read' },
  'restore-marks-unsaved': { text: 'The progress marks of the database could not be saved' },
  'retention-exceeded': { text: 'Kept logbooks exceed their bounds' },
  'review-failed': { text: 'The application did not review a message', isOutside: true },
  'session-announcement-failed': { text: 'The continuation of a session could not be announced' },
  'thread-news-failed': { text: 'The threads of a user could not be read' },
  'unread-count-failed': { text: 'Unread messages could not be counted' },
  'unread-follow-failed': { text: 'A channel could not be followed for unread counts' },
} as const satisfies Readonly<Record<string, EventKind>>;

export type ReportedEvent = keyof typeof reportedEvents;

/** Receives what clients do, for a log at the level `debug`: who connects and disconnects, and each request carried out. */
export type Seen = (
  event: 'connected' | 'disconnected' | 'request',
  facts: Readonly<Record<string, Json | undefined>>,
) => void;

/** Reports an event, its cause, and further facts, for the service's log. */
export type Report = (
  error: unknown,
  about: { readonly event: ReportedEvent } & Readonly<Record<string, Json | undefined>>,
) => void;
