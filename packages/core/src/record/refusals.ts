import { defined, type Problem, type ProblemCode } from '@nine-bells/wire';
import { BoundedMap } from '../lib/boundedMap.js';
import type { Counters } from '../model/counters.js';
import type { RefusalKind, Refused, RefusedOnce } from '../model/refusal.js';
import type { Clock } from '../ports/clock.js';

interface Kind {
  readonly code: ProblemCode;
  readonly act: string;
  readonly reportOnly?: true;
  count: number;
  readonly firstAtMs: number;
  lastAtMs: number;
  readonly latest: RefusedOnce[];
  /** When one was told last, and how many were not since then. */
  toldAtMs: number;
  untold: number;
}

/** Kinds that are remembered, and of each the latest. */
const maxKinds = 200;
const maxLatest = 5;
/** Longer texts are cut, in characters. */
const maxChars = 300;
/** Least time between two reports of one kind, in milliseconds. */
const tellEveryMs = 10_000;

/** Problems whose detail may quote what a client sent, and with it a secret. */
const quoting: ReadonlySet<ProblemCode> = new Set(['bad-frame']);

/** What this instance has refused, by kind, so that an operator sees why a client does not get in. */
export class Refusals {
  readonly #clock: Clock;
  readonly #counters: Counters;
  readonly #tell: (refused: Refused, untold: number) => void;
  readonly #kinds = new BoundedMap<string, Kind>(maxKinds);

  /** @param tell - told of the first of a kind and then now and then, with how many it was not told of since */
  constructor(clock: Clock, counters: Counters, tell: (refused: Refused, untold: number) => void = () => {}) {
    this.#clock = clock;
    this.#counters = counters;
    this.#tell = tell;
  }

  add(refused: Refused): void {
    const { code, act, reportOnly, ...about } = refused;
    if (reportOnly === undefined) this.#counters.refused(code);
    const now = this.#clock.now();
    const name = nameOf(refused);
    let kind = this.#kinds.get(name);
    if (kind === undefined) {
      kind = {
        ...defined({ reportOnly }),
        code,
        act,
        count: 0,
        firstAtMs: now,
        lastAtMs: now,
        latest: [],
        toldAtMs: Number.NEGATIVE_INFINITY,
        untold: 0,
      };
      this.#kinds.set(name, kind);
    }
    kind.count += 1;
    kind.lastAtMs = now;
    const one: RefusedOnce = { atMs: now, ...shortened(code, about) };
    kind.latest.push(one);
    if (kind.latest.length > maxLatest) kind.latest.shift();
    const atMs = this.#clock.monotonic();
    if (atMs - kind.toldAtMs < tellEveryMs) {
      kind.untold += 1;
      return;
    }
    kind.toldAtMs = atMs;
    const { atMs: _, ...shown } = one;
    this.#tell({ code, act, ...defined({ reportOnly }), ...shown }, kind.untold);
    kind.untold = 0;
  }

  /** As `add`, of a problem. */
  addProblem({ code, detail }: Problem, about: Omit<Refused, 'code' | 'detail'>): void {
    this.add({ code, detail, ...about });
  }

  /** The latest kind first. */
  get all(): readonly RefusalKind[] {
    return [...this.#kinds]
      .map(([, { toldAtMs: _, untold: __, latest, ...kind }]) => ({ ...kind, latest: [...latest] }))
      .sort((a, b) => b.lastAtMs - a.lastAtMs);
  }
}

/** The same kinds of several instances as one list, the latest first. */
export function joinedRefusals(all: readonly (readonly RefusalKind[])[]): readonly RefusalKind[] {
  const kinds = new Map<string, RefusalKind>();
  for (const each of all.flat()) {
    const name = nameOf(each);
    const known = kinds.get(name);
    kinds.set(
      name,
      known === undefined
        ? each
        : {
            ...known,
            count: known.count + each.count,
            firstAtMs: Math.min(known.firstAtMs, each.firstAtMs),
            lastAtMs: Math.max(known.lastAtMs, each.lastAtMs),
            latest: [...known.latest, ...each.latest].sort((a, b) => a.atMs - b.atMs).slice(-maxLatest),
          },
    );
  }
  return [...kinds.values()].sort((a, b) => b.lastAtMs - a.lastAtMs);
}

function nameOf({ code, act, reportOnly }: Pick<Refused, 'code' | 'act' | 'reportOnly'>): string {
  return `${code} ${act}${reportOnly ? ' reported' : ''}`;
}

function shortened(
  code: ProblemCode,
  { detail, ...about }: Omit<Refused, 'code' | 'act' | 'reportOnly'>,
): Omit<RefusedOnce, 'atMs'> {
  const all = { ...about, ...(quoting.has(code) ? {} : { detail }) };
  return Object.fromEntries(
    Object.entries(all).flatMap(([name, text]) => (text === undefined ? [] : [[name, text.slice(0, maxChars)]])),
  );
}
