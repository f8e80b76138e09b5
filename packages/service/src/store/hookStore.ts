import type {
  Delivery,
  DeliveryAttempt,
  DeliveryOutcome,
  DeliveryRecord,
  DeliverySelection,
  DeliveryWish,
  DueDeliveries,
  DueWish,
  HookFigures,
  HookLeaseRequest,
  HookLeases,
  HookPause,
  HookState,
  HookStore,
  LeaseWish,
  QueuedEvent,
  RegisteredHook,
} from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Database, Reads } from './database.js';
import { attemptOf, deliveryOf, insertAttempts, insertDeliveries, recordOf, settleDeliveries } from './deliveryRows.js';
import { Grouped } from './grouped.js';
import { among, deletesOf, insertOf, listOf, type NewRow, updateInstead, updatesOf } from './statements.js';
import type { Row } from './tables.js';

/** Batch size for deleting ended deliveries. */
const tidyCount = 2_000;
/** Deliveries whose size is read to estimate the size of all. */
const sampledDeliveries = 1_000;
/** Channels that are held up, as far as they are looked up. */
const maxHeldUp = 10_000;

/** The queues of hooks. */
export class SqlHookStore implements HookStore {
  readonly #database: Database;
  readonly #queued: Grouped<readonly QueuedEvent[], undefined>;

  constructor(database: Database) {
    this.#database = database;
    this.#queued = new Grouped({
      database,
      charsOf: (events) => events.reduce((sum, { dataText }) => sum + dataText.length, 0),
      commit: async (items) => {
        const statements = [insertDeliveries(items.flat(), database)];
        await database.attempt(async () => ({ statements, result: undefined }));
        return items.map(() => undefined);
      },
    });
  }

  settled(): Promise<void> {
    return this.#queued.settled();
  }

  async queue(
    events: readonly QueuedEvent[],
    occupied?: { readonly channel: ChannelName; readonly is: boolean },
  ): Promise<void> {
    if (occupied !== undefined) return this.#queueOccupied(events, occupied.channel, occupied.is);
    if (events.length > 0) await this.#queued.add(events);
  }

  #queueOccupied(events: readonly QueuedEvent[], channel: ChannelName, is: boolean): Promise<void> {
    const database = this.#database;
    return database.write(async (reads) => {
      const known = await reads.select('SELECT channel FROM occupied_channels WHERE channel = :channel', { channel });
      if (known.length > 0 === is) return { statements: [], result: undefined };
      const change = is
        ? insertOf('occupied_channels', [{ channel }], database, 'ON CONFLICT DO NOTHING')
        : deletesOf('occupied_channels', [{ channel }], database);
      const queued = events.length === 0 ? [] : [insertDeliveries(events, database)];
      return { statements: [change, queued].flat(), result: undefined };
    });
  }

  async occupied(after: string, limit: number): Promise<readonly ChannelName[]> {
    const rows = await this.#database.reads.select<{ channel: ChannelName }>(
      'SELECT channel FROM occupied_channels WHERE channel > :after ORDER BY channel LIMIT :limit',
      { after, limit },
    );
    return rows.map(({ channel }) => channel);
  }

  async due(hook: string, { nowMs, horizonMs, count, chars, heldUp }: DueWish): Promise<DueDeliveries> {
    const { reads } = this.#database;
    const values = { hook, nowMs, laterMs: nowMs + horizonMs, count: count + 1, chars };
    const again = await reads.select<Row<'deliveries'>>(
      within(
        `SELECT * FROM deliveries WHERE hook = :hook AND state = 'waiting' AND due_at_ms > 0
        AND (due_at_ms <= :nowMs OR due_at_ms > :laterMs) ORDER BY due_at_ms, number LIMIT :count`,
        'due_at_ms, number',
      ),
      values,
    );
    const left = heldUp === 'all' ? 0 : count + 1 - again.length;
    const not = Array.isArray(heldUp) && heldUp.length > 0 ? this.#notIn(heldUp) : '';
    const fresh =
      left <= 0
        ? []
        : await reads.select<Row<'deliveries'>>(
            within(
              `SELECT * FROM deliveries WHERE hook = :hook AND state = 'waiting' AND due_at_ms = 0 ${not}
              ORDER BY number LIMIT :count`,
              'number',
            ),
            { ...values, count: left },
          );
    const rows = [...again, ...fresh];
    const [next] = await reads.select<{ at: number | string | null }>(
      `SELECT MIN(due_at_ms) AS at FROM deliveries
       WHERE hook = :hook AND state = 'waiting' AND due_at_ms > :nowMs AND due_at_ms <= :laterMs`,
      values,
    );
    const deliveries = rows.slice(0, count).map(deliveryOf);
    const isAll = rows.length <= count && (left <= 0 || fresh.length < left);
    return next?.at == null || !isAll ? { deliveries } : { deliveries, nextAtMs: Number(next.at) };
  }

  #notIn(channels: readonly string[]): string {
    const rows = channels.map((channel) => [channel]);
    return `AND COALESCE(channel, '') NOT IN ${listOf(['TEXT'], rows, this.#database)}`;
  }

  async heldUp(hook: string): Promise<readonly { readonly channel: string; readonly number: number }[]> {
    const rows = await this.#database.reads.select<{ channel: string | null; first: number | string }>(
      `SELECT channel, MIN(number) AS first FROM deliveries
       WHERE hook = :hook AND state = 'waiting' AND due_at_ms > 0 GROUP BY channel LIMIT ${maxHeldUp}`,
      { hook },
    );
    return rows.map(({ channel, first }) => ({ channel: channel ?? '', number: Number(first) }));
  }

  lease(hook: string, { nowMs, horizonMs, count, chars, untilMs }: LeaseWish): Promise<readonly Delivery[]> {
    const database = this.#database;
    return database.write(async (reads) => {
      const rows = await reads.select<Row<'deliveries'>>(
        within(
          `SELECT * FROM deliveries WHERE hook = :hook AND state = 'waiting'
           AND (due_at_ms <= :nowMs OR due_at_ms > :laterMs) ORDER BY number LIMIT :count`,
          'number',
        ),
        { hook, nowMs, laterMs: nowMs + horizonMs, count, chars },
      );
      if (rows.length === 0) return { statements: [], result: [] };
      const leased = `UPDATE deliveries SET due_at_ms = ${untilMs}, attempts = attempts + 1
        WHERE ${among('deliveries', rows, database)}`;
      return { statements: [leased], result: rows.map(deliveryOf) };
    });
  }

  acknowledge(hook: string, ids: readonly string[], nowMs: number): Promise<number> {
    const database = this.#database;
    return database.write(async (reads) => {
      const rows = await reads.select<{ number: number }>(
        `SELECT number FROM deliveries WHERE hook = :hook AND state = 'waiting' AND event_id IN (:ids)`,
        { hook, ids },
      );
      const ended = rows.map(({ number }) => ({ number, state: 'delivered', ended_at_ms: nowMs }));
      return { statements: updatesOf('deliveries', ended, database), result: rows.length };
    });
  }

  async unacknowledged(hook: string, ids: readonly string[]): Promise<readonly string[]> {
    if (ids.length === 0) return [];
    const rows = await this.#database.reads.select<{ event_id: string }>(
      `SELECT event_id FROM deliveries WHERE hook = :hook AND state = 'waiting' AND event_id IN (:ids)`,
      { hook, ids },
    );
    return rows.map(({ event_id }) => event_id);
  }

  async giveBack(hook: string, ids: readonly string[]): Promise<void> {
    const rows = ids.map((id) => ({ hook, event_id: id, state: 'waiting', due_at_ms: 0 }));
    await this.#do(...updatesOf('deliveries', rows, this.#database, ['hook', 'event_id', 'state']));
  }

  async settle(outcomes: readonly DeliveryOutcome[]): Promise<void> {
    if (outcomes.length === 0) return;
    const statements = settleDeliveries(outcomes, this.#database);
    await this.#database.write(async () => ({ statements, result: undefined }));
  }

  leaseHooks({ holder, hooks, more, nowMs, untilMs }: HookLeaseRequest): Promise<HookLeases> {
    const database = this.#database;
    return database.write(async (reads) => {
      const rows = new Map((await hookRows(reads)).map((row) => [row.name, row]));
      const own = hooks.filter((name) => rows.get(name)?.holder === holder);
      const free = hooks.filter((name) => {
        const row = rows.get(name);
        return row?.holder == null || (row.holder !== holder && Number(row.held_until_ms) <= nowMs);
      });
      const held = [...own, ...free.splice(0, more)];
      const result = { held, free };
      if (held.length === 0) return { statements: [], result };
      const values = held.map((name) => ({ name, holder, held_until_ms: untilMs }));
      const instead = updateInstead(['name'], ['holder', 'held_until_ms']);
      return { statements: [insertOf('hooks', values, database, instead)], result };
    });
  }

  async releaseHooks(holder: string, hooks: readonly string[]): Promise<void> {
    if (hooks.length === 0) return;
    const own = hooks.map((name) => ({ name, holder }));
    await this.#do(`UPDATE hooks SET holder = NULL WHERE ${among('hooks', own, this.#database, ['name', 'holder'])}`);
  }

  async hookStates(): Promise<readonly HookState[]> {
    return (await hookRows(this.#database.reads)).map(stateOf);
  }

  hookFails(hook: string, sinceMs: number | null): Promise<void> {
    return this.#set(hook, { failing_since_ms: sinceMs });
  }

  pauseHook(hook: string, pause: HookPause | null): Promise<void> {
    return this.#set(hook, {
      paused_at_ms: pause?.atMs ?? null,
      paused_why: pause?.why ?? null,
      // A hook that goes on has as much time as at first.
      ...(pause == null ? { failing_since_ms: null } : {}),
    });
  }

  keepHook(hook: string, registered: RegisteredHook | null): Promise<void> {
    // Between processes `null` arrives as nothing.
    if (registered != null)
      return this.#set(hook, {
        definition_json: JSON.stringify(registered.definition),
        key_id: registered.key,
        secrets_json: JSON.stringify(registered.secrets),
      });
    const queue = [{ hook }];
    return this.#do(
      `DELETE FROM attempts
       WHERE delivery IN (SELECT number FROM deliveries WHERE ${among('deliveries', queue, this.#database, ['hook'])})`,
      ...deletesOf('deliveries', queue, this.#database, ['hook']),
      ...deletesOf('hooks', [{ name: hook }], this.#database),
    );
  }

  async hookFigures(): Promise<Readonly<Record<string, HookFigures>>> {
    const { reads } = this.#database;
    // Both read an index only; a queue may hold a million deliveries. Numbers rise with time.
    const waiting = await reads.select<{ hook: string; count: number | string; oldest: number | string }>(
      `SELECT w.hook, w.count, d.at_ms AS oldest FROM
         (SELECT hook, COUNT(*) AS count, MIN(number) AS first FROM deliveries WHERE state = 'waiting' GROUP BY hook) w
       JOIN deliveries d ON d.number = w.first`,
    );
    const dead = await reads.select<{ hook: string; count: number | string }>(
      `SELECT hook, COUNT(*) AS count FROM deliveries WHERE state <> 'waiting' AND state = 'dead' GROUP BY hook`,
    );
    const figures: Record<string, HookFigures> = {};
    for (const { hook, count } of dead) figures[hook] = { waiting: 0, waitingBytes: 0, dead: Number(count) };
    for (const { hook, count, oldest } of waiting)
      figures[hook] = {
        waiting: Number(count),
        waitingBytes: await this.#waitingBytes(hook, Number(count)),
        dead: figures[hook]?.dead ?? 0,
        oldestMs: Number(oldest),
      };
    return figures;
  }

  /** Returns the size of the data of a hook's waiting deliveries, in bytes: of many, estimated from some. */
  async #waitingBytes(hook: string, waiting: number): Promise<number> {
    // Odd: the numbers of two hooks that hear of the same events alternate.
    const step = Math.ceil(waiting / sampledDeliveries) | 1;
    const [found] = await this.#database.reads.select<{ count: number | string; bytes: number | string | null }>(
      `SELECT COUNT(*) AS count, SUM(OCTET_LENGTH(data_json)) AS bytes FROM deliveries
       WHERE hook = :hook AND state = 'waiting' AND number % :step = 0`,
      { hook, step },
    );
    const count = Number(found?.count ?? 0);
    return count === 0 ? 0 : Math.round((Number(found?.bytes) / count) * waiting);
  }

  async deliveries({ hook, state, failed, before, limit }: DeliveryWish): Promise<readonly DeliveryRecord[]> {
    const conditions = [
      hook === undefined ? '' : 'hook = :hook',
      state === undefined ? '' : 'state = :state',
      failed ? '(problem IS NOT NULL OR (attempts > 1 AND status IS NOT NULL))' : '',
      before === undefined ? '' : 'number < :before',
    ].filter((each) => each !== '');
    const where = conditions.length === 0 ? '' : `WHERE ${conditions.join(' AND ')}`;
    const rows = await this.#database.reads.select<Row<'deliveries'>>(
      `SELECT * FROM deliveries ${where} ORDER BY number DESC LIMIT :limit`,
      { hook, state, before, limit },
    );
    return rows.map(recordOf);
  }

  async delivery(which: { readonly hook: string; readonly id: string }): Promise<DeliveryRecord | undefined> {
    const [row] = await this.#database.reads.select<Row<'deliveries'>>(
      'SELECT * FROM deliveries WHERE hook = :hook AND event_id = :id',
      which,
    );
    return row === undefined ? undefined : recordOf(row);
  }

  async attempts(delivery: number): Promise<readonly DeliveryAttempt[]> {
    const rows = await this.#database.reads.select<Row<'attempts'>>(
      'SELECT * FROM attempts WHERE delivery = :delivery ORDER BY id DESC LIMIT 100',
      { delivery },
    );
    return rows.map(attemptOf);
  }

  noteAttempt(delivery: number, attempt: DeliveryAttempt): Promise<void> {
    return this.#do(insertAttempts([{ ...attempt, number: delivery }], this.#database));
  }

  resend(which: DeliverySelection, nowMs: number): Promise<number> {
    const database = this.#database;
    return database.write(async (reads) => {
      const found =
        'ids' in which
          ? await Promise.all(
              which.ids.map(({ hook, id }) =>
                reads.select<{ number: number }>(
                  'SELECT number FROM deliveries WHERE hook = :hook AND event_id = :id',
                  { hook, id },
                ),
              ),
            )
          : [
              await reads.select<{ number: number }>(
                `SELECT number FROM deliveries WHERE hook = :hook AND at_ms >= :fromMs
                 AND state ${which.state === undefined ? "<> 'waiting'" : '= :state'}`,
                { hook: which.hook, fromMs: which.fromMs, state: which.state },
              ),
            ];
      const again = { state: 'waiting', due_at_ms: 0, ended_at_ms: null, since_ms: nowMs };
      const rows = found.flat().map(({ number }) => ({ number, ...again }));
      return { statements: updatesOf('deliveries', rows, database), result: rows.length };
    });
  }

  tidyHook(
    hook: string,
    nowMs: number,
    giveUpMs: number,
    forgetMs: number,
  ): Promise<{ gaveUp: number; forgot: number }> {
    const database = this.#database;
    return database.write(async (reads) => {
      const values = { hook, giveUpMs, forgetMs, limit: tidyCount };
      const old = await reads.select<{ number: number }>(
        `SELECT number FROM deliveries WHERE hook = :hook AND state = 'waiting' AND since_ms < :giveUpMs LIMIT :limit`,
        values,
      );
      const ended = await reads.select<{ number: number }>(
        `SELECT number FROM deliveries WHERE hook = :hook AND state <> 'waiting' AND ended_at_ms < :forgetMs LIMIT :limit`,
        values,
      );
      const statements = [
        ...(old.length === 0
          ? []
          : [
              `UPDATE deliveries SET state = 'dead', ended_at_ms = ${nowMs}, problem = COALESCE(problem, 'it was not sent in time')
               WHERE ${among('deliveries', old, database)}`,
            ]),
        ...deletesOf(
          'attempts',
          ended.map(({ number }) => ({ delivery: number })),
          database,
          ['delivery'],
        ),
        ...deletesOf('deliveries', ended, database),
      ];
      return { statements, result: { gaveUp: old.length, forgot: ended.length } };
    });
  }

  #set(hook: string, changes: NewRow<'hooks'>): Promise<void> {
    const instead = updateInstead(['name'], Object.keys(changes));
    return this.#do(insertOf('hooks', [{ name: hook, ...changes }], this.#database, instead));
  }

  #do(...statements: readonly string[]): Promise<void> {
    return this.#database.write(async () => ({ statements, result: undefined }));
  }
}

/** As many rows of a query as have no more than `:chars` of data together; at least one. */
function within(query: string, order: string): string {
  return `SELECT * FROM (
    SELECT chosen.*, SUM(LENGTH(data_json)) OVER (ORDER BY ${order}) - LENGTH(data_json) AS before_chars FROM (${query}) AS chosen
  ) AS counted WHERE before_chars < :chars ORDER BY ${order}`;
}

function hookRows(reads: Reads): Promise<readonly Row<'hooks'>[]> {
  return reads.select<Row<'hooks'>>('SELECT * FROM hooks');
}

function stateOf(row: Row<'hooks'>): HookState {
  return {
    name: row.name,
    ...(row.failing_since_ms === null ? {} : { failingSinceMs: Number(row.failing_since_ms) }),
    ...(row.paused_at_ms === null ? {} : { paused: { atMs: Number(row.paused_at_ms), why: row.paused_why ?? '' } }),
    ...(row.definition_json === null
      ? {}
      : {
          registered: {
            definition: JSON.parse(row.definition_json),
            key: row.key_id ?? '',
            secrets: JSON.parse(row.secrets_json ?? '[]'),
          },
        }),
  };
}
