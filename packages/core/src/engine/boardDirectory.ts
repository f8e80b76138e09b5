import { type ChannelName, type Cursor, defined, formatCursor, type Json, type SetResult } from '@nine-bells/wire';
import type { Boards, EntryPlaces, EntryWish } from '../boards/boards.js';
import type { ChannelRules } from '../rules/channelRule.js';

/** An entry of a board, for applications and operators. */
export interface BoardEntry {
  readonly entry: string;
  readonly value: Json;
  /** The board's version at which it was changed last. */
  readonly version: Cursor;
  /** The user who set it; absent: an application did. */
  readonly by?: string;
  /** How much longer it lives, in milliseconds; absent: until it is removed. */
  readonly leftMs?: number;
  /** It goes with this session. */
  readonly session?: string;
}

/** A board, for applications and operators. */
export interface BoardInfo {
  readonly channel: ChannelName;
  /** Where it stands; absent: nothing was ever set, or it has been forgotten. */
  readonly version?: Cursor;
  readonly entries: readonly BoardEntry[];
}

/** Boards, for applications. */
export class BoardDirectory {
  readonly #rules: ChannelRules;
  readonly #boards: Boards;

  constructor(rules: ChannelRules, boards: Boards) {
    this.#rules = rules;
    this.#boards = boards;
  }

  /**
   * Sets or removes an entry.
   *
   * @param where - where the request has it
   * @throws {ProblemError} `no-such-channel`, `bad-value`, `bad-name`, `too-large`, `busy`, `conflict`, `board-full`,
   *   `unavailable`
   */
  async set(channel: ChannelName, wish: EntryWish, where?: EntryPlaces): Promise<SetResult> {
    return this.#boards.set(this.#rules.require(channel), wish, {}, where);
  }

  /**
   * A board as it is now.
   *
   * @throws {ProblemError} `no-such-channel`, `bad-value` where the rule has no board, `unavailable`
   */
  async read(channel: ChannelName): Promise<BoardInfo> {
    const board = await this.#boards.read(this.#rules.require(channel));
    if (board === undefined) return { channel, entries: [] };
    const { volume, number, records } = board;
    return {
      channel,
      version: formatCursor({ volume, number }),
      entries: records.map(({ entry, value = null, number: at, by, forMs, holder }) => ({
        entry,
        value,
        version: formatCursor({ volume, number: at }),
        ...defined({ by, leftMs: forMs === undefined ? undefined : Math.round(forMs), session: holder?.session }),
      })),
    };
  }
}
