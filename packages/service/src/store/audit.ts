import type { Actor, AuditEntry, Measure } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Sequelize } from 'sequelize';
import type { AuditRow } from './models.js';

/** Something done that belongs into the audit log and is no measure against a user. */
export interface Deed {
  readonly did: 'make-key' | 'revoke-key';
  readonly by: Actor;
  readonly atMs: number;
  readonly about: string;
}

/** Adds a line to the audit log, in the transaction of what it tells of. */
export async function addToAudit(writer: Sequelize, done: Measure | Deed): Promise<void> {
  const { did, by, atMs, ...more } = { user: null, address: null, channel: null, reason: null, about: null, ...done };
  await writer.getQueryInterface().bulkInsert('audit', [
    {
      did,
      by_json: JSON.stringify(by),
      at_ms: atMs,
      user_id: more.user ?? null,
      address: more.address ?? null,
      channel: more.channel ?? null,
      reason: more.reason ?? null,
      until_ms: 'untilMs' in more ? (more.untilMs ?? null) : null,
      about: more.about ?? null,
    },
  ]);
}

export function auditEntryOf(row: AuditRow): AuditEntry {
  return {
    number: row.number,
    atMs: Number(row.at_ms),
    did: row.did,
    by: JSON.parse(row.by_json),
    ...(row.user_id === null ? {} : { user: row.user_id }),
    ...(row.address === null ? {} : { address: row.address }),
    ...(row.channel === null ? {} : { channel: row.channel as ChannelName }),
    ...(row.reason === null ? {} : { reason: row.reason }),
    ...(row.until_ms === null ? {} : { untilMs: Number(row.until_ms) }),
    ...(row.about === null ? {} : { about: row.about }),
  };
}
