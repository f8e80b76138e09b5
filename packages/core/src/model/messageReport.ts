import type { Author, ChannelName, Cursor, Message } from '@nine-bells/wire';
import type { Actor } from './moderation.js';

/** What a user reports to the moderators: a message as it was then, and why. */
export interface MessageReportDraft {
  readonly id: string;
  readonly channel: ChannelName;
  readonly cursor: Cursor;
  readonly message: Message;
  readonly by: Author;
  readonly reason?: string;
  readonly atMs: number;
}

/** How a moderator has ended a report. */
export interface ReportEnd {
  readonly by: Actor;
  readonly atMs: number;
  /** What was done, in the moderator's words. */
  readonly note?: string;
}

export interface MessageReport extends MessageReportDraft {
  /** Rises with time. */
  readonly number: number;
  /** Absent: it is open. */
  readonly ended?: ReportEnd;
}

/** Which reports are wanted: open ones come the oldest first, ended ones the latest first. */
export interface ReportWish {
  readonly isOpen: boolean;
  readonly channel?: ChannelName;
  /** Those behind the report of this number. */
  readonly from?: number;
  readonly limit: number;
}
