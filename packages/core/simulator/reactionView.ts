import type { Cursor, EnteredReactions, ReactionCounts, ReactionsPush } from '@nine-bells/wire';

/** How a client has been told that users have reacted in a channel. */
export class ReactionView {
  /** To ask with after a break. */
  version: Cursor | undefined;
  readonly counts = new Map<string, ReactionCounts>();
  /** Changes before the version are still missing. */
  #isBehind = false;

  /** Takes what came with the reply to `enter`. Says whether to enter again at once. */
  entered(given: EnteredReactions): boolean {
    if (given.version !== undefined) {
      this.version = given.version;
      this.#isBehind = given.more === true;
    }
    this.#load(given.counts);
    return given.more === true;
  }

  pushed({ version, counts }: ReactionsPush): void {
    if (!this.#isBehind) this.version = version;
    this.#load(counts);
  }

  #load(counts: ReactionsPush['counts']): void {
    for (const [cursor, each] of Object.entries(counts)) this.counts.set(cursor, each);
  }
}
