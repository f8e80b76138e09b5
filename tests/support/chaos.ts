import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type Line } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { parseConfiguration, signToken } from '@nine-bells/service';
import { QueryTypes, Sequelize } from 'sequelize';
import { Balancer } from './balancer.js';
import { type Command, serve } from './command.js';
import { FaultyWay } from './faultyWay.js';
import { type Acknowledged, type Heard, judge, type Row } from './judge.js';
import { freePort } from './ports.js';
import { descendantsOf, RealPostgres } from './realPostgres.js';
import { RealCluster, RealRedis } from './realRedis.js';
import { wait } from './until.js';

export const databases = ['sqlite', 'postgres'] as const;
export const relays = ['redis', 'cluster', 'replica', 'workers'] as const;

export interface ChaosOptions {
  readonly seed: number;
  readonly forMs: number;
  readonly database: (typeof databases)[number];
  readonly relay: (typeof relays)[number];
  /** Told what happens, as it happens. */
  readonly tell?: (line: string) => void;
}

export interface ChaosOutcome {
  readonly acknowledged: number;
  readonly refused: number;
  readonly gaps: number;
  /** How often each fault was brought about. */
  readonly faults: Readonly<Record<string, number>>;
  readonly bans: number;
  /** The longest time that a publish took, in milliseconds. */
  readonly slowestMs: number;
}

const channels = ['kept/1', 'kept/2', 'recent/1', 'recent/2'] as const;
const open = 'allow: { enter: anyone, publish: anyone }';
const textOf = (service: string, relay: string): string => `
service: { name: Gannet Sound, port: 0, guests: true, pulse: 2s, ${service} }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
${relay}
channels:
  - { pattern: "kept/:n", logbook: kept, ${open} }
  - { pattern: "erased/:n", logbook: kept, ${open} }
  - { pattern: "recent/:n", logbook: { recent: { messages: 2000, for: 10m } }, ${open} }
`;
/** How long clients have after the last fault until all must have everything, in milliseconds. */
const healMs = 60_000;

/** Maximum time for a start, in milliseconds: a machine under load takes long. */
const startTimeoutMs = 120_000;

/** A process of the service that is started again whenever it has ended. */
class Instance {
  readonly name: string;
  readonly #folder: string;
  readonly #port: number;
  readonly #text: string;
  readonly #tell: (line: string) => void;
  #command: Command | undefined;
  #isStopped = false;
  #isKilled = false;
  readonly #running: Promise<void>;
  url: string | undefined;
  key = '';
  /** It ended though nothing ended it. */
  died: string | undefined;
  /** The reason why its last start failed. */
  failure = 'its start has not ended yet';

  constructor(name: string, folder: string, port: number, text: string, tell: (line: string) => void) {
    this.name = name;
    this.#folder = folder;
    this.#port = port;
    this.#text = text;
    this.#tell = tell;
    this.#running = this.#run();
  }

  get address(): string {
    return `http://127.0.0.1:${this.#port}`;
  }

  async #run(): Promise<void> {
    while (!this.#isStopped) {
      try {
        const { command, url, key } = await serve(this.#folder, this.#port, { text: this.#text, args: ['--json'] });
        this.#command = command;
        this.#isKilled = false;
        // It may have been stopped while it started.
        if (this.#isStopped) this.signal('SIGKILL');
        this.url = url;
        this.key = key;
        const { code, err } = await command.ended;
        this.url = undefined;
        if (!this.#isStopped && !this.#isKilled) this.died = `${this.name} ended with ${code}: ${err.slice(-2_000)}`;
      } catch (error) {
        // What it needs may be away just now.
        this.failure = (error as Error).message;
        this.#tell(`${this.name} could not start: ${this.failure.split('\n')[0]}`);
      }
      await wait(200);
    }
  }

  signal(signal: NodeJS.Signals): void {
    const { pid } = this.#command?.process ?? {};
    if (pid === undefined) return;
    if (signal === 'SIGKILL') this.#isKilled = true;
    for (const each of descendantsOf(pid)) tryKill(each, signal);
  }

  /** Kills one of its workers. */
  killWorker(random: Random): void {
    const { pid } = this.#command?.process ?? {};
    const [, ...workers] = pid === undefined ? [] : descendantsOf(pid);
    if (workers.length > 0) tryKill(random.pick(workers), 'SIGKILL');
  }

  async stop(): Promise<void> {
    this.#isStopped = true;
    this.signal('SIGCONT');
    this.signal('SIGKILL');
    await this.#running;
  }
}

/** A seeded source of chance: the same seed brings about the same faults in the same order. */
class Random {
  #state: number;

  constructor(seed: number) {
    this.#state = seed * 2_654_435_761;
  }

  next(): number {
    this.#state = (Math.imul(this.#state ^ (this.#state >>> 15), 2_246_822_519) + 374_761_393) >>> 0;
    return this.#state / 2 ** 32;
  }

  between(least: number, most: number): number {
    return least + Math.floor(this.next() * (most - least + 1));
  }

  pick<T>(some: readonly T[]): T {
    return some[Math.floor(this.next() * some.length)] as T;
  }
}

/** A fault: brought about, and what ends it after a while. */
interface Fault {
  readonly name: string;
  /** What it befalls, where only one fault at a time can: a server that is frozen cannot be stopped. */
  readonly engine?: 'database' | 'relay';
  act(forMs: number): void | Promise<void>;
}

/**
 * Lets clients talk through real processes, databases and relays while random faults befall these; then heals everything,
 * and compares what was acknowledged with what clients saw and what the database has.
 *
 * @throws {Error} with the faults and what they broke
 */
export async function chaos({ seed, forMs, database, relay, tell = () => {} }: ChaosOptions): Promise<ChaosOutcome> {
  // What befalls the engines depends on the seed alone; when clients do something depends on how fast they are.
  const random = new Random(seed);
  const loadRandom = new Random(seed + 1_000_003);
  const startMs = Date.now();
  const history: string[] = [];
  const note = (line: string): void => {
    const text = `${String(Date.now() - startMs).padStart(6)} ms  ${line}`;
    history.push(text);
    tell(text);
  };
  const clean: (() => unknown)[] = [];
  const heals: (() => unknown)[] = [];
  const folder = mkdtempSync(join(tmpdir(), 'bells-chaos-'));
  clean.push(() => rmSync(folder, { recursive: true, force: true }));
  try {
    return await run();
  } finally {
    for (const each of clean.reverse()) await each();
  }

  async function run(): Promise<ChaosOutcome> {
    const faults: Fault[] = [];
    let isRestored = false;
    const isKept = (channel: string): boolean => channel.startsWith('kept/') && !isRestored;
    const erased: { readonly user: string; readonly id: string }[] = [];
    const wayTo = async (port: number): Promise<FaultyWay> => {
      const way = await FaultyWay.start(port);
      clean.push(() => way.stop());
      return way;
    };
    const names = relay === 'workers' ? ['i1'] : ['i1', 'i2'];
    const isShared = database === 'postgres';
    const postgres = isShared ? await RealPostgres.start() : undefined;
    if (postgres !== undefined) clean.push(() => postgres.remove());
    const databaseUrl = await postgres?.makeDatabase();
    const databaseWays = await Promise.all(postgres === undefined ? [] : names.map(() => wayTo(postgres.port)));
    if (postgres !== undefined) {
      faults.push(
        {
          name: 'database: sessions ended',
          engine: 'database',
          act: () => postgres.terminate(random.pick(['all', 'one'])),
        },
        {
          name: 'database: restarted',
          engine: 'database',
          act: async (ms) => {
            await postgres.stop();
            await wait(ms / 2);
            await postgres.begin();
          },
        },
        pausing('database', postgres),
        ...waysOf('database', databaseWays),
      );
      // Acknowledged messages are lost then, which clients are told by a gap: so not in every run.
      if (seed % 3 === 0)
        faults.push({
          name: 'database: restored from a backup',
          engine: 'database',
          act: async (ms) => {
            await postgres.backUp(databaseUrl as string);
            await wait(ms);
            await postgres.restore(databaseUrl as string);
            isRestored = true;
          },
        });
    }

    const relayParts = await openRelay();
    faults.push(...relayParts.faults);
    const instances: Instance[] = [];
    for (const [index, name] of names.entries()) {
      const way = databaseWays[index];
      const members = [
        relay === 'workers' ? 'workers: 2' : `instance: ${name}`,
        ...(databaseUrl === undefined || way === undefined ? [] : [`database: "${way.url(databaseUrl)}"`]),
      ];
      const url = relayParts.urls[index];
      const text = textOf(members.join(', '), url === undefined ? '' : `relay: "${url}"`);
      const started = new Instance(name, folder, await freePort(), text, note);
      clean.push(() => started.stop());
      // The first one makes the database and the key.
      await come(
        () => started.url !== undefined,
        startTimeoutMs,
        () => `${name} does not start: ${started.failure}`,
      );
      instances.push(started);
    }
    const balancer = await Balancer.start(instances.map(({ address }) => address));
    clean.push(() => balancer.stop());
    for (const each of instances) {
      faults.push(
        {
          name: 'instance: stopped for a while',
          act: async (ms) => {
            note(`${each.name} stops for ${ms} ms`);
            each.signal('SIGSTOP');
            await wait(ms);
            each.signal('SIGCONT');
          },
        },
        {
          name: 'instance: killed',
          act: () => {
            note(`${each.name} is killed`);
            each.signal('SIGKILL');
          },
        },
      );
      if (relay === 'workers') faults.push({ name: 'worker: killed', act: () => each.killWorker(random) });
      const other = instances.find((one) => one !== each);
      if (other !== undefined)
        faults.push({
          name: 'user: erased while its instance stands still',
          act: (ms) => eraseMeanwhile(each, other, ms),
        });
    }
    faults.push({ name: 'clients: cut', act: () => balancer.cut(random.pick(instances).address) });

    // The load.
    const { tokens } = parseConfiguration(textOf('', ''), 'bells.yaml');
    // Names and roles that break in the middle of a character, and that no database takes.
    const poison = { name: `${'x'.repeat(199)}\u{1f6f6}`, roles: ['crew', 'a\u0000b', 'half \ud83d'] };
    const token = (user: string): Promise<string> =>
      signToken(tokens, { user, forMs: 3_600_000, ...(user === 'bram' ? poison : {}) });
    /** A user writes to an instance that stands still, and is erased at another one. */
    async function eraseMeanwhile(stopped: Instance, other: Instance, ms: number): Promise<void> {
      const user = `oona-${erased.length}-${loadRandom.between(0, 1_000_000)}`;
      if (stopped.url === undefined || other.url === undefined) return;
      // One token for all: a new one would let the user in again.
      const only = await token(user);
      const writer = connect(stopped.address, { token: only, backOff: { firstMs: 50, maxMs: 500 } });
      try {
        await within(writer.publish('erased/1', 'before'), 3_000, 'no answer');
        stopped.signal('SIGSTOP');
        for (let n = 0; n < 20; n++) writer.publish('erased/1', `late ${n}`).catch(() => {});
        const backend = new Backend(other.url, { key: other.key });
        const { id } = await within(backend.erase({ user }), 8_000, 'no answer');
        erased.push({ user, id });
        await wait(ms);
      } finally {
        stopped.signal('SIGCONT');
        await wait(500);
        writer.close();
      }
    }
    const lines = new Map<string, Line>();
    const line = (user: string): Line => {
      const made = connect(balancer.url, { token: () => token(user), backOff: { firstMs: 50, maxMs: 500 } });
      clean.push(() => made.close());
      lines.set(user, made);
      return made;
    };
    const consumed = ['pia', 'jory', 'ines'].flatMap((client) => {
      const consumer = line(client);
      return channels.map((channel) => {
        const heard: Heard[] = [];
        const entry = consumer.enter(channel);
        entry.addEventListener('message', ({ detail: { cursor, id, data } }) =>
          heard.push({ message: { cursor, id, data } }),
        );
        entry.addEventListener('gap', ({ detail: { after, cursor, why } }) =>
          heard.push({ gap: { after, cursor, why } }),
        );
        return { client, channel, heard, ready: entry.ready };
      });
    });
    await Promise.all(consumed.map(({ ready }) => ready));
    const acknowledged: Acknowledged[] = [];
    const bans: string[] = [];
    let slowestMs = 0;
    let refused = 0;
    let isOver = false;
    const publishers = ['mira', 'bram'].map(async (user) => {
      const publisher = line(user);
      await publisher.opened();
      const underWay = new Set<Promise<void>>();
      for (let n = 0; !isOver; n++) {
        const channel = loadRandom.pick(channels);
        const sentMs = Date.now();
        const data = `${user} ${n}`;
        const done = publisher.publish(channel, data).then(
          ({ id, cursor }) => {
            slowestMs = Math.max(slowestMs, Date.now() - sentMs);
            acknowledged.push({ channel, id, cursor, data });
          },
          (error: Error) => {
            refused += 1;
            note(`${data} was refused: ${error.message}`);
          },
        );
        underWay.add(done);
        done.finally(() => underWay.delete(done));
        await wait(loadRandom.between(2, 30));
      }
      await within(Promise.all(underWay), healMs, `${user}: ${underWay.size} publishes have no answer`);
    });
    // An application that bans now and then, on whichever instance.
    const moderator = (async () => {
      for (let n = 0; !isOver; n++) {
        await wait(loadRandom.between(300, 900));
        const { url, key } = loadRandom.pick(instances);
        if (url === undefined) continue;
        const backend = new Backend(url, { key });
        const ban = within(backend.ban({ user: `stranger-${n}`, reason: 'chaos' }), 8_000, 'no answer');
        await ban.then(({ id }) => bans.push(id)).catch(() => {});
      }
    })();

    // The faults: one or two at a time.
    const count: Record<string, number> = {};
    const underWay = new Set<Promise<unknown>>();
    const busy = new Set<string>();
    for (const endMs = Date.now() + forMs; Date.now() < endMs; ) {
      await wait(random.between(100, 1_200));
      const fault = random.pick(faults);
      const ms = random.between(50, 3_500);
      const { engine } = fault;
      if (underWay.size > 1 || (engine !== undefined && busy.has(engine))) continue;
      if (engine !== undefined) busy.add(engine);
      count[fault.name] = (count[fault.name] ?? 0) + 1;
      note(`${fault.name} (${ms} ms)`);
      const done = Promise.resolve(fault.act(ms))
        .catch((error: Error) => note(`${fault.name} could not be brought about: ${error.message}`))
        .finally(() => {
          underWay.delete(done);
          if (engine !== undefined) busy.delete(engine);
        });
      underWay.add(done);
    }
    await within(Promise.all(underWay), healMs, 'a fault does not end');
    for (const heal of heals) await heal();
    note('everything heals');
    isOver = true;
    const broken: string[] = [];
    const settle = async (what: Promise<unknown>): Promise<void> =>
      what.then(
        () => {},
        (error: Error) => void broken.push(error.message),
      );
    await settle(Promise.all([...publishers, moderator]));
    await settle(
      come(() => instances.every(({ url }) => url !== undefined), startTimeoutMs, 'an instance does not start again'),
    );

    const ended = new Set<string>();
    const look = async (): Promise<void> => {
      const { url, key } = instances[0] as Instance;
      const { erasures } = await new Backend(url as string, { key }).erasures();
      for (const { id, endedAt } of erasures) if (endedAt !== undefined) ended.add(id);
    };
    // A last message in each channel, which everybody must see.
    const last = line('sunniva');
    const marks = channels.map((channel) =>
      within(last.publish(channel, 'the last'), healMs, `${channel}: the last message has no answer`).then(
        ({ id, cursor }) => {
          acknowledged.push({ channel, id, cursor, data: 'the last' });
          return come(
            () =>
              consumed.every(
                (each) =>
                  each.channel !== channel || each.heard.some((one) => 'message' in one && one.message.id === id),
              ),
            30_000,
            `${channel}: the last message does not reach everybody`,
          );
        },
      ),
    );
    await Promise.all(marks.map(settle));
    const all = await readRows(databaseUrl, join(folder, 'data/bells.sqlite'));
    const rows = all.filter(({ channel }) => !channel.startsWith('erased/'));
    for (const { user, id } of isRestored ? [] : erased) {
      await settle(come(() => ended.has(id), 90_000, `the erasure of ${user} does not end`, look));
      if ((await readRows(databaseUrl, join(folder, 'data/bells.sqlite'))).some(({ author }) => author === user))
        broken.push(`${user} was erased, and has written since`);
    }
    broken.push(...judge({ acknowledged, consumed, rows, isKept }));
    for (const { url, key, name } of isRestored ? [] : instances) {
      if (url === undefined) continue;
      const inForce = new Set((await new Backend(url, { key }).bans()).bans.map(({ id }) => id));
      for (const id of bans)
        if (!inForce.has(id)) broken.push(`${name} does not know the ban ${id}, which was acknowledged`);
    }
    for (const { died } of instances) if (died !== undefined) broken.push(died);
    if (broken.length > 0) await noteStates();
    if (broken.length > 0)
      throw new Error(
        [
          `seed ${seed}, ${database}, ${relay}: ${broken.length} broken promises`,
          ...broken.slice(0, 12).map((each) => `  ${each}`),
          'What happened:',
          ...history.map((each) => `  ${each}`),
        ].join('\n'),
      );
    async function noteStates(): Promise<void> {
      for (const [user, { state, outbox }] of lines)
        note(`${user} is ${JSON.stringify(state)}, ${outbox.messages.length} messages wait`);
      for (const { name, address } of instances) {
        const ready = within(fetch(`${address}/readyz`), 3_000, 'it does not answer');
        await ready.then(
          async (answer) => note(`${name}: ${answer.status} ${await answer.text()}`),
          (error: Error) => note(`${name}: ${error.message}`),
        );
      }
    }

    const gaps = consumed.reduce((sum, { heard }) => sum + heard.filter((each) => 'gap' in each).length, 0);
    return { acknowledged: acknowledged.length, refused, gaps, faults: count, bans: bans.length, slowestMs };
  }

  function pausing(what: 'database' | 'relay', server: { pause(): void; resume(): void }): Fault {
    return {
      name: `${what}: frozen`,
      engine: what,
      act: async (ms) => {
        server.pause();
        await wait(ms);
        server.resume();
      },
    };
  }

  /** What may befall the ways to an engine. */
  function waysOf(what: string, ways: readonly FaultyWay[]): Fault[] {
    const during = (name: string, begin: (way: FaultyWay) => void): Fault => ({
      name: `${what}: ${name}`,
      act: async (ms) => {
        const way = random.pick(ways);
        begin(way);
        await wait(ms);
        way.heal();
      },
    });
    const at = (): 'before' | 'after' => random.pick(['before', 'after']);
    heals.push(() => ways.forEach((way) => void way.heal()));
    return [
      { name: `${what}: connections cut`, act: () => random.pick(ways).cut() },
      { name: `${what}: connections silent`, act: () => random.pick(ways).silence() },
      during('connections cut within an exchange', (way) => way.cutAfter(random.between(1, 12), at())),
      during('nothing passes', (way) => way.hold()),
      during('all is swallowed', (way) => way.swallow()),
      during('slow', (way) => way.delay(random.between(20, 200))),
    ];
  }

  async function openRelay(): Promise<{ urls: readonly (string | undefined)[]; faults: readonly Fault[] }> {
    const durable = ['--appendonly', 'yes', '--appendfsync', 'always', '--save', ''];
    const some = random.pick([durable, ['--appendonly', 'yes', '--save', ''], ['--save', '']]);
    if (relay === 'workers') return { urls: [undefined], faults: [] };
    if (relay === 'cluster') {
      const cluster = await RealCluster.start(some);
      clean.push(() => cluster.remove());
      const restart: Fault = {
        name: 'relay: a process of the cluster is killed',
        engine: 'relay',
        act: async (ms) => {
          const node = random.pick(cluster.nodes);
          await node.kill();
          await wait(ms);
          await node.begin();
        },
      };
      const moved: Fault = {
        name: 'relay: a slot moves',
        engine: 'relay',
        act: async () => {
          const key = `{bells:${random.pick(channels)}}head`;
          // A move that was interrupted leaves the slot in two halves, until it is moved again.
          await cluster.moveSlotOf(key).catch((error: Error) => {
            note(`a slot is left in two halves: ${error.message}`);
            heals.push(() => again(() => cluster.moveSlotOf(key)));
          });
        },
      };
      const frozen: Fault = {
        name: 'relay: a process of the cluster is frozen',
        engine: 'relay',
        act: async (ms) => {
          const node = random.pick(cluster.nodes);
          node.pause();
          await wait(ms);
          node.resume();
        },
      };
      return { urls: [cluster.url, cluster.url], faults: [restart, moved, frozen] };
    }
    const servers = [await RealRedis.start(some)];
    clean.push(async () => {
      for (const each of servers) await each.remove();
    });
    const first = servers[0] as RealRedis;
    const ways: FaultyWay[] = [];
    for (let n = 0; n < 2; n++) {
      const way = await FaultyWay.start(first.port);
      clean.push(() => way.stop());
      ways.push(way);
    }
    const urls = ways.map((way) => way.url(first.url));
    if (relay === 'redis') {
      const evicted: Fault = {
        name: 'relay: a key is evicted',
        engine: 'relay',
        act: async () => {
          const key = `{bells:${random.pick(channels)}}${random.pick(['head', 'log', 'order'])}`;
          await first.ask(['DEL', key]);
        },
      };
      const restarted: Fault = {
        name: 'relay: killed and started again',
        engine: 'relay',
        act: async (ms) => {
          await first.kill();
          await wait(ms);
          await first.begin();
        },
      };
      const emptied: Fault = { name: 'relay: emptied', engine: 'relay', act: () => first.ask(['FLUSHALL']) };
      return { urls, faults: [evicted, restarted, emptied, pausing('relay', first), ...waysOf('relay', ways)] };
    }
    const second = await RealRedis.start(some);
    servers.push(second);
    await second.follow(first);
    let [master, replica] = [first, second];
    const swap = (how: 'killed' | 'frozen' | 'comes back'): Fault => ({
      name: `relay: a replica takes over from a master that is ${how === 'killed' ? 'killed' : 'frozen'}${how === 'comes back' ? ' and comes back' : ''}`,
      engine: 'relay',
      act: async (ms) => {
        // What the replica has not heard is lost.
        replica.pause();
        await wait(200);
        if (how === 'killed') await master.kill();
        else master.pause();
        replica.resume();
        await replica.promote();
        for (const way of ways) {
          way.leadTo(replica.port);
          way.cut();
        }
        await wait(ms);
        if (how === 'comes back') {
          master.resume();
          for (const way of ways) {
            way.leadTo(master.port);
            way.cut();
          }
          await replica.follow(master);
        } else {
          if (how === 'killed') await master.begin();
          else master.resume();
          await master.follow(replica);
          [master, replica] = [replica, master];
        }
      },
    });
    const swaps = [swap('killed'), swap('frozen'), swap('comes back')];
    return { urls, faults: [...swaps, ...swaps, ...waysOf('relay', ways)] };
  }
}

/** What the database has of all channels. */
async function readRows(url: string | undefined, file: string): Promise<(Row & { readonly author: string })[]> {
  const sequelize =
    url === undefined
      ? new Sequelize({ dialect: 'sqlite', storage: file, logging: false })
      : new Sequelize(url, { logging: false });
  try {
    const rows = await sequelize.query<{
      name: string;
      volume: string;
      head: number | string;
      number: number | string;
      message_id: string;
      data_json: string;
      author: string;
    }>(
      `SELECT c.name, c.volume, c.head, m.number, m.message_id, m.data_json, m.author
       FROM channels c JOIN messages m ON m.channel_id = c.id ORDER BY c.name, m.number`,
      { type: QueryTypes.SELECT },
    );
    return rows.map(({ name, volume, head, number, message_id, data_json, author }) => ({
      author,
      channel: name,
      volume,
      head: Number(head),
      number: Number(number),
      id: message_id,
      data: JSON.parse(data_json),
    }));
  } finally {
    await sequelize.close();
  }
}

/** Tries something that fails as long as servers are not in order again. */
async function again(act: () => Promise<unknown>): Promise<void> {
  for (let tries = 1; ; tries++)
    try {
      await act();
      return;
    } catch (error) {
      if (tries === 40) throw error;
      await wait(500);
    }
}

async function come(
  isThere: () => boolean,
  withinMs: number,
  otherwise: string | (() => string),
  look: () => Promise<void> = async () => {},
): Promise<void> {
  for (const endMs = Date.now() + withinMs; Date.now() < endMs; await wait(20)) {
    await look();
    if (isThere()) return;
  }
  throw new Error(typeof otherwise === 'string' ? otherwise : otherwise());
}

async function within<T>(act: Promise<T>, withinMs: number, otherwise: string): Promise<T> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_, reject) => {
    timer = setTimeout(() => reject(new Error(otherwise)), withinMs);
  });
  return Promise.race([act, late]).finally(() => clearTimeout(timer));
}

function tryKill(pid: number, signal: NodeJS.Signals): void {
  try {
    process.kill(pid, signal);
  } catch {
    // It has ended already.
  }
}
