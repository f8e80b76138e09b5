import type { Appended, Draft, MessageStore, Report, Store } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import { SqlBlockStore } from './blockStore.js';
import { SqlBoardStore } from './boardStore.js';
import type { Database } from './database.js';
import { SqlHookStore } from './hookStore.js';
import { SqlInboxStore } from './inboxStore.js';
import { SqlIntakeStore } from './intakeStore.js';
import { SqlInvitationStore } from './invitationStore.js';
import { SqlMarkStore } from './markStore.js';
import { SqlMentionStore } from './mentionStore.js';
import { MessageCommits } from './messageCommits.js';
import { MessageReads } from './messageReads.js';
import { rowsOf } from './models.js';
import { SqlModerationStore } from './moderationStore.js';
import { SqlPendingStore } from './pendingStore.js';
import { SqlPersonStore } from './personStore.js';
import { SqlReactionStore } from './reactionStore.js';
import { checkHeads } from './recordCheck.js';
import { SqlReportStore } from './reportStore.js';
import { SqlRetentionStore } from './retentionStore.js';
import { SqlSearchStore } from './searchStore.js';
import { Volumes } from './volumes.js';

/** Everything that outlives the process, in the database. */
export class SqlStore implements Store {
  readonly messages: SqlMessageStore;
  readonly moderation: SqlModerationStore;
  readonly inboxes: SqlInboxStore;
  readonly users: SqlInboxStore;
  readonly marks: SqlMarkStore;
  readonly boards: SqlBoardStore;
  readonly hooks: SqlHookStore;
  readonly intakes: SqlIntakeStore;
  readonly retention: SqlRetentionStore;
  readonly reports: SqlReportStore;
  readonly pending: SqlPendingStore;
  readonly reactions: SqlReactionStore;
  readonly mentions: SqlMentionStore;
  readonly levels: SqlMentionStore;
  readonly blocks: SqlBlockStore;
  readonly search: SqlSearchStore;
  readonly invitations: SqlInvitationStore;
  readonly persons: SqlPersonStore;

  /** The volume of new channels; it may be replaced while the store is open. */
  readonly volumes: Volumes;

  private constructor(database: Database, volumes: Volumes) {
    this.volumes = volumes;
    this.messages = new SqlMessageStore(database, volumes);
    this.moderation = new SqlModerationStore(database);
    this.inboxes = new SqlInboxStore(database, volumes);
    this.users = this.inboxes;
    this.marks = new SqlMarkStore(database, volumes);
    this.boards = new SqlBoardStore(database);
    this.hooks = new SqlHookStore(database);
    this.intakes = new SqlIntakeStore(database);
    this.retention = new SqlRetentionStore(database);
    this.reports = new SqlReportStore(database);
    this.pending = new SqlPendingStore(database);
    this.reactions = new SqlReactionStore(database);
    this.mentions = new SqlMentionStore(database);
    this.levels = this.mentions;
    this.blocks = new SqlBlockStore(database);
    this.search = new SqlSearchStore(database);
    this.invitations = new SqlInvitationStore(database);
    this.persons = new SqlPersonStore(database);
  }

  /** @param report - told of records that are not whole */
  static async open(database: Database, report: Report = () => {}): Promise<SqlStore> {
    const where = { name: 'volume' };
    const [volume] = rowsOf(await database.models.facts.findAll({ where, raw: true }));
    if (volume === undefined) throw new Error('the database has no volume: it was not made by this service');
    await checkHeads(database, report);
    return new SqlStore(database, new Volumes(volume.value));
  }

  /** Resolves when everything that was waiting has been committed. */
  async settled(): Promise<void> {
    for (const name of [
      'messages',
      'hooks',
      'intakes',
      'reactions',
      'blocks',
      'mentions',
      'invitations',
      'pending',
    ] as const)
      await this[name].settled();
  }
}

/** The messages of kept channels. */
class SqlMessageStore extends MessageReads implements MessageStore {
  readonly #commits: MessageCommits;

  constructor(database: Database, volumes: Volumes) {
    super(database, volumes);
    this.#commits = new MessageCommits(database, volumes);
  }

  append(channel: ChannelName, draft: Draft): Promise<Appended> {
    return this.#commits.append(channel, draft);
  }

  settled(): Promise<void> {
    return this.#commits.settled();
  }
}
