import {
  type InboxEntry,
  type InboxSlice,
  type KnownUser,
  type NoticeDraft,
  noticeOf,
  type Place,
} from '@nine-bells/core';
import { Op, QueryTypes, type Sequelize, type WhereOptions } from 'sequelize';
import type { Database } from './database.js';
import type { NoticeRow, UserRoleRow, UserRow } from './models.js';

/** Rows of one statement. */
const statementRows = 500;

/** The inboxes of users, and the users the service has met. */
export class InboxStore {
  readonly #database: Database;
  readonly #volume: string;
  readonly #standings: Standings;

  constructor(database: Database, volume: string) {
    this.#database = database;
    this.#volume = volume;
    this.#standings = new Standings(database);
  }

  notify(drafts: readonly NoticeDraft[]): Promise<readonly InboxEntry[]> {
    return this.#database.write(async (writer) => {
      const users = [...new Set(drafts.map(({ user }) => user))];
      const heads = await headsOf(writer, users);
      await this.#replace(writer, drafts);
      const rows: NoticeRow[] = [];
      for (const draft of drafts) {
        const head = (heads.get(draft.user) ?? 0) + 1;
        heads.set(draft.user, head);
        rows.push(rowOf(draft, head));
      }
      const tables = writer.getQueryInterface();
      for (let from = 0; from < rows.length; from += statementRows)
        await tables.bulkInsert('notices', rows.slice(from, from + statementRows));
      const changed = [...heads].map(([id, inbox_head]) => ({ id, inbox_head }));
      for (let from = 0; from < changed.length; from += statementRows)
        await tables.bulkInsert('users', changed.slice(from, from + statementRows), {
          updateOnDuplicate: ['inbox_head'],
          upsertKeys: ['id'],
        } as object);
      const unread = await unreadOf(writer, users, drafts[0]?.atMs ?? 0);
      return drafts.map((draft, index) => {
        const place = { volume: this.#volume, number: (rows[index] as NoticeRow).number };
        return { user: draft.user, place, notice: noticeOf(draft, place), unread: unread.get(draft.user) ?? 0 };
      });
    });
  }

  async inbox(user: string, after: Place | undefined, limit: number, nowMs: number): Promise<InboxSlice> {
    const { head, unread } = await this.#standings.of(user, nowMs);
    const from = after?.volume === this.#volume ? after.number : 0;
    const isNews = limit > 0 && unread > 0 && from < head;
    const there = { user_id: user, until_ms: { [Op.or]: [{ [Op.is]: null }, { [Op.gt]: nowMs }] } };
    const rows = isNews
      ? await this.#database.models.notices.findAll({
          where: { ...there, number: { [Op.gt]: from } } as WhereOptions,
          order: ['number'],
          limit: limit + 1,
          raw: true,
        })
      : [];
    const found = rows as unknown as NoticeRow[];
    return {
      notices: found.slice(0, limit).map((each) => this.#noticeOf(each)),
      more: found.length > limit,
      unread,
      head: { volume: this.#volume, number: head },
    };
  }

  done(user: string, ids: readonly string[] | true, nowMs: number): Promise<number> {
    return this.#database.write(async (writer) => {
      const which = ids === true ? { user_id: user } : { user_id: user, notice_id: [...ids] };
      await writer.getQueryInterface().bulkDelete('notices', which);
      return (await unreadOf(writer, [user], nowMs)).get(user) ?? 0;
    });
  }

  async meet(met: readonly KnownUser[]): Promise<void> {
    await this.#database.write(async (writer) => {
      const tables = writer.getQueryInterface();
      const rows = met.map(({ id, name, seenAtMs }) => ({
        id,
        name: name ?? null,
        seen_at_ms: seenAtMs,
        inbox_head: 0,
      }));
      await tables.bulkInsert('users', rows, {
        updateOnDuplicate: ['name', 'seen_at_ms'],
        upsertKeys: ['id'],
      } as object);
      await tables.bulkDelete('user_roles', { user_id: met.map(({ id }) => id) });
      const roles = met.flatMap(({ id, roles: all }) =>
        [...new Set(all)].filter((role) => role.length <= 128).map((role) => ({ user_id: id, role })),
      );
      if (roles.length > 0) await tables.bulkInsert('user_roles', roles);
    });
  }

  async usersWith(role: string): Promise<readonly string[]> {
    const rows = await this.#database.models.userRoles.findAll({ where: { role }, order: ['user_id'], raw: true });
    return (rows as unknown as UserRoleRow[]).map(({ user_id }) => user_id);
  }

  async user(id: string): Promise<KnownUser | undefined> {
    const { users, userRoles } = this.#database.models;
    const row = (await users.findByPk(id, { raw: true })) as unknown as UserRow | null;
    // A user that was notified and never came is not known.
    if (row === null || row.seen_at_ms === null) return undefined;
    const roles = (await userRoles.findAll({ where: { user_id: id }, raw: true })) as unknown as UserRoleRow[];
    return {
      id,
      ...(row.name === null ? {} : { name: row.name }),
      roles: roles.map(({ role }) => role),
      seenAtMs: Number(row.seen_at_ms),
    };
  }

  /** Takes out what the drafts take the place of; within them, the last of a key stays. */
  async #replace(writer: Sequelize, drafts: readonly NoticeDraft[]): Promise<void> {
    const keys = [...new Set(drafts.flatMap(({ key }) => (key === undefined ? [] : [key])))];
    const users = drafts.filter(({ key }) => key !== undefined).map(({ user }) => user);
    for (const key of keys) await writer.getQueryInterface().bulkDelete('notices', { user_id: users, notice_key: key });
  }

  #noticeOf(row: NoticeRow) {
    const draft: NoticeDraft = {
      id: row.notice_id,
      user: row.user_id,
      title: row.title,
      atMs: Number(row.at_ms),
      ...(row.data_json === null ? {} : { data: JSON.parse(row.data_json) }),
      ...(row.notice_key === null ? {} : { key: row.notice_key }),
      ...(row.until_ms === null ? {} : { untilMs: Number(row.until_ms) }),
    };
    return noticeOf(draft, { volume: this.#volume, number: Number(row.number) });
  }
}

/** Where an inbox stands, and how many notices are in it. */
interface Standing {
  readonly head: number;
  readonly unread: number;
}

/** Reads where inboxes stand: for all who have asked since the last reading together, since after a cut very many come at once. */
class Standings {
  readonly #database: Database;
  #asked = new Map<string, ((standing: Standing | Error) => void)[]>();
  #reading = false;

  constructor(database: Database) {
    this.#database = database;
  }

  of(user: string, nowMs: number): Promise<Standing> {
    return new Promise((resolve, reject) => {
      if (!this.#reading) {
        this.#reading = true;
        setImmediate(() => void this.#readAll(nowMs));
      }
      const waiting = this.#asked.get(user) ?? [];
      this.#asked.set(user, waiting);
      waiting.push((found) => (found instanceof Error ? reject(found) : resolve(found)));
    });
  }

  async #readAll(nowMs: number): Promise<void> {
    while (this.#asked.size > 0) await this.#read(nowMs);
    this.#reading = false;
  }

  async #read(nowMs: number): Promise<void> {
    const asked = this.#asked;
    this.#asked = new Map();
    const users = [...asked.keys()];
    for (let from = 0; from < users.length; from += statementRows) {
      const some = users.slice(from, from + statementRows);
      try {
        const found = await this.#query(some, nowMs);
        for (const user of some)
          for (const tell of asked.get(user) ?? []) tell(found.get(user) ?? { head: 0, unread: 0 });
      } catch (error) {
        for (const user of some) for (const tell of asked.get(user) ?? []) tell(error as Error);
      }
    }
  }

  /** Only users that were met or notified have a row. */
  async #query(users: readonly string[], nowMs: number): Promise<Map<string, Standing>> {
    const rows = await this.#database.reader.query<{
      id: string;
      inbox_head: number | string;
      unread: number | string;
    }>(
      `SELECT u.id, u.inbox_head, (SELECT COUNT(*) FROM notices n
         WHERE n.user_id = u.id AND (n.until_ms IS NULL OR n.until_ms > :now)) AS unread
       FROM users u WHERE u.id IN (:users)`,
      { replacements: { users, now: nowMs }, type: QueryTypes.SELECT },
    );
    return new Map(
      rows.map(({ id, inbox_head, unread }) => [id, { head: Number(inbox_head), unread: Number(unread) }]),
    );
  }
}

async function headsOf(writer: Sequelize, users: readonly string[]): Promise<Map<string, number>> {
  const heads = new Map<string, number>();
  for (let from = 0; from < users.length; from += statementRows) {
    const rows = await writer.query<{ id: string; inbox_head: number }>(
      'SELECT id, inbox_head FROM users WHERE id IN (:users)',
      { replacements: { users: users.slice(from, from + statementRows) }, type: QueryTypes.SELECT },
    );
    for (const { id, inbox_head } of rows) heads.set(id, Number(inbox_head));
  }
  return heads;
}

/** How many notices are in each inbox. */
async function unreadOf(writer: Sequelize, users: readonly string[], nowMs: number): Promise<Map<string, number>> {
  const unread = new Map<string, number>();
  for (let from = 0; from < users.length; from += statementRows) {
    const rows = await writer.query<{ user_id: string; unread: number }>(
      'SELECT user_id, COUNT(*) AS unread FROM notices WHERE user_id IN (:users) AND (until_ms IS NULL OR until_ms > :now) GROUP BY user_id',
      { replacements: { users: users.slice(from, from + statementRows), now: nowMs }, type: QueryTypes.SELECT },
    );
    for (const { user_id, unread: count } of rows) unread.set(user_id, Number(count));
  }
  return unread;
}

function rowOf({ user, id, title, data, key, atMs, untilMs }: NoticeDraft, number: number): NoticeRow {
  return {
    user_id: user,
    number,
    notice_id: id,
    title,
    data_json: data === undefined ? null : JSON.stringify(data),
    notice_key: key ?? null,
    at_ms: atMs,
    until_ms: untilMs ?? null,
  };
}
