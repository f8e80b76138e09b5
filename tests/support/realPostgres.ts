import { type ChildProcess, execFile, spawn, spawnSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { chmodSync, chownSync, existsSync, mkdtempSync, readdirSync } from 'node:fs';
import { rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import pg from 'pg';
import { freePort } from './ports.js';
import { until } from './until.js';

const versions = '/usr/lib/postgresql';
const version = existsSync(versions) ? readdirSync(versions).sort().at(-1) : undefined;
const bin = join(versions, version ?? '', 'bin');
export const postgresIsThere = version !== undefined && existsSync(join(bin, 'postgres'));

/** Databases in a PostgreSQL that runs. */
export class PostgresDatabases {
  readonly port: number;

  constructor(port: number) {
    this.port = port;
  }

  /**
   * Creates a database and returns its URL.
   *
   * @param template - the database to copy; by default it is empty
   */
  async makeDatabase(template = 'template1'): Promise<string> {
    const name = `test_${randomBytes(6).toString('hex')}`;
    await this.query(`CREATE DATABASE ${name} TEMPLATE ${template}`);
    return `postgres://bells@127.0.0.1:${this.port}/${name}`;
  }

  /** Frees the space of a database. */
  async dropDatabase(url: string): Promise<void> {
    await this.query(`DROP DATABASE ${new URL(url).pathname.slice(1)} WITH (FORCE)`);
  }

  /** Runs a statement as the owner of all databases. */
  async query<Row extends object>(text: string, database = 'postgres'): Promise<Row[]> {
    const client = new pg.Client({ host: '127.0.0.1', port: this.port, user: 'bells', database });
    try {
      await client.connect();
      const { rows } = await client.query<Row>(text);
      return rows;
    } finally {
      await client.end().catch(() => {});
    }
  }
}

/** A PostgreSQL of this test's own, on a free port, in a folder of its own. It does not run as root: then as `postgres`. */
export class RealPostgres extends PostgresDatabases {
  readonly #folder: string;
  #process: ChildProcess | undefined;

  private constructor(folder: string, port: number) {
    super(port);
    this.#folder = folder;
  }

  static async start(): Promise<RealPostgres> {
    const folder = makeFolder();
    const data = join(folder, 'data');
    await run('initdb', ['-D', data, '-U', 'bells', '-A', 'trust', '-E', 'UTF8', '-N']);
    const postgres = new RealPostgres(folder, await freePort());
    await postgres.begin();
    return postgres;
  }

  /** A hot standby of this one, with everything that it has now. */
  async standby(): Promise<RealPostgres> {
    const folder = makeFolder();
    const data = join(folder, 'data');
    const from = ['-h', '127.0.0.1', '-p', String(this.port), '-U', 'bells'];
    await run('pg_basebackup', [...from, '-D', data, '-R', '-X', 'stream', '-c', 'fast']);
    const standby = new RealPostgres(folder, await freePort());
    await standby.begin();
    return standby;
  }

  /** Writes a backup of a database. */
  backUp(url: string): Promise<void> {
    return run('pg_dump', ['--format=custom', `--file=${join(this.#folder, 'backup')}`, url]);
  }

  /** Replaces a database by its last backup, all at once, under those who use it. */
  async restore(url: string): Promise<void> {
    const name = new URL(url).pathname.slice(1);
    const copy = `${name}_copy`;
    await this.query(`CREATE DATABASE ${copy}`);
    await run('pg_restore', ['--no-owner', `--dbname=${url.replace(name, copy)}`, join(this.#folder, 'backup')]);
    await this.query(`DROP DATABASE ${name} WITH (FORCE)`);
    await this.query(`ALTER DATABASE ${copy} RENAME TO ${name}`);
  }

  /** Makes a standby the one that takes writes. */
  promote(): Promise<void> {
    return run('pg_ctl', ['promote', '-D', join(this.#folder, 'data'), '-w']);
  }

  /** Stops all of its processes, as a frozen host does; they go on with `resume`. */
  pause(): void {
    this.#signal('SIGSTOP');
  }

  resume(): void {
    this.#signal('SIGCONT');
  }

  /** Ends all sessions of a database, or of those one that holds the writers' lock or waits for it. */
  async terminate(which: 'all' | 'one'): Promise<void> {
    const limit = which === 'all' ? '' : 'ORDER BY random() LIMIT 1';
    await this.query(
      `SELECT pg_terminate_backend(pid) FROM (SELECT pid FROM pg_stat_activity
       WHERE datname LIKE 'test_%' AND pid <> pg_backend_pid() ${limit}) AS chosen`,
    );
  }

  #signal(signal: NodeJS.Signals, pid = this.#process?.pid): void {
    // The first process is `runuser` where the tests run as root; the server and its sessions are below it.
    for (const each of descendantsOf(pid))
      try {
        process.kill(each, signal);
      } catch {
        // It has ended meanwhile.
      }
  }

  /** Starts it, or starts it again. */
  async begin(): Promise<void> {
    const settings = [
      '-p',
      String(this.port),
      '-k',
      this.#folder,
      '-c',
      'listen_addresses=127.0.0.1',
      '-c',
      'fsync=off',
    ];
    const [command, args] = asUser(join(bin, 'postgres'), ['-D', join(this.#folder, 'data'), ...settings]);
    this.#process = spawn(command, args, { stdio: 'ignore', cwd: '/' });
    await until(() =>
      this.query('SELECT 1').then(
        () => true,
        () => false,
      ),
    );
  }

  async stop(): Promise<void> {
    const child = this.#process;
    this.#process = undefined;
    if (child === undefined || child.exitCode !== null || child.signalCode !== null) return;
    this.#signal('SIGCONT', child.pid);
    const ended = new Promise((resolve) => child.once('exit', resolve));
    // What does not end by itself is not waited for.
    const late = setTimeout(() => this.#signal('SIGKILL', child.pid), 5_000);
    // Without waiting (`-W`): that would hold this process, with its timer, for up to a minute on a busy machine.
    await run('pg_ctl', ['stop', '-D', join(this.#folder, 'data'), '-m', 'immediate', '-W']).catch(() => {});
    await ended;
    clearTimeout(late);
  }

  async remove(): Promise<void> {
    await this.stop();
    await rm(this.#folder, { recursive: true, force: true });
  }
}

/** Runs one of PostgreSQL's programs to its end. */
function run(program: string, programArgs: readonly string[]): Promise<void> {
  const [command, args] = asUser(join(bin, program), programArgs);
  return new Promise((resolve, reject) => {
    execFile(command, args, { cwd: '/' }, (error, _, stderr) =>
      error === null ? resolve() : reject(new Error(`${program} failed: ${stderr}`)),
    );
  });
}

/** A folder that the server may use: it does not run as root, but as `postgres`. */
export function makeFolder(): string {
  const folder = mkdtempSync(join(tmpdir(), 'bells-postgres-'));
  if (process.getuid?.() === 0) {
    const id = (which: string): number => Number(spawnSync('id', [which, 'postgres'], { encoding: 'utf8' }).stdout);
    chownSync(folder, id('-u'), id('-g'));
    chmodSync(folder, 0o700);
  }
  return folder;
}

/** A process and all that it has started. */
export function descendantsOf(pid: number | undefined): number[] {
  if (pid === undefined) return [];
  const { stdout } = spawnSync('ps', ['-e', '-o', 'pid=,ppid='], { encoding: 'utf8' });
  const parents = stdout
    .trim()
    .split('\n')
    .map((line) => line.trim().split(/\s+/).map(Number) as [number, number]);
  const all = [pid];
  for (const each of all) all.push(...parents.flatMap(([child, parent]) => (parent === each ? [child] : [])));
  return all;
}

export function asUser(command: string, args: readonly string[]): [string, string[]] {
  return process.getuid?.() === 0 ? ['runuser', ['-u', 'postgres', '--', command, ...args]] : [command, [...args]];
}
