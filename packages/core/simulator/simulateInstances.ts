import {
  type ChannelRule,
  Engine,
  type Identity,
  type Ids,
  type LogBounds,
  type Report,
  type ReportedEvent,
  SharedRelay,
} from '@nine-bells/core';
import { MemoryStore, storeOf } from '@nine-bells/core/testing';
import { channelName, type Json } from '@nine-bells/wire';
import { boardChannels, boardRules, checkBoards } from './checkBoards.js';
import { checkMentions } from './checkMentions.js';
import { checkReactions } from './checkReactions.js';
import { checkReplies } from './checkReplies.js';
import { checkSearch } from './checkSearch.js';
import { FaultyExchange, TrueHub } from './faultyExchange.js';
import { SlowStore, Truth } from './faultyPorts.js';
import { PausableClock } from './pausableClock.js';
import { mac, Random, randomIds } from './random.js';
import { changedBy, checkChanges, checkClient, noMisfit, type SimulationOptions, seenBy } from './simulate.js';
import { calls, checkCalls, SimulatedApplication } from './simulatedApplication.js';
import { SimulatedClient } from './simulatedClient.js';
import type { Reached } from './simulatedNetwork.js';
import { hooks, intakes, SimulatedReceiver, SimulatedSender } from './simulatedWebhooks.js';
import { toleratedEvents } from './toleratedEvents.js';
import { VirtualClock } from './virtualClock.js';
import { WritersLock } from './writersLock.js';

/** What happened in a run with several instances. */
export interface InstancesOutcome {
  readonly seed: number;
  readonly instances: number;
  readonly published: number;
  readonly seen: number;
  /** Changes of boards that were acknowledged. */
  readonly sets: number;
  /** Changes of messages that were made. */
  readonly changed: number;
  /** As in `Outcome`. */
  readonly reacted: number;
  /** Blocks, and their ends, that were acknowledged. */
  readonly blocked: number;
  /** Replies that are there in the end. */
  readonly replied: number;
  /** Notices of mentions in the end. */
  readonly mentioned: number;
  /** As in `Outcome`. */
  readonly found: number;
  /** Calls that were answered. */
  readonly called: number;
  /** Events that the receiver of hooks has taken. */
  readonly taken: number;
  readonly kills: number;
  readonly pauses: number;
  readonly partitions: number;
  /** How often the exchange came back empty. */
  readonly emptied: number;
  /** How often a replica took over that was behind. */
  readonly failovers: number;
  /** How often the record of a channel was gone. */
  readonly evictions: number;
  /** How often a transaction was lost because its instance had stopped in it. */
  readonly brokenTransactions: number;
  readonly bans: number;
  /** Users that were erased. */
  readonly erasures: number;
  readonly gaps: number;
}

const bounds: LogBounds = { messages: 1000, forMs: 600_000 };
const open = { enter: 'anyone', publish: 'anyone', revise: 'anyone', withdraw: 'anyone', react: 'anyone' } as const;
const rules: readonly ChannelRule[] = [
  ...boardRules,
  {
    pattern: 'kept/:n',
    logbook: { type: 'kept' },
    reactions: { kinds: 3, each: 2 },
    hasReplies: true,
    hasMentions: true,
    searched: ['/mark'],
    allow: open,
    types: { message: noMisfit },
    open: true,
  },
  { pattern: 'recent/:n', logbook: { type: 'recent', bounds }, allow: open },
  {
    pattern: 'room/:n',
    logbook: { type: 'recent', bounds },
    presence: { graceMs: 10_000, crowd: 1_000 },
    allow: open,
  },
];
const channels = [...['kept/1', 'kept/2', 'recent/1', 'room/1'].map(channelName), ...boardChannels];
const tolerated = new Set<ReportedEvent>([
  ...toleratedEvents,
  'board-check-failed',
  'channel-check-failed',
  'decisions-unread',
  'erasure-interrupted',
  'erasure-resume-failed',
  'hook-lease-failed',
  'instance-question-failed',
  'relay-unreachable',
]);

const operator = { kind: 'service', id: 'simulation' } as const;
/** Issue time of all tokens, in milliseconds since the epoch: before the simulation begins. */
const tokensIssuedMs = 0;

/** One process of the service. */
class Instance implements Reached {
  readonly engine: Engine;
  readonly process: PausableClock;
  readonly exchange: FaultyExchange;
  readonly store: SlowStore;
  readonly gate: (act: () => void) => void;
  isDead = false;

  constructor(parts: {
    name: string;
    clock: VirtualClock;
    random: Random;
    ids: Ids;
    hub: TrueHub;
    truth: Truth;
    records: MemoryStore;
    lock: WritersLock;
    problems: unknown[];
    receiver: SimulatedReceiver;
    application: SimulatedApplication;
  }) {
    const { name, clock, random, ids, hub, truth, records, lock, problems, receiver, application } = parts;
    this.process = new PausableClock(clock);
    this.gate = this.process.gate;
    this.store = new SlowStore(this.process, random, ids, truth, records, lock);
    this.exchange = new FaultyExchange(hub, clock, this.process, random);
    const report: Report = (error, about) => {
      if (!tolerated.has(about.event)) problems.push(error);
    };
    this.engine = new Engine(
      {
        clock: this.process,
        ids,
        relay: new SharedRelay(this.exchange, this.process, {
          instance: name,
          incarnation: () => random.text(6),
          boundsOf: () => bounds,
          report,
        }),
        store: storeOf(this.store.every),
        hmac: { sign: mac, matches: (text, given) => mac(text) === given, digest: mac },
        tokens: {
          read: async (token): Promise<Identity> => ({
            user: token,
            name: token,
            guest: false,
            roles: [],
            claims: {},
            issuedAt: tokensIssuedMs,
          }),
        },
        hookCaller: receiver.caller(() => !this.isDead),
        callAsker: application.asker(() => !this.isDead),
        bodyOf: (_, { body }) => JSON.parse(body) as Json,
        report,
      },
      rules,
      {
        instance: name,
        pulseMs: 10_000,
        tailMessages: random.pick([2, 16, 256]),
        reactionsAtOnce: random.pick([1, 2, 500]),
        channelLingerMs: random.pick([0, 3_000]),
        hooks,
        intakes,
        calls,
      },
    );
  }
}

/**
 * Lets clients talk through two to four instances that are cut off from each other, stopped and killed, over an exchange
 * that delays, loses, doubles and comes back empty; then heals everything and checks the promises.
 *
 * @throws {Error} with the seed, when a promise was broken; the same seed repeats the run exactly
 */
export async function simulateInstances(seed: number, options: SimulationOptions = {}): Promise<InstancesOutcome> {
  try {
    return await run(seed, options);
  } catch (error) {
    throw new Error(`seed ${seed}: ${(error as Error).message}`, { cause: error });
  }
}

async function run(
  seed: number,
  { durationMs = 20_000, sabotage, tell }: SimulationOptions,
): Promise<InstancesOutcome> {
  const random = new Random(seed);
  const clock = new VirtualClock();
  const truth = new Truth();
  const startedMs = clock.monotonic();
  const note = (what: () => string): void =>
    tell?.(`${String(clock.monotonic() - startedMs).padStart(6)} ms  ${what()}`);
  const ids = randomIds(random);
  const records = new MemoryStore(ids);
  const problems: unknown[] = [];
  let hub = new TrueHub(truth, clock, ids);
  const lock = new WritersLock(clock);
  const receiver = new SimulatedReceiver(clock, random);
  const application = new SimulatedApplication(clock, random);
  const start = (name: string): Instance =>
    new Instance({ name, clock, random, ids, hub, truth, records, lock, problems, receiver, application });
  const instances = Array.from({ length: random.between(2, 4) }, (_, index) => start(`i${index + 1}`));
  const count = { kills: 0, pauses: 0, partitions: 0, emptied: 0, failovers: 0, evictions: 0, bans: 0, erasures: 0 };

  /** A load balancer: whoever connects comes to one of those that let it in. */
  const reach = (): Instance | undefined => {
    const there = instances.filter(({ isDead, engine }) => !isDead && engine.isOpen);
    return there.length === 0 ? undefined : random.pick(there);
  };
  /** Where something broke, an instance may not have heard what another has said: it asks the store a moment later. */
  const hasLostWords = (): boolean => Object.values(count).some((each) => each > 0);
  const clients = Array.from(
    { length: random.between(2, 8) },
    (_, index) => new SimulatedClient(`client-${index}`, clock, random, reach, sabotage, note, truth, hasLostWords),
  );
  for (const client of clients) clock.setTimer(random.between(0, 1000), () => client.connect());

  const isAlive = (engine: Engine): boolean => instances.some((each) => each.engine === engine && !each.isDead);
  const sender = new SimulatedSender(clock, random, () => reach()?.engine, isAlive);

  const mayEmpty = random.chance(0.2);
  const mayErase = clients.length > 3 && random.chance(0.2);
  /** The client whose user is erased. */
  let erased: SimulatedClient | undefined;
  for (const endMs = clock.monotonic() + durationMs; clock.monotonic() < endMs; ) {
    await clock.run(random.between(1, 150));
    const client = random.pick(clients);
    const dice = random.next();
    if (dice < 0.3) client.publish(random.pick(channels), random.chance(0.85));
    else if (dice < 0.35) client.reply();
    else if (dice < 0.39) client.change();
    else if (dice < 0.43) client.react();
    else if (dice < 0.44) client.block(clients);
    else if (dice < 0.55) client.set(boardChannels);
    else if (dice < 0.58) sender.post();
    else if (dice < 0.585) client.misfit(channelName(`kept/${random.between(1, 2)}`));
    else if (dice < 0.62) client.call(channelName(`kept/${random.between(1, 2)}`));
    else if (dice < 0.85) client.enter(random.pick(channels), random.pick([undefined, 0, 3, 50]));
    else if (dice < 0.88 && client.channels.length > 0) client.leave(random.pick(client.channels));
    else if (dice < 0.93) {
      client.cut();
    } else if (dice < 0.94) {
      client.goAway();
      clock.setTimer(random.between(100, 3000), () => client.connect());
    } else if (dice < 0.955) partition(random.pick(instances));
    else if (dice < 0.965) pause(random.pick(instances));
    else if (dice < 0.972) kill(random.between(0, instances.length - 1));
    else if (dice < 0.974) ban(random.between(0, instances.length - 1));
    else if (dice < 0.976 && mayEmpty) empty();
    else if (dice < 0.978 && mayEmpty) failOver();
    else if (dice < 0.981 && mayEmpty) evict();
    else if (dice >= 0.986 && mayErase && erased === undefined) erase(clients.at(-1) as SimulatedClient);
    else if (dice >= 0.981 && dice < 0.986)
      void random.pick(instances).store.pruneAllBut(random.between(0, 20), channelName(`kept/${random.between(1, 2)}`));
  }
  // Behind it nothing breaks, so no instance has a reason to read anew what is in force.
  if (random.chance(0.3)) ban(random.between(0, instances.length - 1));
  await heal();
  let replied = 0;
  for (const channel of channels)
    if (channel.startsWith('kept/') && reach() !== undefined)
      replied += await checkReplies((reach() as Instance).engine, channel, truth, clock);
  let found = 0;
  // What an instance had not made searchable when it ended is found within a minute.
  for (const channel of channels)
    if (channel.startsWith('kept/') && reach() !== undefined && count.kills === 0)
      found += await checkSearch((reach() as Instance).engine, channel, clock);
  // An instance that dies may have taken a message back, and its notices not yet.
  const mentioned =
    reach() !== undefined && count.kills === 0 ? await checkMentions((reach() as Instance).engine, truth, clock) : 0;
  let reacted = 0;
  const mayHaveLost = count.emptied + count.failovers + count.evictions > 0;
  for (const client of clients) {
    if (client === erased) continue;
    checkClient(client, truth, mayHaveLost);
    checkCalls(client.name, client.calls, truth);
    checkChanges(client, truth, mayHaveLost);
    reacted += await checkReactions(client, records);
  }
  sender.check(truth);
  receiver.check(
    truth,
    channels.filter((each) => each.startsWith('kept/')),
    false,
  );
  checkMembers();
  checkBoards(clients, truth.boards);
  await checkBans();
  await checkErased();
  if (problems.length > 0) throw problems[0];
  return {
    seed,
    instances: instances.length,
    published: clients.reduce((sum, client) => sum + client.publishes.length, 0),
    seen: clients.reduce((sum, client) => sum + seenBy(client), 0),
    sets: clients.reduce((sum, client) => sum + client.acknowledgedSets, 0),
    changed: clients.reduce((sum, client) => sum + changedBy(client, truth), 0),
    reacted,
    replied,
    mentioned,
    found,
    blocked: clients.reduce((sum, { blocks }) => sum + blocks.acknowledged, 0),
    called: clients.reduce((sum, client) => sum + client.calls.length, 0),
    taken: receiver.received,
    gaps: clients.reduce((sum, client) => sum + client.gaps.length, 0),
    ...count,
    brokenTransactions: lock.broken,
  };

  function partition({ exchange, engine }: Instance): void {
    if (exchange.isCut) return;
    const isTold = random.chance(0.5);
    note(() => `the service: ${engine.options.instance} is cut off${isTold ? '' : ', and not told'}`);
    count.partitions += 1;
    exchange.cut(isTold);
    clock.setTimer(random.pick([300, 1_000, 3_000, 9_000]), () => {
      note(() => `the service: ${engine.options.instance} is linked again`);
      exchange.mend(isTold);
    });
  }

  function pause({ process, engine }: Instance): void {
    if (process.isPaused) return;
    note(() => `the service: ${engine.options.instance} stops`);
    count.pauses += 1;
    process.pause();
    clock.setTimer(random.pick([200, 2_000, 8_000]), () => {
      note(() => `the service: ${engine.options.instance} goes on`);
      process.resume();
    });
  }

  function kill(index: number): void {
    const dead = instances[index] as Instance;
    if (dead.isDead) return;
    note(() => `the service: ${dead.engine.options.instance} is killed`);
    count.kills += 1;
    dead.isDead = true;
    dead.process.kill();
    dead.store.crash();
    dead.exchange.close();
    for (const client of clients) if (client.reached === dead.engine) client.cut();
    clock.setTimer(random.between(10, 6_000), () => revive(index));
  }

  function revive(index: number): void {
    const dead = instances[index] as Instance;
    if (!dead.isDead) return;
    note(() => `the service: ${dead.engine.options.instance} starts`);
    instances[index] = start(dead.engine.options.instance);
  }

  /** A ban is decided; sometimes it is committed, and the instance dies before it can say so. */
  function ban(index: number): void {
    const { engine, isDead } = instances[index] as Instance;
    if (isDead) return;
    const user = `stranger-${++count.bans}`;
    note(() => `the service: ${engine.options.instance} bans ${user}`);
    if (random.chance(0.3)) engine.moderation.silence({ user }, operator).catch(() => {});
    else if (random.chance(0.5)) engine.moderation.ban({ user }, operator).catch(() => {});
    else {
      const type = random.pick(['ban', 'silence'] as const);
      void records.take({ type, id: ids.moderation(), user, by: operator, atMs: clock.now() });
      kill(index);
    }
  }

  /** Erases a user. The application asks again until an instance has answered. */
  function erase(client: SimulatedClient): void {
    erased = client;
    client.erase();
    count.erasures += 1;
    note(() => `the service: ${client.name} is to be erased`);
    let isAnswered = false;
    const ask = (): void => {
      if (isAnswered) return;
      const begun = reach()?.engine.eraser.begin({ user: client.name, messages: 'withdraw' }, operator);
      begun?.then(
        () => {
          isAnswered = true;
        },
        () => {},
      );
      clock.setTimer(3_000, ask);
    };
    ask();
  }

  function empty(): void {
    note(() => 'the service: the exchange comes back empty');
    count.emptied += 1;
    moveTo(new TrueHub(truth, clock, ids));
  }

  function failOver(): void {
    const behindMs = random.pick([0, 20, 1_000]);
    note(() => `the service: a replica of the exchange takes over that is ${behindMs} ms behind`);
    count.failovers += 1;
    moveTo(hub.replica(behindMs));
  }

  function evict(): void {
    const channel = random.pick(channels);
    note(() => `the service: the record of ${channel} is evicted`);
    count.evictions += 1;
    hub.evict(channel);
  }

  function moveTo(other: TrueHub): void {
    hub = other;
    for (const { exchange, isDead } of instances) if (!isDead) exchange.moveTo(hub);
    for (const { exchange, isDead } of instances) {
      if (isDead) continue;
      exchange.cut(true);
      exchange.mend(true);
    }
  }

  /** Ends all faults and waits until all clients have everything. */
  async function heal(): Promise<void> {
    // What is paused or cut off ends by itself.
    await clock.run(9_500);
    for (const [index, { isDead }] of instances.entries()) if (isDead) revive(index);
    for (const { exchange, store } of instances) {
      exchange.faults = false;
      store.faults = false;
    }
    receiver.faults = false;
    application.faults = false;
    for (const client of clients) client.calmDown();
    await clock.run(21_000);
    for (const client of clients) client.connect();
    await clock.run(20_000);
    // A message more in each channel would show any hole; without one, they must be found as well.
    if (random.chance(0.5))
      for (const channel of channels)
        await Promise.race([reach()?.engine.messages.publish({ channel, data: 'the last' }), clock.run(1000)]);
    await clock.run(20_000);
    // An instance that was killed holds its erasure for a minute; another takes it up within half a minute.
    if (erased !== undefined) await clock.run(120_000);
    for (const client of clients)
      if (client.isOpen !== (client !== erased))
        throw new Error(`${client.name} is ${client.isOpen ? '' : 'not '}connected in the end`);
  }

  /** The store has no message of an erased user. */
  async function checkErased(): Promise<void> {
    if (erased === undefined) return;
    const [left] = (await records.messagesOf(erased.name, undefined, 1)).messages;
    if (left !== undefined) throw new Error(`${left.cursor} names ${erased.name}, who was erased`);
  }

  /** What was committed is in force on all instances, whether or not it could be said. */
  async function checkBans(): Promise<void> {
    const { bans, silences } = await records.inForce(clock.now());
    const committed = [...bans, ...silences].map(({ id }) => id).sort();
    for (const { engine, isDead } of instances) {
      const { moderation } = engine;
      const known = [...moderation.bans, ...moderation.silences].map(({ id }) => id).sort();
      const missing = committed.filter((id) => !known.includes(id));
      if (!isDead && missing.length > 0)
        throw new Error(
          `${engine.options.instance} does not know ${missing.length} of ${committed.length} bans and silences`,
        );
    }
  }

  /** Each member of a channel sees all its members and no others, on any instance. */
  function checkMembers(): void {
    const room = channelName('room/1');
    const there = clients.filter(({ channels: entered }) => entered.includes(room)).map(({ name }) => name);
    for (const client of clients) {
      if (!client.channels.includes(room)) continue;
      const seen = [...(client.members.get(room)?.list.keys() ?? [])];
      const missing = there.filter((name) => !seen.includes(name));
      const wrong = seen.filter((name) => !there.includes(name));
      if (missing.length + wrong.length > 0)
        throw new Error(
          `${client.name}: of the members ${missing.join() || 'nobody'} is missing, ${wrong.join() || 'nobody'} is too much`,
        );
    }
  }
}
