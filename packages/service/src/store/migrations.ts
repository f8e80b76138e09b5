import { noteTypes } from '@nine-bells/core';
import {
  DataTypes,
  literal,
  type ModelAttributes,
  Op,
  type QueryInterface,
  QueryTypes,
  type Sequelize,
  type Transaction,
  type WhereOptions,
} from 'sequelize';
import { randomText } from '../system/ids.js';

/** What a migration changes the database with: all of it in one transaction. */
export class Shape {
  readonly #on: Sequelize;
  readonly #tables: QueryInterface;
  readonly #within: { readonly transaction?: Transaction };

  /** @param transaction - absent where the connection itself is in a transaction, as with SQLite */
  constructor(on: Sequelize, transaction: Transaction | undefined) {
    this.#on = on;
    this.#tables = on.getQueryInterface();
    this.#within = transaction === undefined ? {} : { transaction };
  }

  async createTable(name: string, columns: ModelAttributes): Promise<void> {
    await this.#tables.createTable(name, columns, { ...this.#within });
  }

  /** A primary key that rises with each row. */
  rising(): ModelAttributes[string] {
    // A rowid of SQLite is a 64-bit number called INTEGER.
    const type = this.#on.getDialect() === 'sqlite' ? DataTypes.INTEGER : DataTypes.BIGINT;
    return { type, primaryKey: true, autoIncrement: true };
  }

  async addColumn(table: string, name: string, column: ModelAttributes[string]): Promise<void> {
    await this.#tables.addColumn(table, name, column, { ...this.#within });
  }

  async addIndex(
    table: string,
    index: { name: string; unique?: boolean; fields: string[]; where?: WhereOptions },
  ): Promise<void> {
    await this.#tables.addIndex(table, { ...index, ...this.#within });
  }

  async removeIndex(table: string, name: string): Promise<void> {
    await this.#tables.removeIndex(table, name, { ...this.#within });
  }

  async bulkInsert(table: string, rows: object[]): Promise<void> {
    await this.#tables.bulkInsert(table, rows, { ...this.#within });
  }

  async bulkUpdate(table: string, values: object, where: WhereOptions & object): Promise<void> {
    await this.#tables.bulkUpdate(table, values, where, { ...this.#within });
  }

  async run(sql: string): Promise<void> {
    await this.#on.query(sql, { ...this.#within });
  }

  get isShared(): boolean {
    return this.#on.getDialect() !== 'sqlite';
  }

  select<Row extends object>(sql: string, replacements: Record<string, unknown> = {}): Promise<Row[]> {
    return this.#on.query<Row>(sql, { replacements, type: QueryTypes.SELECT, ...this.#within });
  }

  /** The names of the migrations that were carried out. */
  async executed(): Promise<string[]> {
    if (!(await this.#tables.tableExists('migrations', { ...this.#within }))) return [];
    return (await this.select<{ name: string }>('SELECT name FROM migrations ORDER BY name')).map(({ name }) => name);
  }
}

/** Whether all migrations were carried out. */
export function isUpToDate(on: Sequelize): Promise<boolean> {
  return hasAll(new Shape(on, undefined));
}

/** A newer version of the service has changed the database in a way that this one does not know. */
export class NewerDatabase extends Error {}

async function hasAll(shape: Shape): Promise<boolean> {
  const executed = new Set(await shape.executed());
  const known = new Set(migrations.map(({ name }) => name));
  const newer = [...executed].filter((name) => !known.has(name));
  if (newer.length > 0)
    throw new NewerDatabase(
      `the database was changed by a newer version of Nine Bells (${newer.join(', ')}). Start that version, or restore a backup from before.`,
    );
  return migrations.every(({ name }) => executed.has(name));
}

/**
 * Brings the database's shape up to date, in one transaction. Several processes may start together: one changes it, the
 * others wait. A database that is up to date is not locked.
 *
 * @param transaction - the transaction, where `begin` does not begin one itself
 * @param begin - gets the writers' lock
 */
export async function bringUpToDate(
  on: Sequelize,
  transaction: Transaction | undefined,
  begin: () => Promise<void>,
): Promise<void> {
  const shape = new Shape(on, transaction);
  if (await hasAll(shape)) return;
  // It takes a tenth of a start to load, and most starts do not need it.
  const { Umzug } = await import('umzug');
  const umzug = new Umzug({
    migrations: [...migrations],
    context: shape,
    storage: {
      logMigration: ({ name }) => shape.bulkInsert('migrations', [{ name }]),
      unlogMigration: async () => {},
      executed: () => shape.executed(),
    },
    logger: undefined,
  });
  await begin();
  try {
    await shape.createTable('migrations', { name: { type: DataTypes.STRING(255), primaryKey: true } });
    await umzug.up();
    if (transaction === undefined) await on.query('COMMIT');
  } catch (error) {
    if (transaction === undefined) await on.query('ROLLBACK').catch(() => {});
    throw error;
  }
}

/** Numbers the notes that are in the record already. */
async function countNotes(context: Shape): Promise<void> {
  const found = await context.select<{ channel_id: number; number: number; head: number }>(
    `SELECT m.channel_id, m.number, c.head FROM messages m JOIN channels c ON c.id = m.channel_id
     WHERE m.type IN (:types) ORDER BY m.channel_id, m.number`,
    { types: [...noteTypes] },
  );
  let notes = 0;
  for (const [index, { channel_id, number, head }] of found.entries()) {
    notes = found[index - 1]?.channel_id === channel_id ? notes + 1 : 1;
    const next = found[index + 1];
    const last = next?.channel_id === channel_id ? Number(next.number) - 1 : Number(head);
    const until = { [Op.between]: [Number(number), last] as [number, number] };
    await context.bulkUpdate('messages', { notes }, { channel_id, number: until });
    if (next?.channel_id !== channel_id) await context.bulkUpdate('channels', { notes }, { id: channel_id });
  }
}

/** One step in the history of the database's shape. */
export interface Migration {
  readonly name: string;
  up(on: { context: Shape }): Promise<void>;
}

/** All steps, oldest first. A step that has been released is never changed. */
export const migrations: readonly Migration[] = [
  {
    name: '0001-channels-and-messages',
    async up({ context }) {
      await context.createTable('facts', {
        name: { type: DataTypes.STRING(64), primaryKey: true },
        value: { type: DataTypes.STRING(255), allowNull: false },
      });
      // The volume of all logbooks of this database: another database is another record.
      await context.bulkInsert('facts', [{ name: 'volume', value: randomText(6) }]);
      await context.createTable('channels', {
        id: { type: DataTypes.INTEGER, primaryKey: true, autoIncrement: true },
        name: { type: DataTypes.STRING(200), allowNull: false, unique: true },
        volume: { type: DataTypes.STRING(16), allowNull: false },
        head: { type: DataTypes.BIGINT, allowNull: false },
        last_at_ms: { type: DataTypes.BIGINT, allowNull: false },
      });
      await context.createTable('messages', {
        channel_id: { type: DataTypes.INTEGER, primaryKey: true },
        number: { type: DataTypes.BIGINT, primaryKey: true },
        message_id: { type: DataTypes.STRING(32), allowNull: false },
        type: { type: DataTypes.STRING(64), allowNull: false },
        author: { type: DataTypes.STRING(128), allowNull: false },
        publish_key: { type: DataTypes.STRING(128), allowNull: true },
        by_json: { type: DataTypes.TEXT, allowNull: true },
        at_ms: { type: DataTypes.BIGINT, allowNull: false },
        data_json: { type: DataTypes.TEXT, allowNull: false },
        except_json: { type: DataTypes.TEXT, allowNull: true },
      });
      // A key counts once per channel and author; rows without one are not in the index.
      await context.addIndex('messages', {
        name: 'messages_by_key',
        unique: true,
        fields: ['channel_id', 'author', 'publish_key'],
        where: { publish_key: { [Op.not]: null } },
      });
    },
  },
  {
    name: '0002-api-keys',
    async up({ context }) {
      await context.createTable('api_keys', {
        id: { type: DataTypes.STRING(16), primaryKey: true },
        name: { type: DataTypes.STRING(100), allowNull: false },
        hash: { type: DataTypes.STRING(64), allowNull: false },
        created_at_ms: { type: DataTypes.BIGINT, allowNull: false },
      });
    },
  },
  {
    name: '0003-rights-of-api-keys',
    async up({ context }) {
      // Earlier keys could do everything, and still can.
      const rights = { type: DataTypes.TEXT, allowNull: false, defaultValue: '["administer"]' };
      await context.addColumn('api_keys', 'rights_json', rights);
      for (const name of ['expires_at_ms', 'last_used_at_ms', 'revoked_at_ms'])
        await context.addColumn('api_keys', name, { type: DataTypes.BIGINT, allowNull: true });
    },
  },
  {
    name: '0004-measures-and-audit',
    async up({ context }) {
      const place = () => ({
        user_id: { type: DataTypes.STRING(128), allowNull: true },
        address: { type: DataTypes.STRING(64), allowNull: true },
        channel: { type: DataTypes.STRING(200), allowNull: true },
        reason: { type: DataTypes.TEXT, allowNull: true },
        by_json: { type: DataTypes.TEXT, allowNull: false },
        at_ms: { type: DataTypes.BIGINT, allowNull: false },
        until_ms: { type: DataTypes.BIGINT, allowNull: true },
      });
      await context.createTable('bans', {
        id: { type: DataTypes.STRING(32), primaryKey: true },
        did: { type: DataTypes.STRING(32), allowNull: false },
        ...place(),
        lifted_at_ms: { type: DataTypes.BIGINT, allowNull: true },
      });
      await context.createTable('cutoffs', {
        user_id: { type: DataTypes.STRING(128), primaryKey: true },
        before_ms: { type: DataTypes.BIGINT, allowNull: false },
      });
      await context.createTable('audit', {
        number: { type: DataTypes.INTEGER, primaryKey: true, autoIncrement: true },
        did: { type: DataTypes.STRING(32), allowNull: false },
        ...place(),
        about: { type: DataTypes.TEXT, allowNull: true },
      });
    },
  },
  {
    name: '0005-users-and-inboxes',
    async up({ context }) {
      await context.createTable('users', {
        id: { type: DataTypes.STRING(128), primaryKey: true },
        name: { type: DataTypes.STRING(200), allowNull: true },
        seen_at_ms: { type: DataTypes.BIGINT, allowNull: true },
        inbox_head: { type: DataTypes.BIGINT, allowNull: false, defaultValue: 0 },
      });
      await context.createTable('user_roles', {
        user_id: { type: DataTypes.STRING(128), primaryKey: true },
        role: { type: DataTypes.STRING(128), primaryKey: true },
      });
      await context.addIndex('user_roles', { name: 'user_roles_by_role', fields: ['role'] });
      await context.createTable('notices', {
        user_id: { type: DataTypes.STRING(128), primaryKey: true },
        number: { type: DataTypes.BIGINT, primaryKey: true },
        notice_id: { type: DataTypes.STRING(32), allowNull: false },
        title: { type: DataTypes.STRING(200), allowNull: false },
        data_json: { type: DataTypes.TEXT, allowNull: true },
        notice_key: { type: DataTypes.STRING(255), allowNull: true },
        at_ms: { type: DataTypes.BIGINT, allowNull: false },
        until_ms: { type: DataTypes.BIGINT, allowNull: true },
      });
      await context.addIndex('notices', { name: 'notices_by_id', fields: ['user_id', 'notice_id'] });
    },
  },
  {
    name: '0006-read-marks',
    async up({ context }) {
      await context.createTable('marks', {
        user_id: { type: DataTypes.STRING(128), primaryKey: true },
        channel_id: { type: DataTypes.INTEGER, primaryKey: true },
        number: { type: DataTypes.BIGINT, allowNull: false },
        notes: { type: DataTypes.BIGINT, allowNull: false },
      });
      await context.addIndex('marks', { name: 'marks_by_channel', fields: ['channel_id', 'user_id'] });
      // How many notes of who comes and goes a channel has up to each message: they do not count as unread.
      const notes = { type: DataTypes.BIGINT, allowNull: false, defaultValue: 0 };
      await context.addColumn('channels', 'notes', notes);
      await context.addColumn('messages', 'notes', notes);
      await countNotes(context);
      // A user's own messages do not count either: those after a mark are looked up here.
      await context.addIndex('messages', {
        name: 'messages_by_author',
        fields: ['channel_id', 'author', 'number'],
        where: { type: { [Op.notIn]: [...noteTypes] } },
      });
    },
  },
  {
    name: '0007-relay-terms',
    async up({ context }) {
      // Which run of which server the relay has been, in order: what a record in it is worth is decided by that.
      await context.createTable('relay_terms', {
        term: { type: DataTypes.INTEGER, primaryKey: true },
        place: { type: DataTypes.STRING(64), allowNull: false },
        run: { type: DataTypes.STRING(64), allowNull: false },
        replication: { type: DataTypes.STRING(64), allowNull: false },
        durable: { type: DataTypes.INTEGER, allowNull: false },
        replicated: { type: DataTypes.INTEGER, allowNull: false },
        continues: { type: DataTypes.INTEGER, allowNull: true },
        seen_at_ms: { type: DataTypes.BIGINT, allowNull: false },
      });
      await context.addIndex('relay_terms', { name: 'relay_terms_by_place', fields: ['place', 'term'] });
    },
  },
  {
    name: '0008-owners-of-keys',
    async up({ context }) {
      // Two applications that use the same key for a channel mean two messages.
      const owner = { type: DataTypes.STRING(64), allowNull: false, defaultValue: '' };
      await context.addColumn('messages', 'key_owner', owner);
      await context.removeIndex('messages', 'messages_by_key');
      await context.addIndex('messages', {
        name: 'messages_by_key',
        unique: true,
        fields: ['channel_id', 'author', 'key_owner', 'publish_key'],
        where: { publish_key: { [Op.not]: null } },
      });
    },
  },
  {
    name: '0009-used-links',
    async up({ context }) {
      // Sign-in links that were used, until they end by themselves.
      await context.createTable('used_links', {
        id: { type: DataTypes.STRING(32), primaryKey: true },
        ends_at_ms: { type: DataTypes.BIGINT, allowNull: false },
      });
    },
  },
  {
    name: '0010-unban',
    async up({ context }) {
      // The act that ends a ban is called `unban` everywhere.
      await context.bulkUpdate('audit', { did: 'unban' }, { did: 'lift' });
    },
  },
  {
    name: '0011-boards',
    async up({ context }) {
      // The boards that outlive a restart, each as it was saved last.
      await context.createTable('boards', {
        channel: { type: DataTypes.STRING(200), primaryKey: true },
        volume: { type: DataTypes.STRING(16), allowNull: false },
        number: { type: DataTypes.BIGINT, allowNull: false },
        saved_at_ms: { type: DataTypes.BIGINT, allowNull: false },
        entries_json: { type: DataTypes.TEXT, allowNull: false },
      });
    },
  },
  {
    name: '0012-webhooks',
    async up({ context }) {
      const id = { type: DataTypes.STRING(40), allowNull: false };
      const text = { type: DataTypes.TEXT, allowNull: true };
      const number = { type: DataTypes.BIGINT, allowNull: false };
      const maybe = { type: DataTypes.BIGINT, allowNull: true };
      const whole = { type: DataTypes.INTEGER, allowNull: false, defaultValue: 0 };
      const state = { type: DataTypes.STRING(16), allowNull: false };
      const waiting = { state: 'waiting' };
      const ended = { state: { [Op.ne]: 'waiting' } };
      // What was sent to hooks, and what waits to be.
      await context.createTable('deliveries', {
        number: context.rising(),
        hook: id,
        event_id: id,
        event: id,
        at_ms: number,
        channel: { type: DataTypes.STRING(200), allowNull: true },
        hops: whole,
        data_json: { ...text, allowNull: false },
        state,
        attempts: whole,
        since_ms: number,
        due_at_ms: number,
        ended_at_ms: maybe,
        status: { type: DataTypes.INTEGER, allowNull: true },
        problem: text,
      });
      await context.addIndex('deliveries', { name: 'deliveries_by_event', unique: true, fields: ['hook', 'event_id'] });
      await context.addIndex('deliveries', {
        name: 'deliveries_due',
        fields: ['hook', 'due_at_ms', 'number'],
        where: waiting,
      });
      await context.addIndex('deliveries', {
        name: 'deliveries_ended',
        fields: ['hook', 'ended_at_ms'],
        where: ended,
      });
      await context.createTable('attempts', {
        id: context.rising(),
        delivery: number,
        at_ms: number,
        status: { type: DataTypes.INTEGER, allowNull: true },
        took_ms: whole,
        problem: text,
        sent_json: text,
        answer: text,
      });
      await context.addIndex('attempts', { name: 'attempts_by_delivery', fields: ['delivery', 'id'] });
      await context.createTable('hooks', {
        name: { ...id, primaryKey: true },
        definition_json: text,
        key_id: { type: DataTypes.STRING(32), allowNull: true },
        secrets_json: text,
        failing_since_ms: maybe,
        paused_at_ms: maybe,
        paused_why: text,
        holder: { type: DataTypes.STRING(200), allowNull: true },
        held_until_ms: maybe,
      });
      // Channels of whose first member hooks have heard, and not of the last one out.
      await context.createTable('occupied_channels', { channel: { type: DataTypes.STRING(200), primaryKey: true } });
      // What came in through intakes.
      await context.createTable('arrivals', {
        number: context.rising(),
        id,
        intake: id,
        event_id: { type: DataTypes.STRING(255), allowNull: true },
        at_ms: number,
        method: { type: DataTypes.STRING(16), allowNull: false },
        headers_json: { ...text, allowNull: false },
        body: { ...text, allowNull: false },
        is_base64: whole,
        bytes: whole,
        hops: whole,
        held_until_ms: number,
        state,
        tries: whole,
        became_json: text,
        problem: text,
        ended_at_ms: maybe,
      });
      await context.addIndex('arrivals', { name: 'arrivals_by_id', unique: true, fields: ['id'] });
      await context.addIndex('arrivals', {
        name: 'arrivals_by_event',
        unique: true,
        fields: ['event_id', 'intake'],
        where: { event_id: { [Op.not]: null } },
      });
      await context.addIndex('arrivals', { name: 'arrivals_waiting', fields: ['number'], where: waiting });
      await context.addIndex('arrivals', { name: 'arrivals_ended', fields: ['intake', 'ended_at_ms'], where: ended });
    },
  },
  {
    name: '0013-retention',
    async up({ context }) {
      // What was pruned of a channel: all before its oldest message, among them some notes.
      for (const [name, defaultValue] of [
        ['oldest', 1],
        ['pruned_notes', 0],
      ] as const)
        await context.addColumn('channels', name, { type: DataTypes.BIGINT, allowNull: false, defaultValue });
      await context.createTable('holds', {
        channel: { type: DataTypes.STRING(200), primaryKey: true },
        at_ms: { type: DataTypes.BIGINT, allowNull: false },
        by_json: { type: DataTypes.TEXT, allowNull: false },
        reason: { type: DataTypes.TEXT, allowNull: true },
      });
      // Records are looked for by their age.
      await context.addIndex('audit', { name: 'audit_by_time', fields: ['at_ms'] });
      await context.addIndex('notices', { name: 'notices_by_time', fields: ['at_ms'] });
      await context.addIndex('users', { name: 'users_by_time', fields: ['seen_at_ms'] });
    },
  },
  {
    name: '0014-slowed-users',
    async up({ context }) {
      // Of a silence that lets a user publish now and then.
      await context.addColumn('bans', 'every_ms', { type: DataTypes.BIGINT, allowNull: true });
    },
  },
  {
    name: '0015-reports',
    async up({ context }) {
      // Messages that users have reported, as they were then.
      await context.createTable('reports', {
        number: context.rising(),
        id: { type: DataTypes.STRING(32), allowNull: false },
        channel: { type: DataTypes.STRING(200), allowNull: false },
        cursor: { type: DataTypes.STRING(64), allowNull: false },
        reporter: { type: DataTypes.STRING(128), allowNull: false },
        message_json: { type: DataTypes.TEXT, allowNull: false },
        by_json: { type: DataTypes.TEXT, allowNull: false },
        reason: { type: DataTypes.TEXT, allowNull: true },
        at_ms: { type: DataTypes.BIGINT, allowNull: false },
        ended_at_ms: { type: DataTypes.BIGINT, allowNull: true },
        ended_by_json: { type: DataTypes.TEXT, allowNull: true },
        note: { type: DataTypes.TEXT, allowNull: true },
      });
      await context.addIndex('reports', { name: 'reports_by_id', unique: true, fields: ['id'] });
      await context.addIndex('reports', {
        name: 'reports_by_message',
        unique: true,
        fields: ['channel', 'cursor', 'reporter'],
      });
      await context.addIndex('reports', { name: 'reports_ended', fields: ['ended_at_ms', 'number'] });
    },
  },
  {
    name: '0016-changes',
    async up({ context }) {
      const maybe = { type: DataTypes.BIGINT, allowNull: true };
      const text = { type: DataTypes.TEXT, allowNull: true };
      for (const [name, type] of Object.entries({
        target: maybe,
        revision: maybe,
        revised_at_ms: maybe,
        revised_by_json: text,
        reason: text,
        withdrawn: { type: DataTypes.INTEGER, allowNull: true },
      }))
        await context.addColumn('messages', name, type);
      // The changes of a message; and what in a channel counts as unread no more.
      await context.addIndex('messages', {
        name: 'messages_by_target',
        fields: ['channel_id', 'target'],
        where: { target: { [Op.not]: null } },
      });
      await context.addIndex('messages', {
        name: 'messages_withdrawn',
        fields: ['channel_id', 'number'],
        where: { withdrawn: { [Op.not]: null } },
      });
      const number = { type: DataTypes.BIGINT, allowNull: false, primaryKey: true };
      await context.createTable('revisions', {
        channel_id: { type: DataTypes.INTEGER, primaryKey: true },
        number,
        revision: number,
        at_ms: { type: DataTypes.BIGINT, allowNull: false },
        by_json: text,
        data_json: { type: DataTypes.TEXT, allowNull: false },
      });
    },
  },
  {
    name: '0017-erasures',
    async up({ context }) {
      const number = { type: DataTypes.BIGINT, allowNull: false };
      const text = { type: DataTypes.TEXT, allowNull: false };
      await context.createTable('erasures', {
        id: { type: DataTypes.STRING(32), primaryKey: true },
        user_id: { type: DataTypes.STRING(128), allowNull: true },
        messages: { type: DataTypes.STRING(16), allowNull: false },
        by_json: text,
        at_ms: number,
        counts_json: text,
        held_json: text,
        until_ms: number,
        ended_at_ms: { type: DataTypes.BIGINT, allowNull: true },
      });
    },
  },
  {
    name: '0018-reactions',
    async up({ context }) {
      const number = { type: DataTypes.BIGINT, allowNull: false };
      const channel = { type: DataTypes.INTEGER, primaryKey: true };
      await context.createTable('reactions', {
        channel_id: channel,
        number: { ...number, primaryKey: true },
        word: { type: DataTypes.STRING(64), primaryKey: true },
        user_id: { type: DataTypes.STRING(128), primaryKey: true },
        name: { type: DataTypes.STRING(200), allowNull: true },
        at_ms: number,
      });
      await context.addIndex('reactions', { name: 'reactions_by_user', fields: ['channel_id', 'user_id', 'number'] });
      // How many there are at a message, and the version at which it came to that.
      await context.createTable('reaction_counts', {
        channel_id: channel,
        number: { ...number, primaryKey: true },
        counts_json: { type: DataTypes.TEXT, allowNull: false },
        version: number,
      });
      await context.addIndex('reaction_counts', {
        name: 'reaction_counts_by_version',
        fields: ['channel_id', 'version'],
      });
      await context.createTable('reaction_heads', { channel_id: channel, version: number });
    },
  },
  {
    name: '0019-blocks',
    async up({ context }) {
      const user = { type: DataTypes.STRING(128), primaryKey: true };
      await context.createTable('blocks', {
        user_id: user,
        other_id: user,
        kind: { type: DataTypes.STRING(16), allowNull: false },
        at_ms: { type: DataTypes.BIGINT, allowNull: false },
      });
    },
  },
  {
    name: '0020-invitations',
    async up({ context }) {
      const number = { type: DataTypes.BIGINT, allowNull: false };
      const maybeNumber = { type: DataTypes.BIGINT, allowNull: true };
      const text = { type: DataTypes.STRING(200), allowNull: false };
      const maybeText = { type: DataTypes.STRING(200), allowNull: true };
      await context.createTable('invitations', {
        number: context.rising(),
        id: { type: DataTypes.STRING(32), allowNull: false },
        digest: text,
        channel: text,
        user_id: maybeText,
        role: maybeText,
        uses: number,
        used: number,
        at_ms: number,
        until_ms: number,
        revoked_at_ms: maybeNumber,
        by_json: { type: DataTypes.TEXT, allowNull: false },
      });
      await context.addIndex('invitations', { name: 'invitations_by_id', unique: true, fields: ['id'] });
      await context.addIndex('invitations', { name: 'invitations_by_digest', unique: true, fields: ['digest'] });
      await context.addIndex('invitations', { name: 'invitations_by_channel', fields: ['channel', 'number'] });
      await context.createTable('admissions', {
        user_id: { type: DataTypes.STRING(128), primaryKey: true },
        channel: { type: DataTypes.STRING(200), primaryKey: true },
        role: maybeText,
        invitation: { type: DataTypes.STRING(32), allowNull: false },
        at_ms: number,
        until_ms: maybeNumber,
      });
      await context.addIndex('admissions', { name: 'admissions_by_channel', fields: ['channel', 'user_id'] });
      await context.addIndex('admissions', { name: 'admissions_by_invitation', fields: ['invitation'] });
    },
  },
  {
    name: '0021-replies',
    async up({ context }) {
      const number = { type: DataTypes.BIGINT, allowNull: false };
      const key = { type: DataTypes.BIGINT, primaryKey: true };
      const channel = { type: DataTypes.INTEGER, primaryKey: true };
      await context.createTable('replies', { channel_id: channel, number: key, reply_to: number, thread: number });
      await context.addIndex('replies', { name: 'replies_by_thread', fields: ['channel_id', 'thread', 'number'] });
      await context.createTable('threads', {
        channel_id: channel,
        root: key,
        replies: number,
        number,
        at_ms: number,
      });
      // How far those have read who take part in a thread.
      await context.createTable('thread_marks', {
        user_id: { type: DataTypes.STRING(128), primaryKey: true },
        channel_id: channel,
        root: key,
        number,
      });
      await context.addIndex('thread_marks', { name: 'thread_marks_by_channel', fields: ['channel_id', 'root'] });
      // Only channels in which messages were answered are asked for threads.
      await context.addColumn('channels', 'threads', { type: DataTypes.INTEGER, allowNull: false, defaultValue: 0 });
    },
  },
  {
    name: '0022-latest-threads',
    async up({ context }) {
      // When a user last took part in a thread or read it.
      await context.addColumn('thread_marks', 'at_ms', { type: DataTypes.BIGINT, allowNull: false, defaultValue: 0 });
      await context.addIndex('thread_marks', { name: 'thread_marks_by_user', fields: ['user_id', 'at_ms'] });
      // Those that count for how many a channel may have.
      const open = { [Op.and]: [literal('revoked_at_ms IS NULL AND used < uses')] };
      await context.addIndex('invitations', { name: 'invitations_open', fields: ['channel', 'until_ms'], where: open });
    },
  },
  {
    name: '0023-mentions-and-levels',
    async up({ context }) {
      const user = { type: DataTypes.STRING(128), primaryKey: true };
      await context.addColumn('messages', 'mentions_json', { type: DataTypes.TEXT, allowNull: true });
      await context.createTable('mentioned', {
        user_id: user,
        channel_id: { type: DataTypes.INTEGER, primaryKey: true },
        number: { type: DataTypes.BIGINT, primaryKey: true },
      });
      await context.addIndex('mentioned', { name: 'mentioned_by_channel', fields: ['channel_id', 'number'] });
      await context.createTable('levels', {
        user_id: user,
        channel: { type: DataTypes.STRING(200), primaryKey: true },
        level: { type: DataTypes.STRING(16), allowNull: false },
        until_ms: { type: DataTypes.BIGINT, allowNull: true },
      });
    },
  },
  {
    name: '0024-search',
    async up({ context }) {
      // Messages that are found by their words, in the order in which they were made searchable.
      await context.createTable('searched', {
        id: context.rising(),
        channel_id: { type: DataTypes.INTEGER, allowNull: false },
        number: { type: DataTypes.BIGINT, allowNull: false },
        at_ms: { type: DataTypes.BIGINT, allowNull: false },
      });
      await context.addIndex('searched', {
        name: 'searched_by_channel',
        unique: true,
        fields: ['channel_id', 'number'],
      });
      await context.createTable('search_heads', {
        channel_id: { type: DataTypes.INTEGER, primaryKey: true },
        number: { type: DataTypes.BIGINT, allowNull: false },
      });
      if (context.isShared) {
        await context.run('ALTER TABLE searched ADD COLUMN words tsvector');
        await context.run('CREATE INDEX searched_by_words ON searched USING GIN (words)');
      } else {
        // Where a message is, whose it is and of which type stands among the words, so that the index alone finds it.
        await context.run(
          `CREATE VIRTUAL TABLE search_words USING fts5(
             words, about, columnsize = 0, prefix = '2 3', tokenize = 'unicode61 remove_diacritics 0')`,
        );
        // What is removed is overwritten in the file.
        await context.run("INSERT INTO search_words (search_words, rank) VALUES ('secure-delete', 1)");
        // Parts of the index are merged a little with each commit (`searchStore.ts`), not much at a time now and then.
        await context.run("INSERT INTO search_words (search_words, rank) VALUES ('automerge', 0)");
        await context.run("INSERT INTO search_words (search_words, rank) VALUES ('crisismerge', 256)");
      }
    },
  },
  {
    name: '0025-pending-messages',
    async up({ context }) {
      const text = { type: DataTypes.TEXT, allowNull: false };
      const maybeText = { type: DataTypes.TEXT, allowNull: true };
      const number = { type: DataTypes.BIGINT, allowNull: false };
      // Messages that moderators look at before they are published, and those that were refused.
      await context.createTable('pending_messages', {
        number: context.rising(),
        id: { type: DataTypes.STRING(32), allowNull: false },
        channel: { type: DataTypes.STRING(200), allowNull: false },
        user_id: { type: DataTypes.STRING(128), allowNull: false },
        publish_key: { type: DataTypes.STRING(128), allowNull: true },
        key_owner: { type: DataTypes.STRING(64), allowNull: false },
        by_json: text,
        message_json: text,
        reason: maybeText,
        at_ms: number,
        cleared: { type: DataTypes.INTEGER, allowNull: false },
        cleared_by_json: maybeText,
        ended_at_ms: { type: DataTypes.BIGINT, allowNull: true },
        ended_by_json: maybeText,
        note: maybeText,
      });
      await context.addIndex('pending_messages', { name: 'pending_messages_by_id', unique: true, fields: ['id'] });
      await context.addIndex('pending_messages', {
        name: 'pending_messages_by_key',
        fields: ['user_id', 'channel', 'publish_key'],
      });
      // Those that were refused may be many more.
      await context.addIndex('pending_messages', {
        name: 'pending_messages_waiting',
        fields: ['user_id', 'channel', 'number'],
        where: { [Op.and]: [literal('ended_at_ms IS NULL')] },
      });
      await context.addIndex('pending_messages', { name: 'pending_messages_by_time', fields: ['at_ms', 'number'] });
    },
  },
  {
    name: '0026-copies',
    async up({ context }) {
      // The original of a delivery’s data, and the data without it, for a withdrawal, a take-back or an erasure.
      await context.addColumn('deliveries', 'copy_of', { type: DataTypes.STRING(260), allowNull: true });
      await context.addColumn('deliveries', 'bare_json', { type: DataTypes.TEXT, allowNull: true });
      await context.addIndex('deliveries', {
        name: 'deliveries_by_copied',
        fields: ['copy_of'],
        where: { copy_of: { [Op.not]: null } },
      });
      // Messages of the moderators' queue that were published, so that an approval can be repeated.
      await context.createTable('released_messages', {
        id: { type: DataTypes.STRING(32), primaryKey: true },
        channel: { type: DataTypes.STRING(200), allowNull: false },
        number: { type: DataTypes.BIGINT, allowNull: false },
        // The message that holds the text: itself, or the one that was changed.
        of_number: { type: DataTypes.BIGINT, allowNull: false },
        at_ms: { type: DataTypes.BIGINT, allowNull: false },
      });
    },
  },
  {
    name: '0027-known-arrivals',
    async up({ context }) {
      // Arrivals pruned to the sender's id, by the time when they ended.
      await context.addIndex('arrivals', {
        name: 'arrivals_known',
        fields: ['intake', 'held_until_ms'],
        where: { state: 'known' },
      });
    },
  },
];
