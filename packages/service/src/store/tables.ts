import type { ChannelName } from '@nine-bells/wire';

/** Type of a column; statements cast values to it. */
export type ColumnType = 'TEXT' | 'INTEGER' | 'BIGINT';

/** A column; `Value` is the type of its values as the drivers give them. */
export interface Column<Value = unknown> {
  readonly type: ColumnType;
  readonly isKey: boolean;
  readonly isNullable: boolean;
  /** True for columns that name a user. */
  readonly isPerson: boolean;
  /** Exists for the type checker only. */
  readonly value?: Value;
}

type Declared = Readonly<Record<string, Column>>;

const column = <Value>(type: ColumnType): Column<Value> => ({
  type,
  isKey: false,
  isNullable: false,
  isPerson: false,
});
const key = <Value>(of: Column<Value>): Column<Value> => ({ ...of, isKey: true });
const maybe = <Value>(of: Column<Value>): Column<Value | null> => ({ ...of, isNullable: true });

const text = column<string>('TEXT');
/** A user, or JSON that may name one: an actor, an author, a message. */
const person = { ...text, isPerson: true };
const channel = column<ChannelName>('TEXT');
const integer = column<number>('INTEGER');
/** 64 bits; the driver of PostgreSQL gives them as text. */
const bigint = column<number | string>('BIGINT');

/** An action against a user or an address. */
const action = {
  did: text,
  user_id: maybe(person),
  address: maybe(text),
  channel: maybe(text),
  reason: maybe(text),
  by_json: person,
  at_ms: bigint,
  until_ms: maybe(bigint),
};

/** All tables as the migrations make them. Row types, models and column types in statements derive from this declaration. */
export const tables = {
  /** Facts about the database. */
  facts: { name: key(text), value: text },

  /** Kept channels. */
  channels: {
    id: key(integer),
    name: text,
    volume: text,
    /** Number of the last message. */
    head: bigint,
    last_at_ms: bigint,
    /** Number of notes of who comes and goes among the messages. */
    notes: bigint,
    /** Number of the first message that was not pruned, and the number of notes before it. */
    oldest: bigint,
    pruned_notes: bigint,
    /** 1: some messages have replies. */
    threads: integer,
  },
  /** Messages of kept channels, and changes of messages. */
  messages: {
    channel_id: key(integer),
    number: key(bigint),
    message_id: text,
    type: text,
    /** The author's user id; empty for an application that named no author. */
    author: person,
    publish_key: maybe(text),
    /** Id of the API key that used the idempotency key; empty for a user's. */
    key_owner: text,
    by_json: maybe(person),
    at_ms: bigint,
    data_json: text,
    except_json: maybe(text),
    /** Number of notes of who comes and goes, and of changes, in the channel up to this message. */
    notes: bigint,
    /** The number of the changed message, in the row of a change. `author` made the change; a withdrawal's data is the message. */
    target: maybe(bigint),
    /** The number of the last change, with its time, actor and reason, in the row of a changed message. */
    revision: maybe(bigint),
    revised_at_ms: maybe(bigint),
    revised_by_json: maybe(person),
    reason: maybe(text),
    /** 1: withdrawn. */
    withdrawn: maybe(integer),
    mentions_json: maybe(person),
  },
  /** Contents of messages before a change. */
  revisions: {
    channel_id: key(integer),
    number: key(bigint),
    /** Number of the change that made this content; 0 = published so. */
    revision: key(bigint),
    at_ms: bigint,
    by_json: maybe(person),
    data_json: text,
  },
  /** Channels exempted from pruning. */
  holds: { channel: key(text), at_ms: bigint, by_json: person, reason: maybe(text) },
  /** Channels with members, whose emptiness hooks hear of. */
  occupied_channels: { channel: key(channel) },

  replies: { channel_id: key(integer), number: key(bigint), reply_to: bigint, thread: bigint },
  threads: { channel_id: key(integer), root: key(bigint), replies: bigint, number: bigint, at_ms: bigint },
  /** Read marks of users in threads, with the time when they last took part or read. */
  thread_marks: { user_id: key(person), channel_id: key(integer), root: key(bigint), number: bigint, at_ms: bigint },
  /** Read marks of users in channels, with the notes up to that message. */
  marks: { user_id: key(person), channel_id: key(integer), number: bigint, notes: bigint },
  /** Users mentioned by messages. */
  mentioned: { user_id: key(person), channel_id: key(integer), number: key(bigint) },
  /** Notification levels that users have set for channels. */
  levels: { user_id: key(person), channel: key(text), level: text, until_ms: maybe(bigint) },
  /** Blocks and mutes between users. */
  blocks: { user_id: key(person), other_id: key(person), kind: text, at_ms: bigint },

  reactions: {
    channel_id: key(integer),
    number: key(bigint),
    word: key(text),
    user_id: key(person),
    name: maybe(text),
    at_ms: bigint,
  },
  reaction_counts: { channel_id: key(integer), number: key(bigint), counts_json: text, version: bigint },
  reaction_heads: { channel_id: key(integer), version: bigint },

  /** Messages in the search index, and the last indexed number of each channel. */
  searched: { id: key(bigint), channel_id: integer, number: bigint, at_ms: bigint },
  search_heads: { channel_id: key(integer), number: bigint },

  /** Boards that outlive a restart, as saved last. */
  boards: { channel: key(text), volume: text, number: bigint, saved_at_ms: bigint, entries_json: text },

  /** Known users, as last seen. */
  users: {
    id: key(person),
    name: maybe(text),
    seen_at_ms: maybe(bigint),
    /** Number of the last notice ever put into the inbox. */
    inbox_head: bigint,
  },
  /** Roles that users had when last seen. */
  user_roles: { user_id: key(person), role: key(text) },
  /** Notices in inboxes. */
  notices: {
    user_id: key(person),
    number: key(bigint),
    notice_id: text,
    title: text,
    data_json: maybe(text),
    notice_key: maybe(text),
    at_ms: bigint,
    until_ms: maybe(bigint),
  },

  /** Bans and silences; ended ones stay, as history. */
  bans: {
    id: key(text),
    ...action,
    lifted_at_ms: maybe(bigint),
    /** Minimum interval between the silenced user's messages. */
    every_ms: maybe(bigint),
  },
  /** Tokens of a user that were issued before this time are revoked. */
  cutoffs: { user_id: key(person), before_ms: bigint },
  audit: { number: key(bigint), ...action, about: maybe(text) },
  /** Messages reported to the moderators. */
  reports: {
    number: key(bigint),
    id: text,
    channel: text,
    cursor: text,
    reporter: person,
    message_json: person,
    by_json: person,
    reason: maybe(text),
    at_ms: bigint,
    ended_at_ms: maybe(bigint),
    ended_by_json: maybe(person),
    note: maybe(text),
  },
  /** Messages that wait for a moderator, and rejected ones. */
  pending_messages: {
    number: key(bigint),
    id: text,
    channel: text,
    user_id: person,
    publish_key: maybe(text),
    /** As in `messages`; `~` for a change. */
    key_owner: text,
    by_json: person,
    /** The message without its key. */
    message_json: person,
    reason: maybe(text),
    at_ms: bigint,
    cleared: integer,
    cleared_by_json: maybe(person),
    ended_at_ms: maybe(bigint),
    ended_by_json: maybe(person),
    /** Reason of the rejection. */
    note: maybe(text),
  },
  /** Pending messages that were published, so that an approval can be repeated. */
  released_messages: {
    id: key(text),
    channel: channel,
    number: bigint,
    /** Number of the message that holds the text: itself, or the changed one. */
    of_number: bigint,
    at_ms: bigint,
  },

  invitations: {
    number: key(bigint),
    id: text,
    digest: text,
    channel: text,
    user_id: maybe(person),
    role: maybe(text),
    uses: bigint,
    used: bigint,
    at_ms: bigint,
    until_ms: bigint,
    revoked_at_ms: maybe(bigint),
    by_json: person,
  },
  /** Users admitted to channels by an invitation. */
  admissions: {
    user_id: key(person),
    channel: key(text),
    role: maybe(text),
    invitation: text,
    at_ms: bigint,
    until_ms: maybe(bigint),
  },
  erasures: {
    id: key(text),
    /** Empty after the end of the erasure. */
    user_id: maybe(person),
    messages: text,
    by_json: person,
    at_ms: bigint,
    counts_json: text,
    held_json: text,
    /** End of the lease of the instance that erases. */
    until_ms: bigint,
    ended_at_ms: maybe(bigint),
  },

  api_keys: {
    id: key(text),
    name: text,
    /** SHA-256 of the key, in hexadecimal. */
    hash: text,
    created_at_ms: bigint,
    rights_json: text,
    expires_at_ms: maybe(bigint),
    last_used_at_ms: maybe(bigint),
    revoked_at_ms: maybe(bigint),
  },
  /** Sign-in links that were used, until they expire. */
  used_links: { id: key(text), ends_at_ms: bigint },

  /** State of hooks and feeds, with the definition of a registered one. */
  hooks: {
    name: key(text),
    definition_json: maybe(text),
    key_id: maybe(text),
    secrets_json: maybe(text),
    failing_since_ms: maybe(bigint),
    paused_at_ms: maybe(bigint),
    paused_why: maybe(text),
    /** The instance that sends, and the end of its lease. */
    holder: maybe(text),
    held_until_ms: maybe(bigint),
  },
  /** Events on their way to a hook. */
  deliveries: {
    number: key(bigint),
    hook: text,
    event_id: text,
    event: text,
    at_ms: bigint,
    channel: maybe(text),
    hops: integer,
    data_json: person,
    state: text,
    attempts: integer,
    /** Start of the attempts: the time of the event, or of sending it again by hand. */
    since_ms: bigint,
    /** Time of the next attempt; 0 = at once. */
    due_at_ms: bigint,
    ended_at_ms: maybe(bigint),
    status: maybe(integer),
    problem: maybe(text),
    /** The original that the data copies, and the data without the copy. */
    copy_of: maybe(text),
    bare_json: maybe(person),
  },
  attempts: {
    id: key(bigint),
    delivery: bigint,
    at_ms: bigint,
    status: maybe(integer),
    took_ms: integer,
    problem: maybe(text),
    sent_json: maybe(text),
    answer: maybe(text),
  },
  /** Requests to intakes. */
  arrivals: {
    number: key(bigint),
    id: text,
    intake: text,
    event_id: maybe(text),
    at_ms: bigint,
    method: text,
    headers_json: text,
    body: text,
    is_base64: integer,
    bytes: integer,
    hops: integer,
    held_until_ms: bigint,
    state: text,
    tries: integer,
    became_json: maybe(text),
    problem: maybe(text),
    ended_at_ms: maybe(bigint),
  },

  /** Runs of the relay's servers. */
  relay_terms: {
    term: key(integer),
    place: text,
    run: text,
    replication: text,
    /** 1 or 0, like `replicated`. */
    durable: integer,
    replicated: integer,
    continues: maybe(integer),
    seen_at_ms: bigint,
  },
} as const satisfies Readonly<Record<string, Declared>>;

type Tables = typeof tables;
export type TableName = keyof Tables;
export type ColumnOf<T extends TableName> = keyof Tables[T] & string;

/** A row of a table, or some of its columns. */
export type Row<T extends TableName, C extends ColumnOf<T> = ColumnOf<T>> = {
  readonly [Name in C]: Tables[T][Name] extends Column<infer Value> ? Value : never;
};

/** Returns all columns of a table, in their order. */
export function columnsOf<T extends TableName>(table: T): readonly ColumnOf<T>[] {
  return Object.keys(tables[table]) as ColumnOf<T>[];
}

/** Returns the columns of a table's key. */
export function keysOf<T extends TableName>(table: T): readonly ColumnOf<T>[] {
  const declared: Declared = tables[table];
  return columnsOf(table).filter((name) => declared[name]?.isKey);
}

/** Returns the columns of a table that name users. */
export function personColumnsOf<T extends TableName>(table: T): readonly ColumnOf<T>[] {
  const declared: Declared = tables[table];
  return columnsOf(table).filter((name) => declared[name]?.isPerson);
}

/** Returns the types of columns. */
export function typesOf<T extends TableName>(table: T, columns: readonly ColumnOf<T>[]): readonly ColumnType[] {
  const declared: Declared = tables[table];
  return columns.map((name) => (declared[name] as Column).type);
}
