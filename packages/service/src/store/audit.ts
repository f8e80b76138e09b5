import type { Actor, AuditEntry, ModerationAction } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Reads } from './database.js';
import { type Dialect, insertOf } from './statements.js';
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
