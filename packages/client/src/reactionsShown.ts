import type { Cursor, EnteredReactions, ReactionCounts, ReactionsOf, ReactionsPush } from '@nine-bells/wire';

/** How users have reacted to a message. */
export interface MessageReactions {
  /** How many, by the word or emoji. */
  readonly counts: ReactionCounts;
  /** Your own. */
  readonly own: readonly string[];
}

/** Messages whose reactions are remembered: those that were told of last. */
const maxMessages = 2_000;

/** Reactions to the messages of a channel, as far as they were told. */
export class ReactionsShown {
  readonly #of = new Map<string, MessageReactions>();
  #version: Cursor | undefined;
  /** Changes before this version are still missing: pushes have brought later ones. */
  #isBehind = false;

  /** To ask with after a break. */
  get version(): Cursor | undefined {
    return this.#version;
  }

  get all(): ReadonlyMap<string, MessageReactions> {
    return this.#of;
  }

  /** What came with the reply to `enter`. Gives the messages that have changed. */
  entered(given: EnteredReactions): readonly string[] {
    if (given.version !== undefined) {
      this.#version = given.version;
      this.#isBehind = given.more === true;
    }
    return this.load(given);
  }

  /** What came with messages. Gives those of them that have reactions. */
  load(given: ReactionsOf): readonly string[] {
    const own = given.own ?? {};
    for (const [cursor, counts] of Object.entries(given.counts)) this.#set(cursor, counts, own[cursor] ?? []);
    return Object.keys(given.counts);
  }

  take({ version, counts }: ReactionsPush): readonly string[] {
    if (!this.#isBehind) this.#version = version;
    for (const [cursor, each] of Object.entries(counts)) {
      const own = this.#of.get(cursor)?.own ?? [];
      this.#set(
        cursor,
        each,
        own.filter((word) => each[word] !== undefined),
      );
    }
    return Object.keys(counts);
  }

  /** You have reacted, or taken that back. */
  reacted(cursor: string, word: string, on: boolean, counts: ReactionCounts): void {
    const others = (this.#of.get(cursor)?.own ?? []).filter((each) => each !== word);
    this.#set(cursor, counts, on ? [...others, word] : others);
  }

  /** A message was withdrawn. */
  forget(cursor: string): boolean {
    return this.#of.delete(cursor);
  }

  #set(cursor: string, counts: ReactionCounts, own: readonly string[]): void {
    this.#of.delete(cursor);
    if (Object.keys(counts).length === 0) return;
    this.#of.set(cursor, { counts, own });
    if (this.#of.size <= maxMessages) return;
    for (const oldest of this.#of.keys()) {
      this.#of.delete(oldest);
      break;
    }
  }
}
