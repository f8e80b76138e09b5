import type { ChannelName, Place } from '@nine-bells/wire';
import type { Access, Ruling, Visitor } from '../access/access.js';
import type { Standing } from '../access/activeBans.js';
import type { Channel } from '../channel/channel.js';
import type { Fanout } from '../delivery/fanout.js';
import type { WaitingBudget } from '../delivery/waitingBudget.js';
import type { Inboxes } from '../inbox/inboxes.js';
import type { Pacer } from '../lib/pacer.js';
import type { Wheel } from '../lib/timerWheel.js';
import type { Unread } from '../marks/unread.js';
import type { Counts } from '../model/counters.js';
import type { Hail } from '../model/hail.js';
import type { MarkStanding } from '../model/mark.js';
import type { Appended, OwnDraft } from '../model/message.js';
import type { Actor, Removal, RemovalWish } from '../model/moderation.js';
import type { InboxSlice } from '../model/notice.js';
import type { EngineOptions } from '../model/options.js';
import type { Clock } from '../ports/clock.js';
import type { Seal } from '../ports/hmac.js';
import type { Report } from '../ports/report.js';
import type { LogReader } from '../ports/stores.js';
import type { TokenReader } from '../ports/tokens.js';
import type { Watching } from '../presence/watching.js';
import type { Refusals } from '../record/refusals.js';
import type { Traces } from '../record/traces.js';
import type { RuleMatch } from '../rules/channelRule.js';
import type { Connection } from './connection.js';
import type { Door } from './connectionLimiter.js';
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
