import {
  type Change,
  checkChange,
  copyOfMessage,
  type Draft,
  erasedAuthor,
  type LoggedMessage,
  noSuchMessage,
} from '@nine-bells/core';
import { type ChannelName, formatCursor, ProblemError } from '@nine-bells/wire';
import type { Reads } from './database.js';
import { blankCopies } from './deliveryRows.js';
import type { HeadRow, NewMessage } from './messageRows.js';
import type { PersonalData } from './personalData.js';
import { withdrawnReplies } from './replyRows.js';
import { unindexed } from './searchStore.js';
import { type Dialect, insertOf, listOf, type NewRow, overwriting, tableOf, updatesOf } from './statements.js';
import type { Row } from './tables.js';

/** State of a message to change. */
interface Target {
  readonly channelId: number;
  readonly number: number;
  revision: number | undefined;
  isWithdrawn: boolean;
  /** As it stood before this commit. */
  readonly wasWithdrawn: boolean;
  /** The last change of it in this commit. */
  last?: Made;
}

interface Held {
  /** The channel, if it is exempted from pruning. */
  readonly held: ChannelName | null;
}

/** A change that has its place. */
interface Made {
  readonly channel: ChannelName;
  readonly draft: Draft;
  readonly change: Change;
  readonly logged: LoggedMessage;
}

/** The hooks that have deliveries, found by jumping from one to the next in the index. */
const hooksWithDeliveries = `WITH RECURSIVE h(hook) AS (
  SELECT MIN(hook) FROM deliveries
  UNION ALL SELECT (SELECT MIN(d.hook) FROM deliveries d WHERE d.hook > h.hook) FROM h WHERE h.hook IS NOT NULL)`;

/** The changes of messages in one commit. */
export class Changes {
  readonly #targets: ReadonlyMap<string, Target>;
  /** Channels that are exempted from pruning: there everything is kept. */
  readonly #held: ReadonlySet<ChannelName>;
  readonly #rows: NewRow<'messages'>[] = [];
  readonly #kept: Row<'revisions'>[] = [];
  readonly #keptFrom: Target[] = [];

  private constructor(targets: ReadonlyMap<string, Target>, held: ReadonlySet<ChannelName>) {
    this.#targets = targets;
    this.#held = held;
  }

  /** Reads how the messages stand that are to be changed. */
  static async find(
    reads: Reads,
    changing: readonly { readonly channel: ChannelName; readonly change: Change }[],
    heads: ReadonlyMap<ChannelName, HeadRow>,
    dialect: Dialect,
  ): Promise<Changes> {
    const asked = new Map<string, readonly [number, number]>();
    for (const { channel, change } of changing) {
      const { id } = heads.get(channel) as HeadRow;
      asked.set(`${id} ${change.of.number}`, [id, change.of.number]);
    }
    const each = dialect.isShared
      ? 'json_array_elements(CAST(:asked AS json)) AS each(value)'
      : 'jsonb_each(:asked) AS each';
    // In one read: while it is under way, all others wait for this commit.
    const rows = await reads.select<Pick<Row<'messages'>, 'channel_id' | 'number' | 'revision' | 'withdrawn'> & Held>(
      `SELECT m.channel_id, m.number, m.revision, m.withdrawn, h.channel AS held
       FROM ${each} JOIN messages m ON m.channel_id = CAST(each.value->>0 AS INTEGER)
         AND m.number = CAST(each.value->>1 AS BIGINT) AND m.target IS NULL
       JOIN channels c ON c.id = m.channel_id LEFT JOIN holds h ON h.channel = c.name`,
      { asked: JSON.stringify([...asked.values()]) },
    );
    const targets = new Map<string, Target>();
    for (const { channel_id: channelId, number, revision, withdrawn } of rows)
      targets.set(`${channelId} ${Number(number)}`, {
        channelId,
        number: Number(number),
        revision: revision === null ? undefined : Number(revision),
        isWithdrawn: withdrawn === 1,
        wasWithdrawn: withdrawn === 1,
      });
    return new Changes(targets, new Set(rows.flatMap(({ held }) => held ?? [])));
  }

  /** Returns whether a message is withdrawn after the changes so far. */
  withdraws(channelId: number, number: number): boolean {
    return this.#targets.get(`${channelId} ${number}`)?.isWithdrawn === true;
  }

  /** Returns the problem that prevents a change; `undefined` if there is none. */
  refusalOf({ id, volume }: HeadRow, { of, ifRevision, blanks }: Change): ProblemError | undefined {
    try {
      const target = this.#targets.get(`${id} ${of.number}`);
      if (target === undefined) throw noSuchMessage();
      if (!blanks) checkChange(volume, target, { ifRevision });
      return undefined;
    } catch (error) {
      if (error instanceof ProblemError) return error;
      throw error;
    }
  }

  /** Adds a change that is not refused, and has its place. */
  add(
    channel: ChannelName,
    { draft, channelId, number, notes }: NewMessage,
    change: Change,
    logged: LoggedMessage,
  ): void {
    const target = this.#targets.get(`${channelId} ${change.of.number}`) as Target;
    const { id, by, key, owner, atMs } = draft;
    this.#rows.push({
      channel_id: channelId,
      number,
      message_id: id,
      type: 'change',
      author: by?.user ?? '',
      publish_key: key ?? null,
      key_owner: owner ?? '',
      by_json: by === undefined ? null : JSON.stringify(by),
      at_ms: atMs,
      // Keeps the withdrawal readable after the message is pruned, for clients that have read the message.
      data_json: change.withdraws ? `{${logged.tail}` : 'null',
      except_json: null,
      notes,
      target: change.of.number,
    });
    if (this.#held.has(channel) || (change.keeps && !change.withdraws)) this.#keep(target);
    target.revision = number;
    target.isWithdrawn = change.withdraws;
    target.last = { channel, draft, change, logged };
  }

  statements(dialect: Dialect): readonly string[] {
    const changed = [...this.#targets.values()].filter(({ last }) => last !== undefined);
    if (changed.length === 0) return [];
    const statements: string[] = [insertOf('messages', this.#rows, dialect)];
    if (this.#keptFrom.length > 0) statements.push(keepStatement(this.#keptFrom, dialect));
    if (this.#kept.length > 0) statements.push(insertOf('revisions', this.#kept, dialect));
    statements.push(updateStatement(changed, dialect));
    const gone = changed.flatMap(({ channelId, number, revision, isWithdrawn, wasWithdrawn, last }) =>
      isWithdrawn && !wasWithdrawn && revision !== undefined && last?.change.of.reply !== undefined
        ? [{ channelId, number, revision }]
        : [],
    );
    if (gone.length > 0) statements.push(withdrawnReplies(gone, dialect));
    for (const each of changed) {
      if (each.isWithdrawn || each.last?.change.blanks) statements.push(...this.#forget(each, dialect));
      if (each.last?.change.blanks) statements.push(...blankStatements(each, dialect));
    }
    return overwriting(statements, dialect);
  }

  /** Keeps the content of a message before a change. */
  #keep(target: Target): void {
    const { last, channelId, number, revision = 0 } = target;
    if (last === undefined) this.#keptFrom.push(target);
    else {
      const { by, atMs, dataText } = last.draft;
      const by_json = by === undefined ? null : JSON.stringify(by);
      this.#kept.push({ channel_id: channelId, number, revision, at_ms: atMs, by_json, data_json: dataText });
    }
  }

  /** Removes the content of a withdrawn message from all other tables. An open report keeps it until the report ends. */
  #forget({ channelId, number, isWithdrawn, last }: Target, dialect: Dialect): readonly string[] {
    const { channel, change, logged } = last as Made;
    const cursor = formatCursor({ volume: logged.place.volume, number });
    const row = tableOf([[logged.text, channel, cursor]], dialect);
    const deliveries = `SELECT h.hook, m.message_id FROM h CROSS JOIN messages m
      WHERE h.hook IS NOT NULL AND m.channel_id = ${channelId} AND (m.number = ${number} OR m.target = ${number})`;
    return [
      `${hooksWithDeliveries} UPDATE deliveries SET data_json = each.value->>0 FROM ${row}
       WHERE (deliveries.hook, deliveries.event_id) IN (${deliveries})`,
      blankCopies([copyOfMessage(channel, number)], dialect),
      `UPDATE reports SET message_json = each.value->>0 FROM ${row}
       WHERE reports.channel = each.value->>1 AND reports.cursor = each.value->>2 ${change.blanks ? '' : 'AND reports.ended_at_ms IS NOT NULL'}`,
      ...(isWithdrawn
        ? ['reactions', 'reaction_counts'].map(
            (table) => `DELETE FROM ${table} WHERE channel_id = ${channelId} AND number = ${number}`,
          )
        : []),
      ...unindexed(channelId, [{ number }], dialect),
      ...(isWithdrawn && change.of.mentions !== undefined
        ? [
            `DELETE FROM mentioned WHERE channel_id = ${channelId} AND number = ${number}`,
            `UPDATE messages SET mentions_json = NULL WHERE channel_id = ${channelId} AND number = ${number}`,
          ]
        : []),
      ...(this.#held.has(channel) || !isWithdrawn
        ? []
        : [`DELETE FROM revisions WHERE channel_id = ${channelId} AND number = ${number}`]),
    ];
  }
}

/** Nothing says any more whose message it was. */
function blankStatements({ channelId, number, revision = 0 }: Target, dialect: Dialect): readonly string[] {
  const row = tableOf([[erasedAuthor.user, JSON.stringify(erasedAuthor)]], dialect);
  return [
    `UPDATE messages SET author = each.value->>0, by_json = each.value->>1, publish_key = NULL, key_owner = ''
     FROM ${row} WHERE channel_id = ${channelId} AND number = ${number}`,
    `UPDATE messages SET data_json = 'null' WHERE channel_id = ${channelId} AND target = ${number} AND number <> ${revision}`,
    `UPDATE revisions SET by_json = each.value->>1 FROM ${row} WHERE channel_id = ${channelId} AND number = ${number}`,
  ];
}

/** Keeps what messages hold in the database. */
function keepStatement(targets: readonly Target[], dialect: Dialect): string {
  const rows = targets.map(({ channelId, number }) => [channelId, number]);
  return `INSERT INTO revisions (channel_id, number, revision, at_ms, by_json, data_json)
    SELECT channel_id, number, COALESCE(revision, 0), COALESCE(revised_at_ms, at_ms),
      CASE WHEN revision IS NULL THEN by_json ELSE revised_by_json END, data_json
    FROM messages WHERE (channel_id, number) IN ${listOf(['INTEGER', 'BIGINT'], rows, dialect)}`;
}

/** Writes how messages stand. */
function updateStatement(changed: readonly Target[], dialect: Dialect): string {
  const rows = changed.map(({ channelId, number, revision, isWithdrawn, last }) => {
    const { draft, change } = last as Made;
    const by = draft.by === undefined ? null : JSON.stringify(draft.by);
    const reason = change.reason ?? null;
    return [channelId, number, draft.dataText, revision, draft.atMs, by, reason, isWithdrawn ? 1 : null];
  });
  return `UPDATE messages SET data_json = each.value->>2, revision = CAST(each.value->>3 AS BIGINT),
      revised_at_ms = CAST(each.value->>4 AS BIGINT), revised_by_json = each.value->>5, reason = each.value->>6,
      withdrawn = CAST(each.value->>7 AS INTEGER)
    FROM ${tableOf(rows, dialect)}
    WHERE messages.channel_id = CAST(each.value->>0 AS INTEGER) AND messages.number = CAST(each.value->>1 AS BIGINT)`;
}

/** The user's revisions and withdrawals. The messages themselves are erased by changes, so that clients hear of it. */
export const changeData: PersonalData = {
  tables: ['messages', 'revisions'],
  exports: () => ({
    changes: `SELECT c.name AS channel, c.volume || ':' || CAST(m.number AS TEXT) AS cursor,
        c.volume || ':' || CAST(m.target AS TEXT) AS "of", m.at_ms FROM channels c
      JOIN messages m ON m.channel_id = c.id AND m.author = :user WHERE m.target IS NOT NULL`,
  }),
  async erase(reads, { user, limit, dialect }) {
    const rows = await reads.select<Row<'messages'>>(
      `SELECT m.* FROM channels c
       JOIN messages m ON m.channel_id = c.id AND m.author = :user WHERE m.target IS NOT NULL LIMIT :limit`,
      { user, limit },
    );
    const by_json = JSON.stringify(erasedAuthor);
    const changes = rows.map(({ channel_id, number, data_json }) => ({
      ...{ channel_id, number, author: erasedAuthor.user, by_json, publish_key: null, key_owner: '' },
      data_json: withReviser(data_json),
    }));
    const changed = rows.map(({ channel_id, number, target }) => ({
      channel_id,
      number: target as number,
      revision: number,
    }));
    const statements = [
      ...updatesOf('messages', changes, dialect),
      ...updatesOf(
        'messages',
        changed.map((each) => ({ ...each, revised_by_json: by_json, reason: null })),
        dialect,
        ['channel_id', 'number', 'revision'],
      ),
      ...updatesOf(
        'revisions',
        changed.map((each) => ({ ...each, by_json })),
        dialect,
      ),
    ];
    return { statements, result: rows.length };
  },
};

/** Returns the data of a withdrawal, which is the message as it stands, without the user who withdrew. */
function withReviser(json: string): string {
  if (json === 'null') return json;
  const { reason: _, ...change } = JSON.parse(json) as { readonly reason?: string };
  return JSON.stringify({ ...change, revisedBy: erasedAuthor });
}
