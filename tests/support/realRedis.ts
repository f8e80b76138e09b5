import { type ChildProcess, spawn } from 'node:child_process';
import { existsSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createClient } from 'redis';
import { freePort } from './ports.js';
import { until } from './until.js';

const redisServer = '/usr/bin/redis-server';
export const redisIsThere = existsSync(redisServer);

/** Never connected. Each client that is not a duplicate makes a class of its own, with all commands. */
const template = createClient();

/** A Redis of this test's own, on a free port, in a folder of its own. */
export class RealRedis {
  readonly url: string;
  readonly port: number;
  readonly #folder: string;
  readonly #settings: readonly string[];
  #process: ChildProcess | undefined;

  private constructor(port: number, settings: readonly string[]) {
    this.port = port;
    this.url = `redis://127.0.0.1:${port}`;
    this.#folder = mkdtempSync(join(tmpdir(), 'bells-redis-'));
    this.#settings = settings;
  }

  /** @param settings - as on Redis' command line; without any it keeps nothing on disk */
  static async start(settings: readonly string[] = ['--save', ''], port?: number): Promise<RealRedis> {
    const redis = new RealRedis(port ?? (await freePort()), settings);
    await redis.begin();
    return redis;
  }

  /** Starts it, or starts it again. */
  async begin(): Promise<void> {
    const args = ['--port', String(this.port), '--bind', '127.0.0.1', '--dir', this.#folder, ...this.#settings];
    this.#process = spawn(redisServer, args, { stdio: 'ignore' });
    await until(async () => (await this.ask(['PING']).catch(() => '')) === 'PONG');
  }

  /** Asks it something, on a connection of its own. */
  async ask<T>(args: readonly string[]): Promise<T> {
    const client = template.duplicate({ url: this.url, socket: { reconnectStrategy: false } });
    client.on('error', () => {});
    try {
      await client.connect();
      return await client.sendCommand<T>([...args]);
    } finally {
      client.destroy();
    }
  }

  /** Makes it a replica of another, with all that one has, and waits until it has it. */
  async follow(master: RealRedis): Promise<void> {
    await this.ask(['REPLICAOF', '127.0.0.1', String(master.port)]);
    await until(async () => (await this.ask<string>(['INFO', 'replication'])).includes('master_link_status:up'));
  }

  /** Makes a replica the one that takes writes. */
  async promote(): Promise<void> {
    await this.ask(['REPLICAOF', 'NO', 'ONE']);
  }

  pause(): void {
    this.#process?.kill('SIGSTOP');
  }

  resume(): void {
    this.#process?.kill('SIGCONT');
  }

  /** Ends it without a word; what it has on disk stays. */
  async kill(): Promise<void> {
    const child = this.#process;
    if (child === undefined) return;
    this.#process = undefined;
    const ended = new Promise((resolve) => child.once('exit', resolve));
    child.kill('SIGKILL');
    await ended;
  }

  async remove(): Promise<void> {
    await this.kill();
    rmSync(this.#folder, { recursive: true, force: true });
  }
}

/** Slots of a cluster. */
const slots = 16_384;

/** A cluster of three. */
export class RealCluster {
  readonly nodes: readonly RealRedis[];
  #ids: readonly string[] = [];

  private constructor(nodes: readonly RealRedis[]) {
    this.nodes = nodes;
  }

  /** @param more - settings of each process */
  static async start(more: readonly string[] = ['--save', '']): Promise<RealCluster> {
    const settings = [...more, '--cluster-enabled', 'yes', '--cluster-node-timeout', '5000'];
    settings.push('--cluster-config-file', 'nodes.conf');
    const nodes = [];
    const buses = [];
    for (let n = 0; n < 3; n++) {
      const bus = String(await freePort());
      nodes.push(await RealRedis.start([...settings, '--cluster-port', bus]));
      buses.push(bus);
    }
    const cluster = new RealCluster(nodes);
    await cluster.#join(buses);
    return cluster;
  }

  get url(): string {
    return (this.nodes[0] as RealRedis).url;
  }

  /** @param buses - ports on which the nodes listen to each other */
  async #join(buses: readonly string[]): Promise<void> {
    const [first, ...others] = this.nodes as [RealRedis, ...RealRedis[]];
    const share = Math.ceil(slots / this.nodes.length);
    for (const [index, node] of this.nodes.entries())
      await node.ask([
        'CLUSTER',
        'ADDSLOTSRANGE',
        String(index * share),
        String(Math.min(slots, (index + 1) * share) - 1),
      ]);
    for (const [index, node] of others.entries())
      await first.ask(['CLUSTER', 'MEET', '127.0.0.1', String(node.port), buses[index + 1] as string]);
    await until(async () => {
      const states = await Promise.all(this.nodes.map((node) => node.ask<string>(['CLUSTER', 'INFO'])));
      return states.every((state) => state.includes('cluster_state:ok') && state.includes('cluster_known_nodes:3'));
    });
    this.#ids = await Promise.all(this.nodes.map((node) => node.ask<string>(['CLUSTER', 'MYID'])));
  }

  /** Moves the slot of a key from the process that has it to the next, as a tool for it does, while it is in use. */
  async moveSlotOf(key: string): Promise<void> {
    const slot = String(await (this.nodes[0] as RealRedis).ask<number>(['CLUSTER', 'KEYSLOT', key]));
    const from = await this.#ownerOf(Number(slot));
    const to = (from + 1) % this.nodes.length;
    const [source, target] = [this.nodes[from] as RealRedis, this.nodes[to] as RealRedis];
    await target.ask(['CLUSTER', 'SETSLOT', slot, 'IMPORTING', this.#ids[from] as string]);
    await source.ask(['CLUSTER', 'SETSLOT', slot, 'MIGRATING', this.#ids[to] as string]);
    for (;;) {
      const keys = await source.ask<string[]>(['CLUSTER', 'GETKEYSINSLOT', slot, '10']);
      if (keys.length === 0) break;
      await source.ask(['MIGRATE', '127.0.0.1', String(target.port), '', '0', '5000', 'KEYS', ...keys]);
    }
    for (const node of [target, source, ...this.nodes.filter((each) => each !== source && each !== target)])
      await node.ask(['CLUSTER', 'SETSLOT', slot, 'NODE', this.#ids[to] as string]);
  }

  /** Which process has a slot now. */
  async #ownerOf(slot: number): Promise<number> {
    const ranges = await (this.nodes[0] as RealRedis).ask<[number, number, [string, number, string]][]>([
      'CLUSTER',
      'SLOTS',
    ]);
    const range = ranges.find(([first, last]) => first <= slot && slot <= last);
    return this.#ids.indexOf(range?.[2][2] ?? '');
  }

  async remove(): Promise<void> {
    for (const node of this.nodes) await node.remove();
  }
}
