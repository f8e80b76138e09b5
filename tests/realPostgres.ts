import { type ChildProcess, spawn, spawnSync } from 'node:child_process';
import { chmodSync, chownSync, existsSync, mkdtempSync, readdirSync, rmSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import pg from 'pg';

const versions = '/usr/lib/postgresql';
const version = existsSync(versions) ? readdirSync(versions).sort().at(-1) : undefined;
const bin = join(versions, version ?? '', 'bin');
export const postgresIsThere = version !== undefined && existsSync(join(bin, 'postgres'));

/** A PostgreSQL of this test's own, on a free port, in a folder of its own. It does not run as root: then as `postgres`. */
export class RealPostgres {
  readonly #folder: string;
  readonly #port: number;
  #process: ChildProcess | undefined;
  #databases = 0;

  private constructor(folder: string, port: number) {
    this.#folder = folder;
    this.#port = port;
  }

  static async start(): Promise<RealPostgres> {
    const folder = mkdtempSync(join(tmpdir(), 'bells-postgres-'));
    const data = join(folder, 'data');
    if (process.getuid?.() === 0) {
      const id = (which: string): number => Number(spawnSync('id', [which, 'postgres'], { encoding: 'utf8' }).stdout);
      chownSync(folder, id('-u'), id('-g'));
      chmodSync(folder, 0o700);
    }
    const [command, args] = asUser(join(bin, 'initdb'), ['-D', data, '-U', 'bells', '-A', 'trust', '-E', 'UTF8', '-N']);
    const { status, stderr } = spawnSync(command, args, { encoding: 'utf8', cwd: '/' });
    if (status !== 0) throw new Error(`initdb failed: ${stderr}`);
    const postgres = new RealPostgres(folder, await freePort());
    await postgres.begin();
    return postgres;
  }

  /** Starts it, or starts it again. */
  async begin(): Promise<void> {
    const settings = [
      '-p',
      String(this.#port),
      '-k',
      this.#folder,
      '-c',
      'listen_addresses=127.0.0.1',
      '-c',
      'fsync=off',
    ];
    const [command, args] = asUser(join(bin, 'postgres'), ['-D', join(this.#folder, 'data'), ...settings]);
    this.#process = spawn(command, args, { stdio: 'ignore', cwd: '/' });
    for (const endMs = Date.now() + 20_000; Date.now() < endMs; ) {
      if (
        await this.#query('SELECT 1').then(
          () => true,
          () => false,
        )
      )
        return;
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
    throw new Error('PostgreSQL did not start');
  }

  /** An empty database; its URL. */
  async makeDatabase(): Promise<string> {
    const name = `test_${++this.#databases}`;
    await this.#query(`CREATE DATABASE ${name}`);
    return `postgres://bells@127.0.0.1:${this.#port}/${name}`;
  }

  async stop(): Promise<void> {
    const child = this.#process;
    this.#process = undefined;
    if (child === undefined) return;
    const ended = new Promise((resolve) => child.once('exit', resolve));
    const [command, args] = asUser(join(bin, 'pg_ctl'), ['stop', '-D', join(this.#folder, 'data'), '-m', 'immediate']);
    spawnSync(command, args, { stdio: 'ignore', cwd: '/' });
    await ended;
  }

  async remove(): Promise<void> {
    await this.stop();
    rmSync(this.#folder, { recursive: true, force: true });
  }

  async #query(text: string): Promise<void> {
    const client = new pg.Client({ host: '127.0.0.1', port: this.#port, user: 'bells', database: 'postgres' });
    try {
      await client.connect();
      await client.query(text);
    } finally {
      await client.end().catch(() => {});
    }
  }
}

function asUser(command: string, args: readonly string[]): [string, string[]] {
  return process.getuid?.() === 0 ? ['runuser', ['-u', 'postgres', '--', command, ...args]] : [command, [...args]];
}

function freePort(): Promise<number> {
  return new Promise((resolve) => {
    const server = createServer().listen(0, '127.0.0.1', () => {
      const { port } = server.address() as { port: number };
      server.close(() => resolve(port));
    });
  });
}
