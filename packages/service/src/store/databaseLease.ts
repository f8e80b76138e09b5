import { hostname } from 'node:os';
import { randomText } from '../system/ids.js';
import type { Database, Plan, Reads } from './database.js';
import { setFact } from './statements.js';

/** How long a lease holds, and how often it is renewed, in milliseconds. */
const leaseMs = 8_000;
const renewMs = 2_000;
/** How often one that waits for a lease looks again, in milliseconds. */
const lookMs = 500;

/** Who holds a lease, as it stands in the database. */
interface Holder {
  readonly id: string;
  readonly pid: number;
  readonly host: string;
  /** By the clock of the database, in milliseconds since the epoch. */
  readonly untilMs: number;
}

/** The database is in use by an instance that this one has no relay with. */
export class DatabaseTaken extends Error {}

/**
 * Keeps instances that do not know of each other out of one shared database. An instance without a relay has it alone; those
 * that a relay links hold it together. A process that is killed gives it back when its lease is over.
 */
export class DatabaseLease {
  readonly #database: Database;
  readonly #name: 'alone' | 'linked';
  readonly #id = randomText(12);
  readonly #lost: (error: Error) => void;
  #timer: NodeJS.Timeout | undefined;

  private constructor(database: Database, isLinked: boolean, lost: (error: Error) => void) {
    this.#database = database;
    this.#name = isLinked ? 'linked' : 'alone';
    this.#lost = lost;
  }

  /**
   * Waits as long as the lease of a process that was killed may hold.
   *
   * @param isLinked - a relay links the instances: then several may share the database
   * @param lost - called when another one has taken the database meanwhile
   * @throws {DatabaseTaken} saying who has it, and what to do
   */
  static async take(database: Database, isLinked: boolean, lost: (error: Error) => void): Promise<DatabaseLease> {
    const lease = new DatabaseLease(database, isLinked, lost);
    for (const endMs = performance.now() + leaseMs + lookMs; ; ) {
      const other = await database.write((reads) => lease.#plan(reads));
      if (other === undefined) break;
      if (performance.now() > endMs) throw lease.#refusal(other);
      await new Promise((resolve) => setTimeout(resolve, lookMs));
    }
    lease.#renewLater();
    return lease;
  }

  /** Gives it back; what several hold together ends by itself. */
  async release(): Promise<void> {
    clearTimeout(this.#timer);
    if (this.#name === 'linked') return;
    // Not if another one has it by now.
    const statements = [`DELETE FROM facts WHERE name = 'alone' AND value LIKE '%"${this.#id}"%'`];
    await this.#database.write(async () => ({ statements, result: undefined })).catch(() => {});
  }

  /** Takes or renews it, unless another one holds it: then gives that one. */
  async #plan(reads: Reads): Promise<Plan<Holder | undefined>> {
    const [clock] = await reads.select<{ now: string | number }>(
      'SELECT FLOOR(EXTRACT(EPOCH FROM clock_timestamp()) * 1000) AS now',
    );
    const now = Number(clock?.now);
    const rows = await reads.select<{ name: string; value: string }>(
      "SELECT name, value FROM facts WHERE name IN ('alone', 'linked')",
    );
    for (const { name, value } of rows) {
      const holder = JSON.parse(value) as Holder;
      const isOurs = holder.id === this.#id || (name === 'linked' && this.#name === 'linked');
      if (!isOurs && holder.untilMs > now && !hasEnded(holder)) return { statements: [], result: holder };
    }
    const holder: Holder = { id: this.#id, pid: process.pid, host: hostname().slice(0, 100), untilMs: now + leaseMs };
    return { statements: [setFact(this.#name, JSON.stringify(holder), this.#database)], result: undefined };
  }

  #renewLater(): void {
    this.#timer = setTimeout(() => void this.#renew(), renewMs);
    this.#timer.unref();
  }

  async #renew(): Promise<void> {
    try {
      const other = await this.#database.write((reads) => this.#plan(reads));
      if (other !== undefined) {
        this.#lost(this.#refusal(other));
        return;
      }
    } catch {
      // While the database is away no other instance can take it either.
    }
    this.#renewLater();
  }

  #refusal({ pid, host }: Holder): DatabaseTaken {
    const what =
      this.#name === 'linked'
        ? 'Stop it, or give it the relay too.'
        : 'Stop it first, or link the instances by a relay (docs/scaling.md).';
    return new DatabaseTaken(`the database is in use by another instance, process ${pid} on ${host}. ${what}`);
  }
}

/** Whether a holder was a process of this machine that has ended. */
function hasEnded({ pid, host }: Holder): boolean {
  if (host !== hostname().slice(0, 100) || pid === process.pid) return false;
  try {
    process.kill(pid, 0);
    return false;
  } catch (error) {
    return (error as NodeJS.ErrnoException).code === 'ESRCH';
  }
}
