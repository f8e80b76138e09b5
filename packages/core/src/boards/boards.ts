import {
  type ChannelName,
  type Cursor,
  defined,
  entryNameFault,
  formatCursor,
  type Json,
  ProblemError,
  type Published,
  parseCursor,
  problem,
  refusal,
  type SetResult,
} from '@nine-bells/wire';
import type { FeatureChannel, FeatureSource } from '../channel/feature.js';
import type { Contracts } from '../contracts/contracts.js';
import { valueAt } from '../lib/jsonPointer.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import {
  type BoardApplied,
  type BoardBounds,
  type BoardChange,
  type BoardCondition,
  type BoardRecord,
  type BoardRule,
  type BoardSnapshot,
  bytesOf,
  type Holder,
  type PlacedRecord,
} from '../model/board.js';
import type { Counters } from '../model/counters.js';
import { defaultPresence } from '../model/presenceRule.js';
import type { Flow } from '../model/traffic.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';
import type { Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { BoardStore } from '../ports/stores.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';
import { Board, type OwnChange } from './board.js';
import { BoardWriter } from './boardWriter.js';
import type { Entry } from './entryList.js';
import { KeptBoards } from './keptBoards.js';

export interface BoardsHost {
  readonly rules: ChannelRules;
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly ids: Ids;
  readonly relay: Relay;
  readonly report: Report;
  readonly counters: Counters;
  readonly store: BoardStore;
  readonly contracts: Contracts;
  /** How often boards that outlive a restart are saved, in milliseconds. */
  readonly boardSaveMs: number;
  /** This instance, where there are no others. */
  readonly self: string;
  /** An entry was set or removed here. */
  readonly changed?: (channel: ChannelName) => void;
  /** A channel is not kept open by its board any more. */
  readonly emptied: (channel: ChannelName) => void;
}

/** A request to set or remove an entry. */
export interface EntryWish {
  readonly entry: string;
  /** `null`: it is removed. */
  readonly value: Json;
  /** Only if it has not changed since; `null`: only if it is not there. */
  readonly ifVersion?: Cursor | null;
  /** How long it lives, in milliseconds. */
  readonly forMs?: number;
}

/** JSON Pointers to the parts of a request, for `where` in refusals. */
export interface EntryPlaces {
  readonly entry: string;
  readonly value: string;
  readonly ifVersion: string;
}

/** The same of a message that becomes an entry by its type. */
export const messagePlaces: EntryPlaces = { entry: '/data', value: '/data', ifVersion: '' };

const ownPlaces: EntryPlaces = { entry: '/entry', value: '/value', ifVersion: '/ifVersion' };

/** Who sets an entry. */
export interface Setter {
  readonly user?: string;
  readonly session?: string;
  /** With it, the entry goes when the session leaves the channel. */
  readonly generation?: number;
}

/** How often boards are looked at where they are kept, in milliseconds. */
const lookMs = 5_000;
/** The boards of channels: those that clients here look at, and all changes made here. */
export class Boards implements FeatureSource {
  readonly #host: BoardsHost;
  readonly #all = new Map<ChannelName, Board>();
  /** What goes through their channels. */
  readonly #flows = new Map<ChannelName, Flow>();
  readonly #writer: BoardWriter;
  readonly #kept: KeptBoards;
  #isStopped = false;

  constructor(host: BoardsHost) {
    this.#host = host;
    const { relay, clock, wheel, store, report } = host;
    this.#kept = new KeptBoards({ relay, wheel, store, report, saveMs: host.boardSaveMs });
    this.#writer = new BoardWriter({
      clock,
      isFar: relay.others !== undefined,
      change: (channel, changes, bounds) => this.#change(channel, changes, bounds),
      merged: (channel) => {
        const flow = this.#flows.get(channel);
        if (flow !== undefined) flow.merged += 1;
      },
    });
    if (relay.others !== undefined) this.#lookLater();
  }

  attach({ name, match, flow }: FeatureChannel): Board | undefined {
    const { board: rule, presence } = match.rule;
    if (rule === undefined) return undefined;
    const { clock, relay, report, counters, self, emptied } = this.#host;
    const board = new Board(name, rule, {
      read: () => this.#readOrMake(name, rule),
      change: (entry, change) => this.#changeOwn(match, entry, change),
      now: () => clock.monotonic(),
      after: (delayMs, act) => clock.setTimer(delayMs, act),
      soon: (act) => clock.endOfTurn(act),
      self: () => relay.others?.self ?? self,
      isThere: (instanceId) => relay.others?.list().some((each) => each.instanceId === instanceId) ?? false,
      graceMs: presence?.graceMs ?? defaultPresence.graceMs,
      failed: (error) => report(error, { event: 'board-unread', channel: name }),
      told: (frames, bytes) => {
        counters.deliveries += frames;
        flow.deliveries += frames;
        flow.bytes += bytes;
      },
      merged: (changes) => {
        flow.merged += changes;
      },
      emptied: () => emptied(name),
      closed: () => {
        if (this.#all.get(name) !== board) return;
        this.#all.delete(name);
        this.#flows.delete(name);
      },
    });
    this.#all.set(name, board);
    this.#flows.set(name, flow);
    return board;
  }

  /** The board of an open channel; `undefined` where the channel's rule has none. */
  get(channel: ChannelName): Board | undefined {
    return this.#all.get(channel);
  }

  /**
   * Sets or removes an entry. Resolves when the board has it, or a later value of the same entry.
   *
   * @throws {ProblemError} `bad-value` where the rule has no board, and for a time that is none; `bad-name`, `too-large`,
   *   `busy`, and `not-allowed` and `bad-data` by the rule's contract, in this turn; as a rejection `conflict`, `board-full`, `busy`, `unavailable`
   */
  set(match: RuleMatch, wish: EntryWish, setter: Setter, where: EntryPlaces = ownPlaces): Promise<SetResult> {
    const rule = boardRuleOf(match);
    const { entry, value, ifVersion, forMs = rule.forMs } = wish;
    const fault = entryNameFault(entry);
    if (fault !== undefined) throw refusal('bad-name', fault, { where: where.entry });
    const bytes = utf8.encode(JSON.stringify(value)).length;
    if (bytes > rule.valueBytes)
      throw refusal('too-large', `the value has ${bytes} bytes, at most ${rule.valueBytes} are allowed here`, {
        where: where.value,
      });
    if (match.hasContracts && value !== null) {
      const { user, session: client } = setter;
      const from = client === undefined ? 'applications' : 'clients';
      this.#host.contracts.checkEntry(
        match,
        { data: value, chars: bytes, where: where.value },
        { from, user, session: client },
      );
    }
    if (this.#isStopped) throw refusal('draining', 'set it again on another instance', { retryAfterMs: 1000 });
    const { relay, self } = this.#host;
    const { session, generation, user: by } = setter;
    const home = relay.others?.self ?? self;
    const holder: Holder | undefined =
      session === undefined || generation === undefined || value === null ? undefined : { session, generation, home };
    const record: BoardRecord = {
      entry,
      ...(value === null ? {} : { value, ...defined({ by, holder, forMs }) }),
      ...defined({ session }),
    };
    const condition = ifVersion === undefined ? undefined : conditionOf(ifVersion, where);
    const flow = this.#flows.get(match.channel);
    if (flow !== undefined) flow.changes += 1;
    const written = this.#write(match, { record, bytes: bytesOf(record), condition }, where);
    if (holder !== undefined)
      this.#all.get(match.channel)?.expectHolder(
        holder.session,
        written.then(
          ({ version }) => parseCursor(version)?.number ?? 0,
          () => 0,
        ),
      );
    return written;
  }

  /** The reply to a publish that set an entry. The id is unique, but no message has it. */
  asPublished({ entry, version }: SetResult): Published {
    const { ids, clock } = this.#host;
    return { id: ids.message(clock.now()), cursor: version, entry };
  }

  /** Whether messages of a type are entries of the board. */
  isEntryType({ rule }: RuleMatch, type: string | undefined): boolean {
    return type !== undefined && rule.board?.types !== undefined && Object.hasOwn(rule.board.types, type);
  }

  /**
   * The name of the entry that a message is.
   *
   * @throws {ProblemError} `bad-value`, `bad-name`
   */
  entryOf({ rule }: RuleMatch, type: string, data: Json): string {
    const pointer = rule.board?.types?.[type]?.entry ?? '';
    const name = valueAt(data, pointer);
    if (typeof name !== 'string')
      throw refusal('bad-value', `messages of the type ${type} name their entry here, as text`, {
        where: `/data${pointer}`,
      });
    const fault = entryNameFault(name);
    if (fault !== undefined) throw refusal('bad-name', fault, { where: `/data${pointer}` });
    return name;
  }

  /**
   * A board as it is now.
   *
   * @throws {ProblemError} `bad-value` where the rule has no board; as a rejection `unavailable`
   */
  async read(match: RuleMatch): Promise<BoardSnapshot | undefined> {
    const rule = boardRuleOf(match);
    const snapshot = await this.#read(match.channel, rule);
    return (
      snapshot && { ...snapshot, records: snapshot.records.filter(({ forMs }) => forMs === undefined || forMs > 0) }
    );
  }

  /** Saves what is to outlive the restart. */
  async stop(): Promise<void> {
    this.#isStopped = true;
    await this.#writer.settled();
    await this.#kept.stop();
  }

  // --------------------------------------------------------------------------------------------- inside

  async #write(match: RuleMatch, change: BoardChange, where: EntryPlaces): Promise<SetResult> {
    const { channel } = match;
    const rule = boardRuleOf(match);
    if (this.#host.relay.isCut)
      throw refusal('busy', 'this instance is cut off from the others', { retryAfterMs: 1000 });
    const bounds = boundsOf(rule);
    // Half of the pace: the other half is left for pushing it.
    const everyMs = rule.everyMs / 2;
    let { volume, outcome } = await this.#writer.write(channel, change, bounds, everyMs);
    if ('refused' in outcome && outcome.refused === 'full' && (await this.#removeEnded(channel, rule))) {
      ({ volume, outcome } = await this.#writer.write(channel, change, bounds, everyMs));
    }
    if ('number' in outcome) {
      this.#host.counters.boardChanges += 1;
      this.#host.changed?.(match.channel);
      return { entry: change.record.entry, version: formatCursor({ volume, number: outcome.number }) };
    }
    const { entry } = change.record;
    if (outcome.refused === 'conflict') {
      const { stands } = outcome;
      throw new ProblemError({
        ...problem('conflict', conflictText(entry, change.condition, stands), {
          where: where.ifVersion,
        }),
        ...(stands === undefined ? {} : { stands: standsOf(volume, stands) }),
      });
    }
    if (outcome.refused === 'busy')
      throw refusal('busy', 'all boards together have no more room', { retryAfterMs: 1000 });
    throw refusal('board-full', `a board here has at most ${rule.entries} entries, and ${rule.boardBytes} bytes`, {
      where: where.entry,
    });
  }

  /** Makes a board's own change. Returns `false` if it must be tried again. */
  async #changeOwn(match: RuleMatch, entry: Entry, change: OwnChange): Promise<boolean> {
    const { name, number, value, by, session, holder, endsAtMs } = entry;
    const { clock, relay, self, report } = this.#host;
    const condition: BoardCondition = { is: number };
    let own: BoardChange = { record: { entry: name }, bytes: 0, condition };
    if (!('removed' in change) && holder !== undefined && value !== undefined) {
      const forMs = endsAtMs === undefined ? undefined : Math.max(0, endsAtMs - clock.monotonic());
      const generation = Math.max(change.generation, holder.generation);
      const held = { session: holder.session, generation, home: relay.others?.self ?? self };
      const record = { entry: name, value, holder: held, ...defined({ by, session, forMs }) };
      own = { record, bytes: bytesOf(record), condition };
    }
    try {
      await this.#write(match, own, ownPlaces);
      return true;
    } catch (error) {
      const { code } = error instanceof ProblemError ? error : { code: undefined };
      if (code === 'conflict') return true;
      if (code !== 'busy') report(error, { event: 'board-cleanup-failed', channel: match.channel });
      return false;
    }
  }

  async #change(channel: ChannelName, changes: readonly BoardChange[], bounds: BoardBounds): Promise<BoardApplied> {
    const { relay } = this.#host;
    for (;;) {
      const applied = await relay.boards.change(channel, changes, bounds);
      // Marked behind the change: a save under way may have read the board before it.
      if (applied !== undefined && bounds.mustExist) this.#kept.changed(channel);
      if (applied !== undefined) return applied;
      await this.#kept.restore(channel);
    }
  }

  async #read(channel: ChannelName, rule: BoardRule): Promise<BoardSnapshot | undefined> {
    const { relay } = this.#host;
    const snapshot = await relay.boards.read(channel);
    if (snapshot !== undefined || !rule.kept) return snapshot;
    await this.#kept.restore(channel);
    return relay.boards.read(channel);
  }

  /** Reads a board, or makes an empty one, so that its numbers continue while clients are in the channel. */
  async #readOrMake(channel: ChannelName, rule: BoardRule): Promise<BoardSnapshot> {
    const found = await this.#read(channel, rule);
    if (found !== undefined) return found;
    const { relay } = this.#host;
    await relay.boards.restore(channel, []);
    const made = await relay.boards.read(channel);
    if (made === undefined) throw refusal('unavailable', 'the board is not there');
    return made;
  }

  /** Removes expired entries, which stay in boards that no client has entered. Returns whether there were any. */
  async #removeEnded(channel: ChannelName, rule: BoardRule): Promise<boolean> {
    const { relay } = this.#host;
    const ended = (await relay.boards.read(channel))?.records.filter(({ forMs }) => forMs !== undefined && forMs <= 0);
    if (ended === undefined || ended.length === 0) return false;
    const changes = ended.map(({ entry, number }) => ({ record: { entry }, bytes: 0, condition: { is: number } }));
    await relay.boards.change(channel, changes, boundsOf(rule));
    return true;
  }

  #lookLater(): void {
    this.#host.wheel.after(lookMs, () => {
      if (this.#isStopped) return;
      void this.#look();
      this.#lookLater();
    });
  }

  /** Compares the boards' numbers with the keeper's: the last change before a break may be missing. */
  async #look(): Promise<void> {
    const { relay, report } = this.#host;
    if (relay.isCut || this.#all.size === 0) return;
    const names = [...this.#all.keys()];
    try {
      const places = await relay.boards.places(names);
      for (const [index, name] of names.entries()) this.#all.get(name)?.lookAt(places[index]);
    } catch (error) {
      if (!relay.isCut) report(error, { event: 'board-check-failed' });
    }
  }
}

const utf8 = new TextEncoder();

/** @throws {ProblemError} `bad-value` */
export function boardRuleOf({ rule }: RuleMatch): BoardRule {
  if (rule.board !== undefined) return rule.board;
  throw refusal('bad-value', `channels of the rule ${rule.pattern} have no board`, { where: '/channel' });
}

function boundsOf({ entries, boardBytes, kept }: BoardRule): BoardBounds {
  return { entries, boardBytes, mustExist: kept === true };
}

function conditionOf(ifVersion: Cursor | null, where: EntryPlaces): BoardCondition {
  if (ifVersion === null) return { is: 0 };
  const unchangedSince = parseCursor(ifVersion);
  if (unchangedSince === undefined) throw refusal('bad-cursor', undefined, { where: where.ifVersion });
  return { unchangedSince };
}

function conflictText(entry: string, condition: BoardCondition | undefined, stands: PlacedRecord | undefined): string {
  if (stands === undefined) return `there is no ${entry}`;
  const isTaken = condition !== undefined && 'is' in condition && condition.is === 0;
  return isTaken ? `there is already an entry ${entry}` : `${entry} has changed`;
}

/** The entry as a `conflict` shows it. */
function standsOf(volume: string, { value = null, number, by }: PlacedRecord) {
  return { value, version: formatCursor({ volume, number }), ...defined({ by }) };
}
