import cluster, { type Worker } from 'node:cluster';
import { fileURLToPath } from 'node:url';
import { ExchangeHub } from '@nine-bells/core';
import type { Json } from '@nine-bells/wire';
import type { Configuration } from '../config/configuration.js';
import { SignInLinks } from '../http/signInLinks.js';
import { type Logger, logEvent, reportTo } from '../log.js';
import { checkNeighbours } from '../relay/neighbours.js';
import {
  leaseOf,
  lockOf,
  type RunningService,
  restoreWatchOf,
  type ServiceOptions,
  type StopOptions,
} from '../service.js';
import { ApiKeys } from '../store/apiKeys.js';
import { Database } from '../store/database.js';
import type { DatabaseLease } from '../store/databaseLease.js';
import { discardSavedChannels, readSavedChannels, saveChannels } from '../store/recentFile.js';
import type { RestoreWatch } from '../store/restoreWatch.js';
import { checkSoundness, markClean } from '../store/soundness.js';
import { SqlStore } from '../store/sqlStore.js';
import { systemClock } from '../system/clock.js';
import type { FolderLock } from '../system/dataFolder.js';
import { systemIds } from '../system/ids.js';
import { ServiceSecret } from '../system/serviceSecret.js';
import { Calls } from './calls.js';
import { serveExchange } from './remoteExchange.js';
import { serveStore } from './remoteStore.js';

/** Where a worker finds what it is told when it starts. */
export const workerEnvironment = 'NINEBELLS_WORKER';

/** How a worker starts its instance. */
export interface WorkerService {
  readonly configuration: Configuration;
  readonly options: Omit<ServiceOptions, 'link'>;
}

/** What a module exports that says how: functions cannot be told to another process. */
export interface WorkerModule {
  workerService(args: Json): Promise<WorkerService>;
}

/** What the first process tells a worker. */
export interface ToWorker {
  readonly parcels?: readonly unknown[];
  readonly stop?: { readonly drainMs: number | null };
}

/** What a worker tells the first process. */
export interface FromWorker {
  readonly parcels?: readonly unknown[];
  readonly listening?: { readonly url: string };
  readonly failed?: { readonly message: string; readonly code?: string };
  readonly drain?: { readonly withinMs: number | null };
}

export interface WorkersOptions {
  readonly log: Logger;
  /** The module that says how a worker is started, and what it is told. */
  readonly module: string;
  readonly args: Json;
  /** As in `ServiceOptions`. */
  readonly newVolumes?: boolean | undefined;
}

/** A worker that has died is replaced after this long; later each time that it dies young, in milliseconds. */
const firstAgainMs = 200;
const maxAgainMs = 5_000;
/** A service whose worker dies so often in a row before it listens does not start. */
const maxStarts = 5;
/** Who lives for so long has not died young, in milliseconds. */
const youthMs = 10_000;
/** How long workers have to end after the time to drain, in milliseconds. */
const endWithinMs = 10_000;

/**
 * Several processes on one machine that are one service: this one keeps the store, the order of recent channels and the
 * control log; each worker is a whole instance that reaches them here. Connections are spread by the runtime.
 */
export class Workers implements RunningService {
  readonly url: string;
  readonly madeKeyFile: string | undefined;
  readonly writing = undefined;
  readonly ended: Promise<void>;
  readonly #parts: Parts;
  #stopping: Promise<void> | undefined;
  #tellEnded!: () => void;

  private constructor(url: string, madeKeyFile: string | undefined, parts: Parts) {
    this.url = url;
    this.madeKeyFile = madeKeyFile;
    this.#parts = parts;
    this.ended = new Promise((resolve) => {
      this.#tellEnded = resolve;
    });
  }

  /**
   * Starts so many workers as the configuration says.
   *
   * @throws if the first worker cannot start: the port is taken, say, or the data folder cannot be used
   */
  static async start(configuration: Configuration, options: WorkersOptions): Promise<Workers> {
    const { log } = options;
    const lock = await lockOf(configuration);
    const secret = new ServiceSecret(configuration.data, configuration.secrets);
    await checkNeighbours(configuration, log);
    const database = await Database.open(configuration, (why) => logEvent(log, 'warn', 'database-waiting', {}, why));
    let service: Workers | undefined;
    const lease = await leaseOf(configuration, database, log, () => void service?.stop({ drainMs: 0 }));
    await checkSoundness(database, configuration.data, (error) =>
      logEvent(log, 'error', 'database-check-failed', {}, error),
    );
    const keys = await ApiKeys.open(database);
    const madeKeyFile = await keys.makeFirst(configuration.data);
    const store = await SqlStore.open(database, reportTo(log));
    const restores = restoreWatchOf(store, { database, configuration, log, now: systemClock.now });
    await restores.check(options.newVolumes ? 'everywhere' : undefined);
    restores.start();
    if (options.newVolumes) discardSavedChannels(configuration.data);
    const hub = new ExchangeHub(
      systemClock,
      systemIds(),
      readSavedChannels(configuration.data, log),
      configuration.recentChars,
    );
    const crew = new Crew(configuration, options, hub, store, (withinMs) => void service?.stop({ drainMs: withinMs }));
    const parts = {
      configuration,
      log,
      database,
      lock,
      lease,
      keys,
      store,
      restores,
      hub,
      crew,
      links: new SignInLinks(secret.keys('console')),
    };
    try {
      service = new Workers(await crew.start(), madeKeyFile, parts);
      return service;
    } catch (error) {
      await crew.stop(0);
      await end(parts);
      throw error;
    }
  }

  async signInLink(): Promise<string> {
    const code = await this.#parts.links.make({ key: this.#parts.keys.first, looksOnly: false });
    return `${this.url}/console/#sign-in=${code}`;
  }

  /** Ends all workers cleanly, then this. Safe to call twice. */
  stop({ drainMs = this.#parts.configuration.drainMs }: StopOptions = {}): Promise<void> {
    this.#stopping ??= this.#stop(drainMs);
    return this.#stopping;
  }

  async #stop(drainMs: number): Promise<void> {
    await this.#parts.crew.stop(drainMs);
    await end(this.#parts);
    this.#tellEnded();
  }
}

interface Parts {
  readonly configuration: Configuration;
  readonly log: Logger;
  readonly database: Database;
  readonly lock: FolderLock | undefined;
  readonly lease: DatabaseLease | undefined;
  readonly keys: ApiKeys;
  readonly store: SqlStore;
  readonly restores: RestoreWatch;
  readonly hub: ExchangeHub;
  readonly crew: Crew;
  readonly links: SignInLinks;
}

async function end({ configuration, log, database, lock, lease, store, restores, hub }: Parts): Promise<void> {
  await store.settled();
  await restores.stop();
  hub.stop();
  saveChannels(configuration.data, hub.logs.saved(), log);
  if (lock?.isExclusive === true) await markClean(database);
  await lease?.release();
  await database.close();
  await lock?.release();
}

/** The workers that are there, and those that come in the place of dead ones. */
class Crew {
  readonly #configuration: Configuration;
  readonly #options: WorkersOptions;
  readonly #hub: ExchangeHub;
  readonly #store: SqlStore;
  readonly #drain: (withinMs: number | undefined) => void;
  readonly #workers = new Set<Worker>();
  readonly #againMs = new Map<string, number>();
  #stopping = false;

  constructor(
    configuration: Configuration,
    options: WorkersOptions,
    hub: ExchangeHub,
    store: SqlStore,
    drain: (withinMs: number | undefined) => void,
  ) {
    this.#configuration = configuration;
    this.#options = options;
    this.#hub = hub;
    this.#store = store;
    this.#drain = drain;
  }

  /** Resolves with where they listen, when all do. */
  async start(): Promise<string> {
    cluster.setupPrimary({
      exec: fileURLToPath(new URL('worker.js', import.meta.url)),
      execArgv: [...process.execArgv, ...youngGeneration()],
    });
    const { workers, engine } = this.#configuration;
    const names = Array.from({ length: workers }, (_, index) =>
      engine.instance === undefined ? `w${index + 1}` : `${engine.instance}-${index + 1}`,
    );
    const urls = await Promise.all(names.map((name) => this.#begin(name)));
    return urls[0] as string;
  }

  async stop(drainMs: number): Promise<void> {
    this.#stopping = true;
    const all = [...this.#workers];
    const over = all.map((worker) => new Promise((resolve) => worker.once('exit', resolve)));
    for (const worker of all) if (worker.isConnected()) worker.send({ stop: { drainMs } } satisfies ToWorker);
    const late = setTimeout(() => {
      for (const worker of this.#workers) worker.process.kill('SIGKILL');
    }, drainMs + endWithinMs);
    await Promise.all(over);
    clearTimeout(late);
  }

  /** Starts a worker, and resolves with where it listens. One that is killed before it does is replaced like any other. */
  #begin(name: string, tries = 1): Promise<string> {
    const { module, args, log } = this.#options;
    const worker = cluster.fork({ [workerEnvironment]: JSON.stringify({ module, args, name }) });
    const member = this.#hub.join();
    const store = serveStore(this.#store);
    const exchange = serveExchange(member);
    const calls = new Calls(
      {
        send: (parcels) => worker.isConnected() && worker.send({ parcels } satisfies ToWorker, () => {}),
        listen: (receive) => worker.on('message', (told: FromWorker) => told.parcels && receive(told.parcels)),
      },
      {
        call: (method, given) => {
          const [, target, name = ''] = /^(\w+)\.(.*)$/.exec(method) ?? [];
          return target === 'store' ? store(name, given) : exchange.call(name, given);
        },
        word: exchange.word,
      },
    );
    member.listen({
      heard: (topic, text) => calls.word('heard', topic, text),
      broken: () => {},
      resumed: () => {},
    });
    this.#workers.add(worker);
    const bornMs = Date.now();
    worker.on('error', (error) => logEvent(log, 'warn', 'worker-failed', { worker: name }, error));
    return new Promise((resolve, reject) => {
      let isDecided = false;
      worker.on('message', ({ listening, failed, drain }: FromWorker) => {
        isDecided ||= listening !== undefined || failed !== undefined;
        if (listening !== undefined) resolve(listening.url);
        if (failed !== undefined) reject(Object.assign(new Error(failed.message), failed));
        if (drain !== undefined) this.#drain(drain.withinMs ?? undefined);
      });
      worker.once('exit', (code, signal) => {
        this.#workers.delete(worker);
        this.#hub.close(member);
        if (this.#stopping) return;
        logEvent(log, 'error', 'worker-ended', { worker: name, code, signal });
        const ended = new Error(`the worker ${name} has ended (${signal ?? `exit code ${code}`})`);
        if (!isDecided && tries === maxStarts) reject(ended);
        this.#replace(name, Date.now() - bornMs, isDecided ? 1 : tries + 1).then(resolve, reject);
      });
    });
  }

  #replace(name: string, livedMs: number, tries: number): Promise<string> {
    const againMs = livedMs < youthMs ? (this.#againMs.get(name) ?? firstAgainMs) : firstAgainMs;
    this.#againMs.set(name, Math.min(againMs * 2, maxAgainMs));
    return new Promise((resolve, reject) => {
      setTimeout(() => {
        if (!this.#stopping) this.#begin(name, tries).then(resolve, reject);
      }, againMs);
    });
  }
}

/** What is under way in a worker does not fit V8's young generation of 16 MiB, and is copied again and again. */
function youngGeneration(): readonly string[] {
  const given = `${process.execArgv.join(' ')} ${process.env.NODE_OPTIONS ?? ''}`;
  return given.includes('--max-semi-space-size') ? [] : ['--max-semi-space-size=32'];
}
