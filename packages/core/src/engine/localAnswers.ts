import { type ChannelName, defined, formatCursor, type Place, problem } from '@nine-bells/wire';
import type { Access } from '../access/access.js';
import type { Channels } from '../channel/channels.js';
import type { TrafficLog } from '../channel/traffic.js';
import { sessionsFor } from '../cluster/sessionList.js';
import { hasText } from '../lib/text.js';
import type { LocalAnswers } from '../model/info.js';
import type { StaysHere } from '../model/trace.js';
import type { Moderation } from '../moderation/moderation.js';
import type { Presences } from '../presence/presences.js';
import type { Watching } from '../presence/watching.js';
import type { Refusals } from '../record/refusals.js';
import type { Traces } from '../record/traces.js';
import type { ChannelRules } from '../rules/channelRule.js';
import type { Connected, ConnectedSession } from '../session/connected.js';

/** What an instance looks in to answer. */
export interface LocalAnswersHost {
  readonly instance: string;
  readonly rules: ChannelRules;
  readonly access: Access;
  readonly channels: Channels;
  readonly presences: Presences;
  readonly connected: Connected;
  readonly watching: Watching;
  readonly traces: Traces;
  readonly refusals: Refusals;
  readonly traffic: TrafficLog;
  readonly moderation: () => Moderation;
}

/** What this instance tells the others of itself. */
export function localAnswersOf(parts: LocalAnswersHost): LocalAnswers {
  const { instance, channels, presences, connected, watching, traces } = parts;
  return {
    table: (channel) => presences.tableOf(channel),
    memberships: (user) => presences.entriesOf(user),
    sessions: (wish) => sessionsFor(connected.sessions(instance), wish),
    visitor: (session) => {
      for (const { client, address } of connected)
        if (client?.session === session) return { who: client.who, address: address ?? null };
      return null;
    },
    entrants: (channel) => channels.get(channel)?.recipients ?? 0,
    entered: (after, limit, find = '') =>
      [...channels]
        .filter(({ name, recipients }) => recipients > 0 && name > after && hasText(name, find))
        .sort((a, b) => (a.name < b.name ? -1 : 1))
        .slice(0, limit)
        .map(({ name }) => channels.describe({ channel: name })),
    activityOf: (users, channel) =>
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
    concerned: (action) => parts.moderation().concernedHere(action).length,
    refusals: () => parts.refusals.all,
    traffic: () => parts.traffic.here,
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

async function stayOf(
  { rules, access }: LocalAnswersHost,
  client: ConnectedSession,
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
    ...defined({ name: who.name }),
    ...(who.workbench === undefined ? {} : { workbench: true }),
    isIn,
    ...(got === undefined ? {} : { got: formatCursor(got) }),
    ...defined({ refused }),
  };
}

/** Whether a client at a place has received the message there. */
function hasGot(got: Place | undefined, { volume, number }: Place): boolean {
  return got?.volume === volume && got.number >= number;
}
