import {
  type ActiveBan,
  type AuditEntry,
  type InForce,
  isActiveBan,
  type ModerationAction,
  type ModerationStore,
  type QueuedEvent,
  type Silence,
} from '@nine-bells/core';
import { Op, type WhereOptions } from 'sequelize';
import { addToAudit, auditEntryOf, lastInAudit } from './audit.js';
import type { Database } from './database.js';
import { insertDeliveries } from './deliveryRows.js';
import { rowsOf } from './models.js';
import { hasText, type PersonalData, textsNaming, withoutUserAndActor } from './personalData.js';
import { type Dialect, insertOf, tableOf, updatesOf } from './statements.js';
import type { Row } from './tables.js';

/** A later cutoff holds, whichever comes first. */
const laterCutoff =
  'ON CONFLICT (user_id) DO UPDATE SET before_ms = excluded.before_ms WHERE excluded.before_ms > cutoffs.before_ms';

/** Bans, silences and revocations in force, and the audit log. */
export class SqlModerationStore implements ModerationStore {
  readonly #database: Database;

  constructor(database: Database) {
    this.#database = database;
  }

  take(action: ModerationAction, events: readonly QueuedEvent[] = []): Promise<number> {
    const database = this.#database;
    return database.write(async (reads) => {
      const { number, statement } = await addToAudit(reads, action, database);
      return { statements: [statement, ...effectOf(action, events, database)], result: number };
    });
  }

  /** The number of the last change. */
  changes(): Promise<number> {
    return lastInAudit(this.#database.reads);
  }

  async inForce(atMs: number): Promise<InForce> {
    const { models } = this.#database;
    const inForce = { lifted_at_ms: null, until_ms: { [Op.or]: [{ [Op.is]: null }, { [Op.gt]: atMs }] } };
    const inForceRows = rowsOf(await models.bans.findAll({ where: inForce as WhereOptions, raw: true }));
    const cutoffRows = rowsOf(await models.cutoffs.findAll({ raw: true }));
    const [bans, silences] = [false, true].map((are) => inForceRows.filter(({ did }) => (did === 'silence') === are));
    return {
      bans: (bans as readonly Row<'bans'>[]).map((row) => actionOf(row) as ActiveBan),
      silences: (silences as readonly Row<'bans'>[]).map((row) => actionOf(row) as Silence),
      cutoffs: cutoffRows.map((row) => ({ user: row.user_id, beforeMs: Number(row.before_ms) })),
    };
  }

  async audit(before: number | undefined, limit: number, user?: string): Promise<readonly AuditEntry[]> {
    const rows = await this.#database.models.audit.findAll({
      where: {
        ...(before === undefined ? {} : { number: { [Op.lt]: before } }),
        ...(user === undefined ? {} : { user_id: user }),
      },
      order: [['number', 'DESC']],
      limit,
      raw: true,
    });
    return rowsOf(rows).map(auditEntryOf);
  }
}

/** Statements that bring an action into force and queue its events for hooks; its audit entry is not among them. */
export function effectOf(
  action: ModerationAction,
  events: readonly QueuedEvent[],
  dialect: Dialect,
): readonly string[] {
  const queued = events.length === 0 ? [] : [insertDeliveries(events, dialect)];
  if (isActiveBan(action) || action.type === 'silence')
    return [endReplaced(action, dialect), insertOf('bans', [banRowOf(action)], dialect), ...queued];
  if (action.type === 'unban' || action.type === 'end-silence') {
    const id = action.type === 'unban' ? action.ban : action.silence;
    return [...updatesOf('bans', [{ id, lifted_at_ms: action.atMs }], dialect), ...queued];
  }
  if (action.type === 'remove') return queued;
  return [cutOff([[action.user, action.atMs]], dialect), ...queued];
}

/** Ends an earlier ban or silence that a new one replaces: one of the same kind and channel, of the user or address. */
function endReplaced({ type, user, channel, atMs, ...action }: ActiveBan | Silence, dialect: Dialect): string {
  const address = 'address' in action ? action.address : undefined;
  const same = ['did', 'user_id', 'address', 'channel'].map(
    (column, index) => `COALESCE(b.${column}, '') = each.value->>${index}`,
  );
  return `UPDATE bans SET lifted_at_ms = ${atMs} WHERE id IN (
    SELECT b.id FROM bans b CROSS JOIN ${tableOf([[type, user ?? '', address ?? '', channel ?? '']], dialect)}
    WHERE b.lifted_at_ms IS NULL AND b.at_ms <= ${atMs} AND ${same.join(' AND ')})`;
}

/** Revokes tokens of users issued before a time, in milliseconds since the epoch. Idempotent. */
export function cutOff(rows: readonly (readonly [user: string, beforeMs: number])[], dialect: Dialect): string {
  const cutoffs = rows.map(([user, beforeMs]) => ({ user_id: user, before_ms: beforeMs }));
  return insertOf('cutoffs', cutoffs, dialect, laterCutoff);
}

function banRowOf(action: ActiveBan | Silence): Row<'bans'> {
  const { id, type, user, channel, reason, by, atMs, untilMs } = action;
  return {
    id,
    did: type,
    user_id: user ?? null,
    address: (action.type === 'ban' ? action.address : undefined) ?? null,
    channel: channel ?? null,
    reason: reason ?? null,
    by_json: JSON.stringify(by),
    at_ms: atMs,
    until_ms: untilMs ?? null,
    lifted_at_ms: null,
    every_ms: action.type === 'silence' ? (action.everyMs ?? null) : null,
  };
}

/** Returns the action that a row was written from. */
function actionOf(row: Row<'bans'>): ActiveBan | Silence {
  return {
    id: row.id,
    type: row.did,
    by: JSON.parse(row.by_json),
    atMs: Number(row.at_ms),
    ...(row.user_id === null ? {} : { user: row.user_id }),
    ...(row.address === null ? {} : { address: row.address }),
    ...(row.channel === null ? {} : { channel: row.channel }),
    ...(row.reason === null ? {} : { reason: row.reason }),
    ...(row.until_ms === null ? {} : { untilMs: Number(row.until_ms) }),
    ...(row.every_ms === null ? {} : { everyMs: Number(row.every_ms) }),
    // The row was written from an action of this kind.
  } as ActiveBan | Silence;
}

/** Bans of and by the user. Bans in force and revocations of tokens (`cutoffs`) still name the user after an erasure. */
export const banData: PersonalData = {
  tables: ['bans', 'cutoffs'],
  exports: () => ({
    bans: 'SELECT id, did AS type, channel, reason, at_ms, until_ms, lifted_at_ms FROM bans WHERE user_id = :user',
    cutoffs: 'SELECT before_ms FROM cutoffs WHERE user_id = :user',
  }),
  async erase(reads, request) {
    const { user, limit, dialect } = request;
    const isOver = `(lifted_at_ms IS NOT NULL OR until_ms < ${Date.now()})`;
    const rows = await reads.select<Row<'bans'> & { readonly isOver: number | boolean }>(
      `SELECT bans.*, CASE WHEN ${isOver} THEN 1 ELSE 0 END AS "isOver" FROM bans
       WHERE (user_id = :user AND ${isOver}) OR ${hasText('by_json', ':actor', dialect)} LIMIT :limit`,
      { user, limit, ...textsNaming(user) },
    );
    const changed = rows.map((row) => {
      const { user_id, by_json } = withoutUserAndActor(row, request);
      return { id: row.id, user_id: Number(row.isOver) === 1 ? user_id : row.user_id, by_json };
    });
    return { statements: updatesOf('bans', changed, dialect), result: rows.length };
  },
};
