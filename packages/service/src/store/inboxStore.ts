import {
  type InboxEntry,
  type InboxSlice,
  type InboxStore,
  type KnownUser,
  type NoticeDraft,
  noticeOf,
  type Place,
  type UserStore,
} from '@nine-bells/core';
import type { Notice } from '@nine-bells/wire';
import { Op, QueryTypes, type WhereOptions } from 'sequelize';
import type { Database, Reads } from './database.js';
import { commitApart } from './grouped.js';
import { rowsOf } from './models.js';
import { eraseOwn, hasText, nothingToErase, noticesWhere, type PersonalData } from './personalData.js';
import { among, type Dialect, deletesOf, insertOf, updateInstead } from './statements.js';
import type { Row } from './tables.js';
import type { Volumes } from './volumes.js';

/** Rows of one statement. */
const statementRows = 500;

/** The inboxes of users, and the users the service has met. */
export class SqlInboxStore implements InboxStore, UserStore {
  readonly #database: Database;
  readonly #volumes: Volumes;
  readonly #counts: InboxCounts;

  constructor(database: Database, volumes: Volumes) {
    this.#database = database;
    this.#volumes = volumes;
    this.#counts = new InboxCounts(database);
  }

  notify(drafts: readonly NoticeDraft[]): Promise<readonly InboxEntry[]> {
    return this.#database.write(async (reads) => {
      const users = [...new Set(drafts.map(({ user }) => user))];
      const nowMs = drafts[0]?.atMs ?? 0;
      const heads = await headsOf(reads, users);
      const unread = await unreadOf(reads, users, nowMs);
      const replaced = await replacedBy(reads, drafts, nowMs, this.#database);
      for (const [user, count] of replaced.counted) unread.set(user, (unread.get(user) ?? 0) - count);
      // Within the drafts, the last one of a key stays.
      const last = new Map(drafts.map((draft) => [keyOf(draft), draft]));
      const rows: Row<'notices'>[] = [];
      const places: Place[] = [];
      for (const draft of drafts) {
        const { user } = draft;
        const number = (heads.get(user) ?? 0) + 1;
        heads.set(user, number);
        places.push({ volume: this.#volumes.current, number });
        if (draft.key !== undefined && last.get(keyOf(draft)) !== draft) continue;
        rows.push(rowOf(draft, number));
        if (draft.untilMs === undefined || draft.untilMs > nowMs) unread.set(user, (unread.get(user) ?? 0) + 1);
      }
      const changed = [...heads].map(([id, head]) => ({ id, inbox_head: head }));
      const statements = [
        ...replaced.statements,
        ...inPortions(rows).map((some) => insertOf('notices', some, this.#database)),
        ...inPortions(changed).map((some) =>
          insertOf('users', some, this.#database, updateInstead(['id'], ['inbox_head'])),
        ),
      ];
      const result = drafts.map((draft, index) => {
        const place = places[index] as Place;
        return { user: draft.user, place, notice: noticeOf(draft, place), unread: unread.get(draft.user) ?? 0 };
      });
      return { statements, result };
    });
  }

  async inbox(user: string, after: Place | undefined, limit: number, nowMs: number): Promise<InboxSlice> {
    const { head, unread } = await this.#counts.of(user, nowMs);
    const from = after?.volume === this.#volumes.current && after.number <= head ? after.number : 0;
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
    const found = rowsOf(rows);
    return {
      notices: found.slice(0, limit).map((each) => this.#noticeOf(each)),
      more: found.length > limit,
      unread,
      head: { volume: this.#volumes.current, number: head },
    };
  }

  async done(user: string, ids: readonly string[] | true, nowMs: number): Promise<number> {
    const which =
      ids === true
        ? among('notices', [{ user_id: user }], this.#database, ['user_id'])
        : among(
            'notices',
            ids.map((id) => ({ user_id: user, notice_id: id })),
            this.#database,
            ['user_id', 'notice_id'],
          );
    return this.#database.write(async (reads) => {
      const unread = await unreadOf(reads, [user], nowMs);
      const [row] = await reads.select<{ gone: number | string }>(
        `SELECT COUNT(*) AS gone FROM notices WHERE ${which} AND (until_ms IS NULL OR until_ms > :nowMs)`,
        { nowMs },
      );
      const left = (unread.get(user) ?? 0) - Number(row?.gone ?? 0);
      return { statements: [`DELETE FROM notices WHERE ${which}`], result: left };
    });
  }

  async meet(met: readonly KnownUser[]): Promise<void> {
    let failure: Error | undefined;
    const commit = (some: readonly KnownUser[]): Promise<void> => this.#meet(some);
    await commitApart(met, this.#database.isShared, commit, (_, why) => {
      failure = why;
    });
    if (failure !== undefined) throw failure;
  }

  async #meet(met: readonly KnownUser[]): Promise<void> {
    const dialect = this.#database;
    const rows = met.map(({ id, name, seenAtMs }) => ({ id, name: name ?? null, seen_at_ms: seenAtMs, inbox_head: 0 }));
    const roles = met.flatMap(({ id, roles: all }) =>
      [...new Set(all)].filter((role) => role.length <= 128).map((role) => ({ user_id: id, role })),
    );
    const ids = met.map(({ id }) => ({ user_id: id }));
    const statements = [
      insertOf('users', rows, dialect, updateInstead(['id'], ['name', 'seen_at_ms'])),
      ...deletesOf('user_roles', ids, dialect, ['user_id']),
      ...(roles.length === 0 ? [] : [insertOf('user_roles', roles, dialect)]),
    ];
    await this.#database.attempt(async () => ({ statements, result: undefined }));
  }

  async usersWith(role: string): Promise<readonly string[]> {
    const rows = await this.#database.models.user_roles.findAll({ where: { role }, order: ['user_id'], raw: true });
    return rowsOf(rows).map(({ user_id }) => user_id);
  }

  async user(id: string): Promise<KnownUser | undefined> {
    return (await this.knownUsers([id]))[0];
  }

  async knownUsers(ids: readonly string[]): Promise<readonly KnownUser[]> {
    const { users, user_roles } = this.#database.models;
    const rows = rowsOf(await users.findAll({ where: { id: [...ids] }, raw: true }));
    const roles = new Map<string, string[]>();
    for (const { user_id, role } of rowsOf(await user_roles.findAll({ where: { user_id: [...ids] }, raw: true })))
      roles.set(user_id, [...(roles.get(user_id) ?? []), role]);
    // A user that was notified and never came is not known.
    return rows.flatMap(({ id, name, seen_at_ms: seenAtMs }) =>
      seenAtMs === null
        ? []
        : [{ id, ...(name === null ? {} : { name }), roles: roles.get(id) ?? [], seenAtMs: Number(seenAtMs) }],
    );
  }

  async noticeWith(user: string, key: string): Promise<Notice | undefined> {
    const where = { user_id: user, notice_key: key };
    return rowsOf(await this.#database.models.notices.findAll({ where, raw: true })).map((row) =>
      this.#noticeOf(row),
    )[0];
  }

  #noticeOf(row: Row<'notices'>) {
    const draft: NoticeDraft = {
      id: row.notice_id,
      user: row.user_id,
      title: row.title,
      atMs: Number(row.at_ms),
      ...(row.data_json === null ? {} : { data: JSON.parse(row.data_json) }),
      ...(row.notice_key === null ? {} : { key: row.notice_key }),
      ...(row.until_ms === null ? {} : { untilMs: Number(row.until_ms) }),
    };
    return noticeOf(draft, { volume: this.#volumes.current, number: Number(row.number) });
  }
}

/** Returns the head of an inbox and its number of notices. */
interface InboxCount {
  readonly head: number;
  readonly unread: number;
}

/** Reads where inboxes stand: for all who have asked since the last reading together, since after a cut very many come at once. */
class InboxCounts {
  readonly #database: Database;
  #asked = new Map<string, ((count: InboxCount | Error) => void)[]>();
  #reading = false;

  constructor(database: Database) {
    this.#database = database;
  }

  of(user: string, nowMs: number): Promise<InboxCount> {
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
  async #query(users: readonly string[], nowMs: number): Promise<Map<string, InboxCount>> {
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

async function headsOf(reads: Reads, users: readonly string[]): Promise<Map<string, number>> {
  const heads = new Map<string, number>();
  for (const some of inPortions(users)) {
    const rows = await reads.select<{ id: string; inbox_head: number | string }>(
      'SELECT id, inbox_head FROM users WHERE id IN (:some)',
      { some },
    );
    for (const { id, inbox_head } of rows) heads.set(id, Number(inbox_head));
  }
  return heads;
}

/** Returns the number of notices in each inbox. */
async function unreadOf(reads: Reads, users: readonly string[], nowMs: number): Promise<Map<string, number>> {
  const unread = new Map<string, number>();
  for (const some of inPortions(users)) {
    const rows = await reads.select<{ user_id: string; unread: number | string }>(
      'SELECT user_id, COUNT(*) AS unread FROM notices WHERE user_id IN (:some) AND (until_ms IS NULL OR until_ms > :nowMs) GROUP BY user_id',
      { some, nowMs },
    );
    for (const { user_id, unread: count } of rows) unread.set(user_id, Number(count));
  }
  return unread;
}

/** Returns statements that remove the notices replaced by key, and how many of these were unread. */
async function replacedBy(
  reads: Reads,
  drafts: readonly NoticeDraft[],
  nowMs: number,
  dialect: Dialect,
): Promise<{ readonly statements: readonly string[]; readonly counted: ReadonlyMap<string, number> }> {
  const keyed = drafts.flatMap(({ user, key }) => (key === undefined ? [] : [{ user_id: user, notice_key: key }]));
  const counted = new Map<string, number>();
  const statements: string[] = [];
  for (const some of inPortions(keyed)) {
    const which = among('notices', some, dialect, ['user_id', 'notice_key']);
    const rows = await reads.select<{ user_id: string; gone: number | string }>(
      `SELECT user_id, COUNT(*) AS gone FROM notices WHERE ${which} AND (until_ms IS NULL OR until_ms > :nowMs) GROUP BY user_id`,
      { nowMs },
    );
    for (const { user_id, gone } of rows) counted.set(user_id, (counted.get(user_id) ?? 0) + Number(gone));
    statements.push(`DELETE FROM notices WHERE ${which}`);
  }
  return { statements, counted };
}

function keyOf({ user, key }: NoticeDraft): string {
  return `${user}\u0000${key}`;
}

function rowOf({ user, id, title, data, key, atMs, untilMs }: NoticeDraft, number: number): Row<'notices'> {
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

function inPortions<T>(all: readonly T[]): (readonly T[])[] {
  const portions: (readonly T[])[] = [];
  for (let from = 0; from < all.length; from += statementRows) portions.push(all.slice(from, from + statementRows));
  return portions;
}

/** A user's name, roles and inbox, and the notices that they wrote to others. */
export const userData: PersonalData = {
  tables: ['users', 'user_roles', 'notices'],
  exports: () => ({
    known: `SELECT name, seen_at_ms, inbox_head AS "noticesEver" FROM users WHERE id = :user`,
    roles: 'SELECT role FROM user_roles WHERE user_id = :user',
    notices:
      'SELECT notice_id AS id, title, data_json, at_ms, until_ms FROM notices WHERE user_id = :user ORDER BY number',
  }),
  find: (reads, request) =>
    noticesWhere(
      reads,
      request,
      `(notice_key LIKE 'direct %' OR notice_key LIKE 'mention %') AND ${hasText('data_json', ':from', request.dialect)}`,
    ),
  async erase(reads, request) {
    const { user, notices, dialect } = request;
    const threads = await eraseOwn('thread_marks', reads, request);
    if (threads.result > 0) return threads;
    const [row] = await reads.select<{ count: number | string }>(
      `SELECT (SELECT COUNT(*) FROM users WHERE id = :user) + (SELECT COUNT(*) FROM user_roles WHERE user_id = :user)
         + (SELECT COUNT(*) FROM notices WHERE user_id = :user) AS count`,
      { user },
    );
    const result = Number(row?.count ?? 0) + notices.length;
    if (result === 0) return nothingToErase;
    const own = [{ user_id: user }];
    const statements = [
      ...deletesOf('notices', own, dialect, ['user_id']),
      ...deletesOf('notices', notices, dialect),
      ...deletesOf('user_roles', own, dialect, ['user_id']),
      ...deletesOf('users', [{ id: user }], dialect),
    ];
    return { statements, result };
  },
};
