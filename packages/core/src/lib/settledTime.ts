/** A difference between the clocks that is no jump but drift, in milliseconds. */
const driftMs = 2_000;
/** A jump ahead counts after it has stood for this time, in milliseconds. */
const standsMs = 600_000;

/**
 * A wall clock whose jumps ahead count only once they have stood for ten minutes. What cannot be undone goes by it: pruning, forgetting
 * keys, ending bans. Steps back count at once.
 */
export class SettledTime {
  readonly #wall: () => number;
  readonly #monotonic: () => number;
  /** The last reading of both clocks that was believed. */
  #believed: { readonly wallMs: number; readonly atMs: number } | undefined;
  #jump: { readonly byMs: number; readonly sinceMs: number } | undefined;

  /**
   * @param wall - milliseconds since the epoch; may jump
   * @param monotonic - milliseconds; never jumps
   */
  constructor(wall: () => number, monotonic: () => number) {
    this.#wall = wall;
    this.#monotonic = monotonic;
  }

  /** Milliseconds since the epoch. */
  readonly now = (): number => {
    const wallMs = this.#wall();
    const atMs = this.#monotonic();
    if (this.#believed === undefined) return this.#believe(wallMs, atMs);
    const expectedMs = this.#believed.wallMs + (atMs - this.#believed.atMs);
    const byMs = wallMs - expectedMs;
    if (byMs <= driftMs) return this.#believe(wallMs, atMs);
    if (this.#jump === undefined || Math.abs(byMs - this.#jump.byMs) > driftMs) this.#jump = { byMs, sinceMs: atMs };
    if (atMs - this.#jump.sinceMs >= standsMs) return this.#believe(wallMs, atMs);
    return expectedMs;
  };

  #believe(wallMs: number, atMs: number): number {
    this.#jump = undefined;
    this.#believed = { wallMs, atMs };
    return wallMs;
  }
}
