import type { ChannelName, Place, PublishRequest } from '@nine-bells/wire';
import type { Access, Ruling, Visitor } from '../access/access.js';
import type { Channel } from '../channel/channel.js';
import type { RuleMatch } from '../channel/channelRule.js';
import type { Counts } from '../counts.js';
import type { Fanout } from '../fanout/fanout.js';
import type { Inboxes } from '../inbox/inboxes.js';
import type { InboxSlice } from '../inbox/notice.js';
import type { Door } from '../limits/door.js';
import type { WaitingBudget } from '../limits/waitingBudget.js';
import type { Appended } from '../logbook/logbook.js';
import type { MarkStanding } from '../marks/mark.js';
import type { Unread } from '../marks/unread.js';
import type { Actor, Removal } from '../measures/measure.js';
import type { Standing } from '../measures/standing.js';
import type { EngineOptions } from '../options.js';
import type { authorOf, Clock, LogReader, Report, Seal, TokenReader } from '../ports.js';
import type { Hail } from '../presence/hail.js';
import type { Watching } from '../presence/watching.js';
import type { Pacer } from '../time/pacer.js';
import type { Wheel } from '../time/wheel.js';
import type { Refusals } from '../trace/refusals.js';
import type { Traces } from '../trace/traces.js';
import type { Connection } from './connection.js';
import type { Sessions } from './sessions.js';

/** What a connection and its client need of their engine. */
export interface ConnectionHost {
  readonly options: EngineOptions;
  readonly clock: Clock;
  readonly wheel: Wheel;
  /** Calls connections twice in each pulse. */
  readonly pacer: Pacer;
  readonly fanout: Fanout;
  /** What may wait for all connections together. */
  readonly waiting: WaitingBudget;
  readonly sessions: Sessions;
  readonly seal: Seal;
  readonly tokens: TokenReader;
  readonly report: Report;
  readonly counts: Counts;
  readonly refusals: Refusals;
  /** What the names of direct channels begin with. */
  readonly directPrefix: string | undefined;
  readonly access: Access;
  readonly standing: Standing;
  readonly door: Door;
  readonly inboxes: Inboxes;
  readonly watching: Watching;
  readonly unread: Unread;
  /**
   * Moves a user's mark.
   *
   * @throws {ProblemError} `bad-value`, `bad-cursor`, `too-many-channels`, `unavailable`
   */
  mark(user: string, match: RuleMatch, place: Place | null): Promise<MarkStanding>;
  /** Reads in a user's inbox. */
  inbox(user: string, after: Place | undefined, limit: number): Promise<InboxSlice>;
  /** Whether somebody new may be let in: what is in force is known, and was of late. */
  mayAdmit(): boolean;
  /** Resolves when the measures of before are known; nobody is let in before. */
  ready(): Promise<void>;
  /** Connections that a user has here. */
  connectionsOf(user: string): number;
  /** Somebody has said who it is. */
  welcomed(connection: Connection): void;
  /** Ends a user's stay in a channel. */
  remove(wish: RemovalWish, by: Actor): Promise<Removal>;
  /** @throws {ProblemError} `no-such-channel` */
  match(channel: ChannelName): RuleMatch;
  /** The channel, if it is open here. */
  openChannel(name: ChannelName): Channel | undefined;
  /** The channel as somebody here has entered or enters it. */
  channel(name: ChannelName, match: RuleMatch): Channel;
  /** Whether a direct channel may begin, or has begun. */
  mayBegin(match: RuleMatch, visitor: Visitor): Ruling | Promise<Ruling>;
  /** Somebody has left. */
  left(channel: Channel): void;
  log(match: RuleMatch): LogReader;
  /** @throws {ProblemError} `too-large` */
  hail(match: RuleMatch, hail: Hail): void;
  /** @throws {ProblemError} `too-large`, `draining`, `busy`; as a rejection, what the store or the relay refuses */
  append(match: RuleMatch, draft: OwnDraft): Promise<Appended>;
  ended(connection: Connection): void;
  readonly traces: Traces;
}

/** Whose stay in a channel is to end, and for how long it may not come back. */
export interface RemovalWish {
  readonly channel: ChannelName;
  readonly user: string;
  readonly reason?: string | undefined;
  readonly banMs?: number | undefined;
}

/** What a client publishes, before the engine has given it an id and a time. */
export interface OwnDraft {
  readonly channel: ChannelName;
  readonly data: PublishRequest['data'];
  readonly type?: string | undefined;
  readonly key?: string | undefined;
  /** The application that publishes; absent: a user. */
  readonly owner?: string | undefined;
  readonly by?: ReturnType<typeof authorOf> | undefined;
  readonly except?: readonly string[] | undefined;
}
