import { randomBytes } from 'node:crypto';
import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { hostname, tmpdir } from 'node:os';
import { join } from 'node:path';
import { Backend } from '@nine-bells/client/backend';
import type { DrillUser, Surroundings } from '@nine-bells/drills';
import {
  type Configuration,
  type Logger,
  makeLog,
  type Outbound,
  parseConfiguration,
  readConfiguration,
  Service,
  signToken,
} from '@nine-bells/service';
import { MovableClock } from './movableClock.js';
import { type ApplicationFunctions, StandInApplication } from './standInApplication.js';
import { type ClientWish, TestClient } from './testClient.js';

export interface TestServiceOptions extends ApplicationFunctions {
  /** A configuration file. */
  readonly config?: string;
  /** The text of a configuration, in place of a file. */
  readonly text?: string;
  /** Default: any free port. */
  readonly port?: number;
  /**
   * Send questions, calls and deliveries to the configured URLs. Default: nothing leaves the process, and `application`
   * receives them.
   */
  readonly outbound?: boolean;
  /** Minimum level of the log on stderr. Default: no log. */
  readonly log?: 'debug' | 'info' | 'warn' | 'error';
}

interface StartOptions {
  readonly clock: MovableClock;
  readonly log: Logger;
  readonly outbound?: Outbound | undefined;
}

const dayMs = 86_400_000;
/** A file system in memory, on Linux. */
const inMemory = '/dev/shm';

/**
 * A service for one test: in this process, on a free port, with its data in memory. It uses the channel rules of a
 * configuration, and ignores its database, relay and workers. Nothing that it sends leaves the process unless `outbound`
 * is set.
 */
export class TestService implements Surroundings {
  readonly key: string;
  readonly backend: Backend;
  readonly clock: MovableClock;
  readonly url: string;
  /** Receives questions, calls and deliveries, and answers; absent with `outbound`. */
  readonly standIn: StandInApplication | undefined;
  readonly #configuration: Configuration;
  readonly #folder: string;
  readonly #clients = new Set<TestClient>();
  readonly #options: StartOptions;
  #service: Service | undefined;

  private constructor(
    service: Service,
    configuration: Configuration,
    folder: string,
    options: StartOptions,
    standIn: StandInApplication | undefined,
  ) {
    this.standIn = standIn;
    this.#service = service;
    this.#configuration = configuration;
    this.#folder = folder;
    this.clock = options.clock;
    this.#options = options;
    this.url = service.url;
    this.key = readFileSync(join(folder, 'api-key'), 'utf8').trim();
    this.backend = new Backend(this.url, { key: this.key });
  }

  /**
   * Starts one.
   *
   * @throws {ConfigurationError} with every mistake in the configuration
   * @throws {RangeError} for a function of a call or hook that is not configured
   */
  static async start({
    config,
    text,
    port = 0,
    log,
    outbound,
    ...functions
  }: TestServiceOptions): Promise<TestService> {
    const folder = ownFolder();
    try {
      const configuration = configurationIn(folder, config, text, port, outbound);
      checkFunctions(functions, configuration, outbound);
      const standIn = outbound ? undefined : new StandInApplication(functions);
      const clock = new MovableClock();
      const options = {
        clock,
        outbound: standIn?.receive,
        log: makeLog({ level: log ?? 'silent', readable: true }),
      };
      const service = await Service.start(configuration, options);
      const { port: used } = new URL(service.url);
      return new TestService(service, { ...configuration, port: Number(used) }, folder, options, standIn);
    } catch (error) {
      removeFolder(folder);
      throw error;
    }
  }

  /** The stand-in for the application and for receivers of hooks. */
  get application(): StandInApplication {
    if (this.standIn === undefined) throw new Error('with `outbound`, requests go to the configured URLs');
    return this.standIn;
  }

  /** The running service, for inspection. */
  get service(): Service {
    if (this.#service === undefined) throw new Error('the service has been stopped');
    return this.#service;
  }

  /** Signs a token for a made-up user, as an application would. */
  tokenFor(user: string, { name, roles, claims }: DrillUser = {}, forMs = 3_600_000): Promise<string> {
    return signToken(this.#configuration.tokens, {
      user,
      name,
      roles: roles ?? [],
      claims: claims ?? {},
      // Relative to the service's clock.
      forMs: forMs + this.clock.now() - Date.now(),
    });
  }

  /** Connects a client as a made-up user, or as a guest. */
  async client(wish: ClientWish = {}): Promise<TestClient> {
    const client = new TestClient(this, wish);
    this.#clients.add(client);
    await client.connect();
    return client;
  }

  /** Stops the service, and starts it on the same port with the same data. */
  readonly control = {
    stop: async (): Promise<void> => {
      await this.#service?.stop({ drainMs: 0 });
      this.#service = undefined;
    },
    start: async (): Promise<void> => {
      this.#service ??= await Service.start(this.#configuration, this.#options);
    },
  };

  async restart(): Promise<void> {
    await this.control.stop();
    await this.control.start();
  }

  /** Stops the service, disconnects its clients, and removes its data. */
  async stop(): Promise<void> {
    for (const client of this.#clients) client.close();
    await this.control.stop();
    removeFolder(this.#folder);
  }

  async [Symbol.asyncDispose](): Promise<void> {
    await this.stop();
  }
}

/**
 * Creates a data folder, in memory where possible. Also removes the folders of processes on this host that were killed.
 */
function ownFolder(): string {
  const parent = existsSync(inMemory) ? inMemory : tmpdir();
  // Containers may share /dev/shm and reuse each other's process ids, so the host name is part of the prefix.
  const prefix = `bells-test-${hostname()}-`;
  for (const name of readdirSync(parent)) {
    const pid = name.startsWith(prefix) ? Number(name.slice(prefix.length).split('-')[0]) : 0;
    if (pid > 0 && hasEnded(pid)) rmSync(join(parent, name), { recursive: true, force: true });
  }
  const folder = mkdtempSync(join(parent, `${prefix}${process.pid}-`));
  if (!isWatched) process.once('exit', () => [...folders].forEach(removeFolder));
  isWatched = true;
  folders.add(folder);
  return folder;
}

/** Folders of this process, removed when it exits at the latest. */
const folders = new Set<string>();
let isWatched = false;

function removeFolder(folder: string): void {
  rmSync(folder, { recursive: true, force: true });
  folders.delete(folder);
}

function hasEnded(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return false;
  } catch (error) {
    return (error as NodeJS.ErrnoException).code === 'ESRCH';
  }
}

/** The configuration, adapted to a service without database, relay and workers. */
function configurationIn(
  data: string,
  file: string | undefined,
  text: string | undefined,
  port: number,
  outbound = false,
): Configuration {
  if (file === undefined && text === undefined)
    throw new TypeError('say which configuration: `config`, a file, or `text`');
  const overrides = { data, port, host: '127.0.0.1', workers: 0 };
  const read =
    text === undefined
      ? readConfiguration(file as string, overrides)
      : parseConfiguration(text, file ?? 'bells.yaml', overrides);
  return {
    ...read,
    relay: undefined,
    database: undefined,
    sqliteSynchronous: 'normal',
    drainMs: 0,
    // When the clock moves, clients have no time to answer pulses.
    engine: { ...read.engine, pulseMs: dayMs },
    // A configuration may have public keys only, which cannot sign.
    tokens: {
      ...read.tokens,
      secrets: read.tokens.secrets.length > 0 ? read.tokens.secrets : [randomBytes(32).toString('base64url')],
    },
    ...(outbound ? {} : withStandIn(read)),
  };
}

/** Calls that code answers in production have neither a URL nor a secret. */
function withStandIn({ calls, askSecrets }: Configuration): Pick<Configuration, 'calls' | 'askSecrets'> {
  return {
    calls: calls.map((call) => ({ ...call, url: call.url ?? `http://application.invalid/${call.name}` })),
    askSecrets: askSecrets.length > 0 ? askSecrets : [`whsec_${randomBytes(32).toString('base64')}`],
  };
}

function checkFunctions(functions: ApplicationFunctions, { calls, hooks }: Configuration, outbound = false): void {
  if (outbound && Object.keys(functions).length > 0)
    throw new TypeError(`with \`outbound\`, the application answers: leave out ${Object.keys(functions).join(', ')}`);
  for (const [option, given, configured] of [
    ['calls', functions.calls, calls],
    ['hooks', functions.hooks, hooks],
  ] as const)
    for (const name of Object.keys(given ?? {}))
      if (!configured.some((each) => each.name === name))
        throw new RangeError(
          `\`${option}\` has a function for ${name}, which is not configured; configured are ${configured.map((each) => each.name).join(', ') || 'none'}`,
        );
}
