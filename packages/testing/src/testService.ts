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
  parseConfiguration,
  readConfiguration,
  Service,
  signToken,
} from '@nine-bells/service';
import { MovableClock } from './movableClock.js';
import { type ClientWish, TestClient } from './testClient.js';

export interface TestServiceOptions {
  /** A configuration file. */
  readonly config?: string;
  /** The text of a configuration, in place of a file. */
  readonly text?: string;
  /** The port; any that is free, if absent. */
  readonly port?: number;
  /** What the service logs, from this level on; nothing, if absent. */
  readonly log?: 'debug' | 'info' | 'warn' | 'error';
}

/** A made-up user, as a token would name it. */
export interface TestUser extends DrillUser {
  /** How long its token is good, in milliseconds. Default an hour. */
  readonly forMs?: number;
}

interface StartOptions {
  readonly clock: MovableClock;
  readonly log: Logger;
}

const dayMs = 86_400_000;
/** Files that are gone with the machine's power, where there are such. */
const inMemory = '/dev/shm';

/**
 * A service that lives as long as a test: in this process, on a free port, with its data in memory. It has the channel rules
 * of a configuration; where that says which database, relay, workers or proxies there are, it does without.
 */
export class TestService implements Surroundings {
  readonly key: string;
  readonly backend: Backend;
  readonly clock: MovableClock;
  readonly url: string;
  readonly #configuration: Configuration;
  readonly #folder: string;
  readonly #clients = new Set<TestClient>();
  readonly #options: StartOptions;
  #service: Service | undefined;

  private constructor(service: Service, configuration: Configuration, folder: string, options: StartOptions) {
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
   * @throws {ConfigurationError} with all that is wrong in the configuration
   */
  static async start({ config, text, port = 0, log }: TestServiceOptions): Promise<TestService> {
    const folder = ownFolder();
    try {
      const configuration = configurationIn(folder, config, text, port);
      const clock = new MovableClock();
      const options = { clock, log: makeLog({ level: log ?? 'silent', readable: true }) };
      const service = await Service.start(configuration, options);
      const { port: used } = new URL(service.url);
      return new TestService(service, { ...configuration, port: Number(used) }, folder, options);
    } catch (error) {
      removeFolder(folder);
      throw error;
    }
  }

  /** The engine and all the rest, for what a test wants to look into. */
  get service(): Service {
    if (this.#service === undefined) throw new Error('the service has been stopped');
    return this.#service;
  }

  /** A token for a made-up user, as an application would sign it. */
  tokenFor(user: string, { name, roles, claims }: DrillUser = {}, forMs = 3_600_000): Promise<string> {
    return signToken(this.#configuration.tokens, {
      user,
      name,
      roles: roles ?? [],
      claims: claims ?? {},
      // As the service sees time.
      forMs: forMs + this.clock.now() - Date.now(),
    });
  }

  /** A client that is connected as a made-up user, or as a guest. */
  async client(wish: ClientWish = {}): Promise<TestClient> {
    const client = new TestClient(this, wish);
    this.#clients.add(client);
    await client.connect();
    return client;
  }

  /** Starts it again after `stop`, or at all times with `restart`: on the same port, with the same data. */
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

  /** Ends it with all its clients, and removes its data. */
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
 * A new folder for the data, in memory where that can be had. Those of processes of this machine that were killed before they
 * could remove theirs go.
 */
function ownFolder(): string {
  const parent = existsSync(inMemory) ? inMemory : tmpdir();
  // Containers may have the folder in common, and processes of the same number.
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

/** The folders of this process, which go with it at the latest. */
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

/** The configuration of a service that nobody else has. */
function configurationIn(
  data: string,
  file: string | undefined,
  text: string | undefined,
  port: number,
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
    // When the clock is moved, nobody has the time for a sign of life.
    engine: { ...read.engine, pulseMs: dayMs },
    // Where only public keys are configured, nothing could be signed here.
    tokens: { ...read.tokens, secret: read.tokens.secret ?? randomBytes(32).toString('base64url') },
  };
}
