import {
  type Acceptance,
  type Admission,
  type InvitationDraft,
  type InvitationStore,
  type KeptInvitation,
  letsIn,
  whyOver,
} from '@nine-bells/core';
import { type ChannelName, defined, ProblemError, refusal } from '@nine-bells/wire';
import { addToAudit } from './audit.js';
import type { Database, Plan, Reads } from './database.js';
import { Grouped } from './grouped.js';
import { hasText, noticesWhere, type PersonalData, textsNaming, withoutUserAndActor } from './personalData.js';
import { among, deletesOf, insertOf, updateInstead, updatesOf } from './statements.js';
import type { Row } from './tables.js';

type Accepted = Awaited<ReturnType<InvitationStore['accept']>>;

/** Invitations into channels, and admissions by them. Concurrent acceptances share a commit. */
export class SqlInvitationStore implements InvitationStore {
  readonly #database: Database;
  readonly #accepting: Grouped<Acceptance, Accepted>;

  constructor(database: Database) {
    this.#database = database;
    this.#accepting = new Grouped({
      database,
      commit: (all) => database.attempt((reads) => planOf(reads, all, database)),
      charsOf: ({ user }) => user.length + 100,
    });
  }

  /** Resolves when everything that was waiting has been committed. */
  settled(): Promise<void> {
    return this.#accepting.settled();
  }

  async invite(draft: InvitationDraft, most: number): Promise<void> {
    const { id, digest, channel, user = null, role = null, uses, atMs, untilMs, by } = draft;
    const row = {
      ...{ id, digest, channel, user_id: user, role, uses, used: 0 },
      ...{ at_ms: atMs, until_ms: untilMs, revoked_at_ms: null, by_json: JSON.stringify(by) },
    };
    const refused = await this.#database.write(async (reads): Promise<Plan<ProblemError | undefined>> => {
      const [found] = await reads.select<{ count: number | string }>(
        `SELECT COUNT(*) AS count FROM invitations
         WHERE channel = :channel AND revoked_at_ms IS NULL AND until_ms > :atMs AND used < uses`,
        { channel, atMs },
      );
      if (Number(found?.count) >= most)
        return { statements: [], result: refusal('too-many-invitations', `at most ${most} are open for a channel`) };
      return { statements: [insertOf('invitations', [row], this.#database)], result: undefined };
    });
    if (refused instanceof ProblemError) throw refused;
  }

  accept(acceptance: Acceptance): Promise<Accepted> {
    return this.#accepting.add(acceptance);
  }

  async invitations(channel: ChannelName, limit: number, before?: string): Promise<readonly KeptInvitation[]> {
    const from = before === undefined ? '' : 'AND number < (SELECT number FROM invitations WHERE id = :before)';
    const rows = await this.#database.reads.select<Row<'invitations'>>(
      `SELECT * FROM invitations WHERE channel = :channel ${from} ORDER BY number DESC LIMIT :limit`,
      { channel, limit, before: before ?? '' },
    );
    return rows.map(invitationOf);
  }

  async invitation(id: string): Promise<KeptInvitation | undefined> {
    const rows = await this.#database.reads.select<Row<'invitations'>>('SELECT * FROM invitations WHERE id = :id', {
      id,
    });
    return rows.map(invitationOf)[0];
  }

  endInvitation(
    ...[id, admitted, { by, atMs }]: Parameters<InvitationStore['endInvitation']>
  ): ReturnType<InvitationStore['endInvitation']> {
    return this.#database.write(async (reads) => {
      const [row] = await reads.select<Row<'invitations'>>('SELECT * FROM invitations WHERE id = :id', { id });
      if (row === undefined) return { statements: [], result: undefined };
      const let_ = admitted
        ? await reads.select<Row<'admissions'>>('SELECT * FROM admissions WHERE invitation = :id ORDER BY user_id', {
            id,
          })
        : [];
      const invitation = invitationOf({ ...row, revoked_at_ms: row.revoked_at_ms ?? atMs });
      const result = { invitation, users: let_.map(({ user_id }) => user_id) };
      if (row.revoked_at_ms !== null && let_.length === 0) return { statements: [], result };
      const deed = { type: 'end-invitation', by, atMs, channel: invitation.channel, about: id } as const;
      const { statement } = await addToAudit(reads, deed, this.#database);
      return {
        statements: [
          statement,
          `UPDATE invitations SET revoked_at_ms = ${Math.round(atMs)}
           WHERE ${among('invitations', [{ id }], this.#database, ['id'])} AND revoked_at_ms IS NULL`,
          ...deletesOf('admissions', admitted ? [{ invitation: id }] : [], this.#database, ['invitation']),
        ],
        result,
      };
    });
  }

  async admissions(user: string): Promise<readonly Admission[]> {
    const rows = await this.#database.reads.select<Row<'admissions'>>(
      'SELECT * FROM admissions WHERE user_id = :user',
      {
        user,
      },
    );
    return rows.map(admissionOf);
  }

  async admissionsIn(channel: ChannelName, limit: number, after: string): Promise<readonly Admission[]> {
    const rows = await this.#database.reads.select<Row<'admissions'>>(
      `SELECT * FROM admissions WHERE channel = :channel AND user_id > :after ORDER BY user_id LIMIT :limit`,
      { channel, after, limit },
    );
    return rows.map(admissionOf);
  }

  endAdmission(...[channel, user, done]: Parameters<InvitationStore['endAdmission']>): Promise<boolean> {
    return this.#database.write(async (reads) => {
      const [found] = await reads.select<Row<'admissions'>>(
        'SELECT * FROM admissions WHERE channel = :channel AND user_id = :user',
        { channel, user },
      );
      if (found === undefined) return { statements: [], result: false };
      const deed = { type: 'end-admission', ...done, channel, user, about: found.invitation } as const;
      const { statement } = await addToAudit(reads, deed, this.#database);
      const gone = deletesOf('admissions', [{ channel, user_id: user }], this.#database);
      return { statements: [statement, ...gone], result: true };
    });
  }
}

/** Takes a group of acceptances one after another, and says what to write. */
async function planOf(
  reads: Reads,
  all: readonly Acceptance[],
  database: Database,
): Promise<Plan<readonly Accepted[]>> {
  const found = await reads.select<Row<'invitations'>>('SELECT * FROM invitations WHERE digest IN (:digests)', {
    digests: all.map(({ digest }) => digest),
  });
  const invitations = new Map(found.map((row) => [row.digest, invitationOf(row)]));
  const let_ = await reads.select<Row<'admissions'>>('SELECT * FROM admissions WHERE user_id IN (:users)', {
    users: all.map(({ user }) => user),
  });
  const admissions = new Map(let_.map((row) => [keyOf(row.user_id, row.channel), admissionOf(row)]));
  const counts = new Map<string, number>();
  for (const { user_id } of let_) counts.set(user_id, (counts.get(user_id) ?? 0) + 1);
  const admitted = new Map<string, Admission>();
  const used = new Map<string, number>();
  const result = all.map(({ digest, user, atMs, untilMs, most }): Accepted => {
    const invitation = invitations.get(digest);
    if (invitation === undefined) return undefined;
    const { id, channel, role } = invitation;
    const key = keyOf(user, channel);
    const before = admissions.get(key);
    if (before?.invitation === id && invitation.revokedAtMs === undefined && letsIn(before, atMs)) return before;
    const over = whyOver(invitation, atMs, user);
    if (over !== undefined) return { over };
    const count = counts.get(user) ?? 0;
    if (before === undefined && count >= most) return { over: 'too-many' };
    if (before === undefined) counts.set(user, count + 1);
    const admission = { user, channel, invitation: id, atMs, ...defined({ role, untilMs }) };
    invitations.set(digest, { ...invitation, used: invitation.used + 1 });
    used.set(id, invitation.used + 1);
    admissions.set(key, admission);
    admitted.set(key, admission);
    return admission;
  });
  if (admitted.size === 0) return { statements: [], result };
  const rows = [...admitted.values()].map(({ user, channel, role = null, invitation, atMs, untilMs = null }) => ({
    ...{ user_id: user, channel, role, invitation, at_ms: atMs, until_ms: untilMs },
  }));
  return {
    statements: [
      insertOf(
        'admissions',
        rows,
        database,
        updateInstead(['user_id', 'channel'], ['role', 'invitation', 'at_ms', 'until_ms']),
      ),
      ...updatesOf(
        'invitations',
        [...used].map(([id, count]) => ({ id, used: count })),
        database,
        ['id'],
      ),
    ],
    result,
  };
}

function keyOf(user: string, channel: string): string {
  return JSON.stringify([user, channel]);
}

function invitationOf(row: Row<'invitations'>): KeptInvitation {
  const { id, channel, user_id, role, uses, used, at_ms, until_ms, revoked_at_ms, by_json } = row;
  return {
    id,
    channel: channel as ChannelName,
    uses: Number(uses),
    used: Number(used),
    atMs: Number(at_ms),
    untilMs: Number(until_ms),
    by: JSON.parse(by_json),
    ...(user_id === null ? {} : { user: user_id }),
    ...(role === null ? {} : { role }),
    ...(revoked_at_ms === null ? {} : { revokedAtMs: Number(revoked_at_ms) }),
  };
}

function admissionOf({ user_id, channel, role, invitation, at_ms, until_ms }: Row<'admissions'>): Admission {
  return {
    user: user_id,
    channel: channel as ChannelName,
    invitation,
    atMs: Number(at_ms),
    ...(role === null ? {} : { role }),
    ...(until_ms === null ? {} : { untilMs: Number(until_ms) }),
  };
}

/** Invitations to or from the user, with their notices, which have the name and the code, and the user's admissions. */
export const invitationData: PersonalData = {
  tables: ['admissions', 'invitations'],
  exports: (dialect) => ({
    admissions:
      'SELECT channel, role, invitation, at_ms, until_ms FROM admissions WHERE user_id = :user ORDER BY channel',
    invitations: `SELECT id, channel, user_id AS "user", role, uses, used, at_ms, until_ms, revoked_at_ms FROM invitations
      WHERE user_id = :user OR ${hasText('by_json', ':actor', dialect)} ORDER BY number`,
  }),
  find: (reads, request) =>
    noticesWhere(
      reads,
      // All at once: an erased invitation no longer leads to its notices.
      { ...request, limit: 10_000 },
      `notice_key IN (SELECT 'invitation ' || id FROM invitations WHERE ${hasText('by_json', ':actor', request.dialect)})`,
    ),
  async erase(reads, request) {
    const { user, limit, notices, dialect } = request;
    const admissions = await reads.select<Row<'admissions'>>(
      'SELECT * FROM admissions WHERE user_id = :user LIMIT :limit',
      { user, limit },
    );
    const invitations = await reads.select<Row<'invitations'>>(
      `SELECT * FROM invitations WHERE user_id = :user OR ${hasText('by_json', ':actor', dialect)} LIMIT :limit`,
      { user, limit, ...textsNaming(user) },
    );
    const result = admissions.length + invitations.length;
    const changed = invitations.map((row) => ({ id: row.id, ...withoutUserAndActor(row, request) }));
    const statements = [
      ...deletesOf('admissions', admissions, dialect),
      ...updatesOf('invitations', changed, dialect, ['id']),
      ...deletesOf('notices', notices, dialect),
    ];
    return { statements: result === 0 ? [] : statements, result };
  },
};
