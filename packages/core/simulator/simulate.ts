import { type ChannelRule, type Contract, Engine, type Identity, type ReportedEvent } from '@nine-bells/core';
import { type EveryStore, storeOf } from '@nine-bells/core/testing';
import { type ChannelName, channelName, filterFits, type Json, parseCursor } from '@nine-bells/wire';
import { boardChannels, boardRules, checkBoards } from './checkBoards.js';
import { checkMentions } from './checkMentions.js';
import { checkReactions } from './checkReactions.js';
import { checkReplies } from './checkReplies.js';
import { checkSearch } from './checkSearch.js';
import { checkThreads } from './checkThreads.js';
import { FaultyRelay, SlowStore, Truth } from './faultyPorts.js';
import { HostileClient } from './hostileClient.js';
import { mac, Random, randomIds } from './random.js';
import { RestorableRecords } from './restorableRecords.js';
import { calls, checkCalls, SimulatedApplication } from './simulatedApplication.js';
import { SimulatedClient, type Stretch } from './simulatedClient.js';
import type { Sabotage } from './simulatedNetwork.js';
import { SimulatedReview, watchedChannel, watchedRule } from './simulatedReview.js';
import { hooks, intakes, SimulatedReceiver, SimulatedSender } from './simulatedWebhooks.js';
import { toleratedEvents } from './toleratedEvents.js';
import { VirtualClock } from './virtualClock.js';

export interface SimulationOptions {
  /** How long the clients talk, in simulated milliseconds. Default 20,000. */
  readonly durationMs?: number;
  /** Breaks the service on purpose, so that the simulator must find it. */
  readonly sabotage?: Sabotage;
  /** Is told what happens, line by line, with the simulated time. */
  readonly tell?: (line: string) => void;
}

/** What happened in a run, for people to see that it was not idle. */
export interface Outcome {
  readonly seed: number;
  readonly clients: number;
  readonly published: number;
  readonly seen: number;
  /** Changes of boards that were acknowledged. */
  readonly sets: number;
  /** Changes of messages that were made. */
  readonly changed: number;
  /** Messages with reactions, of which all who were there in the end knew how many. */
  readonly reacted: number;
  /** Blocks, and their ends, that were acknowledged. */
  readonly blocked: number;
  /** Replies that are there in the end. */
  readonly replied: number;
  /** Notices of mentions in the end. */
  readonly mentioned: number;
  /** Messages that are found in the end, by the word of their last change. */
  readonly found: number;
  /** Messages that a moderator has looked at. */
  readonly held: number;
  /** Threads whose followers have the final state. */
  readonly followed: number;
  /** Calls that were answered. */
  readonly called: number;
  readonly cuts: number;
  readonly restarts: number;
  /** Restores of the store from a backup. */
  readonly restores: number;
  /** Connections that the service cut off as too slow. */
  readonly cutOff: number;
  readonly gaps: number;
  /** Times that the service has closed the connection of a hostile client. */
  readonly hostileClosed: number;
}

/** A contract that one act of the clients does not fit. */
export const noMisfit: Contract = {
  fits: (data) => !(typeof data === 'object' && data !== null && 'misfit' in data),
  faults: () => [{ where: '/misfit', expected: 'no member of this name' }],
};

const allow = { enter: 'anyone', publish: 'anyone', revise: 'anyone', withdraw: 'anyone', react: 'anyone' } as const;

const rules: readonly ChannelRule[] = [
  ...boardRules,
  {
    pattern: 'kept/:n',
    logbook: { type: 'kept' },
    reactions: { kinds: 3, each: 2 },
    hasReplies: true,
    hasMentions: true,
    searched: ['/mark'],
    allow,
    types: { message: noMisfit },
    open: true,
  },
  {
    pattern: 'recent/:n',
    logbook: { type: 'recent', bounds: { messages: 1000, forMs: 600_000 } },
    allow,
  },
  {
    pattern: 'short/:n',
    logbook: { type: 'recent', bounds: { messages: 5, forMs: 4_000 } },
    allow,
  },
  watchedRule(allow),
  // Where only hostile clients are.
  {
    pattern: 'noise/:n',
    logbook: { type: 'recent', bounds: { messages: 1000, forMs: 600_000 } },
    allow: { enter: 'anyone' },
  },
];
/** Bounds that a hostile client reaches within a few simulated seconds. */
const tight = {
  waiting: { totalBytes: 400_000, idleMs: 3_000, bytesPerS: 100_000 },
  tailsChars: 200_000,
  newChannelsPerAddress: { count: 60, perMs: 10_000 },
};
const tolerated = new Set<ReportedEvent>([...toleratedEvents, 'approved-unpublished', 'review-failed']);
const channels = [...['kept/1', 'kept/2', 'recent/1', 'short/1', watchedChannel].map(channelName), ...boardChannels];

/**
 * Lets two to ten clients talk for some simulated time through a network that is cut, a relay that loses, a store that
 * is slow and fails, and a service that crashes; then heals everything and checks the promises.
 *
 * @throws {Error} with the seed, when a promise was broken; the same seed repeats the run exactly
 */
export async function simulate(seed: number, options: SimulationOptions = {}): Promise<Outcome> {
  try {
    return await run(seed, options);
  } catch (error) {
    throw new Error(`seed ${seed}: ${(error as Error).message}`, { cause: error });
  }
}

async function run(seed: number, { durationMs = 20_000, sabotage, tell }: SimulationOptions): Promise<Outcome> {
  const random = new Random(seed);
  const clock = new VirtualClock(random.chance(0.5) ? 1 : 10);
  const truth = new Truth();
  const startedMs = clock.monotonic();
  const note = (what: () => string): void =>
    tell?.(`${String(clock.monotonic() - startedMs).padStart(6)} ms  ${what()}`);
  const ids = randomIds(random);
  const records = new RestorableRecords(ids);
  const store = new SlowStore(clock, random, ids, truth, records.store);
  const problems: unknown[] = [];
  let relay = new FaultyRelay(clock, random, ids, truth);
  let engine: Engine | undefined;
  const receiver = new SimulatedReceiver(clock, random);
  const application = new SimulatedApplication(clock, random);
  const review = new SimulatedReview(clock, random, store);
  const sender = new SimulatedSender(clock, random, () => engine);
  const restartedAt = { count: 0 };
  /** Restores of the store from a backup, so far. */
  let restores = 0;
  const pruned = new Set<string>();
  let bounds = { sendQueueBytes: 0, backlogBytes: 0 };
  let engineSinceMs = 0;
  /** Processes so far, and their ends. */
  let runs = 0;

  const start = (): void => {
    bounds = {
      sendQueueBytes: random.pick([4_000, 1_048_576]),
      backlogBytes: random.pick([600, 3_000, 1_048_576]),
    };
    note(() => `the service starts, ${JSON.stringify(bounds)}`);
    relay = new FaultyRelay(clock, random, ids, truth);
    engineSinceMs = clock.monotonic();
    runs += 1;
    const run = runs;
    const isAlive = (): boolean => run === runs;
    engine = new Engine(
      {
        clock,
        ids,
        relay,
        store: storeOf(mortal(store.every, isAlive)),
        hmac: { sign: (text) => mac(text), matches: (text, given) => mac(text) === given, digest: mac },
        tokens: {
          read: async (token): Promise<Identity> => ({ user: token, name: token, guest: false, roles: [], claims: {} }),
        },
        hookCaller: receiver.caller(isAlive),
        callAsker: application.asker(isAlive),
        reviewer: review.reviewer,
        bodyOf: (_, { body }) => JSON.parse(body) as Json,
        report: (error, about) => {
          if (!tolerated.has(about.event)) problems.push(error);
        },
      },
      rules,
      {
        pulseMs: 2_000,
        ...bounds,
        tailMessages: random.pick([2, 16, 256]),
        channelLingerMs: random.pick([0, 3_000]),
        publishesUnderWay: random.pick([1, 256]),
        reactionsAtOnce: random.pick([1, 2, 500]),
        ...tight,
        hooks,
        intakes,
        calls,
      },
    );
  };
  start();

  const hostile = Array.from(
    { length: random.pick([0, 0, 0, 0, 0, 0, 1, 2]) },
    (_, index) => new HostileClient(`hostile-${index}`, random, () => engine && { engine }),
  );
  const clients = Array.from(
    { length: random.between(2, 10) },
    (_, index) =>
      new SimulatedClient(`client-${index}`, clock, random, () => engine && { engine }, sabotage, note, truth),
  );
  for (const client of clients) clock.setTimer(random.between(0, 1000), () => client.connect());

  let cuts = 0;
  const crashes = random.chance(0.3);
  for (const endMs = clock.monotonic() + durationMs; clock.monotonic() < endMs; ) {
    for (const each of hostile) each.act();
    await clock.run(random.between(1, 150));
    checkQueues();
    checkMemory();
    const client = random.pick(clients);
    const channel = random.pick(channels);
    const dice = random.next();
    if (dice < 0.3) client.publish(channel, random.chance(0.7));
    else if (dice < 0.35) client.reply();
    else if (dice < 0.39) client.change();
    else if (dice < 0.43) client.react();
    else if (dice < 0.44) client.block(clients);
    else if (dice < 0.5) client.set(boardChannels);
    else if (dice < 0.52) review.act(engine);
    else if (dice < 0.55) sender.post();
    else if (dice < 0.56) client.misfit(channelName(`kept/${random.between(1, 2)}`));
    else if (dice < 0.6) client.call(channelName(`kept/${random.between(1, 2)}`));
    else if (dice < 0.85) client.enter(channel, random.pick([undefined, 0, 3, 50]));
    else if (dice < 0.88 && client.channels.length > 0) client.leave(random.pick(client.channels));
    else if (dice < 0.96) {
      client.cut();
      cuts += 1;
    } else if (dice < 0.97) {
      client.goAway();
      clock.setTimer(random.between(100, 3000), () => client.connect());
    } else if (dice < 0.975) clock.jump(random.pick([-3_600_000, -700, 900, 86_400_000]));
    else if (dice < 0.985 && crashes) {
      // The process ends without a word: every connection breaks, and what was in memory is gone.
      engine = undefined;
      runs += 1;
      store.crash();
      restartedAt.count += 1;
      note(() => 'the service crashes');
      for (const each of clients) each.cut();
      if (random.chance(0.2)) await restore();
      clock.setTimer(random.between(10, 1000), () => {
        if (engine === undefined) start();
      });
    } else if (dice >= 0.985 && dice < 0.99) {
      const left = random.between(0, 20);
      const channel = channelName(`kept/${random.between(1, 2)}`);
      pruned.add(channel);
      void store.pruneAllBut(left, channel);
    }
  }

  await heal();
  if (engine !== undefined) await review.finish(engine);
  await clock.run(2_000);
  // A restored store may have forgotten what was acknowledged, and does what was done again.
  const held = restores === 0 ? await review.check(clients, truth) : 0;
  let replied = 0;
  for (const channel of channels)
    if (channel.startsWith('kept/') && engine !== undefined)
      replied += await checkReplies(engine, channel, truth, clock);
  let found = 0;
  // What an engine had not made searchable when it ended is found within a minute.
  for (const channel of channels)
    if (channel.startsWith('kept/') && engine !== undefined && restartedAt.count === 0)
      found += await checkSearch(engine, channel, clock);
  // An instance that dies may have taken a message back, and its notices not yet.
  const mentioned = engine !== undefined && restartedAt.count === 0 ? await checkMentions(engine, truth, clock) : 0;
  let reacted = 0;
  let followed = 0;
  for (const client of clients) {
    checkClient(client, truth, restartedAt.count > 0, restores > 0);
    if (restores === 0) checkCalls(client.name, client.calls, truth);
    checkChanges(client, truth, restartedAt.count > 0, restores > 0);
    reacted += await checkReactions(client, store.committed);
    if (engine !== undefined) followed += await checkThreads(client, engine, clock, pruned);
  }
  const [twice] = application.askedTwice;
  if (twice !== undefined) throw new Error(`the call ${twice} was asked twice at a time`);
  checkBoards(clients, truth.boards);
  if (restores === 0) {
    sender.check(truth);
    const kept = channels.filter((each) => each.startsWith('kept/'));
    receiver.check(truth, kept, true);
  }
  if (problems.length > 0) throw problems[0];
  return {
    seed,
    clients: clients.length,
    published: clients.reduce((sum, client) => sum + client.publishes.length, 0),
    seen: clients.reduce((sum, client) => sum + seenBy(client), 0),
    sets: clients.reduce((sum, client) => sum + client.acknowledgedSets, 0),
    changed: clients.reduce((sum, client) => sum + changedBy(client, truth), 0),
    reacted,
    replied,
    mentioned,
    found,
    held,
    followed,
    blocked: clients.reduce((sum, { blocks }) => sum + blocks.acknowledged, 0),
    called: clients.reduce((sum, client) => sum + client.calls.length, 0),
    cuts,
    restarts: restartedAt.count,
    restores,
    cutOff: clients.reduce((sum, client) => sum + client.cutOff, 0),
    gaps: clients.reduce((sum, client) => sum + client.gaps.length, 0),
    hostileClosed: hostile.reduce((sum, { closings }) => sum + closings, 0),
  };

  /** Restores the store to an earlier moment, while no process runs. */
  async function restore(): Promise<void> {
    restores += 1;
    note(() => 'the service: its store is restored from a backup');
    await records.restore(random.between(50, 100) / 100, ({ logged }) => truth.add(logged));
    for (const each of [sender, ...clients.map(({ blocks }) => blocks)]) each.restored();
  }

  /** What waits for all together, and what is held of messages and channels, stays bounded whatever a hostile client does. */
  function checkMemory(): void {
    if (engine === undefined) return;
    const { waitingBytes, heldChars, openChannels } = engine.stats;
    // Between two looks of the budget each connection may get one more reply.
    const most = tight.waiting.totalBytes * 1.25 + (clients.length + hostile.length) * (bounds.backlogBytes + 4_000);
    if (waitingBytes > most) throw new Error(`${waitingBytes} bytes wait for all connections, at most ${most} may`);
    if (heldChars > tight.tailsChars) throw new Error(`${heldChars} characters of messages are held ready`);
    // A hostile client that comes back as a new session still comes from its address.
    const { count, perMs } = tight.newChannelsPerAddress;
    const opened = channels.length + 1 + count + (clock.monotonic() - engineSinceMs) * (count / perMs);
    if (openChannels > opened) throw new Error(`${openChannels} channels are open, at most ${opened} may be`);
  }

  /** No queue holds more than the bounds allow: pushes, those behind a hello that is being answered, and replies. */
  function checkQueues(): void {
    // The answer to a hello has a few words for each channel that it names.
    const most = 2 * (bounds.sendQueueBytes + bounds.backlogBytes) + (hostile.length > 0 ? 60_000 : 20_000);
    for (const { session, waitingBytes } of engine?.stats.sessions ?? [])
      if (waitingBytes > most)
        throw new Error(`${waitingBytes} bytes wait for session ${session}, at most ${most} may`);
  }

  /** Ends all faults and waits until all clients have everything: one more message in each channel shows any hole. */
  async function heal(): Promise<void> {
    store.faults = false;
    receiver.faults = false;
    application.faults = false;
    review.faults = false;
    for (const client of clients) client.calmDown();
    // A client that does not read just now has begun again by then, or was cut off.
    await clock.run(21_000);
    relay.faults = false;
    for (const client of clients) client.connect();
    await clock.run(15_000);
    for (const channel of channels)
      await Promise.race([engine?.messages.publish({ channel, data: 'the last' }), clock.run(1000)]);
    const last = { entry: 'last', value: { by: 'the service', n: 0 } };
    for (const channel of boardChannels) await Promise.race([engine?.boards.set(channel, last), clock.run(1000)]);
    await clock.run(15_000);
    for (const client of clients) if (!client.isOpen) throw new Error(`${client.name} is not connected in the end`);
  }
}

/** A store as a process has it: when the process has ended, it neither asks nor hears an answer. */
function mortal(store: EveryStore, isAlive: () => boolean): EveryStore {
  const never = new Promise<never>(() => {});
  return new Proxy(store, {
    get: (target, name) => {
      const method = target[name as keyof EveryStore] as (...given: unknown[]) => Promise<unknown>;
      return async (...args: unknown[]) => {
        if (!isAlive()) return never;
        const result = await method.apply(target, args).then(
          (value: unknown) => ({ value }),
          (error: unknown) => ({ error }),
        );
        if (!isAlive()) return never;
        if ('error' in result) throw result.error;
        return result.value;
      };
    },
  });
}

export function seenBy(client: SimulatedClient): number {
  return client.stretches.reduce((sum, stretch) => sum + stretch.seen.length, 0);
}

/** Checks what a client saw against what was logged. */
export function checkClient(client: SimulatedClient, truth: Truth, restarted: boolean, restored = false): void {
  const last = new Map<ChannelName, Stretch>();
  for (const stretch of client.stretches) {
    last.set(stretch.channel, stretch);
    checkStretch(client, truth, stretch, false);
  }
  for (const channel of client.channels) checkStretch(client, truth, last.get(channel) as Stretch, true);

  for (const { channel, key, acknowledged, isRefused, pending } of client.publishes) {
    if (pending !== undefined) continue;
    const count = truth.withKey(channel, key);
    const mayRepeat = restored || (restarted && !channel.startsWith('kept/'));
    if (isRefused) {
      if (count > 0 && !restored) throw new Error(`${client.name}: ${key} in ${channel} was refused and is logged`);
      continue;
    }
    if (!acknowledged) throw new Error(`${client.name}: ${key} in ${channel} was never acknowledged`);
    if (count === 0) throw new Error(`${client.name}: ${key} in ${channel} was acknowledged and is lost`);
    if (count > 1 && !mayRepeat) throw new Error(`${client.name}: ${key} in ${channel} was logged ${count} times`);
  }
}

/** A stretch has every message of the log from its start to its last one, or to the log's end, and nothing else. */
function checkStretch(client: SimulatedClient, truth: Truth, stretch: Stretch, toTheEnd: boolean): void {
  const { volume, number } = stretch.from;
  const log = truth.log(stretch.channel, volume);
  const lastSeen = stretch.seen.at(-1)?.cursor;
  const end = toTheEnd ? log.length : log.findIndex((each) => each.message.cursor === lastSeen) + 1;
  const own = (session: string): boolean => client.sessions.has(session);
  const seen = new Set(stretch.seen.map((each) => each.cursor));
  const known = new Set(log.map((each) => each.message.cursor));
  const { filter } = stretch;
  const standing = truth.standing(stretch.channel, volume);
  for (const logged of log.slice(number, Math.max(end, number)))
    if (
      logged.isMessage &&
      !seen.has(logged.message.cursor) &&
      !logged.except?.some(own) &&
      !client.blocks.mayHide(logged.message, truth.countAt(stretch.channel, logged.place)) &&
      (filter === undefined || filterFits(filter, logged.message)) &&
      // One that came late may have been read when it no longer fitted.
      (filter?.where === undefined || standing.get(logged.place.number)?.revision === undefined)
    )
      throw new Error(
        `${client.name}: ${stretch.channel}: ${logged.message.cursor} is missing, in silence, from a stretch of ${stretch.seen.length} after ${number}`,
      );
  for (const message of stretch.seen)
    if (!known.has(message.cursor)) throw new Error(`${client.name}: ${message.cursor} was seen and never logged`);
  if (!toTheEnd) return;
  // All who are there agree how each message stands.
  for (const message of stretch.seen) {
    if (client.blocks.knowsLess(message)) continue;
    const stands = standing.get(parseCursor(message.cursor)?.number ?? 0);
    if (JSON.stringify([message.data, message.revision]) !== JSON.stringify([stands?.data, stands?.revision]))
      throw new Error(
        `${client.name}: ${stretch.channel}: ${message.cursor} stands as ${JSON.stringify(stands)}, and was told last as ${JSON.stringify(message)}`,
      );
  }
}

/** Nothing is changed twice, and each change was made or can be made no more. */
export function checkChanges(client: SimulatedClient, truth: Truth, restarted: boolean, restored = false): void {
  for (const { channel, mark, ended } of client.changes) {
    const count = truth.changesWith(channel, mark);
    const mayRepeat = restored || (restarted && !channel.startsWith('kept/'));
    if (!ended) throw new Error(`${client.name}: ${mark} in ${channel} was never answered`);
    if (count > 1 && !mayRepeat) throw new Error(`${client.name}: ${mark} in ${channel} was made ${count} times`);
  }
}

export function changedBy(client: SimulatedClient, truth: Truth): number {
  return client.changes.reduce((sum, { channel, mark }) => sum + truth.changesWith(channel, mark), 0);
}
