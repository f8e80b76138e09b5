import type { Block, BlockKind, MessageFilter } from '@nine-bells/wire';

/** What a channel rule says of messages by users whom another user keeps away. */
export interface BlockingRule {
  readonly direct?: boolean;
  readonly marksBlocked?: boolean;
}

/** A user blocks or mutes another, or with `as` null no longer. */
export interface BlockWish {
  readonly user: string;
  readonly other: string;
  readonly as: BlockKind | null;
  readonly atMs: number;
  /** Most users that one user keeps away. */
  readonly most: number;
}

/** A block as it is kept. */
export interface KeptBlock {
  readonly user: string;
  readonly other: string;
  readonly as: BlockKind;
  readonly atMs: number;
}

/** Whom a user keeps away. */
export class BlockList {
  static readonly empty = new BlockList([]);

  readonly blocks: readonly Block[];
  readonly #as: ReadonlyMap<string, BlockKind>;
  /** What is let through in direct channels, and in others; `undefined`: everything. */
  readonly #direct: MessageFilter | undefined;
  readonly #other: MessageFilter | undefined;

  /** @param kept - of one user */
  constructor(kept: readonly KeptBlock[]) {
    const sorted = [...kept].sort((a, b) => (a.other < b.other ? -1 : 1));
    this.blocks = sorted.map(({ other, as, atMs }) => ({ user: other, as, at: new Date(atMs).toISOString() }));
    this.#as = new Map(sorted.map(({ other, as }) => [other, as]));
    this.#direct = without(sorted.filter(({ as }) => as === 'blocked'));
    this.#other = without(sorted);
  }

  /** Whether what another user says in a channel of a rule is kept away from the user. */
  hides(other: string, { direct = false }: BlockingRule): boolean {
    const as = this.#as.get(other);
    return as === 'blocked' || (as === 'muted' && !direct);
  }

  /** Which messages the user gets in channels of a rule; `undefined`: all. The same object each time. */
  filterFor({ direct = false, marksBlocked = false }: BlockingRule): MessageFilter | undefined {
    if (marksBlocked) return undefined;
    return direct ? this.#direct : this.#other;
  }

  isSameAs({ blocks }: BlockList): boolean {
    return JSON.stringify(blocks) === JSON.stringify(this.blocks);
  }
}

function without(kept: readonly KeptBlock[]): MessageFilter | undefined {
  return kept.length === 0 ? undefined : { notBy: kept.map(({ other }) => other) };
}
