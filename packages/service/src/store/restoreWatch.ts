import type { Report } from '@nine-bells/core';
import { randomText } from '../system/ids.js';
import { addToAudit } from './audit.js';
import type { Database, Plan, Reads } from './database.js';
import { setFact } from './statements.js';
import type { Row } from './tables.js';
import type { Volumes } from './volumes.js';

/** Interval between two comparisons of the database’s progress with its marks, in milliseconds. */
const lookMs = 2_000;
/** Distance to the next relay term after a restore: terms given out since the backup must not be given out again. */
const skippedTerms = 1_000;

/** A place outside the database that remembers the progress of each incarnation. */
export interface ProgressMarks {
  /** The highest progress marked for a volume; `undefined`: none. */
  read(volume: string): Promise<number | undefined>;
  write(volume: string, progress: number): Promise<void>;
}

export interface RestoreWatchHost {
  readonly database: Database;
  readonly volumes: Volumes;
  readonly marks: readonly ProgressMarks[];
  readonly report: Report;
  readonly now: () => number;
}

type Finding = 'everywhere' | { readonly behindIn: string } | undefined;

/** The progress of a database: a number that rises while anything is committed. */
interface Progress {
  readonly volume: string;
  readonly number: number;
  /** It was lower than a mark: a backup has been restored. */
  readonly isRestored: boolean;
}

/**
 * Recognises a database that was restored from a backup, which would number new messages like those that clients have seen already.
 *
 * The database counts its own progress, and the data folder and the relay remember it. A database that is behind a mark begins new
 * volumes in all channels, so that every client with an older cursor gets a gap.
 */
export class RestoreWatch {
  readonly #host: RestoreWatchHost;
  /** Highest progress seen, by volume. */
  readonly #seen = new Map<string, number>();
  #markedCommits = -1;
  #timer: NodeJS.Timeout | undefined;
  #looking: Promise<void> | undefined;

  constructor(host: RestoreWatchHost) {
    this.#host = host;
  }

  /**
   * Compares the database with the marks, and marks its progress.
   *
   * @param finding - `everywhere`: begins new volumes in any case, also in recent channels of the relay; a volume: channels in it were
   *   found to have lost numbers
   * @throws {ProblemError} `unavailable`
   */
  async check(finding?: 'everywhere' | { readonly behindIn: string }): Promise<void> {
    const { volumes, marks, report } = this.#host;
    const { volume, number, isRestored } = await this.#compare(finding);
    this.#seen.set(volume, number);
    volumes.current = volume;
    if (isRestored)
      report(new Error('the database is older than it was: new volumes have begun, and clients get a gap'), {
        event: 'backup-restored',
        volume,
      });
    for (const each of marks)
      await each.write(volume, number).catch((error: unknown) => report(error, { event: 'restore-marks-unsaved' }));
  }

  /** Compares and marks now and then. */
  start(): void {
    this.#host.volumes.onBehind((volume) => void this.check({ behindIn: volume }).catch(() => {}));
    this.#timer = setInterval(() => this.#look(), lookMs);
    this.#timer.unref();
  }

  /** Marks the last progress. */
  async stop(): Promise<void> {
    clearInterval(this.#timer);
    await this.#looking;
    await this.check().catch(() => {});
  }

  #look(): void {
    this.#looking ??= this.check()
      // Those who need the database report that it is away.
      .catch(() => {})
      .finally(() => {
        this.#looking = undefined;
      });
  }

  async #compare(finding: Finding): Promise<Progress> {
    const { database } = this.#host;
    for (;;) {
      const { volume: expected } = await progressOf(database.reads);
      const seen = Math.max(this.#seen.get(expected) ?? 0, ...(await this.#marked(expected)));
      const found = await database.write((reads) => this.#plan(reads, expected, seen, finding));
      if (found === undefined) continue;
      this.#markedCommits = database.commits;
      return found;
    }
  }

  /** Progress marked for a volume that this process has not met before. */
  async #marked(volume: string): Promise<readonly number[]> {
    if (this.#seen.has(volume)) return [];
    const { marks, report } = this.#host;
    return Promise.all(
      marks.map(async (each) => {
        try {
          return (await each.read(volume)) ?? 0;
        } catch (error) {
          report(error, { event: 'restore-marks-unread' });
          return 0;
        }
      }),
    );
  }

  /** Plans nothing where another volume has begun in between. */
  async #plan(reads: Reads, expected: string, seen: number, finding: Finding): Promise<Plan<Progress | undefined>> {
    const { database } = this.#host;
    const { volume, number } = await progressOf(reads);
    if (volume !== expected) return { statements: [], result: undefined };
    const isEverywhere = finding === 'everywhere';
    const isRestored = number < seen || (typeof finding === 'object' && finding.behindIn === volume);
    if (isRestored || isEverywhere) return this.#renewal(reads, isRestored, isEverywhere);
    const isNews = this.#markedCommits !== database.commits;
    const next = number + (isNews ? 1 : 0);
    return {
      statements: isNews ? [setFact('progress', String(next), database)] : [],
      result: { volume, number: next, isRestored },
    };
  }

  async #renewal(reads: Reads, isRestored: boolean, isEverywhere: boolean): Promise<Plan<Progress>> {
    const { database, now } = this.#host;
    const volume = randomText(6);
    const [row] = await reads.select<{ last: number | null }>('SELECT MAX(term) AS last FROM relay_terms');
    const floor = Number(row?.last ?? 0) + skippedTerms;
    const by = { kind: 'service', id: 'service' } as const;
    const about = isRestored ? 'a restored backup' : 'on demand';
    const { statement } = await addToAudit(reads, { type: 'new-volumes', by, atMs: now(), about }, database);
    return {
      statements: [
        setFact('volume', volume, database),
        setFact('progress', '1', database),
        ...['channels', 'boards'].map((table) => `UPDATE ${table} SET volume = '${volume}'`),
        `UPDATE reports SET cursor = '${volume}' || SUBSTR(cursor, ${database.isShared ? 'STRPOS' : 'INSTR'}(cursor, ':'))`,
        // A record of the relay counts as whole only where its term is known.
        ...(isEverywhere ? ['DELETE FROM relay_terms'] : []),
        `INSERT INTO relay_terms (term, place, run, replication, durable, replicated, continues, seen_at_ms)
         VALUES (${floor}, 'none', 'none', 'none', 0, 0, NULL, ${now()})`,
        statement,
      ],
      result: { volume, number: 1, isRestored },
    };
  }
}

async function progressOf(reads: Reads): Promise<{ readonly volume: string; readonly number: number }> {
  const rows = await reads.select<Row<'facts'>>("SELECT name, value FROM facts WHERE name IN ('volume', 'progress')");
  const value = (name: string): string | undefined => rows.find((row) => row.name === name)?.value;
  return { volume: value('volume') ?? '', number: Number(value('progress') ?? 0) };
}
