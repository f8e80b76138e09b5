import {
  type Acceptance,
  type Admission,
  type Appended,
  type AuditEntry,
  answeringRefused,
  answersText,
  type BlockStore,
  type BlockWish,
  type BoardSnapshot,
  type BoardStore,
  type Change,
  type ChangedMessage,
  type Committing,
  countsAsUnread,
  type Draft,
  type EarlierRevision,
  type Erasure,
  type Hold,
  type HookStore,
  hasText,
  type Ids,
  type InboxEntry,
  type InboxSlice,
  type InboxStore,
  type InForce,
  type IntakeStore,
  type InvitationDraft,
  type InvitationStore,
  isActiveBan,
  type KeptBlock,
  type KeptChannel,
  type KeptInvitation,
  type KeptLevel,
  type KeptRange,
  type KnownUnderKey,
  type KnownUser,
  type LevelStore,
  type LevelWish,
  type LoggedMessage,
  type LogSlice,
  letsIn,
  type MarkState,
  type MarkStore,
  type MentionStore,
  type MessageReport,
  type MessageReportDraft,
  type MessageStore,
  type ModerationAction,
  type ModerationStore,
  type NoticeDraft,
  noSuchMessage,
  noticeOf,
  noVolume,
  type PendingKey,
  type PendingStore,
  type PersonMessages,
  type PersonPlace,
  type PersonRecords,
  type PersonStore,
  type Place,
  placesOf,
  type QueuedEvent,
  type Reaction,
  type ReactionSlice,
  type ReactionStore,
  type Reactor,
  type ReactorsWish,
  type ReadLimit,
  RecentLog,
  type RecordKind,
  type RecordsToErase,
  type ReportEnd,
  type ReportStore,
  type ReportWish,
  type RetentionStore,
  type Revocation,
  type SearchEntry,
  type SearchFound,
  type SearchLookup,
  type SearchStore,
  type Store,
  storeNames,
  type ThreadMark,
  type UserMark,
  type UserStore,
  whyOver,
} from '@nine-bells/core';
import {
  type Author,
  type BlockKind,
  type ChannelName,
  defined,
  filterFits,
  type Message,
  type Notice,
  type ReactionCounts,
  refusal,
} from '@nine-bells/wire';
import { MemoryPending } from './memoryPending.js';

const everything = { messages: Number.MAX_SAFE_INTEGER, bytes: Number.MAX_SAFE_INTEGER };
const unbounded = { messages: Number.MAX_SAFE_INTEGER, forMs: Number.MAX_SAFE_INTEGER };

/** All stores in one object. */
export interface EveryStore
  extends MessageStore,
    ModerationStore,
    InboxStore,
    UserStore,
    MarkStore,
    BoardStore,
    HookStore,
    IntakeStore,
    RetentionStore,
    ReportStore,
    PendingStore,
    ReactionStore,
    MentionStore,
    LevelStore,
    BlockStore,
    SearchStore,
    InvitationStore,
    PersonStore {}

/** Returns the record of stores that an engine takes; all of them are one object. */
export function storeOf(every: EveryStore): Store {
  // `Object.fromEntries` forgets the names.
  return Object.fromEntries(storeNames.map((name) => [name, every])) as unknown as Store;
}

/** Stores that forget everything with their process. For tests and simulation. */
export class MemoryStore extends MemoryPending implements EveryStore {
  readonly #ids: Ids;
  readonly #logs = new Map<ChannelName, RecentLog>();
  readonly #moderation: ModerationAction[] = [];
  readonly #inboxes = new Map<string, { head: number; drafts: Map<number, NoticeDraft> }>();
  readonly #users = new Map<string, KnownUser>();
  /** How far users have read, by channel and user. */
  readonly #reactions = new Map<ChannelName, { version: number; of: Map<number, ReactedTo> }>();
  readonly #erasures = new Map<string, { erasure: Erasure; untilMs: number }>();
  readonly #revisions = new Map<string, readonly EarlierRevision[]>();
  readonly #marks = new Map<ChannelName, Map<string, number>>();
  readonly #counted = new Map<ChannelName, number>();
  readonly #replyKeys = new Set<string>();
  readonly #searched = new Map<ChannelName, { readonly upTo: number; readonly entries: Map<number, SearchEntry> }>();
  readonly #levels = new Map<string, KeptLevel>();
  /** The users whom messages mention, by channel and number. */
  readonly #mentioned = new Map<string, readonly string[]>();
  /** How far users have read in threads, by user, channel and first message. */
  readonly #threadMarks = new Map<string, number>();
  /** Threads that have a reply. */
  readonly #begun = new Set<string>();
  /** By the digests of their codes. */
  readonly #invitations = new Map<string, KeptInvitation>();
  readonly #admissions = new Map<string, Admission>();
  readonly #blocks = new Map<string, Map<string, KeptBlock>>();
  readonly #boards = new Map<ChannelName, BoardSnapshot>();
  readonly #reports: MessageReport[] = [];
  readonly #holds = new Map<ChannelName, Hold>();
  #inboxVolume: string | undefined;

  constructor(ids: Ids) {
    super();
    this.#ids = ids;
  }

  async append(channel: ChannelName, draft: Draft): Promise<Appended> {
    const { by, issuedAtMs } = draft;
    if (issuedAtMs !== undefined && this.#moderation.some((each) => revokes(each, by?.user, issuedAtMs)))
      throw refusal('token-ended', 'the token was revoked');
    const before = draft.change?.keeps ? this.#revisionOf(channel, draft.change.of) : undefined;
    if (draft.releases !== undefined) this.checkWaits(draft.releases);
    if (draft.reply !== undefined) this.#checkAnswered(channel, draft);
    const appended = this.#log(channel).append(draft, unbounded);
    const { logged } = appended;
    if (draft.releases !== undefined)
      this.release(draft.releases, {
        channel,
        place: logged.place,
        of: { ...logged.place, number: logged.of ?? logged.place.number },
      });
    if (appended.repeated) return appended;
    if (draft.change !== undefined) this.#keep(channel, draft.change, before);
    else this.#takePart(channel, appended.logged);
    if (draft.mentioned !== undefined)
      this.#mentioned.set(`${channel} ${appended.logged.place.number}`, draft.mentioned);
    const { hooks = [], hops, atMs, id } = draft;
    const event = {
      id,
      event: draft.change ? 'changed' : 'message',
      atMs,
      channel,
      hops,
      dataText: appended.logged.text,
    } as const;
    // In this turn, as all that one commit does.
    void this.queue(hooks.map((hook) => ({ hook, ...event })));
    if (appended.logged.place.number === 1) for (const user of draft.begins ?? []) this.#marksIn(channel).set(user, 0);
    const counted =
      (this.#counted.get(channel) ?? 0) + (draft.change === undefined && countsAsUnread(draft.type) ? 1 : 0);
    this.#counted.set(channel, counted);
    return { ...appended, counted };
  }

  async knownUnder(channel: ChannelName, { user, key, isChange }: PendingKey): Promise<KnownUnderKey | undefined> {
    const pending = this.pendingUnder(channel, user, key, isChange);
    if (pending !== undefined) return { pending };
    if (isChange) return undefined;
    const { messages } = this.#log(channel).before(undefined, everything);
    const published = messages.find(
      (each) => each.isMessage && each.message.key === key && each.message.by?.user === user,
    );
    return published && { published: { id: published.id, place: published.place } };
  }

  async revisions(
    channel: ChannelName,
    { number }: Place,
    after: number,
    limit: number,
  ): Promise<readonly EarlierRevision[]> {
    const kept = this.#revisions.get(`${channel} ${number}`) ?? [];
    return kept.filter((each) => each.number > after).slice(0, limit);
  }

  /** What was published before, under its key, is given again. */
  async markThread(
    user: string,
    channel: ChannelName,
    thread: Place,
    place: Place | null,
    _atMs: number,
  ): Promise<ThreadMark | undefined> {
    const { head } = this.#log(channel);
    const isThere = (each: Place): boolean => each.volume === head.volume && each.number <= head.number;
    if (!isThere(thread) || (place !== null && !isThere(place)))
      throw refusal('bad-cursor', 'the channel has no such message', { where: '/cursor' });
    const key = JSON.stringify([user, channel, thread.number]);
    if (place === null) this.#threadMarks.delete(key);
    else this.#threadMarks.set(key, Math.max(place.number, this.#threadMarks.get(key) ?? 0));
    return (await this.threads(user, 1, channel, thread.number))[0];
  }

  async takingPart(channel: ChannelName, number: number, limit: number): ReturnType<EveryStore['takingPart']> {
    const parts = [...this.#threadMarks.keys()].map((key) => JSON.parse(key) as [string, ChannelName, number]);
    const users = parts.flatMap(([user, of, root]) => (of === channel && root === number ? [user] : []));
    return { volume: this.#log(channel).head.volume, users: users.slice(0, limit) };
  }

  async threads(user: string, limit: number, channel?: ChannelName, thread?: number): Promise<readonly ThreadMark[]> {
    const found: ThreadMark[] = [];
    for (const [key, number] of this.#threadMarks) {
      const [of, name, root] = JSON.parse(key) as [string, ChannelName, number];
      if (of !== user || (channel ?? name) !== name || (thread ?? root) !== root) continue;
      const { volume } = this.#log(name).head;
      const all = this.#log(name).since({ volume, number: 0 }, everything).messages;
      const replies = all.filter((each) => each.isMessage && each.reply?.thread === root);
      const there = replies.filter(({ message }) => !message.withdrawn);
      const unread = there.filter((each) => each.place.number > number && each.message.by?.user !== user);
      const atMs = replies.at(-1)?.atMs ?? 0;
      found.push({
        channel: name,
        volume,
        thread: root,
        number,
        unread: unread.length,
        count: there.length,
        atMs,
        ...this.#hiddenOf(user, unread),
      });
    }
    return found.sort((a, b) => b.atMs - a.atMs).slice(0, limit);
  }

  #takePart(channel: ChannelName, { place, reply, message }: LoggedMessage): void {
    if (reply === undefined) return;
    const begins = `${channel} ${reply.thread}`;
    const root = this.#begun.has(begins) ? undefined : this.#at(channel, reply.thread)?.message.by;
    this.#begun.add(begins);
    for (const [by, number] of [
      [root, reply.thread],
      [message.by, place.number],
    ] as const) {
      if (by === undefined || by.user.startsWith('guest:')) continue;
      const key = JSON.stringify([by.user, channel, reply.thread]);
      if (by !== root || !this.#threadMarks.has(key)) this.#threadMarks.set(key, number);
    }
  }

  #checkAnswered(channel: ChannelName, { reply, key, owner, by }: Draft): void {
    const name = key === undefined ? undefined : `${channel} ${owner ?? by?.user} ${key}`;
    if (name !== undefined && this.#replyKeys.has(name)) return;
    const answered = this.#at(channel, reply?.to ?? 0);
    const refused = answeringRefused(answered && { isWithdrawn: answered.message.withdrawn === true });
    if (refused !== undefined) throw refused;
    if (name !== undefined) this.#replyKeys.add(name);
  }

  #at(channel: ChannelName, number: number): LoggedMessage | undefined {
    const { volume } = this.#log(channel).head;
    const [found] = this.#log(channel).since({ volume, number: number - 1 }, { ...everything, messages: 1 }).messages;
    return found?.isMessage && found.place.number === number ? found : undefined;
  }

  /** Messages with what stands beside them. */
  #withReplies(channel: ChannelName, slice: LogSlice): LogSlice {
    const { volume } = this.#log(channel).head;
    const all = this.#log(channel).since({ volume, number: 0 }, everything).messages;
    if (!all.some(({ reply }) => reply !== undefined)) return slice;
    const messages = slice.messages.map((each) => {
      if (!each.isMessage) return each;
      const answered = each.reply && this.#at(channel, each.reply.to);
      const replies = all.filter((other) => other.isMessage && other.reply?.thread === each.place.number);
      const there = replies.filter(({ message }) => !message.withdrawn);
      const counted = Math.max(
        0,
        ...replies.map(({ place, revision, message }) => (message.withdrawn ? (revision ?? 0) : place.number)),
      );
      const last = replies.at(-1);
      return each.with({
        answers: answered && answersText(answered.message),
        replies: last && { count: there.length, atMs: last.atMs, number: counted },
      });
    });
    return { ...slice, messages };
  }

  #revisionOf(channel: ChannelName, { number }: ChangedMessage): EarlierRevision | undefined {
    const { volume } = this.#log(channel).head;
    const [found] = this.#log(channel).since({ volume, number: number - 1 }, { ...everything, messages: 1 }).messages;
    if (!found?.isMessage || found.place.number !== number) return undefined;
    const { data, by } = found.message;
    return { number: found.revision ?? 0, dataText: JSON.stringify(data), atMs: found.atMs, ...defined({ by }) };
  }

  #keep(channel: ChannelName, { of, withdraws }: Change, before: EarlierRevision | undefined): void {
    const name = `${channel} ${of.number}`;
    if (withdraws) this.#revisions.delete(name);
    else if (before !== undefined) this.#revisions.set(name, [...(this.#revisions.get(name) ?? []), before]);
  }

  async react({ channel, place: { volume, number }, by, word, on, most }: Reaction) {
    if (volume !== this.#log(channel).head.volume) throw noSuchMessage();
    const [found] = this.#log(channel).since({ volume, number: number - 1 }, { ...everything, messages: 1 }).messages;
    if (!found?.isMessage || found.place.number !== number) throw noSuchMessage();
    if (found.message.withdrawn) throw refusal('withdrawn');
    const all = this.#reactionsIn(channel);
    const at = all.of.get(number) ?? { version: 0, words: new Map<string, Map<string, Author>>() };
    all.of.set(number, at);
    const users = at.words.get(word) ?? new Map<string, Author>();
    const changed = on !== users.has(by.user);
    if (changed && on) {
      const own = [...at.words.values()].filter((each) => each.has(by.user)).length;
      if (own >= most.each || (!at.words.has(word) && at.words.size >= most.kinds)) throw refusal('too-many-reactions');
      at.words.set(word, users.set(by.user, by));
    } else if (changed) {
      users.delete(by.user);
      if (users.size === 0) at.words.delete(word);
    }
    if (changed) {
      all.version += 1;
      at.version = all.version;
    }
    return { reacted: { number, counts: countsOf(at.words), version: at.version }, volume, changed };
  }

  async reactions(channel: ChannelName, numbers: readonly number[], user?: string): Promise<ReactionSlice> {
    return this.#reactionSlice(channel, (number) => numbers.includes(number), user);
  }

  async reactionsSince(channel: ChannelName, version: number, limit: number): Promise<ReactionSlice> {
    const slice = this.#reactionSlice(channel, (_, at) => at > version);
    return { ...slice, reacted: [...slice.reacted].sort((a, b) => a.version - b.version).slice(0, limit) };
  }

  async reactors({ channel, number, word, limit }: ReactorsWish): Promise<readonly Reactor[]> {
    const { words } = this.#reactionsIn(channel).of.get(number) ?? { words: new Map<string, Map<string, Author>>() };
    return [...words]
      .filter(([each]) => word === undefined || each === word)
      .flatMap(([each, users]) => [...users.values()].map((by) => ({ word: each, ...by, at: '' })))
      .slice(0, limit);
  }

  async reactionHeads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    return channels.map((channel) => this.#reactionSlice(channel, () => false).version);
  }

  #reactionSlice(
    channel: ChannelName,
    fits: (number: number, version: number) => boolean,
    user?: string,
  ): ReactionSlice {
    const { version, of } = this.#reactionsIn(channel);
    const { head } = this.#log(channel);
    const some = [...of].filter(([number, at]) => fits(number, at.version));
    const own = some.map(([number, { words }]): [number, string[]] => [
      number,
      [...words].filter(([, users]) => user !== undefined && users.has(user)).map(([word]) => word),
    ]);
    return {
      version: { volume: head.number === 0 ? noVolume : head.volume, number: version },
      reacted: some.map(([number, at]) => ({ number, counts: countsOf(at.words), version: at.version })),
      own: own.filter(([, words]) => words.length > 0),
    };
  }

  #reactionsIn(channel: ChannelName): { version: number; of: Map<number, ReactedTo> } {
    const all = this.#reactions.get(channel) ?? { version: 0, of: new Map<number, ReactedTo>() };
    this.#reactions.set(channel, all);
    return all;
  }

  async beginErasure(
    erasure: Erasure & { readonly user: string },
    untilMs: number,
    { action, events }: Committing<Revocation>,
  ): Promise<Erasure> {
    const open = [...this.#erasures.values()].find(
      ({ erasure: { user, endedAtMs } }) => user === erasure.user && endedAtMs === undefined,
    );
    if (open !== undefined) return open.erasure;
    this.#erasures.set(erasure.id, { erasure, untilMs });
    await this.take(action, events);
    return erasure;
  }

  async noteErasure(erasure: Erasure, untilMs: number): Promise<void> {
    this.#erasures.set(erasure.id, { erasure, untilMs });
  }

  async takeErasures(nowMs: number, until: number): Promise<readonly Erasure[]> {
    const left = [...this.#erasures.values()].filter(
      ({ erasure, untilMs }) => erasure.user !== undefined && untilMs < nowMs,
    );
    for (const each of left) each.untilMs = until;
    return left.map(({ erasure }) => erasure);
  }

  async erasures(limit: number, id?: string): Promise<readonly Erasure[]> {
    const all = [...this.#erasures.values()].reverse().map(({ erasure: { user, ...rest } }) => ({
      ...rest,
      ...(user === undefined || rest.endedAtMs !== undefined ? {} : { user }),
    }));
    return all.filter((each) => id === undefined || each.id === id).slice(0, limit);
  }

  async messagesOf(user: string, after: PersonPlace | undefined, limit: number): Promise<PersonMessages> {
    const found = [...this.#logs.keys()].flatMap((channel, at) =>
      this.#allOf(channel)
        .filter((each) => each.isMessage && each.message.by?.user === user)
        .map((logged) => ({ logged, place: { channel: at, number: logged.place.number } })),
    );
    const isAfter = ({ channel, number }: PersonPlace): boolean =>
      after === undefined || channel > after.channel || (channel === after.channel && number > after.number);
    const rest = found.filter(({ place }) => isAfter(place));
    const some = rest.slice(0, limit);
    return {
      messages: some.map(({ logged }) => logged),
      held: some.map(({ logged }) => this.#holds.has(logged.channel)),
      ...(rest.length > some.length ? { next: (some.at(-1) as (typeof some)[number]).place } : {}),
    };
  }

  /** Beside messages and marks, little is kept here. */
  async eraseRecords({ kind, user }: RecordsToErase): Promise<number> {
    return kind === 'pending' ? this.erasePending(user) : 0;
  }

  async noteExport(): Promise<void> {}

  async recordsOf(): Promise<PersonRecords> {
    return {};
  }

  async saveBoard(channel: ChannelName, board: BoardSnapshot): Promise<void> {
    this.#boards.set(channel, board);
  }

  async board(channel: ChannelName): Promise<BoardSnapshot | undefined> {
    return this.#boards.get(channel);
  }

  async head(channel: ChannelName): Promise<Place> {
    return this.#log(channel).head;
  }

  async heads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    return Promise.all(channels.map((channel) => this.head(channel)));
  }

  async since(channel: ChannelName, after: Place, limit: ReadLimit): Promise<LogSlice> {
    return this.#withReplies(channel, fitting(this.#log(channel).since(after, limit), limit, true));
  }

  async before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): Promise<LogSlice> {
    return this.#withReplies(channel, fitting(this.#log(channel).before(before, limit), limit, false));
  }

  async channels(after: string, limit: number, find = ''): Promise<readonly KeptChannel[]> {
    return [...this.#logs]
      .filter(([channel, log]) => channel > after && log.head.number > 0 && hasText(channel, find))
      .map(([channel, log]) => ({ channel, head: log.head }))
      .sort((a, b) => (a.channel < b.channel ? -1 : 1))
      .slice(0, limit);
  }

  async report(
    draft: MessageReportDraft,
    most: { readonly all: number; readonly each: number },
  ): Promise<{ id: string; repeated: boolean }> {
    const { channel, cursor, by } = draft;
    const known = this.#reports.find(
      (each) => each.channel === channel && each.cursor === cursor && each.by.user === by.user,
    );
    if (known !== undefined) return { id: known.id, repeated: true };
    const open = this.#reports.filter((each) => each.ended === undefined && each.by.guest === by.guest);
    const own = open.filter((each) => each.by.user === by.user);
    if (open.length >= most.all || own.length >= most.each)
      throw refusal('busy', 'too many reports wait for the moderators', { retryAfterMs: 60_000 });
    this.#reports.push({ ...draft, number: this.#reports.length + 1 });
    return { id: draft.id, repeated: false };
  }

  async reports({ isOpen, channel, from, limit }: ReportWish): Promise<readonly MessageReport[]> {
    const all = this.#reports.filter(
      (each) => (each.ended === undefined) === isOpen && (channel === undefined || each.channel === channel),
    );
    if (!isOpen) all.reverse();
    const behind = ({ number }: MessageReport): boolean =>
      from === undefined || (isOpen ? number > from : number < from);
    return all.filter(behind).slice(0, limit);
  }

  async reportById(id: string): Promise<MessageReport | undefined> {
    return this.#reports.find((each) => each.id === id);
  }

  async endReport(id: string, ended: ReportEnd): Promise<MessageReport | undefined> {
    const index = this.#reports.findIndex((each) => each.id === id && each.ended === undefined);
    if (index === -1) return undefined;
    this.#reports[index] = { ...(this.#reports[index] as MessageReport), ended };
    return this.#reports[index];
  }

  async keptRanges(after: string, limit: number): Promise<readonly KeptRange[]> {
    const kept = await this.channels(after, limit);
    return kept.map(({ channel, head }) => {
      const { messages } = this.#log(channel).since({ ...head, number: 0 }, { ...everything, messages: 1 });
      const [first] = messages;
      return {
        channel,
        head,
        oldest: first?.place.number ?? head.number + 1,
        held: this.#holds.has(channel),
        ...(first && { oldestAtMs: first.atMs }),
      };
    });
  }

  async firstSince(channel: ChannelName, atMs: number): Promise<number> {
    const first = this.#allOf(channel).find((each) => each.atMs >= atMs);
    return first?.place.number ?? this.#log(channel).head.number + 1;
  }

  async bytesOf(channel: ChannelName, from: number, upTo: number): Promise<number> {
    return this.#allOf(channel)
      .filter(({ place: { number } }) => number >= from && number <= upTo)
      .reduce((sum, each) => sum + (each.isMessage ? JSON.stringify(each.message.data).length : 4) + 200, 0);
  }

  async prune(channel: ChannelName, before: number, limit: number): Promise<{ messages: number; oldest: number }> {
    const { head } = this.#log(channel);
    const oldest = this.#allOf(channel)[0]?.place.number ?? head.number + 1;
    const to = this.#holds.has(channel) ? oldest : Math.max(oldest, Math.min(before, oldest + limit, head.number + 1));
    this.#log(channel).forget({ ...unbounded, messages: head.number - to + 1 }, 0);
    return { messages: to - oldest, oldest: to };
  }

  async forget(kind: RecordKind, beforeMs: number, limit: number): Promise<number> {
    if (kind !== 'notices') return 0;
    let count = 0;
    for (const { drafts } of this.#inboxes.values())
      for (const [number, { atMs }] of drafts)
        if (atMs < beforeMs && count < limit) {
          drafts.delete(number);
          count += 1;
        }
    return count;
  }

  async forgettable(kind: RecordKind, beforeMs: number): Promise<number> {
    if (kind !== 'notices') return 0;
    const drafts = [...this.#inboxes.values()].flatMap((inbox) => [...inbox.drafts.values()]);
    return drafts.filter(({ atMs }) => atMs < beforeMs).length;
  }

  async hold(hold: Hold, end?: 'end'): Promise<Hold | undefined> {
    const before = this.#holds.get(hold.channel);
    if (end !== undefined) this.#holds.delete(hold.channel);
    else if (before === undefined) this.#holds.set(hold.channel, hold);
    return before;
  }

  async holds(after: string, limit: number): Promise<readonly Hold[]> {
    return [...this.#holds.values()].filter(({ channel }) => channel > after).slice(0, limit);
  }

  #allOf(channel: ChannelName): readonly LoggedMessage[] {
    const { head } = this.#log(channel);
    return this.#log(channel).since({ ...head, number: 0 }, everything).messages;
  }

  async take(action: ModerationAction, events: readonly QueuedEvent[] = []): Promise<number> {
    await this.queue(events);
    return this.#moderation.push(action);
  }

  async changes(): Promise<number> {
    return this.#moderation.length;
  }

  async inForce(atMs: number): Promise<InForce> {
    const lifted = new Set(
      this.#moderation.flatMap((each, index) => {
        if (each.type === 'unban') return [each.ban];
        if (each.type === 'end-silence') return [each.silence];
        if (!isActiveBan(each) && each.type !== 'silence') return [];
        return this.#moderation.slice(0, index).flatMap((earlier) => (replaces(each, earlier) ? [earlier.id] : []));
      }),
    );
    return {
      bans: this.#moderation
        .filter(isActiveBan)
        .filter(({ id, untilMs }) => !lifted.has(id) && (untilMs === undefined || untilMs > atMs)),
      silences: this.#moderation.flatMap((each) =>
        each.type === 'silence' && !lifted.has(each.id) && (each.untilMs === undefined || each.untilMs > atMs)
          ? [each]
          : [],
      ),
      cutoffs: this.#moderation.flatMap((each) =>
        each.type === 'sign-out' || each.type === 'revoke-tokens' ? [{ user: each.user, beforeMs: each.atMs }] : [],
      ),
    };
  }

  async audit(before: number | undefined, limit: number, user?: string): Promise<readonly AuditEntry[]> {
    return this.#moderation
      .map((action, index) => ({ ...action, number: index + 1 }))
      .filter((each) => before === undefined || each.number < before)
      .filter((each) => user === undefined || each.user === user)
      .slice(-limit)
      .reverse();
  }

  async notify(drafts: readonly NoticeDraft[]): Promise<readonly InboxEntry[]> {
    return drafts.map((draft) => {
      const inbox = this.#inbox(draft.user);
      for (const [number, { key }] of inbox.drafts)
        if (key !== undefined && key === draft.key) inbox.drafts.delete(number);
      inbox.head += 1;
      inbox.drafts.set(inbox.head, draft);
      const place = this.#placeInInbox(inbox.head);
      return {
        user: draft.user,
        place,
        notice: noticeOf(draft, place),
        unread: this.#unread(inbox.drafts, draft.atMs),
      };
    });
  }

  async inbox(user: string, after: Place | undefined, limit: number, nowMs: number): Promise<InboxSlice> {
    const inbox = this.#inbox(user);
    const from = after === undefined || after.volume !== this.#placeInInbox(0).volume ? 0 : after.number;
    const all = [...inbox.drafts].filter(([number, draft]) => number > from && isThere(draft, nowMs));
    return {
      notices: all.slice(0, limit).map(([number, draft]) => noticeOf(draft, this.#placeInInbox(number))),
      more: all.length > limit,
      unread: this.#unread(inbox.drafts, nowMs),
      head: this.#placeInInbox(inbox.head),
    };
  }

  async done(user: string, ids: readonly string[] | true, nowMs: number): Promise<number> {
    const { drafts } = this.#inbox(user);
    for (const [number, { id }] of drafts) if (ids === true || ids.includes(id)) drafts.delete(number);
    return this.#unread(drafts, nowMs);
  }

  async meet(users: readonly KnownUser[]): Promise<void> {
    for (const each of users) this.#users.set(each.id, each);
  }

  async usersWith(role: string): Promise<readonly string[]> {
    return [...this.#users.values()].filter(({ roles }) => roles.includes(role)).map(({ id }) => id);
  }

  async user(id: string): Promise<KnownUser | undefined> {
    return this.#users.get(id);
  }

  async mark(user: string, channel: ChannelName, place: Place | null, most: number): Promise<MarkState> {
    const marks = this.#marksIn(channel);
    if (place === null) marks.delete(user);
    else {
      const { head } = this.#log(channel);
      if (place.volume !== head.volume || place.number > head.number)
        throw refusal('bad-cursor', 'the channel has no such message', { where: '/cursor' });
      if (!marks.has(user) && (await this.unread(user)).length >= most)
        throw refusal('too-many-channels', `a user has read marks in at most ${most} channels`);
      marks.set(user, Math.max(place.number, marks.get(user) ?? 0));
    }
    return this.#standing(user, channel);
  }

  async unread(user: string, channels?: readonly ChannelName[]): Promise<readonly MarkState[]> {
    return [...this.#marks]
      .filter(([channel, marks]) => marks.has(user) && (channels === undefined || channels.includes(channel)))
      .map(([channel]) => this.#standing(user, channel))
      .sort((a, b) => (a.channel < b.channel ? -1 : 1));
  }

  async markedChannels(user: string): Promise<readonly ChannelName[]> {
    return [...this.#logs.keys()].filter((channel) => this.#marksIn(channel).has(user)).sort();
  }

  async marks(channel: ChannelName, limit: number, after = ''): Promise<readonly UserMark[]> {
    const { volume } = this.#log(channel).head;
    return [...this.#marksIn(channel)]
      .map(([user, number]) => ({ user, place: { volume, number } }))
      .filter(({ user }) => user > after)
      .sort((a, b) => (a.user < b.user ? -1 : 1))
      .slice(0, limit);
  }

  async knownUsers(ids: readonly string[]): Promise<readonly KnownUser[]> {
    return ids.flatMap((id) => this.#users.get(id) ?? []);
  }

  async noticeWith(user: string, key: string): Promise<Notice | undefined> {
    const { notices } = await this.inbox(user, undefined, Number.MAX_SAFE_INTEGER, 0);
    return notices.find((each) => each.key === key);
  }

  async mentions(user: string, sinceMs: number): ReturnType<EveryStore['mentions']> {
    const found: { channel: ChannelName; place: Place; by?: string }[] = [];
    for (const [channel, log] of this.#logs) {
      const mark = this.#marksIn(channel).get(user);
      const { volume } = log.head;
      const all = log.since({ volume, number: 0 }, everything).messages;
      for (const { place, isMessage, message } of [...all].reverse()) {
        const isNew = mark === undefined ? message.at >= new Date(sinceMs).toISOString() : place.number > mark;
        if (
          isMessage &&
          isNew &&
          !message.withdrawn &&
          this.#mentioned.get(`${channel} ${place.number}`)?.includes(user)
        )
          found.push({ channel, place, ...(message.by && { by: message.by.user }) });
      }
    }
    return found;
  }

  async lastAt(channels: readonly ChannelName[]): Promise<readonly number[]> {
    return channels.map((channel) => {
      const { volume } = this.#log(channel).head;
      return this.#log(channel).since({ volume, number: 0 }, everything).messages.at(-1)?.atMs ?? 0;
    });
  }

  async searchable(channels: readonly ChannelName[]): Promise<readonly number[]> {
    return channels.map((channel) => this.#searched.get(channel)?.upTo ?? 0);
  }

  async index(
    channel: ChannelName,
    { from, upTo }: { readonly from: number; readonly upTo: number },
    entries: readonly SearchEntry[],
  ): Promise<void> {
    const kept = this.#searched.get(channel) ?? { upTo: 0, entries: new Map<number, SearchEntry>() };
    if (kept.upTo !== from) return;
    for (const each of entries)
      if (each.words.length === 0) kept.entries.delete(each.number);
      else kept.entries.set(each.number, each);
    this.#searched.set(channel, { upTo, entries: kept.entries });
  }

  async searchedChannels(after: string, limit: number, prefix = ''): Promise<readonly ChannelName[]> {
    const names = [...this.#searched.keys()].filter((name) => name > after && name.startsWith(prefix));
    return names.sort().slice(0, limit);
  }

  async unindex(channel: ChannelName, _limit: number): Promise<number> {
    const count = this.#searched.get(channel)?.entries.size ?? 0;
    this.#searched.delete(channel);
    return count;
  }

  async search({ query, channels, by, types, sinceMs, untilMs, limit }: SearchLookup): Promise<SearchFound> {
    const found: LoggedMessage[] = [];
    for (const [channel, { entries }] of this.#searched) {
      if (channels !== undefined && !channels.includes(channel)) continue;
      for (const { number, words, ...each } of entries.values()) {
        const there = words.map((word) => ({ word, from: 0, to: 0 }));
        if (!query.all.every((term) => placesOf(term, there).length > 0)) continue;
        if (query.none.some((term) => placesOf(term, there).length > 0)) continue;
        if ((by && !by.includes(each.by ?? '')) || (types && !types.includes(each.type))) continue;
        if (each.atMs < (sinceMs ?? 0) || each.atMs >= (untilMs ?? Number.POSITIVE_INFINITY)) continue;
        const message = this.#at(channel, number);
        if (message !== undefined && !message.message.withdrawn) found.push(message);
      }
    }
    return { messages: found.sort((a, b) => b.atMs - a.atMs).slice(0, limit) };
  }

  async setLevel({ user, channel, level, untilMs, atMs, most }: LevelWish): Promise<void> {
    const key = `${user} ${channel}`;
    if (level === null) this.#levels.delete(key);
    else {
      const all = await this.levels(user, atMs);
      if (all.length >= most && !this.#levels.has(key))
        throw refusal('too-many-levels', `a user sets the levels of at most ${most} channels`);
      this.#levels.set(key, { user, channel, level, ...defined({ untilMs }) });
    }
  }

  async levels(user: string, nowMs: number): Promise<readonly KeptLevel[]> {
    const all = [...this.#levels.values()].filter((each) => each.user === user && (each.untilMs ?? nowMs + 1) > nowMs);
    return all.sort((a, b) => (a.channel < b.channel ? -1 : 1));
  }

  async levelsIn(channel: ChannelName, users: readonly string[], nowMs: number): Promise<readonly KeptLevel[]> {
    const all = await Promise.all(users.map((user) => this.levels(user, nowMs)));
    return all.flat().filter((each) => each.channel === channel);
  }

  async hasLevels(): Promise<boolean> {
    return this.#levels.size > 0;
  }

  async invite({ digest, ...draft }: InvitationDraft, most: number): Promise<void> {
    const open = [...this.#invitations.values()].filter(
      (each) => each.channel === draft.channel && whyOver(each, draft.atMs) === undefined,
    );
    if (open.length >= most) throw refusal('too-many-invitations', `at most ${most} are open for a channel`);
    this.#invitations.set(digest, { ...draft, used: 0 });
  }

  async accept({ digest, user, atMs, untilMs, most }: Acceptance): ReturnType<EveryStore['accept']> {
    const found = this.#invitations.get(digest);
    if (found === undefined) return undefined;
    const { channel, id, role } = found;
    const before = this.#admissions.get(`${user} ${channel}`);
    if (before?.invitation === id && found.revokedAtMs === undefined && letsIn(before, atMs)) return before;
    const over = whyOver(found, atMs, user);
    if (over !== undefined) return { over };
    if (before === undefined && (await this.admissions(user)).length >= most) return { over: 'too-many' };
    this.#invitations.set(digest, { ...found, used: found.used + 1 });
    const admission = { user, channel, invitation: id, atMs, ...defined({ role, untilMs }) };
    this.#admissions.set(`${user} ${channel}`, admission);
    return admission;
  }

  async invitations(channel: ChannelName, limit: number, before?: string): Promise<readonly KeptInvitation[]> {
    const all = [...this.#invitations.values()].filter((each) => each.channel === channel).reverse();
    const from = before === undefined ? 0 : all.findIndex(({ id }) => id === before) + 1;
    return all.slice(from, from + limit);
  }

  async invitation(id: string): Promise<KeptInvitation | undefined> {
    return [...this.#invitations.values()].find((each) => each.id === id);
  }

  async endInvitation(
    id: string,
    admitted: boolean,
    { atMs }: { readonly atMs: number },
  ): ReturnType<EveryStore['endInvitation']> {
    const found = [...this.#invitations].find(([, each]) => each.id === id);
    if (found === undefined) return undefined;
    const invitation = { ...found[1], revokedAtMs: found[1].revokedAtMs ?? atMs };
    this.#invitations.set(found[0], invitation);
    const those = admitted ? [...this.#admissions].filter(([, each]) => each.invitation === id) : [];
    for (const [key] of those) this.#admissions.delete(key);
    return { invitation, users: those.map(([, { user }]) => user).sort() };
  }

  async admissions(user: string): Promise<readonly Admission[]> {
    return [...this.#admissions.values()].filter((each) => each.user === user);
  }

  async admissionsIn(channel: ChannelName, limit: number, after: string): Promise<readonly Admission[]> {
    const all = [...this.#admissions.values()].filter((each) => each.channel === channel && each.user > after);
    return all.sort((a, b) => (a.user < b.user ? -1 : 1)).slice(0, limit);
  }

  async endAdmission(channel: ChannelName, user: string): Promise<boolean> {
    return this.#admissions.delete(`${user} ${channel}`);
  }

  async block({ user, other, as, atMs, most }: BlockWish): Promise<void> {
    const kept = this.#blocks.get(user) ?? new Map<string, KeptBlock>();
    this.#blocks.set(user, kept);
    if (as === null) kept.delete(other);
    else if (kept.get(other)?.as !== as) {
      if (!kept.has(other) && kept.size >= most)
        throw refusal('too-many-blocks', `a user keeps at most ${most} users away`);
      kept.set(other, { user, other, as, atMs });
    }
  }

  async blocks(users: readonly string[]): Promise<readonly KeptBlock[]> {
    return users.flatMap((user) => [...(this.#blocks.get(user)?.values() ?? [])]);
  }

  async blocking(other: string, users: readonly string[]): Promise<readonly string[]> {
    return users.filter((user) => this.#blocks.get(user)?.get(other)?.as === 'blocked');
  }

  async hasBlocks(): Promise<boolean> {
    return [...this.#blocks.values()].some(({ size }) => size > 0);
  }

  #marksIn(channel: ChannelName): Map<string, number> {
    const marks = this.#marks.get(channel) ?? new Map<string, number>();
    this.#marks.set(channel, marks);
    return marks;
  }

  #standing(user: string, channel: ChannelName): MarkState {
    const number = this.#marksIn(channel).get(user);
    const counted = this.#counted.get(channel) ?? 0;
    if (number === undefined) return { channel, unread: 0, counted };
    const { volume } = this.#log(channel).head;
    const { messages } = this.#log(channel).since({ volume, number }, everything);
    const isUnread = ({ type, by, withdrawn }: Message): boolean =>
      countsAsUnread(type) && by?.user !== user && !withdrawn;
    const unread = messages.filter((each) => each.isMessage && isUnread(each.message));
    return { channel, place: { volume, number }, unread: unread.length, counted, ...this.#hiddenOf(user, unread) };
  }

  /** How many of these are by users whom the user keeps away. */
  #hiddenOf(user: string, unread: readonly LoggedMessage[]): Pick<MarkState, 'hidden'> {
    const kept = this.#blocks.get(user);
    const by = (as: BlockKind): number =>
      unread.filter(({ message }) => kept?.get(message.by?.user ?? '')?.as === as).length;
    const hidden = { blocked: by('blocked'), muted: by('muted') };
    return hidden.blocked + hidden.muted === 0 ? {} : { hidden };
  }

  #inbox(user: string): { head: number; drafts: Map<number, NoticeDraft> } {
    const inbox = this.#inboxes.get(user) ?? { head: 0, drafts: new Map() };
    this.#inboxes.set(user, inbox);
    return inbox;
  }

  #placeInInbox(number: number): Place {
    this.#inboxVolume ??= this.#ids.volume();
    return { volume: this.#inboxVolume, number };
  }

  #unread(drafts: ReadonlyMap<number, NoticeDraft>, nowMs: number): number {
    return [...drafts.values()].filter((draft) => isThere(draft, nowMs)).length;
  }

  #log(channel: ChannelName): RecentLog {
    let log = this.#logs.get(channel);
    if (log === undefined) {
      log = new RecentLog(channel, this.#ids.volume());
      this.#logs.set(channel, log);
    }
    return log;
  }
}

function isThere({ untilMs }: NoticeDraft, nowMs: number): boolean {
  return untilMs === undefined || untilMs > nowMs;
}

/** As a database does it: without messages that do not fit, and with how far it has looked. */
/** Who has reacted to a message, by word, and the version of the last change. */
interface ReactedTo {
  version: number;
  readonly words: Map<string, Map<string, Author>>;
}

function countsOf(words: ReadonlyMap<string, ReadonlyMap<string, Author>>): ReactionCounts {
  return Object.fromEntries([...words].map(([word, users]) => [word, users.size]));
}

function fitting(slice: LogSlice, { filters }: ReadLimit, isForward: boolean): LogSlice {
  const end = isForward ? slice.messages.at(-1) : slice.messages[0];
  if (filters === undefined || end === undefined) return slice;
  const messages = slice.messages.filter(
    (one) => !one.isMessage || filters.every((each) => filterFits(each, one.message)),
  );
  return { ...slice, messages, upTo: end.place };
}

function revokes({ type, user, atMs }: ModerationAction, author: string | undefined, issuedAtMs: number): boolean {
  return (type === 'sign-out' || type === 'revoke-tokens') && user === author && issuedAtMs < atMs;
}

/** Tells whether a ban or silence replaces an earlier one. */
function replaces(action: ModerationAction, earlier: ModerationAction): boolean {
  const scopeOf = ({ type, user, ...more }: ModerationAction): string =>
    JSON.stringify([type, user, 'address' in more && more.address, 'channel' in more && more.channel]);
  return scopeOf(action) === scopeOf(earlier);
}
