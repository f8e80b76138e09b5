export type {
  Author,
  Cursor,
  Entered,
  Gap,
  Json,
  LineLimits,
  Marked,
  Member,
  Message,
  Notice,
  Problem,
  ProblemCode,
  Published,
  ReadResult,
  Removed,
} from '@nine-bells/wire';
export { type BackOff, defaultBackOff, waitBefore } from './backOff.js';
export { connect } from './connect.js';
export {
  type EnterOptions,
  Entry,
  type EntryEvents,
  type EntryState,
  type MembersChange,
  type ReceivedHail,
  type ReceivedMessage,
  type Removal,
} from './entry.js';
export { Inbox, type InboxEvents } from './inbox.js';
export {
  type HailOptions,
  Line,
  type LineEvents,
  type LineOptions,
  type LineState,
  type PublishOptions,
  type ReadOptions,
  type RemoveOptions,
  type TokenSource,
  type Transport,
} from './line.js';
export { LineError, type LineErrorCode } from './lineError.js';
export {
  defaultOutboxBounds,
  Outbox,
  type OutboxBounds,
  type OutboxEvents,
  type Outgoing,
} from './outbox.js';
export { Typing, type TypingTexts, typingText } from './typing.js';
export { Unread, type UnreadEvents } from './unread.js';
