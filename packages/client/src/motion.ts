import type { Json } from '@nine-bells/wire';
import type { Board } from './board.js';

export interface MotionOptions {
  /**
   * How far behind the values are shown, in milliseconds: about the time between two frames, so that there is mostly one to go
   * to. Default 200.
   */
  readonly behindMs?: number;
  /** Members that are angles in degrees: from 350 to 10 goes by 0. */
  readonly angles?: readonly string[];
}

interface Sample {
  readonly value: Json;
  readonly atMs: number;
}

/** Samples of an entry that are remembered: more than come within the time that is shown behind. */
const maxSamples = 8;

/**
 * Numbers of a board between its frames, for drawing: each goes evenly from one value to the next.
 *
 * @example
 * const motion = new Motion(race.board, { angles: ['heading'] });
 * const draw = () => {
 *   for (const [boat, { x, y }] of motion.at(performance.now())) place(boat, x, y);
 *   requestAnimationFrame(draw);
 * };
 */
export class Motion<Value> {
  readonly #board: Board<Value>;
  readonly #behindMs: number;
  readonly #angles: ReadonlySet<string>;
  readonly #samples = new Map<string, Sample[]>();

  constructor(board: Board<Value>, { behindMs = 200, angles = [] }: MotionOptions = {}) {
    this.#board = board;
    this.#behindMs = behindMs;
    this.#angles = new Set(angles);
    const now = performance.now();
    for (const [entry, value] of board) this.#samples.set(entry, [{ value: value as Json, atMs: now }]);
    board.addEventListener('change', this.#changed);
  }

  /** All entries at a time of `performance.now()`, which is shown behind. */
  *at(nowMs: number): IterableIterator<[string, Value]> {
    for (const [entry, samples] of this.#samples) {
      // Interpolated values have the shape of those that they lie between.
      yield [entry, this.#valueOf(samples, nowMs - this.#behindMs) as Value];
    }
  }

  /** Stops following the board. */
  close(): void {
    this.#board.removeEventListener('change', this.#changed);
    this.#samples.clear();
  }

  readonly #changed = ({
    detail: { set, gone },
  }: CustomEvent<{ set: ReadonlyMap<string, Value>; gone: readonly string[] }>): void => {
    const atMs = performance.now();
    for (const [entry, value] of set) {
      const samples = this.#samples.get(entry) ?? [];
      const last = samples.at(-1);
      // After a rest it sets out from where it was, a moment ago.
      if (last !== undefined && atMs - last.atMs > 2 * this.#behindMs)
        samples.push({ value: last.value, atMs: atMs - this.#behindMs });
      samples.push({ value: value as Json, atMs });
      this.#samples.set(entry, samples.slice(-maxSamples));
    }
    for (const entry of gone) this.#samples.delete(entry);
  };

  #valueOf(samples: readonly Sample[], atMs: number): Json {
    const index = samples.findLastIndex((each) => each.atMs <= atMs);
    const from = samples[Math.max(0, index)] as Sample;
    const to = samples[index + 1];
    if (index < 0 || to === undefined) return from.value;
    return this.#between(from.value, to.value, (atMs - from.atMs) / (to.atMs - from.atMs), false);
  }

  #between(from: Json, to: Json, part: number, isAngle: boolean): Json {
    if (typeof from === 'number' && typeof to === 'number') {
      if (!isAngle) return from + (to - from) * part;
      const turn = ((((to - from) % 360) + 540) % 360) - 180;
      return (from + turn * part + 360) % 360;
    }
    if (!isMap(from) || !isMap(to)) return from;
    const between: Record<string, Json> = { ...to };
    for (const [name, value] of Object.entries(from))
      if (Object.hasOwn(to, name)) between[name] = this.#between(value, to[name] as Json, part, this.#angles.has(name));
    return between;
  }
}

function isMap(value: Json): value is Readonly<Record<string, Json>> {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}
