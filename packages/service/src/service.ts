import { createServer, type RequestListener, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import {
  type CallFunction,
  type CallRule,
  type ChannelRule,
  Engine,
  type Exchange,
  type Intake,
  type IntakeFunction,
  type Store,
} from '@nine-bells/core';
import { defined, eventSource } from '@nine-bells/wire';
import type { Request, RequestHandler } from 'express';
import { ApplicationAsker } from './ask/applicationAsker.js';
import { ApplicationCaller } from './ask/applicationCaller.js';
import { configurationWarnings } from './check/check.js';
import type { Configuration } from './config/configuration.js';
import { makeApp } from './http/app.js';
import { Guard } from './http/guard.js';
import { IntakeDoors } from './http/intakeDoors.js';
import { SignInLinks } from './http/signInLinks.js';
import { instanceName, loopDelay, reachedAt } from './instanceFacts.js';
import { HttpLine } from './line/httpLine.js';
import { chooseWriter, type WriterChoice } from './line/nativeWriter.js';
import { boundSockets, filesWarning, serverTimeouts } from './line/socketLimiter.js';
import { WebSocketLine } from './line/webSocketLine.js';
import { type Logger, logEvent, makeLog, reportTo } from './log.js';
import { Metrics } from './metrics.js';
import type { Outbound } from './outbound/outbound.js';
import { checkNeighbours } from './relay/neighbours.js';
import { type OpenRelay, openRelay } from './relay/relays.js';
import { TermStore } from './relay/termStore.js';
import { ApiKeys } from './store/apiKeys.js';
import { Database } from './store/database.js';
import { DatabaseLease } from './store/databaseLease.js';
import { FolderMarks } from './store/folderMarks.js';
import { discardSavedChannels } from './store/recentFile.js';
import { RestoreWatch } from './store/restoreWatch.js';
import { checkSoundness, markClean } from './store/soundness.js';
import { SqlStore } from './store/sqlStore.js';
import { UsedLinks } from './store/usedLinks.js';
import { Watchman } from './store/watchman.js';
import { ServiceClock } from './system/clock.js';
import { FolderLock } from './system/dataFolder.js';
import { systemIds } from './system/ids.js';
import { ServiceSecret } from './system/serviceSecret.js';
import { Warnings } from './system/warnings.js';
import { Tokens } from './tokens/tokens.js';
import { serviceVersion } from './version.js';
import { AddressGuard } from './webhooks/addressGuard.js';
import { bodyOfArrival } from './webhooks/bodies.js';
import { HookRegistry } from './webhooks/hookRegistry.js';
import { HookSender } from './webhooks/hookSender.js';

export interface ServiceOptions {
  readonly log?: Logger;
  /** More routes beside the service's own, for an application that runs it in its own process. */
  readonly routes?: RequestHandler;
  /** Parts of the first process; only in a worker. */
  readonly link?: WorkerLink;
  /** Writer of plain sockets. Default: the fastest that works here. */
  readonly writer?: WriterChoice;
  /** Functions that route events, by intake; they replace the routes of the configuration. */
  readonly intakes?: Readonly<Record<string, IntakeFunction>>;
  /** Functions that answer calls, by name; they replace the URLs of the configuration. */
  readonly calls?: Readonly<Record<string, CallFunction>>;
  /** Answers in place of the application and of receivers of hooks; by default requests go over the network. */
  readonly outbound?: Outbound | undefined;
  /** The time and the timers of the instance; the system's if absent. */
  readonly clock?: ServiceClock;
  /** Begin new volumes in all channels: after a restore that the service cannot recognise. */
  readonly newVolumes?: boolean;
}

/** Parts of the first process that its workers use. */
export interface WorkerLink {
  /** Absent: the configuration's own relay is used. */
  readonly exchange?: Exchange;
  readonly store: Store;
  /** Calls of the store that the database did not carry out, since the start. */
  failedCommits(): number;
  /** Ends all of them. */
  drain(withinMs: number | undefined): void;
}

/** A service that runs, in one process or several. */
export interface RunningService {
  /** Base URL, such as `http://127.0.0.1:9119`. */
  readonly url: string;
  /** The file with the first API key, if this start has made one. */
  readonly madeKeyFile: string | undefined;
  /** Writer of plain sockets; absent in the first process of workers, since each worker chooses its own. */
  readonly writing: WriterChoice | undefined;
  /** A link that signs in to the console once, within a quarter of an hour. */
  signInLink(): Promise<string>;
  /** Resolves when the service has ended, for whatever reason. */
  readonly ended: Promise<void>;
  /** Ends it cleanly. Safe to call twice. */
  stop(options?: StopOptions): Promise<void>;
}

/** Maximum time for clients to read the goodbye, in milliseconds. */
const goodbyeMs = 2_000;

interface Parts {
  readonly http: Server;
  readonly line: WebSocketLine;
  readonly relay: OpenRelay;
  readonly stopLooking: () => void;
  readonly settled: () => Promise<void>;
  /** Listener for the other workers; absent where they use the public port. */
  readonly inner: Server | undefined;
  readonly database: Database;
  readonly lock: FolderLock | undefined;
  readonly lease: DatabaseLease | undefined;
  readonly keys: ApiKeys;
  readonly links: SignInLinks;
  readonly log: Logger;
  readonly writing: WriterChoice;
  readonly drainMs: number;
  readonly publicUrl: string | undefined;
  readonly sender: HookSender;
  readonly caller: ApplicationCaller | undefined;
}

export interface StopOptions {
  /** Time for clients to reconnect elsewhere, in milliseconds. Default: the configuration's `drain`. */
  readonly drainMs?: number | undefined;
}

/** One running instance. */
export class Service implements RunningService {
  readonly engine: Engine;
  /** Base URL, such as `http://127.0.0.1:9119`. */
  readonly url: string;
  /** The file with the first API key, if this start has made one. */
  readonly madeKeyFile: string | undefined;
  readonly writing: WriterChoice;
  readonly #parts: Parts;
  #stopping: Promise<void> | undefined;
  #tellEnded!: () => void;

  private constructor(engine: Engine, url: string, madeKeyFile: string | undefined, parts: Parts) {
    this.engine = engine;
    this.url = url;
    this.madeKeyFile = madeKeyFile;
    this.writing = parts.writing;
    this.#parts = parts;
    this.ended = new Promise((resolve) => {
      this.#tellEnded = resolve;
    });
  }

  /**
   * Starts an instance: opens or creates the data folder, and listens.
   *
   * @throws if the port is taken or the data folder cannot be used; then nothing is left open
   */
  static async start(configuration: Configuration, options: ServiceOptions = {}): Promise<Service> {
    const log = options.log ?? makeLog({ level: 'silent', readable: false });
    const lock = options.link === undefined ? await lockOf(configuration) : undefined;
    const secret = new ServiceSecret(configuration.data, configuration.secrets);
    const openDatabase = async (): Promise<Database> => {
      if (options.link === undefined) await checkNeighbours(configuration, log);
      return Database.open(configuration, (why) => logEvent(log, 'warn', 'database-waiting', {}, why));
    };
    const database = await openDatabase().catch(async (error: unknown) => {
      await lock?.release();
      throw error;
    });
    const clock = options.clock ?? new ServiceClock();
    const warnings = new Warnings(log);
    const watchman = new Watchman({ database, clock, warnings });
    let service: Service | undefined;
    let lease: DatabaseLease | undefined;
    let engine: Engine | undefined;
    let relay: OpenRelay | undefined;
    let sender: HookSender | undefined;
    let caller: ApplicationCaller | undefined;
    let restores: RestoreWatch | undefined;
    const instance = instanceName(configuration);
    const delay = loopDelay();
    const writing = options.writer ?? (await chooseWriter(configuration.nativeWriter));
    const metrics = new Metrics();
    let address: string | undefined;
    try {
      if (options.link === undefined)
        lease = await leaseOf(configuration, database, log, () => void service?.stop({ drainMs: 0 }));
      if (options.link === undefined)
        await checkSoundness(database, configuration.data, (error) =>
          logEvent(log, 'error', 'database-check-failed', {}, error),
        );
      const keys = await ApiKeys.open(database, clock.now);
      const madeKeyFile = await keys.makeFirst(configuration.data);
      const ownStore = options.link === undefined ? await SqlStore.open(database, reportTo(log)) : undefined;
      const store = options.link?.store ?? (ownStore as SqlStore);
      const ids = systemIds();
      if (options.newVolumes) discardSavedChannels(configuration.data);
      relay = openRelay(configuration, {
        instance,
        log,
        clock,
        warnings,
        terms: new TermStore(database),
        exchange: options.link?.exchange,
      });
      const tokens = new Tokens(
        configuration.tokens,
        {
          observer: secret.keys('observer'),
          workbench: secret.keys('workbench'),
          isInUse: (key) => keys.isInUse(key),
        },
        clock.now,
      );
      const registry = new HookRegistry(configuration.hooks, keys, new AddressGuard(configuration.hookNetworks));
      const { askSecrets } = configuration;
      const asking = askSecrets.length === 0 ? undefined : new ApplicationCaller(askSecrets, options.outbound);
      caller = asking;
      sender = new HookSender({
        secretsOf: (hook) => registry.secretsOf(hook),
        isTrusted: (hook) => registry.isTrusted(hook),
        guard: registry.guard,
        source: eventSource(configuration.name),
        now: clock.now,
        send: options.outbound,
        failing: (hook, cause) => logEvent(log, 'warn', 'hook-failing', { hook: hook.name, url: hook.url }, cause),
        recovered: (hook) => logEvent(log, 'info', 'hook-recovered', { hook: hook.name, url: hook.url }),
      });
      const asker =
        askSecrets.length === 0
          ? undefined
          : new ApplicationAsker(askSecrets, configuration.engine.askWithinMs ?? 3_000, options.outbound);
      engine = new Engine(
        {
          clock,
          ids,
          relay: relay.relay,
          store,
          tokens,
          hmac: secret.hmac(),
          ...defined({ asker, reviewer: asker, callAsker: caller }),
          report: reportTo(log),
          hookCaller: sender,
          readHook: registry.readHook,
          hookPaused: ({ name, url }, why) => {
            logEvent(log, 'error', 'hook-paused', { hook: name, url }, why);
            void tellOperators(engine as Engine, configuration.operators, name, why).catch((error: unknown) =>
              logEvent(log, 'error', 'operators-unnotified', { hook: name }, error),
            );
          },
          bodyOf: bodyOfArrival,
          refused: (refused, untold) =>
            logEvent(log, 'refused', refused.reportOnly ? 'contract-violation' : 'refused', {
              ...refused,
              ...(untold === 0 ? {} : { untold }),
            }),
          keysChanged: () =>
            keys.readAgain().catch((error: unknown) => logEvent(log, 'error', 'keys-unread', {}, error)),
          took: metrics.took,
          ...(log.isLevelEnabled('debug') ? { seen: (event, facts) => logEvent(log, 'debug', event, facts) } : {}),
          facts: () => ({
            version: serviceVersion,
            loopDelayMs: delay.p99Ms(),
            clockMs: clock.offsetMs,
            writer: writing.use,
            warnings: warnings.all,
            ...defined({ address }),
          }),
        },
        configuration.channels as ChannelRule[],
        {
          ...configuration.engine,
          hooks: configuration.hooks.map(({ secrets: _, ...hook }) => hook),
          intakes: intakesOf(configuration, options.intakes),
          calls: callsOf(configuration, options.calls),
          instance,
        },
      );
      await readyWithin(engine, log);
      restores = ownStore && restoreWatchOf(ownStore, { database, configuration, log, now: clock.now, relay });
      await restores?.check(options.newVolumes ? 'everywhere' : undefined);
      restores?.start();
      metrics.watch(engine, delay.p99Ms, () => database.health.failed + (options.link?.failedCommits() ?? 0));
      const used = new UsedLinks(database, clock.now);
      const links = new SignInLinks(
        secret.keys('console'),
        // Instances that share neither a database nor a folder have the relay in common.
        async (id, endsAtMs) =>
          (await (engine as Engine).cluster.claim(`sign-in ${id}`, endsAtMs - clock.now())) && used.use(id, endsAtMs),
        clock.now,
      );
      const doors = new IntakeDoors({ ...configuration, engine, ids, now: clock.now, log });
      const app = makeApp({
        engine,
        line: new HttpLine(engine, configuration).routes(),
        doors: doors.routes(),
        intakes: configuration.intakes,
        registry,
        sender,
        callRequest: asking && ((call, atMs) => asking.requestFor(call, atMs)),
        now: clock.now,
        guard: new Guard(keys, secret.keys('console'), configuration.keyRequests, clock.now),
        keys,
        metrics,
        links,
        tokens,
        facts: { name: configuration.name, version: serviceVersion, startedAtMs: Date.now() },
        log,
        consoleUrl: (request) => `${configuration.publicUrl ?? forwardedUrl(request) ?? service?.url}/console/`,
        readiness: () => ({
          isReady:
            service !== undefined &&
            service.#stopping === undefined &&
            service.engine.isOpen &&
            !watchman.isDatabaseAway,
          isDraining: service?.engine.draining ?? false,
          warnings: warnings.all,
        }),
        drain: (withinMs) =>
          options.link === undefined ? void service?.stop({ drainMs: withinMs }) : options.link.drain(withinMs),
        apiOrigins: configuration.apiOrigins,
        trustedProxies: configuration.trustedProxies,
        more: options.routes,
      });
      const served: RequestListener = (request, response) => {
        if (!doors.take(request, response)) app(request, response);
      };
      const http = createServer(serverTimeouts, served);
      boundSockets(http, engine, configuration.trustedProxies);
      warnings.set('files', filesWarning(configuration.engine.connections));
      const line = new WebSocketLine(http, engine, {
        ...configuration,
        writer: writing.use === 'native' ? writing.writer : undefined,
      });
      await listen(http, configuration);
      const { port } = http.address() as AddressInfo;
      // Workers share a port: the others need one that leads to this very process.
      const inner = options.link === undefined ? undefined : await listenInside(app);
      const innerPort = (inner?.address() as AddressInfo | undefined)?.port;
      address =
        innerPort === undefined
          ? (configuration.address ?? reachedAt(configuration.host, port))
          : `http://127.0.0.1:${innerPort}`;
      const host = configuration.host.includes(':') ? `[${configuration.host}]` : configuration.host;
      const url = `http://${host === '0.0.0.0' || host === '[::]' ? 'localhost' : host}:${port}`;
      service = new Service(engine, url, madeKeyFile, {
        http,
        line,
        relay,
        stopLooking: () => {
          delay.stop();
          watchman.stop();
        },
        settled: async () => {
          await ownStore?.settled();
          await restores?.stop();
        },
        inner,
        database,
        lock,
        lease,
        keys,
        links,
        log,
        writing,
        drainMs: configuration.drainMs,
        publicUrl: configuration.publicUrl,
        sender,
        caller,
      });
      const { use: writer } = writing;
      logEvent(log, 'info', 'started', {
        url,
        data: configuration.data,
        version: serviceVersion,
        writer,
        ...defined({ keyFile: madeKeyFile }),
      });
      if (writing.use === 'streams') logEvent(log, 'info', 'writer-unavailable', {}, writing.why);
      if (options.link === undefined)
        for (const warning of await configurationWarnings(configuration))
          logEvent(log, 'warn', 'configuration-warning', {}, warning);
      return service;
    } catch (error) {
      await engine?.stop();
      await restores?.stop();
      // A start that fails, on a taken port say, leaves for the next one what it has found.
      await relay?.stop();
      await sender?.close();
      await caller?.close();
      delay.stop();
      watchman.stop();
      await lease?.release();
      await database.close();
      await lock?.release();
      throw error;
    }
  }

  /** A link that signs in to the console once, within a quarter of an hour. */
  async signInLink(): Promise<string> {
    const code = await this.#parts.links.make({ key: this.#parts.keys.first, looksOnly: false });
    return `${this.#parts.publicUrl ?? this.url}/console/#sign-in=${code}`;
  }

  /** Resolves when the service has ended, for whatever reason. */
  readonly ended: Promise<void>;

  /**
   * Stops cleanly: asks clients to reconnect elsewhere and gives them time, closes the remaining connections, commits
   * accepted messages, saves the records of recent channels, and closes. Safe to call twice.
   */
  stop({ drainMs = this.#parts.drainMs }: StopOptions = {}): Promise<void> {
    this.#stopping ??= this.#stop(drainMs);
    return this.#stopping;
  }

  async #stop(drainMs: number): Promise<void> {
    const { http, line, relay, settled, inner, database, lock, lease, log, stopLooking, sender, caller } = this.#parts;
    logEvent(log, 'info', 'stopping', { connections: this.engine.stats.connections, drainMs });
    if (drainMs > 0) await this.engine.drain(drainMs);
    let httpClosed = false;
    http.close(() => {
      httpClosed = true;
    });
    await this.engine.stop();
    await settled();
    // Accepted messages are committed. Clients still have to read their replies and the goodbye.
    for (const endMs = Date.now() + goodbyeMs; !httpClosed && Date.now() < endMs; ) {
      http.closeIdleConnections();
      await new Promise((resolve) => setTimeout(resolve, 10));
    }
    line.close();
    http.closeAllConnections();
    inner?.close();
    inner?.closeAllConnections();
    await relay.stop();
    await sender.close();
    await caller?.close();
    stopLooking();
    // Another instance may go on with the file.
    if (lock?.isExclusive === true) await markClean(database);
    await lease?.release();
    await database.close();
    await lock?.release();
    logEvent(log, 'info', 'stopped');
    this.#tellEnded();
  }
}

/** Intakes, with functions in place of their routes where given. */
function intakesOf({ intakes }: Configuration, functions: ServiceOptions['intakes'] = {}): readonly Intake[] {
  const unknown = Object.keys(functions).find((name) => !intakes.some((intake) => intake.name === name));
  if (unknown !== undefined)
    throw new RangeError(`there is a function for the intake ${unknown}, which is not configured`);
  return intakes.map((intake) => ({ ...intake, routes: functions[intake.name] ?? intake.routes }));
}

/** Calls, each with its answerer. */
function callsOf({ calls }: Configuration, functions: ServiceOptions['calls'] = {}): readonly CallRule[] {
  const unknown = Object.keys(functions).find((name) => !calls.some((call) => call.name === name));
  if (unknown !== undefined)
    throw new RangeError(`there is a function for the call ${unknown}, which is not configured`);
  return calls.map(({ url, ...call }) => ({ ...call, answerer: functions[call.name] ?? url ?? unanswered(call.name) }));
}

function unanswered(name: string): CallFunction {
  return () => {
    throw new Error(`the call ${name} has neither a URL nor a function`);
  };
}

/** The service's address as a trusted proxy has forwarded it; `undefined` without one. */
function forwardedUrl(request: Request): string | undefined {
  const { protocol, host } = request;
  // Express believes these headers only of trusted proxies: then they differ from the request's own.
  const isForwarded = host !== request.headers.host || protocol !== 'http';
  return isForwarded && host !== undefined ? `${protocol}://${host}` : undefined;
}

/** Tells the operators, by a notice, that a hook is paused. */
async function tellOperators(engine: Engine, role: string | undefined, hook: string, why: string): Promise<void> {
  if (role === undefined) return;
  const title = `The hook ${hook} is paused`;
  await engine.inboxes.notify({ isOwn: true, role, title, data: { hook, why }, key: `hook-paused-${hook}` });
}

/** The lock of the data folder; with a database elsewhere nothing in the folder is written to by several. */
export function lockOf(configuration: Configuration): Promise<FolderLock> | undefined {
  if (configuration.database !== undefined) return undefined;
  return FolderLock.take(configuration.data, configuration.relay !== undefined);
}

/** The lease of a shared database. An instance that loses it stops, because the new one does not know of it. */
export function leaseOf(
  configuration: Configuration,
  database: Database,
  log: Logger,
  end: () => void,
): Promise<DatabaseLease> | undefined {
  if (!database.isShared) return undefined;
  return DatabaseLease.take(database, configuration.relay !== undefined, (error) => {
    logEvent(log, 'error', 'instance-ends', {}, error);
    end();
  });
}

/** Says so where it takes long: without the relay it is not known who is banned. */
async function readyWithin(engine: Engine, log: Logger): Promise<void> {
  const slow = setTimeout(() => logEvent(log, 'warn', 'relay-waiting'), 2_000);
  try {
    await engine.ready();
  } finally {
    clearTimeout(slow);
  }
}

/** Watches whether the database was restored from a backup. */
export function restoreWatchOf(
  { volumes }: SqlStore,
  host: {
    readonly database: Database;
    readonly configuration: Configuration;
    readonly log: Logger;
    readonly now: () => number;
    readonly relay?: OpenRelay;
  },
): RestoreWatch {
  const { database, configuration, log, now, relay } = host;
  const marks = [new FolderMarks(configuration.data), ...(relay?.marks === undefined ? [] : [relay.marks])];
  return new RestoreWatch({ database, volumes, marks, now, report: reportTo(log) });
}

/** A listener for the other workers of this machine only. */
function listenInside(app: RequestListener): Promise<Server> {
  const server = createServer(serverTimeouts, app);
  return new Promise((resolve, reject) => {
    server.once('error', reject);
    server.listen({ port: 0, host: '127.0.0.1', exclusive: true }, () => resolve(server));
  });
}

function listen(http: Server, { host, port }: Configuration): Promise<void> {
  return new Promise((resolve, reject) => {
    http.once('error', reject);
    http.listen(port, host, () => {
      http.off('error', reject);
      resolve();
    });
  });
}
