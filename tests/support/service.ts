import { type ChildProcess, spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { connect, type Line } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { makeLog, parseConfiguration, Service, signToken } from '@nine-bells/service';
import { WebSocket } from 'ws';

export const root = fileURLToPath(new URL('..', import.meta.url));

export const configurationText = `
service: { name: Test Regatta, port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
channels:
  - { pattern: "race/:race/chat", about: Chat of a race, logbook: kept, data: 4KiB, allow: { enter: anyone, publish: signed-in } }
  - { pattern: "race/:race/signals", logbook: kept, allow: { enter: anyone, publish: nobody } }
  - { pattern: weather/wind, logbook: { recent: { messages: 5, for: 10m } }, allow: { enter: anyone, publish: anyone } }
  - pattern: crew/:boat
    allow:
      enter: { any: [{ claim: boats, holds: ":boat" }, { role: coach }] }
      publish: { claim: boats, holds: ":boat" }
  - { pattern: committee, logbook: kept, allow: { enter: signed-in, publish: signed-in } }
`;

/** A service in this process, in a data folder of its own, on a free port. */
export interface StartedService {
  readonly service: Service;
  readonly url: string;
  readonly key: string;
  readonly backend: Backend;
  readonly folder: string;
  token(user: string, forMs?: number, more?: object): Promise<string>;
  /** Ends it, and leaves the data folder. */
  stop(): Promise<void>;
  /** Ends it if it still runs, and removes the data folder. */
  remove(): Promise<void>;
}

export async function startService(
  options: { text?: string; file?: string; folder?: string; port?: number; relay?: string } = {},
): Promise<StartedService> {
  const folder = options.folder ?? mkdtempSync(join(tmpdir(), 'bells-test-'));
  // What the text refers to lies beside the file.
  const file = options.file ?? join(folder, 'bells.yaml');
  const configuration = parseConfiguration(options.text ?? configurationText, file, {
    data: folder,
    port: options.port,
    relay: options.relay,
  });
  const service = await Service.start(configuration, { log: makeLog({ level: 'error', readable: false }) });
  const key = readFileSync(join(folder, 'api-key'), 'utf8').trim();
  const { tokens } = configuration;
  return {
    service,
    url: service.url,
    key,
    backend: new Backend(service.url, { key }),
    folder,
    token: (user, forMs = 60_000, more = {}) =>
      signToken(tokens, { user, name: `${user} of the test`, forMs, ...more }),
    stop: () => service.stop(),
    remove: async () => {
      await service.stop();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/**
 * Starts instances of one service, on one data folder, and waits until they know of each other. `text` has `port: 0,` in it.
 *
 * @param clean - what ends them is added to it
 */
export async function startInstances(
  text: string,
  clean: (() => unknown)[],
  { count = 1, relay, database }: { count?: number; relay?: string; database?: string | undefined } = {},
): Promise<StartedService[]> {
  const folder = mkdtempSync(join(tmpdir(), 'bells-instances-'));
  const all: StartedService[] = [];
  clean.push(async () => {
    for (const each of all) await each.stop();
    rmSync(folder, { recursive: true, force: true });
  });
  const shared = database === undefined ? '' : ` database: ${JSON.stringify(database)},`;
  for (let n = 1; n <= count; n++)
    all.push(
      await startService({
        folder,
        ...(relay === undefined ? {} : { relay }),
        text: text.replace('port: 0,', `port: 0, instance: i${n},${shared}`),
      }),
    );
  await until(() => all.every(({ service: { engine } }) => engine.cluster.instances.length === count));
  return all;
}

/**
 * An open line of a user, or of a guest, which tries again soon.
 *
 * @param clean - what closes it is added to it
 */
export async function openLine(
  clean: (() => unknown)[],
  { url, token }: Pick<StartedService, 'url' | 'token'>,
  user: string | undefined,
  {
    rights,
    ...options
  }: NonNullable<Parameters<typeof connect>[1]> & { readonly rights?: Parameters<StartedService['token']>[2] } = {},
): Promise<Line> {
  const line = connect(url, {
    ...(user === undefined ? {} : { token: () => token(user, 600_000, rights) }),
    backOff: { firstMs: 20 },
    ...options,
  });
  clean.push(() => line.close());
  await line.opened();
  return line;
}

/** Resolves when `look` gives something; fails after `withinMs`. */
export async function until<T>(
  look: () => T | undefined | false | Promise<T | undefined | false>,
  withinMs = 20_000,
): Promise<T> {
  for (const endMs = Date.now() + withinMs; Date.now() < endMs; ) {
    const found = await look();
    if (found !== undefined && found !== false) return found;
    await new Promise((resolve) => setTimeout(resolve, 5));
  }
  throw new Error(`it did not come about within ${withinMs} ms: ${look}`);
}

/** A WebSocket to the line without the SDK, to say what a sound client would not. */
export class RawLine {
  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  readonly frames: any[] = [];
  readonly socket: WebSocket;
  closedWith: { code: number; reason: string } | undefined;

  private constructor(socket: WebSocket) {
    this.socket = socket;
    socket.on('message', (data) => this.frames.push(JSON.parse(data.toString())));
    socket.on('close', (code, reason) => {
      this.closedWith = { code, reason: reason.toString() };
    });
    socket.on('error', () => {});
  }

  static async open(url: string, options: { protocols?: string[]; origin?: string } = {}): Promise<RawLine> {
    const { protocols = ['nine-bells.v1'], ...more } = options;
    const line = new RawLine(new WebSocket(`${url.replace('http', 'ws')}/line`, protocols, more));
    await until(() => line.socket.readyState === WebSocket.OPEN || line.closedWith);
    return line;
  }

  send(frame: object | string): void {
    this.socket.send(typeof frame === 'string' ? frame : JSON.stringify(frame));
  }

  /** Says hello and waits for the welcome. */
  async hello(more: object = {}): Promise<RawLine> {
    this.send({ do: 'hello', id: 1, ...more });
    await this.reply(1);
    return this;
  }

  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  reply(id: number): Promise<any> {
    return until(() => this.frames.find((frame) => frame.re === id));
  }

  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  push(on: string): Promise<any> {
    return until(() => this.frames.find((frame) => frame.on === on));
  }

  closed(): Promise<{ code: number; reason: string }> {
    return until(() => this.closedWith);
  }
}

/** What a command printed, and how it ended. */
export interface Ended {
  readonly code: number | null;
  readonly out: string;
  readonly err: string;
}

/** A command `ninebells` under way. */
export class Command {
  readonly process: ChildProcess;
  readonly ended: Promise<Ended>;
  out = '';
  err = '';

  /** @param program - another copy of the command */
  constructor(
    args: readonly string[],
    env: Readonly<Record<string, string>> = {},
    program = join(root, 'bin/ninebells.mjs'),
    cwd = root,
  ) {
    const { NINEBELLS_URL: _, NINEBELLS_KEY: __, NINEBELLS_TOKEN: ___, ...clean } = process.env;
    this.process = spawn(process.execPath, [program, ...args], {
      cwd,
      env: { ...clean, NO_COLOR: '1', ...env },
      stdio: ['pipe', 'pipe', 'pipe'],
    });
    this.process.stdout?.on('data', (data) => (this.out += data));
    this.process.stderr?.on('data', (data) => (this.err += data));
    this.ended = new Promise((resolve) =>
      this.process.on('close', (code) => resolve({ code, out: this.out, err: this.err })),
    );
  }
}

export function ninebells(args: readonly string[], env: Readonly<Record<string, string>> = {}): Promise<Ended> {
  const command = new Command(args, env);
  command.process.stdin?.end();
  return command.ended;
}

/** The service as `ninebells serve` in a process of its own. */
export async function serve(
  folder: string,
  port = 0,
  { text = configurationText, args = [] }: { text?: string; args?: readonly string[] } = {},
): Promise<{ command: Command; url: string; key: string }> {
  const file = join(folder, 'bells.yaml');
  writeFileSync(file, text);
  const command = new Command([
    'serve',
    '--config',
    file,
    '--port',
    String(port),
    '--data',
    join(folder, 'data'),
    ...args,
  ]);
  const { process: child } = command;
  const listening = async (): Promise<string | undefined> => {
    const url = /listening at (\S+)/.exec(command.out)?.[1];
    if (url === undefined && (child.exitCode ?? child.signalCode) !== null)
      throw new Error(`it did not start: ${(await command.ended).err}`);
    return url;
  };
  // One that does not start in time would be in the way of the next.
  const url = await until(listening, 45_000).catch((error: unknown) => {
    child.kill('SIGKILL');
    throw error;
  });
  return { command, url, key: readFileSync(join(folder, 'data', 'api-key'), 'utf8').trim() };
}
