import { AsyncLocalStorage } from 'node:async_hooks';
import { type ChildProcess, spawn } from 'node:child_process';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { main } from '../../packages/cli/dist/main.js';
import { record } from './log.js';
import { copyMigratedFile } from './migratedFile.js';
import { configurationText } from './service.js';
import { until } from './until.js';

export const root = fileURLToPath(new URL('../..', import.meta.url));

type Environment = Readonly<Record<string, string>>;

/** Output and exit code of a command that has ended. */
export interface Ended {
  readonly code: number | null;
  readonly out: string;
  readonly err: string;
}

/** A command `ninebells` under way. */
export interface RunningCommand {
  /** Standard output so far. */
  readonly out: string;
  /** Standard error so far. */
  readonly err: string;
  readonly ended: Promise<Ended>;
}

/** Runs a command within this process, to its end. */
export function ninebells(args: readonly string[], env: Environment = {}): Promise<Ended> {
  return startNinebells(args, env).ended;
}

/** Starts a command within this process. It cannot be interrupted: for commands that end by themselves, as with `--count`. */
export function startNinebells(args: readonly string[], env: Environment = {}): RunningCommand {
  const output = new Output();
  const ended = output.capture(() => withEnvironment(env, () => main(args)));
  return Object.assign(output, { ended: ended.then((code) => ({ code, out: output.out, err: output.err })) });
}

/** Text that a command prints. */
class Output {
  out = '';
  err = '';

  /** Calls `act`, and collects what it and everything that it starts print. */
  capture<T>(act: () => T): T {
    return printing.run(this, act);
  }
}

/** The command on whose behalf code is running. */
const printing = new AsyncLocalStorage<Output>();

for (const [stream, member] of [
  [process.stdout, 'out'],
  [process.stderr, 'err'],
] as const) {
  const write = stream.write.bind(stream) as (...args: unknown[]) => boolean;
  stream.write = (chunk: string | Uint8Array, ...rest: unknown[]): boolean => {
    const output = printing.getStore();
    if (output === undefined) return write(chunk, ...rest);
    output[member] += typeof chunk === 'string' ? chunk : Buffer.from(chunk).toString();
    const done = rest.find((each) => typeof each === 'function');
    if (done !== undefined) process.nextTick(done as () => void);
    return true;
  };
}

/** Calls `act` with an environment of its own. A command reads it while it parses its arguments, before it first waits. */
function withEnvironment<T>(env: Environment, act: () => T): T {
  const before = { ...process.env };
  const ours = Object.keys(before).filter((name) => name.startsWith('NINEBELLS_'));
  for (const name of ours) delete process.env[name];
  Object.assign(process.env, env);
  try {
    return act();
  } finally {
    for (const name of Object.keys(env)) delete process.env[name];
    Object.assign(process.env, before);
  }
}

/** A command `ninebells` in a process of its own, which a test can kill or interrupt. */
export class Command implements RunningCommand {
  readonly process: ChildProcess;
  readonly ended: Promise<Ended>;
  out = '';
  err = '';

  /** @param program - another copy of the command */
  constructor(
    args: readonly string[],
    env: Environment = {},
    program = join(root, 'bin/ninebells.mjs'),
    cwd: string = root,
  ) {
    const clean = Object.fromEntries(Object.entries(process.env).filter(([name]) => !name.startsWith('NINEBELLS_')));
    this.process = spawn(process.execPath, [program, ...args], {
      cwd,
      env: { ...clean, NO_COLOR: '1', ...env },
      stdio: ['pipe', 'pipe', 'pipe'],
    });
    this.process.stdout?.on('data', (data) => (this.out += data));
    this.process.stderr?.on('data', (data) => {
      this.err += data;
      record(String(data));
    });
    this.ended = new Promise((resolve) =>
      this.process.on('close', (code) => resolve({ code, out: this.out, err: this.err })),
    );
  }
}

/** Runs a command in a process of its own, to its end: where the program itself is tested. */
export function spawnNinebells(args: readonly string[], env: Environment = {}): Promise<Ended> {
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
  const data = join(folder, 'data');
  if (!existsSync(data) && !/database:/.test(text) && !args.includes('--database')) await copyMigratedFile(data);
  const command = new Command(['serve', '--config', file, '--port', String(port), '--data', data, ...args]);
  const { process: child } = command;
  const listening = async (): Promise<string | undefined> => {
    const url = (/listening at (\S+)/.exec(command.out) ??
      /"event":"listening","url":"([^"]+)"/.exec(command.err))?.[1];
    if (url === undefined && (child.exitCode ?? child.signalCode) !== null)
      throw new Error(`the service did not start: ${(await command.ended).err}`);
    return url;
  };
  // One that does not start would hold the folder that the next one needs.
  const url = await until(listening).catch((error: unknown) => {
    child.kill('SIGKILL');
    throw error;
  });
  return { command, url, key: readFileSync(join(data, 'api-key'), 'utf8').trim() };
}
