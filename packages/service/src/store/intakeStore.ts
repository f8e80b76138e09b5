import type { Arrival, ArrivalDraft, ArrivalOutcome, ArrivalWish, IntakeStore } from '@nine-bells/core';
import { defined, storableText } from '@nine-bells/wire';
import type { Database } from './database.js';
import { problemChars } from './deliveryRows.js';
import { isTaken } from './failures.js';
import { Grouped } from './grouped.js';
import { among, deletesOf, insertOf, type NewRow, tableOf, updatesOf, valuesOf } from './statements.js';
import { type Row, typesOf } from './tables.js';

/** Gather time for ends of arrivals, in milliseconds. Ends lost in a crash are determined again. */
const endGatherMs = 50;
/** Maximum number of arrivals and ids forgotten in one commit. */
const tidyCount = 2_000;
/** State of a row pruned to the sender's id, which identifies repeats. `held_until_ms` is then the time when it ended. */
const known = 'known';
/** Maximum number of the latest arrivals, of all intakes, whose ids are left. */
const maxIds = 1_000_000;

interface Kept {
  readonly id: string;
  readonly repeated: boolean;
}

/** Arrivals at intakes. */
export class SqlIntakeStore implements IntakeStore {
  readonly #database: Database;
  readonly #arriving: Grouped<ArrivalDraft, Kept>;
  readonly #ending: Grouped<ArrivalOutcome, undefined>;

  constructor(database: Database) {
    this.#database = database;
    this.#arriving = new Grouped({
      database,
      charsOf: ({ body }) => body.length,
      commit: (drafts) => this.#commit(drafts),
    });
    this.#ending = new Grouped({
      database,
      charsOf: () => 500,
      // The row stays unchanged until then; no caller waits for it.
      gatherMs: endGatherMs,
      commit: async (outcomes) => {
        const statements = [this.#ended(outcomes)];
        await database.attempt(async () => ({ statements, result: undefined }));
        return outcomes.map(() => undefined);
      },
    });
  }

  async settled(): Promise<void> {
    await this.#arriving.settled();
    await this.#ending.settled();
  }

  arrive(draft: ArrivalDraft): Promise<Kept> {
    return this.#arriving.add(draft);
  }

  async endArrival(outcome: ArrivalOutcome): Promise<void> {
    await this.#ending.add(outcome);
  }

  takeOverArrivals(nowMs: number, untilMs: number, horizonMs: number, limit: number): Promise<readonly Arrival[]> {
    const database = this.#database;
    return database.write(async (reads) => {
      const rows = await reads.select<Row<'arrivals'>>(
        `SELECT * FROM arrivals WHERE state = 'waiting' AND (held_until_ms <= :nowMs OR held_until_ms > :laterMs)
         ORDER BY number LIMIT :limit`,
        { nowMs, laterMs: nowMs + horizonMs, limit },
      );
      const held = rows.map(({ number }) => ({ number, held_until_ms: untilMs }));
      return { statements: updatesOf('arrivals', held, database), result: rows.map(arrivalOf) };
    });
  }

  async arrivals({ intake, state, before, limit }: ArrivalWish): Promise<readonly Arrival[]> {
    const conditions = [
      `state <> '${known}'`,
      intake === undefined ? '' : 'intake = :intake',
      state === undefined ? '' : 'state = :state',
      before === undefined ? '' : 'number < :before',
    ].filter((each) => each !== '');
    const where = conditions.length === 0 ? '' : `WHERE ${conditions.join(' AND ')}`;
    const rows = await this.#database.reads.select<Row<'arrivals'>>(
      `SELECT * FROM arrivals ${where} ORDER BY number DESC LIMIT :limit`,
      { intake, state, before, limit },
    );
    return rows.map(arrivalOf);
  }

  async arrival(id: string): Promise<Arrival | undefined> {
    const [row] = await this.#database.reads.select<Row<'arrivals'>>(
      `SELECT * FROM arrivals WHERE id = :id AND state <> '${known}'`,
      { id },
    );
    return row === undefined ? undefined : arrivalOf(row);
  }

  tidyIntake(intake: string, forgetMs: number, forgetIdsMs: number): Promise<number> {
    const database = this.#database;
    return database.write(async (reads) => {
      const ended = await reads.select<Pick<Row<'arrivals'>, 'number' | 'event_id'>>(
        `SELECT number, event_id FROM arrivals
         WHERE intake = :intake AND state <> 'waiting' AND ended_at_ms < :forgetMs LIMIT :limit`,
        { intake, forgetMs, limit: tidyCount },
      );
      const expired = await reads.select<Pick<Row<'arrivals'>, 'number'>>(
        `SELECT number FROM arrivals
         WHERE intake = :intake AND state = '${known}' AND held_until_ms < :forgetIdsMs LIMIT :limit`,
        { intake, forgetIdsMs, limit: tidyCount },
      );
      const [last] = await reads.select<{ number: number | string | null }>(
        'SELECT MAX(number) AS number FROM arrivals',
      );
      const excess = await reads.select<Pick<Row<'arrivals'>, 'number'>>(
        `SELECT number FROM arrivals WHERE state = '${known}' AND number < :tooOld ORDER BY number LIMIT :limit`,
        { tooOld: Number(last?.number ?? 0) - maxIds, limit: tidyCount },
      );
      const ids = new Set([...expired, ...excess].map(({ number }) => Number(number)));
      const withoutId = ended.filter(({ event_id }) => event_id === null).map(({ number }) => Number(number));
      const gone = [...withoutId, ...ids].map((number) => ({ number }));
      const emptied = ended.filter(({ event_id }) => event_id !== null);
      const statements = [
        ...deletesOf('arrivals', gone, database),
        ...(emptied.length === 0
          ? []
          : [
              `UPDATE arrivals SET state = '${known}', headers_json = '{}', body = '', became_json = NULL, problem = NULL,
               held_until_ms = ended_at_ms, ended_at_ms = NULL
               WHERE ${among('arrivals', emptied, database)}`,
            ]),
      ];
      return { statements, result: gone.length + emptied.length };
    });
  }

  /** An event is seldom known: that is looked up only when the database says that one of the group is. */
  async #commit(drafts: readonly ArrivalDraft[]): Promise<readonly Kept[]> {
    const database = this.#database;
    if (!database.isShared)
      try {
        await database.commitToFile([insertOf('arrivals', drafts.map(rowOf), database)]);
        return drafts.map(({ id }) => ({ id, repeated: false }));
      } catch (error) {
        if (!isTaken(error)) throw error;
      }
    return this.#commitLookedUp(drafts);
  }

  /** An event id that is known, from before or from the same group, is not stored again. */
  #commitLookedUp(drafts: readonly ArrivalDraft[]): Promise<readonly Kept[]> {
    const database = this.#database;
    return database.attempt(async (reads) => {
      const eventIds = [...new Set(drafts.flatMap(({ eventId }) => eventId ?? []))];
      const rows =
        eventIds.length === 0
          ? []
          : await reads.select<{ intake: string; event_id: string; id: string }>(
              'SELECT intake, event_id, id FROM arrivals WHERE event_id IN (:eventIds)',
              { eventIds },
            );
      const known = new Map(rows.map(({ intake, event_id, id }) => [`${intake} ${event_id}`, id]));
      const fresh: ArrivalDraft[] = [];
      const result = drafts.map((draft): Kept => {
        const key = `${draft.intake} ${draft.eventId}`;
        const first = draft.eventId === undefined ? undefined : known.get(key);
        // Outcome of an interrupted attempt.
        if (first !== undefined && first !== draft.id) return { id: first, repeated: true };
        known.set(key, draft.id);
        fresh.push(draft);
        return { id: draft.id, repeated: false };
      });
      const insert = insertOf('arrivals', fresh.map(rowOf), database, 'ON CONFLICT (id) DO NOTHING');
      return { statements: fresh.length === 0 ? [] : [insert], result };
    });
  }

  #ended(outcomes: readonly ArrivalOutcome[]): string {
    const rows = outcomes.map(({ id, state, atMs, became, problem, heldUntilMs }) => [
      id,
      state,
      became === undefined ? null : JSON.stringify(became),
      problem === undefined ? null : storableText(problem, problemChars),
      state === 'waiting' ? null : atMs,
      heldUntilMs ?? null,
    ]);
    const [id, state, became, problem, endedAt, heldUntil] = valuesOf(
      typesOf('arrivals', ['id', 'state', 'became_json', 'problem', 'ended_at_ms', 'held_until_ms']),
    );
    return `UPDATE arrivals SET state = ${state}, became_json = ${became}, problem = ${problem}, ended_at_ms = ${endedAt},
      held_until_ms = COALESCE(${heldUntil}, held_until_ms), tries = tries + 1
      FROM ${tableOf(rows, this.#database)} WHERE arrivals.id = ${id}`;
  }
}

function rowOf(each: ArrivalDraft): NewRow<'arrivals'> {
  return {
    id: each.id,
    intake: each.intake,
    event_id: each.eventId ?? null,
    at_ms: each.atMs,
    method: each.method,
    headers_json: JSON.stringify(each.headers),
    body: each.body,
    is_base64: each.isBase64 ? 1 : 0,
    bytes: each.bytes,
    hops: each.hops,
    held_until_ms: each.heldUntilMs,
    state: 'waiting',
    tries: 0,
  };
}

function arrivalOf(row: Row<'arrivals'>): Arrival {
  return {
    number: Number(row.number),
    id: row.id,
    intake: row.intake,
    ...(row.event_id === null ? {} : { eventId: row.event_id }),
    atMs: Number(row.at_ms),
    method: row.method,
    headers: JSON.parse(row.headers_json),
    body: row.body,
    ...(row.is_base64 === 0 ? {} : { isBase64: true }),
    bytes: row.bytes,
    hops: row.hops,
    heldUntilMs: Number(row.held_until_ms),
    state: row.state as Arrival['state'],
    tries: row.tries,
    ...(row.became_json === null ? {} : { became: JSON.parse(row.became_json) }),
    ...defined({ problem: row.problem ?? undefined }),
    ...(row.ended_at_ms === null ? {} : { endedAtMs: Number(row.ended_at_ms) }),
  };
}
