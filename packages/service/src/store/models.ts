import { DataTypes, type Model, type ModelStatic, type Sequelize } from 'sequelize';

/** A kept channel. */
export interface ChannelRow {
  readonly id: number;
  readonly name: string;
  readonly volume: string;
  /** The number of its last message. */
  readonly head: number;
  /** How many notes of who comes and goes are among its messages. */
  readonly notes: number;
  readonly last_at_ms: number;
  /** The number of the first message that was not pruned, and how many notes were among those before it. */
  readonly oldest: number;
  /** 1: some of its messages were answered. */
  readonly threads: number;
  readonly pruned_notes: number;
}

/** A channel that is exempted from pruning. */
export interface HoldRow {
  readonly channel: string;
  readonly at_ms: number;
  readonly by_json: string;
  readonly reason: string | null;
}

/** A message of a kept channel. */
export interface MessageRow {
  readonly channel_id: number;
  readonly number: number;
  readonly message_id: string;
  readonly type: string;
  /** The author's user id, or nothing for an application that named no author. */
  readonly author: string;
  readonly publish_key: string | null;
  /** The id of the API key whose idempotency key it is; empty for a user's. */
  readonly key_owner: string;
  readonly by_json: string | null;
  readonly at_ms: number;
  readonly data_json: string;
  readonly except_json: string | null;
  /** How many notes of who comes and goes, and changes, the channel has, up to this message. */
  readonly notes: number;
  /** Of a change: the number of the message. Its author is who made it; of a withdrawal, its data is how the message stands. */
  readonly target: number | string | null;
  /** Of a message that was changed: the number of its last change, and when, by whom and why that was made. */
  readonly revision: number | string | null;
  readonly revised_at_ms: number | string | null;
  readonly revised_by_json: string | null;
  readonly reason: string | null;
  /** 1: it was withdrawn. */
  readonly withdrawn: number | null;
  /** Whom it mentions. */
  readonly mentions_json: string | null;
}

/** That a message mentions a user. */
export interface MentionedRow {
  readonly user_id: string;
  readonly channel_id: number;
  readonly number: number | string;
}

/** How much a user wants to hear of a channel. */
export interface LevelRow {
  readonly user_id: string;
  readonly channel: string;
  readonly level: string;
  readonly until_ms: number | string | null;
}

/** What a message held before it was changed. */
export interface RevisionRow {
  readonly channel_id: number;
  readonly number: number | string;
  /** The number of the change that had made it so; 0: it was published so. */
  readonly revision: number | string;
  readonly at_ms: number | string;
  readonly by_json: string | null;
  readonly data_json: string;
}

/** The erasure of a user. */
export interface ErasureRow {
  readonly id: string;
  /** Nothing, once it has ended. */
  readonly user_id: string | null;
  readonly messages: string;
  readonly by_json: string;
  readonly at_ms: number | string;
  readonly counts_json: string;
  readonly held_json: string;
  /** Until when an instance is at it. */
  readonly until_ms: number | string;
  readonly ended_at_ms: number | string | null;
}

/** How far a user has read in a channel. */
export interface MarkRow {
  readonly user_id: string;
  readonly channel_id: number;
  readonly number: number;
  /** The notes up to that message. */
  readonly notes: number;
}

/** An invitation into a channel. */
export interface InvitationRow {
  readonly number: number | string;
  readonly id: string;
  readonly digest: string;
  readonly channel: string;
  readonly user_id: string | null;
  readonly role: string | null;
  readonly uses: number | string;
  readonly used: number | string;
  readonly at_ms: number | string;
  readonly until_ms: number | string;
  readonly revoked_at_ms: number | string | null;
  readonly by_json: string;
}

/** That a user is let into a channel. */
export interface AdmissionRow {
  readonly user_id: string;
  readonly channel: string;
  readonly role: string | null;
  readonly invitation: string;
  readonly at_ms: number | string;
  readonly until_ms: number | string | null;
}

/** That a user has blocked or muted another. */
export interface BlockRow {
  readonly user_id: string;
  readonly other_id: string;
  readonly kind: string;
  readonly at_ms: number | string;
}

export interface ApiKeyRow {
  readonly id: string;
  readonly name: string;
  /** SHA-256 of the key, in hexadecimal. */
  readonly hash: string;
  readonly created_at_ms: number;
  readonly rights_json: string;
  readonly expires_at_ms: number | null;
  readonly last_used_at_ms: number | null;
  readonly revoked_at_ms: number | null;
}

/** A ban; lifted and ended ones stay, as history. */
export interface BanRow {
  readonly id: string;
  readonly did: string;
  readonly user_id: string | null;
  readonly address: string | null;
  readonly channel: string | null;
  readonly reason: string | null;
  readonly by_json: string;
  readonly at_ms: number;
  readonly until_ms: number | null;
  readonly lifted_at_ms: number | null;
  /** Of a silence: once in how long the user may publish. */
  readonly every_ms: number | null;
}

/** Tokens of a user that were issued before are not taken. */
export interface CutoffRow {
  readonly user_id: string;
  readonly before_ms: number;
}

export interface AuditRow {
  readonly number: number;
  readonly at_ms: number;
  readonly did: string;
  readonly by_json: string;
  readonly user_id: string | null;
  readonly address: string | null;
  readonly channel: string | null;
  readonly reason: string | null;
  readonly until_ms: number | null;
  readonly about: string | null;
}

/** A user the service has met, as last seen, and where its inbox stands. */
export interface UserRow {
  readonly id: string;
  readonly name: string | null;
  readonly seen_at_ms: number | null;
  /** The number of the last notice ever put into the inbox. */
  readonly inbox_head: number;
}

/** A role that a user had when last seen. */
export interface UserRoleRow {
  readonly user_id: string;
  readonly role: string;
}

/** A notice in an inbox. */
export interface NoticeRow {
  readonly user_id: string;
  readonly number: number;
  readonly notice_id: string;
  readonly title: string;
  readonly data_json: string | null;
  readonly notice_key: string | null;
  readonly at_ms: number;
  readonly until_ms: number | null;
}

/** One run of one server of the relay. */
export interface TermRow {
  readonly term: number;
  readonly place: string;
  readonly run: string;
  readonly replication: string;
  /** 1 or 0, as `replicated`. */
  readonly durable: number;
  readonly replicated: number;
  readonly continues: number | null;
  readonly seen_at_ms: number;
}

export interface FactRow {
  readonly name: string;
  readonly value: string;
}

type Table<Row extends object> = ModelStatic<Model<Row, Row>>;

export interface Models {
  readonly channels: Table<ChannelRow>;
  readonly messages: Table<MessageRow>;
  readonly apiKeys: Table<ApiKeyRow>;
  readonly bans: Table<BanRow>;
  readonly cutoffs: Table<CutoffRow>;
  readonly audit: Table<AuditRow>;
  readonly users: Table<UserRow>;
  readonly userRoles: Table<UserRoleRow>;
  readonly notices: Table<NoticeRow>;
  readonly facts: Table<FactRow>;
}

/** The tables, as the migrations have made them. */
export function defineModels(sequelize: Sequelize): Models {
  // New objects for each column: Sequelize writes into them.
  const text = () => ({ type: DataTypes.TEXT });
  const number = () => ({ type: DataTypes.BIGINT });
  const table = { timestamps: false, freezeTableName: true };
  return {
    channels: sequelize.define<Model<ChannelRow, ChannelRow>>(
      'channels',
      {
        id: { type: DataTypes.INTEGER, primaryKey: true },
        name: text(),
        volume: text(),
        head: number(),
        notes: number(),
        last_at_ms: number(),
        oldest: number(),
        pruned_notes: number(),
        threads: { type: DataTypes.INTEGER },
      },
      table,
    ),
    messages: sequelize.define<Model<MessageRow, MessageRow>>(
      'messages',
      {
        channel_id: { type: DataTypes.INTEGER, primaryKey: true },
        number: { type: DataTypes.BIGINT, primaryKey: true },
        message_id: text(),
        type: text(),
        author: text(),
        publish_key: text(),
        key_owner: text(),
        by_json: text(),
        at_ms: number(),
        data_json: text(),
        except_json: text(),
        notes: number(),
        target: number(),
        revision: number(),
        revised_at_ms: number(),
        revised_by_json: text(),
        reason: text(),
        withdrawn: { type: DataTypes.INTEGER },
        mentions_json: text(),
      },
      table,
    ),
    apiKeys: sequelize.define<Model<ApiKeyRow, ApiKeyRow>>(
      'api_keys',
      {
        id: { ...text(), primaryKey: true },
        name: text(),
        hash: text(),
        created_at_ms: number(),
        rights_json: text(),
        expires_at_ms: number(),
        last_used_at_ms: number(),
        revoked_at_ms: number(),
      },
      table,
    ),
    bans: sequelize.define<Model<BanRow, BanRow>>(
      'bans',
      {
        id: { ...text(), primaryKey: true },
        did: text(),
        user_id: text(),
        address: text(),
        channel: text(),
        reason: text(),
        by_json: text(),
        at_ms: number(),
        until_ms: number(),
        lifted_at_ms: number(),
        every_ms: number(),
      },
      table,
    ),
    cutoffs: sequelize.define<Model<CutoffRow, CutoffRow>>(
      'cutoffs',
      { user_id: { ...text(), primaryKey: true }, before_ms: number() },
      table,
    ),
    audit: sequelize.define<Model<AuditRow, AuditRow>>(
      'audit',
      {
        number: { type: DataTypes.INTEGER, primaryKey: true },
        at_ms: number(),
        did: text(),
        by_json: text(),
        user_id: text(),
        address: text(),
        channel: text(),
        reason: text(),
        until_ms: number(),
        about: text(),
      },
      table,
    ),
    users: sequelize.define<Model<UserRow, UserRow>>(
      'users',
      { id: { ...text(), primaryKey: true }, name: text(), seen_at_ms: number(), inbox_head: number() },
      table,
    ),
    userRoles: sequelize.define<Model<UserRoleRow, UserRoleRow>>(
      'user_roles',
      { user_id: { ...text(), primaryKey: true }, role: { ...text(), primaryKey: true } },
      table,
    ),
    notices: sequelize.define<Model<NoticeRow, NoticeRow>>(
      'notices',
      {
        user_id: { ...text(), primaryKey: true },
        number: { type: DataTypes.BIGINT, primaryKey: true },
        notice_id: text(),
        title: text(),
        data_json: text(),
        notice_key: text(),
        at_ms: number(),
        until_ms: number(),
      },
      table,
    ),
    facts: sequelize.define<Model<FactRow, FactRow>>(
      'facts',
      { name: { ...text(), primaryKey: true }, value: text() },
      table,
    ),
  };
}

/** Rows that were asked for with `raw`: Sequelize types them as instances of the model all the same. */
export function rowsOf<Row>(found: readonly object[]): readonly Row[] {
  return found as unknown as readonly Row[];
}
