import { type ChildProcess, spawn } from 'node:child_process';
import { chmodSync, existsSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { accepts, freePort } from './ports.js';
import { asUser, makeFolder } from './realPostgres.js';
import { until } from './until.js';

const pgBouncer = '/usr/sbin/pgbouncer';
export const pgBouncerIsThere = existsSync(pgBouncer);

/** A pool of connections before a PostgreSQL, which gives a client a connection for the length of a transaction. */
export class PgBouncer {
  readonly #folder: string;
  readonly #port: number;
  readonly #process: ChildProcess;

  private constructor(folder: string, port: number, process: ChildProcess) {
    this.#folder = folder;
    this.#port = port;
    this.#process = process;
  }

  static async start(target: number): Promise<PgBouncer> {
    const folder = makeFolder();
    const port = await freePort();
    const settings = [
      '[databases]',
      `* = host=127.0.0.1 port=${target} user=bells`,
      '[pgbouncer]',
      'listen_addr = 127.0.0.1',
      `listen_port = ${port}`,
      'unix_socket_dir =',
      'auth_type = any',
      'pool_mode = transaction',
      'default_pool_size = 3',
      `logfile = ${join(folder, 'log')}`,
    ];
    const file = join(folder, 'pgbouncer.ini');
    writeFileSync(file, settings.join('\n'));
    chmodSync(file, 0o644);
    const [command, args] = asUser(pgBouncer, [file]);
    const started = new PgBouncer(folder, port, spawn(command, args, { stdio: 'ignore', cwd: '/' }));
    await until(() => accepts(port));
    return started;
  }

  /** A URL that leads through the pool instead of straight to the database. */
  url(straight: string): string {
    const url = new URL(straight);
    url.port = String(this.#port);
    return url.href;
  }

  async stop(): Promise<void> {
    const ended = new Promise((resolve) => this.#process.once('exit', resolve));
    this.#process.kill('SIGTERM');
    await ended;
    rmSync(this.#folder, { recursive: true, force: true });
  }
}
