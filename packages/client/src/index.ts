export type {
  Accepted,
  Author,
  Block,
  BlockKind,
  Changed,
  ChannelLevel,
  Cursor,
  EarlierRevision,
  Entered,
  Gap,
  Invitation,
  InvitationsReply,
  Invited,
  Json,
  Level,
  LineLimits,
  Marked,
  Member,
  Mentions,
  Message,
  MessageFilter,
  Notice,
  PendingMessage,
  Problem,
  ProblemCode,
  Published,
  ReactionCounts,
  Reactor,
  ReactorsReply,
  ReadResult,
  Removed,
  Reported,
  RevisionsReply,
  SearchHit,
  SearchReply,
  SetResult,
  Silenced,
  Standing,
  ThreadInfo,
  Uninvited,
} from '@nine-bells/wire';
export { type BackOff, defaultBackOff, waitBefore } from './backOff.js';
export { Board, type BoardChange, type BoardEvents } from './board.js';
export { connect } from './connect.js';
export type * from './contracts.js';
export { Entry, type EntryEvents, type EntryGap, type EntryState, type ReadResultOf } from './entry.js';
export { Inbox, type InboxEvents } from './inbox.js';
export { type EntryOf, Line } from './line.js';
export { LineError, type LineErrorCode } from './lineError.js';
export { Motion, type MotionOptions } from './motion.js';
export { Outbox, type OutboxEvents, type Outgoing } from './outbox.js';
export type { MessageReactions } from './reactionsShown.js';
export * from './types.js';
export { Typing, type TypingEntry, type TypingTexts, typingText } from './typing.js';
export { Unread, type UnreadEvents } from './unread.js';
