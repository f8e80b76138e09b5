import type { ChannelName, Json } from '@nine-bells/wire';
import type { ChannelInfo, SessionInfo } from '../engine.js';
import type { Identity } from '../identity.js';
import type { Measure } from '../measures/measure.js';
import type { TableEntry } from '../presence/tables.js';
import type { StaysHere, TraceHere } from '../trace/trace.js';
import type { InstanceQuestion, Table } from './instance.js';

/** How a user stands on an instance. */
export interface UserStanding {
  /** The status of the most available of its sessions there. */
  readonly status: Json;
  /** One of them has the channel in view that was asked for. */
  readonly isLooking: boolean;
  /** One of them has entered it. */
  readonly isIn: boolean;
}

/** Who a session is, and from where. */
export interface SessionVisitor {
  readonly who: Identity;
  readonly address: string | null;
}

/** What an instance knows of a message, and for whom it was not. */
export type TraceFound = TraceHere & { readonly except?: readonly string[] };

/** What an instance knows of itself, and is asked for by the others. */
export interface OwnSide {
  table(channel: ChannelName): Table | null;
  memberships(user: string): readonly { readonly channel: ChannelName; readonly entries: readonly TableEntry[] }[];
  sessions(user: string | undefined, limit: number): readonly SessionInfo[];
  visitor(session: string): SessionVisitor | null;
  /** How many have entered a channel. */
  entrants(channel: ChannelName): number;
  /** Channels that somebody here has entered. */
  entered(after: string, limit: number): readonly ChannelInfo[];
  standings(users: readonly string[], channel: ChannelName | undefined): Readonly<Record<string, UserStanding>>;
  /** How many connections there a measure is about. */
  concerned(measure: Measure): number;
  trace(id: string): TraceFound;
  stays(user: string, channel: ChannelName): Promise<StaysHere>;
}

/** Answers what another instance asks. */
export function answerOf(own: OwnSide, question: InstanceQuestion): Json | Promise<Json> {
  return answered(own, question) as Json | Promise<Json>;
}

function answered(own: OwnSide, question: InstanceQuestion): unknown {
  switch (question.ask) {
    case 'table':
      return own.table(question.channel);
    case 'memberships':
      return own.memberships(question.user);
    case 'sessions':
      return own.sessions(question.user, question.limit);
    case 'visitor':
      return own.visitor(question.session);
    case 'entrants':
      return own.entrants(question.channel);
    case 'channels':
      return own.entered(question.after, question.limit);
    case 'standings':
      return own.standings(question.users, question.channel);
    case 'concerned':
      return own.concerned(question.measure);
    case 'trace':
      return own.trace(question.id);
    case 'stays':
      return own.stays(question.user, question.channel);
  }
}
