import { type ChannelName, formatCursor, type Json, type Place, problem } from '@nine-bells/wire';
import type { Access } from '../access/access.js';
import type { Channels } from '../channel/channels.js';
import type { OwnSide } from '../model/info.js';
import type { InstanceQuestion } from '../model/instance.js';
import type { Table } from '../model/memberTable.js';
import type { Measure } from '../model/moderation.js';
import type { StaysHere } from '../model/trace.js';
import type { Watching } from '../presence/watching.js';
import type { Refusals } from '../record/refusals.js';
import type { Traces } from '../record/traces.js';
import type { ChannelRules } from '../rules/channelRule.js';
import type { Client } from '../session/client.js';
import type { Connected } from '../session/connected.js';

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
    case 'refusals':
      return own.refusals();
    case 'trace':
      return own.trace(question.id);
    case 'stays':
      return own.stays(question.user, question.channel);
  }
}

/** What an instance looks in to answer. */
export interface OwnSideParts {
  readonly instance: string;
  readonly rules: ChannelRules;
  readonly access: Access;
  readonly channels: Channels;
  readonly connected: Connected;
  readonly watching: Watching;
  readonly traces: Traces;
  readonly refusals: Refusals;
  /** How many connections here a measure is about. */
  readonly concernedHere: (measure: Measure) => number;
}

/** What this instance tells the others of itself. */
export function ownSideOf(parts: OwnSideParts): OwnSide {
  const { instance, channels, connected, watching, traces } = parts;
  return {
    table: (channel) => channels.get(channel)?.tables?.own ?? tableHere(channels, channel),
    memberships: (user) =>
      [...channels].flatMap(({ name, presence }) => {
        const entries = presence?.entriesOf(user) ?? [];
        return entries.length === 0 ? [] : { channel: name, entries };
      }),
    sessions: (user, limit) =>
      connected
        .sessions(instance)
        .filter((each) => user === undefined || each.user === user)
        .slice(-limit),
    visitor: (session) => {
      for (const { client, address } of connected)
        if (client?.session === session) return { who: client.who, address: address ?? null };
      return null;
    },
    entrants: (channel) => channels.get(channel)?.entrants ?? 0,
    entered: (after, limit) =>
      [...channels]
        .filter(({ name, entrants }) => entrants > 0 && name > after)
        .sort((a, b) => (a.name < b.name ? -1 : 1))
        .slice(0, limit)
        .map(({ name }) => channels.describe({ channel: name })),
    standings: (users, channel) =>
      Object.fromEntries(
        users.flatMap((user) => {
          const status = watching.statusHere(user);
          if (status === null) return [];
          const clients = connected.clientsOf(user);
          const isLooking = channel !== undefined && clients.some(({ looking }) => looking === channel);
          const isIn = channel !== undefined && clients.some((each) => each.isIn(channel));
          return [[user, { status, isLooking, isIn }]];
        }),
      ),
    concerned: parts.concernedHere,
    refusals: () => parts.refusals.all,
    trace: (id) =>
      traces.find(id, (channel, place) => {
        let confirmed = 0;
        for (const { client } of connected) if (hasGot(client?.gotOf(channel), place)) confirmed += 1;
        return confirmed;
      }),
    stays: async (user, channel) => ({
      events: traces.staysOf(user, channel),
      sessions: await Promise.all(connected.allClientsOf(user).map((client) => stayOf(parts, client, channel))),
    }),
  };
}

function tableHere(channels: Channels, channel: ChannelName): Table | null {
  const presence = channels.get(channel)?.presence;
  return presence === undefined ? null : { number: 0, entries: presence.table };
}

async function stayOf(
  { rules, access }: OwnSideParts,
  client: Client,
  channel: ChannelName,
): Promise<StaysHere['sessions'][number]> {
  const { who, session } = client;
  const got = client.gotOf(channel);
  const isIn = client.isIn(channel);
  const mayEnter = async () => {
    const match = rules.match(channel);
    if (match === undefined) return { problem: problem('no-such-channel') };
    return access.decide('enter', match, { who, address: undefined });
  };
  const refused = isIn ? undefined : (await mayEnter()).problem;
  return {
    session,
    ...(who.name === undefined ? {} : { name: who.name }),
    isIn,
    ...(got === undefined ? {} : { got: formatCursor(got) }),
    ...(refused === undefined ? {} : { refused }),
  };
}

/** Whether somebody who is at a place has got the message there. */
function hasGot(got: Place | undefined, { volume, number }: Place): boolean {
  return got?.volume === volume && got.number >= number;
}
