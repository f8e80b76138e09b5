import type { Actor, AuditEntry, ModerationAction } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Reads } from './database.js';
import {
  hasText,
  numbersWhere,
  type PersonalData,
  textsNaming,
  withoutActor,
  withoutUserAndActor,
} from './personalData.js';
import { type Dialect, insertOf, updatesOf } from './statements.js';
import type { Row } from './tables.js';

/** Something done that belongs into the audit log and is no action against a user. */
export interface Deed {
  readonly type:
    | 'make-key'
    | 'revoke-key'
    | 'use-workbench'
    | 'hold'
    | 'end-hold'
    | 'end-report'
    | 'approve'
    | 'reject'
    | 'end-invitation'
    | 'end-admission'
    | 'erase'
    | 'new-volumes'
    | 'export';
  readonly by: Actor;
  readonly atMs: number;
  readonly about?: string;
  readonly channel?: string;
  readonly user?: string;
  readonly reason?: string;
}

/**
 * Adds entries to the audit log, in the same transaction as the changes. Numbers have no holes, so an instance
 * that knows all of them up to the last has missed no change.
 *
 * @returns the number of the last entry added
 */
export async function addToAudit(
  reads: Reads,
  done: ModerationAction | Deed | readonly (ModerationAction | Deed)[],
  dialect: Dialect,
): Promise<{ readonly number: number; readonly statement: string }> {
  const last = await lastInAudit(reads);
  const rows = [done].flat().map((each, index) => auditRowOf(last + 1 + index, each));
  return { number: last + rows.length, statement: insertOf('audit', rows, dialect) };
}

/** Facts of an action or a deed; each has some of the optional ones. */
interface AuditFacts {
  readonly type: string;
  readonly by: Actor;
  readonly atMs: number;
  readonly user?: string;
  readonly address?: string;
  readonly channel?: string;
  readonly reason?: string;
  readonly untilMs?: number;
  readonly about?: string;
}

function auditRowOf(number: number, done: ModerationAction | Deed): Row<'audit'> {
  const { type, by, atMs, user, address, channel, reason, untilMs, about }: AuditFacts = done;
  return {
    number,
    at_ms: atMs,
    did: type,
    by_json: JSON.stringify(by),
    user_id: user ?? null,
    address: address ?? null,
    channel: channel ?? null,
    reason: reason ?? null,
    until_ms: untilMs ?? null,
    about: about ?? null,
  };
}

/** The number of the last line of the audit log; 0 if there is none. */
export async function lastInAudit(reads: Reads): Promise<number> {
  const [row] = await reads.select<{ last: number | string | null }>('SELECT MAX(number) AS last FROM audit');
  return Number(row?.last ?? 0);
}

export function auditEntryOf(row: Row<'audit'>): AuditEntry {
  return {
    number: Number(row.number),
    atMs: Number(row.at_ms),
    type: row.did,
    by: JSON.parse(row.by_json),
    ...(row.user_id === null ? {} : { user: row.user_id }),
    ...(row.address === null ? {} : { address: row.address }),
    ...(row.channel === null ? {} : { channel: row.channel as ChannelName }),
    ...(row.reason === null ? {} : { reason: row.reason }),
    ...(row.until_ms === null ? {} : { untilMs: Number(row.until_ms) }),
    ...(row.about === null ? {} : { about: row.about }),
  };
}

/** Audit entries and holds, which stay under the pseudonym. */
export const auditData: PersonalData = {
  tables: ['audit', 'holds'],
  exports: (dialect) => ({
    audit: `SELECT number, did AS type, user_id AS "user", channel, reason, about, at_ms FROM audit
      WHERE user_id = :user OR ${hasText('by_json', ':actor', dialect)} ORDER BY number`,
  }),
  find: (reads, request) =>
    numbersWhere(
      'audit',
      reads,
      request,
      (has) => `user_id = :user OR ${has('by_json', ':actor')}`,
      (row) => row.user_id === request.user || withoutActor(row.by_json, request) !== row.by_json,
    ),
  async erase(reads, request) {
    const { user, numbers, limit, dialect } = request;
    const rows = await reads.select<Row<'audit'>>('SELECT * FROM audit WHERE number IN (:numbers)', { numbers });
    const holds = await reads.select<Row<'holds'>>(
      `SELECT * FROM holds WHERE ${hasText('by_json', ':actor', dialect)} LIMIT :limit`,
      { limit, ...textsNaming(user) },
    );
    const entries = rows.map((row) => ({ number: row.number, ...withoutUserAndActor(row, request) }));
    const held = holds.map(({ channel, by_json }) => ({ channel, by_json: withoutActor(by_json, request) }));
    const statements = [...updatesOf('audit', entries, dialect), ...updatesOf('holds', held, dialect)];
    return { statements, result: rows.length + holds.length };
  },
};
