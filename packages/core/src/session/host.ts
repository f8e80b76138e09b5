import type { Access } from '../access/access.js';
import type { ActiveBans } from '../access/activeBans.js';
import type { Boards } from '../boards/boards.js';
import type { Calls } from '../calls/calls.js';
import type { Channels } from '../channel/channels.js';
import type { Fanout } from '../delivery/fanout.js';
import type { WaitingBudget } from '../delivery/waitingBudget.js';
import type { DirectChannels } from '../direct/directChannels.js';
import type { Inboxes } from '../inbox/inboxes.js';
import type { Pacer } from '../lib/pacer.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { ChannelMarks } from '../marks/channelMarks.js';
import type { Marks } from '../marks/marks.js';
import type { Unread } from '../marks/unread.js';
import type { Counters } from '../model/counters.js';
import type { EngineOptions } from '../model/options.js';
import type { Moderation } from '../moderation/moderation.js';
import type { Clock } from '../ports/clock.js';
import type { Hmac } from '../ports/hmac.js';
import type { Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { TokenReader } from '../ports/tokens.js';
import type { Presences } from '../presence/presences.js';
import type { Watching } from '../presence/watching.js';
import type { Publisher } from '../record/publisher.js';
import type { Refusals } from '../record/refusals.js';
import type { Traces } from '../record/traces.js';
import type { ChannelRules } from '../rules/channelRule.js';
import type { Connected } from './connected.js';
import type { ConnectionLimiter } from './connectionLimiter.js';
import type { Sessions } from './sessions.js';

/** The parts of the engine that connections and sessions use. */
export interface SessionHost {
  readonly options: EngineOptions;
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  /** Calls connections twice in each pulse. */
  readonly pacer: Pacer;
  readonly fanout: Fanout;
  /** Bounds what waits for all connections together. */
  readonly waiting: WaitingBudget;
  readonly hmac: Hmac;
  readonly tokens: TokenReader;
  readonly relay: Relay;
  readonly report: Report;
  readonly counters: Counters;
  readonly traces: Traces;
  readonly refusals: Refusals;
  readonly rules: ChannelRules;
  readonly access: Access;
  readonly bans: ActiveBans;
  readonly limiter: ConnectionLimiter;
  readonly sessions: Sessions;
  readonly connected: Connected;
  readonly channels: Channels;
  readonly boards: Boards;
  readonly publisher: Publisher;
  readonly presences: Presences;
  readonly watching: Watching;
  readonly marks: Marks;
  readonly channelMarks: ChannelMarks;
  readonly unread: Unread;
  readonly inboxes: Inboxes;
  readonly direct: DirectChannels;
  readonly moderation: Moderation;
  readonly calls: Calls;
}
