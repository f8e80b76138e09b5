import type {
  Acceptance,
  Admission,
  Appended,
  Arrival,
  ArrivalDraft,
  ArrivalOutcome,
  ArrivalWish,
  AuditEntry,
  BlockWish,
  BoardSnapshot,
  Delivery,
  DeliveryAttempt,
  DeliveryOutcome,
  DeliveryRecord,
  DeliverySelection,
  DeliveryWish,
  Draft,
  DueDeliveries,
  DueWish,
  EarlierRevision,
  Erasure,
  Hold,
  HookFigures,
  HookPause,
  HookState,
  InboxEntry,
  InboxSlice,
  InForce,
  InvitationDraft,
  KeptBlock,
  KeptChannel,
  KeptInvitation,
  KeptLevel,
  KeptRange,
  KnownUser,
  LeaseWish,
  LevelWish,
  LogSlice,
  MarkState,
  MessageReport,
  ModerationAction,
  NoticeDraft,
  PersonMessages,
  PersonPlace,
  PersonRecords,
  Place,
  QueuedEvent,
  Reaction,
  ReactionSlice,
  Reactor,
  ReactorsWish,
  ReadLimit,
  RecordKind,
  RegisteredHook,
  Report,
  ReportEnd,
  ReportWish,
  SearchFound,
  SearchLookup,
  Store,
  ThreadMark,
  UserMark,
} from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import { SqlBlockStore } from './blockStore.js';
import { BoardStore } from './boardStore.js';
import type { Database } from './database.js';
import { SqlHookStore } from './hookStore.js';
import { InboxStore } from './inboxStore.js';
import { SqlIntakeStore } from './intakeStore.js';
import { SqlInvitationStore } from './invitationStore.js';
import { MarkStore } from './markStore.js';
import { SqlMentionStore } from './mentionStore.js';
import { MessageCommits } from './messageCommits.js';
import { MessageReads } from './messageReads.js';
import { rowsOf } from './models.js';
import { ModerationStore } from './moderationStore.js';
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
  readonly #hooks: SqlHookStore;
  readonly #intakes: SqlIntakeStore;
  readonly #commits: MessageCommits;
  readonly #reads: MessageReads;
  readonly #inboxes: InboxStore;
  readonly #marks: MarkStore;
  readonly #moderation: ModerationStore;
  readonly #boards: BoardStore;
  readonly #retention: SqlRetentionStore;
  readonly #reports: SqlReportStore;
  readonly #pending: SqlPendingStore;
  readonly #persons: SqlPersonStore;
  readonly #reactions: SqlReactionStore;
  readonly #blocks: SqlBlockStore;
  readonly #search: SqlSearchStore;
  readonly #mentions: SqlMentionStore;
  readonly #invitations: SqlInvitationStore;

  /** The volume of new channels; it may be replaced while the store is open. */
  readonly volumes: Volumes;

  private constructor(database: Database, volumes: Volumes) {
    this.volumes = volumes;
    this.#commits = new MessageCommits(database, volumes);
    this.#reads = new MessageReads(database, volumes);
    this.#inboxes = new InboxStore(database, volumes);
    this.#marks = new MarkStore(database, volumes);
    this.#moderation = new ModerationStore(database);
    this.#boards = new BoardStore(database);
    this.#retention = new SqlRetentionStore(database);
    this.#reports = new SqlReportStore(database);
    this.#pending = new SqlPendingStore(database);
    this.#persons = new SqlPersonStore(database);
    this.#reactions = new SqlReactionStore(database);
    this.#blocks = new SqlBlockStore(database);
    this.#search = new SqlSearchStore(database);
    this.#mentions = new SqlMentionStore(database);
    this.#invitations = new SqlInvitationStore(database);
    this.#hooks = new SqlHookStore(database);
    this.#intakes = new SqlIntakeStore(database);
  }

  /** @param report - told of records that are not whole */
  static async open(database: Database, report: Report = () => {}): Promise<SqlStore> {
    const where = { name: 'volume' };
    const [volume] = rowsOf(await database.models.facts.findAll({ where, raw: true }));
    if (volume === undefined) throw new Error('the database has no volume: it was not made by this service');
    await checkHeads(database, report);
    return new SqlStore(database, new Volumes(volume.value));
  }

  append(channel: ChannelName, draft: Draft): Promise<Appended> {
    return this.#commits.append(channel, draft);
  }

  /** Resolves when everything that was waiting has been committed. */
  async settled(): Promise<void> {
    await this.#commits.settled();
    await this.#hooks.settled();
    await this.#intakes.settled();
    await this.#reactions.settled();
    await this.#blocks.settled();
    await this.#mentions.settled();
    await this.#invitations.settled();
    await this.#pending.settled();
  }

  head(channel: ChannelName): Promise<Place> {
    return this.#reads.head(channel);
  }

  heads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    return this.#reads.heads(channels);
  }

  since(channel: ChannelName, after: Place, limit: ReadLimit): Promise<LogSlice> {
    return this.#reads.since(channel, after, limit);
  }

  before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): Promise<LogSlice> {
    return this.#reads.before(channel, before, limit);
  }

  revisions(...wish: Parameters<Store['revisions']>): Promise<readonly EarlierRevision[]> {
    return this.#reads.revisions(...wish);
  }

  channels(after: string, limit: number, find?: string): Promise<readonly KeptChannel[]> {
    return this.#reads.channels(after, limit, find);
  }

  take(action: ModerationAction, events?: readonly QueuedEvent[]): Promise<number> {
    return this.#moderation.take(action, events);
  }

  changes(): Promise<number> {
    return this.#moderation.changes();
  }

  notify(drafts: readonly NoticeDraft[]): Promise<readonly InboxEntry[]> {
    return this.#inboxes.notify(drafts);
  }

  inbox(user: string, after: Place | undefined, limit: number, nowMs: number): Promise<InboxSlice> {
    return this.#inboxes.inbox(user, after, limit, nowMs);
  }

  done(user: string, ids: readonly string[] | true, nowMs: number): Promise<number> {
    return this.#inboxes.done(user, ids, nowMs);
  }

  meet(users: readonly KnownUser[]): Promise<void> {
    return this.#inboxes.meet(users);
  }

  usersWith(role: string): Promise<readonly string[]> {
    return this.#inboxes.usersWith(role);
  }

  user(id: string): Promise<KnownUser | undefined> {
    return this.#inboxes.user(id);
  }

  mark(user: string, channel: ChannelName, place: Place | null, most: number): Promise<MarkState> {
    return this.#marks.mark({ user, channel, place, most });
  }

  unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkState[]> {
    return this.#marks.unread(user, channels);
  }

  markThread(...wish: Parameters<Store['markThread']>): Promise<ThreadMark | undefined> {
    return this.#marks.markThread(...wish);
  }

  threads(...wish: Parameters<Store['threads']>): Promise<readonly ThreadMark[]> {
    return this.#marks.threads(...wish);
  }

  takingPart(...given: Parameters<Store['takingPart']>): ReturnType<Store['takingPart']> {
    return this.#marks.takingPart(...given);
  }

  markedChannels(user: string): Promise<readonly ChannelName[]> {
    return this.#marks.markedChannels(user);
  }

  marks(channel: ChannelName, limit: number, after?: string): Promise<readonly UserMark[]> {
    return this.#marks.marks(channel, limit, after);
  }

  saveBoard(channel: ChannelName, board: BoardSnapshot): Promise<void> {
    return this.#boards.saveBoard(channel, board);
  }

  board(channel: ChannelName): Promise<BoardSnapshot | undefined> {
    return this.#boards.board(channel);
  }

  queue(events: readonly QueuedEvent[], occupied?: { channel: ChannelName; is: boolean }): Promise<void> {
    return this.#hooks.queue(events, occupied);
  }

  occupied(after: string, limit: number): Promise<readonly ChannelName[]> {
    return this.#hooks.occupied(after, limit);
  }

  due(hook: string, wish: DueWish): Promise<DueDeliveries> {
    return this.#hooks.due(hook, wish);
  }

  heldUp(hook: string): Promise<readonly { channel: string; number: number }[]> {
    return this.#hooks.heldUp(hook);
  }

  lease(hook: string, wish: LeaseWish): Promise<readonly Delivery[]> {
    return this.#hooks.lease(hook, wish);
  }

  acknowledge(hook: string, ids: readonly string[], nowMs: number): Promise<number> {
    return this.#hooks.acknowledge(hook, ids, nowMs);
  }

  unacknowledged(hook: string, ids: readonly string[]): Promise<readonly string[]> {
    return this.#hooks.unacknowledged(hook, ids);
  }

  giveBack(hook: string, ids: readonly string[]): Promise<void> {
    return this.#hooks.giveBack(hook, ids);
  }

  settle(outcomes: readonly DeliveryOutcome[]): Promise<void> {
    return this.#hooks.settle(outcomes);
  }

  holdHooks(...wish: Parameters<Store['holdHooks']>): Promise<readonly string[]> {
    return this.#hooks.holdHooks(...wish);
  }

  releaseHooks(holder: string, hooks: readonly string[]): Promise<void> {
    return this.#hooks.releaseHooks(holder, hooks);
  }

  hookStates(): Promise<readonly HookState[]> {
    return this.#hooks.hookStates();
  }

  hookFails(hook: string, sinceMs: number | null): Promise<void> {
    return this.#hooks.hookFails(hook, sinceMs);
  }

  pauseHook(hook: string, pause: HookPause | null): Promise<void> {
    return this.#hooks.pauseHook(hook, pause);
  }

  keepHook(hook: string, registered: RegisteredHook | null): Promise<void> {
    return this.#hooks.keepHook(hook, registered);
  }

  hookFigures(): Promise<Readonly<Record<string, HookFigures>>> {
    return this.#hooks.hookFigures();
  }

  deliveries(wish: DeliveryWish): Promise<readonly DeliveryRecord[]> {
    return this.#hooks.deliveries(wish);
  }

  delivery(which: { hook: string; id: string }): Promise<DeliveryRecord | undefined> {
    return this.#hooks.delivery(which);
  }

  attempts(delivery: number): Promise<readonly DeliveryAttempt[]> {
    return this.#hooks.attempts(delivery);
  }

  noteAttempt(delivery: number, attempt: DeliveryAttempt): Promise<void> {
    return this.#hooks.noteAttempt(delivery, attempt);
  }

  resend(which: DeliverySelection, nowMs: number): Promise<number> {
    return this.#hooks.resend(which, nowMs);
  }

  tidyHook(...wish: Parameters<Store['tidyHook']>): Promise<{ gaveUp: number; forgot: number }> {
    return this.#hooks.tidyHook(...wish);
  }

  arrive(draft: ArrivalDraft): Promise<{ id: string; repeated: boolean }> {
    return this.#intakes.arrive(draft);
  }

  endArrival(outcome: ArrivalOutcome): Promise<void> {
    return this.#intakes.endArrival(outcome);
  }

  takeOverArrivals(...wish: Parameters<Store['takeOverArrivals']>): Promise<readonly Arrival[]> {
    return this.#intakes.takeOverArrivals(...wish);
  }

  arrivals(wish: ArrivalWish): Promise<readonly Arrival[]> {
    return this.#intakes.arrivals(wish);
  }

  arrival(id: string): Promise<Arrival | undefined> {
    return this.#intakes.arrival(id);
  }

  tidyIntake(...given: Parameters<Store['tidyIntake']>): Promise<number> {
    return this.#intakes.tidyIntake(...given);
  }

  keptRanges(after: string, limit: number): Promise<readonly KeptRange[]> {
    return this.#retention.keptRanges(after, limit);
  }

  firstSince(channel: ChannelName, atMs: number): Promise<number> {
    return this.#retention.firstSince(channel, atMs);
  }

  bytesOf(channel: ChannelName, from: number, upTo: number): Promise<number> {
    return this.#retention.bytesOf(channel, from, upTo);
  }

  prune(channel: ChannelName, before: number, limit: number): Promise<{ messages: number; oldest: number }> {
    return this.#retention.prune(channel, before, limit);
  }

  forget(kind: RecordKind, beforeMs: number, limit: number): Promise<number> {
    return this.#retention.forget(kind, beforeMs, limit);
  }

  forgettable(kind: RecordKind, beforeMs: number): Promise<number> {
    return this.#retention.forgettable(kind, beforeMs);
  }

  hold(hold: Hold, end?: 'end'): Promise<Hold | undefined> {
    return this.#retention.hold(hold, end);
  }

  holds(after: string, limit: number): Promise<readonly Hold[]> {
    return this.#retention.holds(after, limit);
  }

  report(...given: Parameters<Store['report']>): Promise<{ id: string; repeated: boolean }> {
    return this.#reports.report(...given);
  }

  reports(wish: ReportWish): Promise<readonly MessageReport[]> {
    return this.#reports.reports(wish);
  }

  reportById(id: string): Promise<MessageReport | undefined> {
    return this.#reports.reportById(id);
  }

  endReport(id: string, ended: ReportEnd): Promise<MessageReport | undefined> {
    return this.#reports.endReport(id, ended);
  }

  knownUnder(...given: Parameters<Store['knownUnder']>): ReturnType<Store['knownUnder']> {
    return this.#pending.knownUnder(...given);
  }

  hasPending(...given: Parameters<Store['hasPending']>): ReturnType<Store['hasPending']> {
    return this.#pending.hasPending(...given);
  }

  keepPending(...given: Parameters<Store['keepPending']>): ReturnType<Store['keepPending']> {
    return this.#pending.keepPending(...given);
  }

  pending(...given: Parameters<Store['pending']>): ReturnType<Store['pending']> {
    return this.#pending.pending(...given);
  }

  pendingById(...given: Parameters<Store['pendingById']>): ReturnType<Store['pendingById']> {
    return this.#pending.pendingById(...given);
  }

  nextPending(...given: Parameters<Store['nextPending']>): ReturnType<Store['nextPending']> {
    return this.#pending.nextPending(...given);
  }

  unansweredPending(...given: Parameters<Store['unansweredPending']>): ReturnType<Store['unansweredPending']> {
    return this.#pending.unansweredPending(...given);
  }

  answerPending(...given: Parameters<Store['answerPending']>): ReturnType<Store['answerPending']> {
    return this.#pending.answerPending(...given);
  }

  clearedPending(...given: Parameters<Store['clearedPending']>): ReturnType<Store['clearedPending']> {
    return this.#pending.clearedPending(...given);
  }

  clearPending(...given: Parameters<Store['clearPending']>): ReturnType<Store['clearPending']> {
    return this.#pending.clearPending(...given);
  }

  released(...given: Parameters<Store['released']>): ReturnType<Store['released']> {
    return this.#pending.released(...given);
  }

  refusePending(...given: Parameters<Store['refusePending']>): ReturnType<Store['refusePending']> {
    return this.#pending.refusePending(...given);
  }

  takeBackPending(...given: Parameters<Store['takeBackPending']>): ReturnType<Store['takeBackPending']> {
    return this.#pending.takeBackPending(...given);
  }

  react(reaction: Reaction): ReturnType<Store['react']> {
    return this.#reactions.react(reaction);
  }

  reactions(...wish: Parameters<Store['reactions']>): Promise<ReactionSlice> {
    return this.#reactions.reactions(...wish);
  }

  reactionsSince(...wish: Parameters<Store['reactionsSince']>): Promise<ReactionSlice> {
    return this.#reactions.reactionsSince(...wish);
  }

  reactors(wish: ReactorsWish): Promise<readonly Reactor[]> {
    return this.#reactions.reactors(wish);
  }

  reactionHeads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    return this.#reactions.reactionHeads(channels);
  }

  invite(draft: InvitationDraft, most: number): Promise<void> {
    return this.#invitations.invite(draft, most);
  }

  accept(acceptance: Acceptance): ReturnType<Store['accept']> {
    return this.#invitations.accept(acceptance);
  }

  invitations(...wish: Parameters<Store['invitations']>): Promise<readonly KeptInvitation[]> {
    return this.#invitations.invitations(...wish);
  }

  invitation(id: string): Promise<KeptInvitation | undefined> {
    return this.#invitations.invitation(id);
  }

  endInvitation(...wish: Parameters<Store['endInvitation']>): ReturnType<Store['endInvitation']> {
    return this.#invitations.endInvitation(...wish);
  }

  admissions(user: string): Promise<readonly Admission[]> {
    return this.#invitations.admissions(user);
  }

  admissionsIn(...wish: Parameters<Store['admissionsIn']>): Promise<readonly Admission[]> {
    return this.#invitations.admissionsIn(...wish);
  }

  endAdmission(...wish: Parameters<Store['endAdmission']>): Promise<boolean> {
    return this.#invitations.endAdmission(...wish);
  }

  block(wish: BlockWish): Promise<void> {
    return this.#blocks.block(wish);
  }

  knownUsers(ids: readonly string[]): Promise<readonly KnownUser[]> {
    return this.#inboxes.knownUsers(ids);
  }

  noticeWith(user: string, key: string): ReturnType<Store['noticeWith']> {
    return this.#inboxes.noticeWith(user, key);
  }

  mentions(user: string, sinceMs: number): ReturnType<Store['mentions']> {
    return this.#mentions.mentions(user, sinceMs);
  }

  lastAt(channels: readonly ChannelName[]): Promise<readonly number[]> {
    return this.#mentions.lastAt(channels);
  }

  searchable(channels: readonly ChannelName[]): Promise<readonly number[]> {
    return this.#search.searchable(channels);
  }

  index(...wish: Parameters<Store['index']>): Promise<void> {
    return this.#search.index(...wish);
  }

  searchedChannels(...wish: Parameters<Store['searchedChannels']>): Promise<readonly ChannelName[]> {
    return this.#search.searchedChannels(...wish);
  }

  unindex(channel: ChannelName, limit: number): Promise<number> {
    return this.#search.unindex(channel, limit);
  }

  search(lookup: SearchLookup): Promise<SearchFound> {
    return this.#search.search(lookup);
  }

  setLevel(wish: LevelWish): Promise<void> {
    return this.#mentions.setLevel(wish);
  }

  levels(user: string, nowMs: number): Promise<readonly KeptLevel[]> {
    return this.#mentions.levels(user, nowMs);
  }

  levelsIn(channel: ChannelName, users: readonly string[], nowMs: number): Promise<readonly KeptLevel[]> {
    return this.#mentions.levelsIn(channel, users, nowMs);
  }

  hasLevels(): Promise<boolean> {
    return this.#mentions.hasLevels();
  }

  blocks(users: readonly string[]): Promise<readonly KeptBlock[]> {
    return this.#blocks.blocks(users);
  }

  blocking(other: string, users: readonly string[]): Promise<readonly string[]> {
    return this.#blocks.blocking(other, users);
  }

  hasBlocks(): Promise<boolean> {
    return this.#blocks.hasBlocks();
  }

  beginErasure(...given: Parameters<Store['beginErasure']>): Promise<Erasure> {
    return this.#persons.beginErasure(...given);
  }

  noteErasure(erasure: Erasure, untilMs: number): Promise<void> {
    return this.#persons.noteErasure(erasure, untilMs);
  }

  takeErasures(nowMs: number, untilMs: number): Promise<readonly Erasure[]> {
    return this.#persons.takeErasures(nowMs, untilMs);
  }

  erasures(limit: number, id?: string): Promise<readonly Erasure[]> {
    return this.#persons.erasures(limit, id);
  }

  messagesOf(user: string, after: PersonPlace | undefined, limit: number): Promise<PersonMessages> {
    return this.#persons.messagesOf(user, after, limit);
  }

  eraseRecords(...wish: Parameters<Store['eraseRecords']>): Promise<number> {
    return this.#persons.eraseRecords(...wish);
  }

  noteExport(...given: Parameters<Store['noteExport']>): Promise<void> {
    return this.#persons.noteExport(...given);
  }

  recordsOf(user: string): Promise<PersonRecords> {
    return this.#persons.recordsOf(user);
  }

  inForce(atMs: number): Promise<InForce> {
    return this.#moderation.inForce(atMs);
  }

  audit(before: number | undefined, limit: number, user?: string): Promise<readonly AuditEntry[]> {
    return this.#moderation.audit(before, limit, user);
  }
}
