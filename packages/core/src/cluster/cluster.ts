import { type ChannelName, defined, type Json, type Member } from '@nine-bells/wire';
import type { TimerWheel } from '../lib/timerWheel.js';
import type {
  ChannelInfo,
  LocalAnswers,
  Membership,
  MembersQuery,
  SessionInfo,
  SessionsWish,
  SessionVisitor,
  TraceFound,
  UserActivity,
} from '../model/info.js';
import type { InstanceInfo, InstanceQuestion, InstanceStatus } from '../model/instance.js';
import type { Table, TableEntry } from '../model/memberTable.js';
import type { ModerationAction } from '../model/moderation.js';
import { defaultPresence } from '../model/presenceRule.js';
import type { RefusalKind } from '../model/refusal.js';
import { availability } from '../model/status.js';
import type { StaysHere, Trace } from '../model/trace.js';
import type { Traffic } from '../model/traffic.js';
import type { Others, Relay } from '../ports/relay.js';
import { Presence } from '../presence/presence.js';
import { fatesOf, sentenceOf } from '../record/fates.js';
import { joinedRefusals } from '../record/refusals.js';
import { joinedTraffic } from './joinedTraffic.js';
import { answerOf } from './questions.js';
import { sessionsFor } from './sessionList.js';

/** Timeout for answers of other instances, in milliseconds. */
const askWithinMs = 1_000;

export interface ClusterHost {
  /** This instance's name. */
  readonly name: string;
  /** Answers of this instance. */
  readonly own: LocalAnswers;
  readonly relay: Relay;
  readonly wheel: TimerWheel;
  /** What this instance says of itself. */
  readonly status: () => InstanceStatus;
}

/** Answers of all instances. */
export type Gathered<T> = T & {
  /** The names of instances that did not answer in time: what they know is missing. */
  readonly missing: readonly string[];
};

/** Asks all instances of the service, this one included, and puts their answers together. */
export class Cluster {
  readonly #name: string;
  readonly #own: LocalAnswers;
  readonly #relay: Relay;
  readonly #others: Others | undefined;
  readonly #wheel: TimerWheel;
  readonly #status: () => InstanceStatus;
  /** Names claimed where there are no other instances. */
  readonly #claimed = new Set<string>();

  constructor({ name, own, relay, wheel, status }: ClusterHost) {
    this.#name = name;
    this.#own = own;
    this.#relay = relay;
    this.#others = relay.others;
    this.#wheel = wheel;
    this.#status = status;
  }

  /** What this instance says of itself. */
  get status(): InstanceStatus {
    return this.#status();
  }

  /** The instances of the service, this one included, by name. */
  get instances(): readonly InstanceInfo[] {
    const here = { ...this.status, instanceId: this.#others?.self ?? this.#name, isThis: true, leaseMs: 0 };
    const all = this.#others?.list() ?? [];
    return all.some(({ isThis }) => isThis) ? all : [here, ...all];
  }

  /** Texts of other instances, and of this one's own that come back, that the relay has handed to this one. */
  get relayedTexts(): number {
    return this.#others?.heard ?? 0;
  }

  /** Has all instances read again which API keys there are. */
  async keysChanged(): Promise<void> {
    await this.#relay.control.append({ type: 'keys-changed' });
  }

  /** Claims a name for `ttlMs` on all instances. Resolves to `false` if an earlier claim is still valid. */
  async claim(name: string, ttlMs: number): Promise<boolean> {
    if (this.#others !== undefined) return this.#others.claim(name, ttlMs);
    if (this.#claimed.has(name)) return false;
    this.#claimed.add(name);
    this.#wheel.after(ttlMs, () => this.#claimed.delete(name));
    return true;
  }

  /** Answers what another instance asks. */
  answer(question: InstanceQuestion): Json | Promise<Json> {
    return answerOf(this.#own, question);
  }

  /** The sessions that are connected, each at its instance. */
  async sessions(wish: SessionsWish): Promise<Gathered<{ sessions: readonly SessionInfo[] }>> {
    const question = { type: 'sessions', ...wish } as const;
    const { all, missing } = await this.#ask<readonly SessionInfo[]>(question, this.#own.sessions(wish));
    return { sessions: sessionsFor(all.flat(), wish), missing };
  }

  /** Returns a page of a channel's members, and how many there are. */
  async members(
    channel: ChannelName,
    query: MembersQuery,
  ): Promise<Gathered<{ members: readonly Member[]; count: number }>> {
    const { all, missing } = await this.#ask<Table | null>({ type: 'table', channel }, this.#own.table(channel));
    const present = shown(
      channel,
      all.flatMap((table) => table?.entries ?? []),
    );
    return { members: present.page(query), count: present.count, missing };
  }

  /** Returns the channels where a user is a member, by name. */
  async memberships(user: string): Promise<Gathered<{ channels: readonly Membership[] }>> {
    type Entered = readonly { channel: ChannelName; entries: readonly TableEntry[] }[];
    const { all, missing } = await this.#ask<Entered>({ type: 'memberships', user }, this.#own.memberships(user));
    const entries = new Map<ChannelName, TableEntry[]>();
    for (const each of all.flat()) entries.set(each.channel, [...(entries.get(each.channel) ?? []), ...each.entries]);
    const channels = [...entries].flatMap(([channel, some]) => {
      const member = shown(channel, some).member(user);
      return member === undefined ? [] : { channel, member };
    });
    return { channels: channels.sort((a, b) => (a.channel < b.channel ? -1 : 1)), missing };
  }

  /** Returns the number of clients that have entered a channel. */
  async entrants(channel: ChannelName): Promise<number> {
    const { all } = await this.#ask<number>({ type: 'entrants', channel }, this.#own.entrants(channel));
    return all.reduce((sum, each) => sum + each, 0);
  }

  /** Channels that clients have entered, with how many clients, by name. */
  async entered(
    after: string,
    limit: number,
    find?: string,
  ): Promise<Gathered<{ channels: ReadonlyMap<ChannelName, ChannelInfo> }>> {
    const question = { type: 'channels', after, limit, ...defined({ find }) } as const;
    const { all, missing } = await this.#ask<readonly ChannelInfo[]>(question, this.#own.entered(after, limit, find));
    const channels = new Map<ChannelName, ChannelInfo>();
    for (const each of all.flat()) {
      const known = channels.get(each.channel);
      channels.set(each.channel, known === undefined ? each : { ...known, entered: known.entered + each.entered });
    }
    return { channels, missing };
  }

  /** Returns the user and address of a session. */
  async visitor(session: string): Promise<SessionVisitor | undefined> {
    const here = this.#own.visitor(session);
    if (here !== null || this.#others === undefined) return here ?? undefined;
    const { all } = await this.#ask<SessionVisitor | null>({ type: 'visitor', session }, null);
    return all.find((each) => each !== null) ?? undefined;
  }

  /** Returns refusals by kind, latest first. */
  async refusals(): Promise<Gathered<{ refusals: readonly RefusalKind[] }>> {
    const { all, missing } = await this.#ask<readonly RefusalKind[]>({ type: 'refusals' }, this.#own.refusals());
    return { refusals: joinedRefusals(all), missing };
  }

  /** Returns the traffic of all instances. */
  async traffic(): Promise<Gathered<Traffic>> {
    const { all, missing } = await this.#ask<Traffic>({ type: 'traffic' }, this.#own.traffic());
    return { ...joinedTraffic(all), missing };
  }

  /** Returns the number of sessions that an action concerns. */
  async concerned(action: ModerationAction): Promise<number> {
    const { all } = await this.#ask<number>({ type: 'concerned', action }, this.#own.concerned(action));
    return all.reduce((sum, each) => sum + each, 0);
  }

  /** The address of the other instance that a session is connected to; `undefined` if none has it. */
  async homeOf(session: string): Promise<string | undefined> {
    if (this.#others === undefined) return undefined;
    const { answers } = await this.#others.ask<SessionVisitor | null>({ type: 'visitor', session }, askWithinMs);
    const instanceId = answers.find(({ answer }) => answer !== null)?.instanceId;
    return this.instances.find((each) => each.instanceId === instanceId)?.address;
  }

  /** Returns the activity of users who are connected to any instance. */
  async activityOf(
    users: readonly string[],
    channel?: ChannelName,
  ): Promise<Gathered<{ users: ReadonlyMap<string, UserActivity> }>> {
    const question = { type: 'activity', users, ...defined({ channel }) } as const;
    const own = this.#own.activityOf(users, channel);
    const { all, missing } = await this.#ask<Readonly<Record<string, UserActivity>>>(question, own);
    const merged = new Map<string, UserActivity>();
    for (const each of all)
      for (const [user, activity] of Object.entries(each)) {
        const known = merged.get(user);
        merged.set(user, known === undefined ? activity : both(known, activity));
      }
    return { users: merged, missing };
  }

  /**
   * What became of a message, and if a user is named, what became of it for that user's sessions; `undefined` if no
   * instance remembers it.
   */
  async trace(id: string, user?: string): Promise<Trace | undefined> {
    const found = await this.#askNamed<TraceFound>({ type: 'trace', id }, this.#own.trace(id));
    const accepted = found.all.flatMap(({ instance, answer }) =>
      answer.accepted ? { ...answer.accepted, instance } : [],
    )[0];
    const instances = found.all
      .flatMap(({ instance, answer }) => (answer.handed ? { ...answer.handed, instance } : []))
      .sort((a, b) => a.atMs - b.atMs);
    const known = accepted ?? instances[0];
    if (known === undefined) return undefined;
    const { channel, cursor } = known;
    const trace: Trace = {
      id,
      channel,
      cursor,
      ...defined({ accepted }),
      instances,
      missing: found.missing,
      sentence: sentenceOf(accepted, instances),
    };
    if (user === undefined) return trace;
    const stays = await this.#askNamed<StaysHere>(
      { type: 'stays', user, channel },
      await this.#own.stays(user, channel),
    );
    const atMs = instances[0]?.atMs ?? known.atMs;
    const except = found.all.flatMap(({ answer }) => answer.except ?? []);
    const message = found.all.map(({ answer }) => answer.message).find((each) => each !== undefined);
    const answers = stays.all.map(({ instance, answer }) => ({ instance, ...answer }));
    const handedAtMs = new Map(instances.map(({ instance, atMs: cameMs }) => [instance, cameMs]));
    const { fates, earlier } = fatesOf({ channel, cursor, atMs, handedAtMs, except, message }, answers);
    const sentence =
      fates.length === 0
        ? `${user} did not get it: no session of this user is known`
        : fates.map((each) => each.sentence).join('; ');
    return {
      ...trace,
      missing: [...new Set([...trace.missing, ...stays.missing])],
      user: { user, fates, earlier, sentence },
    };
  }

  async #askNamed<T>(
    question: InstanceQuestion,
    own: T,
  ): Promise<{ all: readonly { instance: string; answer: T }[]; missing: readonly string[] }> {
    const here = { instance: this.#name, answer: own };
    if (this.#others === undefined) return { all: [here], missing: [] };
    const { answers, missing } = await this.#others.ask<T>(question, askWithinMs);
    return { all: [here, ...answers], missing };
  }

  async #ask<T>(question: InstanceQuestion, own: T): Promise<{ all: readonly T[]; missing: readonly string[] }> {
    if (this.#others === undefined) return { all: [own], missing: [] };
    const { answers, missing } = await this.#others.ask<T>(question, askWithinMs);
    return { all: [own, ...answers.map(({ answer }) => answer)], missing };
  }
}

function both(a: UserActivity, b: UserActivity): UserActivity {
  return {
    status: availability(b.status) < availability(a.status) ? b.status : a.status,
    isLooking: a.isLooking || b.isLooking,
    isIn: a.isIn || b.isIn,
  };
}

/** Entries of several instances as the members that they are. */
function shown(channel: ChannelName, entries: readonly TableEntry[]): Presence {
  const presence = new Presence(channel, defaultPresence, {
    now: () => 0,
    after: () => () => {},
    tell: () => {},
    noted: () => {},
    empty: () => {},
  });
  for (const entry of entries) presence.hear('somewhere', { entry });
  return presence;
}
