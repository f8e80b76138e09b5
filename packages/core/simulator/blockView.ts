import type { Message } from '@nine-bells/wire';
import type { Random } from './random.js';

/** What a client has asked about one other user, and when: by how many messages were logged until then. */
interface Standing {
  /** Requests about it have overlapped, or one got no answer: which of them came last, no client knows. */
  isUnsure: boolean;
  /** From then on it holds for certain: it was acknowledged, and nothing else was asked for since. */
  sinceCount: number | undefined;
  /** From then on it does not hold for certain. */
  overSinceCount: number;
}

/** Whom a simulated client keeps away, and what may reach it therefore. */
export class BlockView {
  readonly #count: () => number;
  readonly #others = new Map<string, Standing>();
  readonly #asked = new Map<number, { readonly other: string; readonly blocks: boolean }>();
  /** Blocks that were acknowledged. */
  acknowledged = 0;

  /** @param count - how many messages were logged so far */
  constructor(count: () => number) {
    this.#count = count;
  }

  /** A request that blocks or mutes a user, or hears it again. */
  request(id: number, others: readonly string[], random: Random): object {
    const other = random.pick(others);
    const blocks = random.chance(0.5);
    const standing = this.#others.get(other) ?? {
      isUnsure: false,
      sinceCount: undefined,
      overSinceCount: 0,
      answeredAtMs: 0,
    };
    this.#others.set(other, standing);
    standing.sinceCount = undefined;
    standing.isUnsure ||= this.#isUnderWay(other);
    standing.overSinceCount = Number.POSITIVE_INFINITY;
    this.#asked.set(id, { other, blocks });
    return blocks
      ? { do: 'block', id, user: other, as: random.pick(['blocked', 'muted']) }
      : { do: 'unblock', id, user: other };
  }

  /** Takes the answer to a request of this kind; `false`: it is of another. */
  answered(id: number, code: string | undefined): boolean {
    const asked = this.#asked.get(id);
    if (asked === undefined) return false;
    this.#asked.delete(id);
    const standing = this.#others.get(asked.other) as Standing;
    if (code !== undefined) standing.isUnsure = true;
    if (standing.isUnsure) return true;
    this.acknowledged += 1;
    if (asked.blocks) standing.sinceCount = this.#count();
    else standing.overSinceCount = this.#count();
    return true;
  }

  /** The connection has ended: what was not answered may have been done, and may be done yet. */
  closed(): void {
    for (const { other } of this.#asked.values()) (this.#others.get(other) as Standing).isUnsure = true;
    this.#asked.clear();
  }

  /** The service may have forgotten any of its blocks, and their ends. */
  restored(): void {
    for (const standing of this.#others.values()) {
      standing.isUnsure = true;
      standing.sinceCount = undefined;
      standing.overSinceCount = Number.POSITIVE_INFINITY;
    }
  }

  /**
   * It is welcomed with the blocks of its user, as far as the instance knows them.
   *
   * @param mayMiss - it may have missed that they have changed
   */
  welcomed(blocks: readonly { readonly user: string }[], mayMiss: boolean): void {
    if (!mayMiss) return;
    for (const [other, standing] of this.#others) {
      if (standing.sinceCount === undefined || blocks.some(({ user }) => user === other)) continue;
      standing.sinceCount = undefined;
    }
  }

  /** Whether a message must not come: its author was kept away when it was logged. */
  forbids({ by }: Message, count: number): boolean {
    const since = by && this.#others.get(by.user)?.sinceCount;
    return since !== undefined && count > since;
  }

  /** Whether a message may be missing: its author was, or may have been, kept away then or later. */
  mayHide({ by }: Message, count: number): boolean {
    const standing = by && this.#others.get(by.user);
    return standing !== undefined && count <= standing.overSinceCount;
  }

  #isUnderWay(other: string): boolean {
    return [...this.#asked.values()].some((each) => each.other === other);
  }

  /** Whether a client may not know how messages of an author stand. */
  knowsLess({ by }: Message): boolean {
    return by !== undefined && this.#others.has(by.user);
  }
}
