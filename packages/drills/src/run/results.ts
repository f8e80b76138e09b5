import type { Drill, Step, shares, Threshold } from '../format/drill.js';
import type { Difference } from '../values/matching.js';
import type { SeenFrame } from './client.js';

/** Why a step failed. */
export interface Failure {
  /** What was expected. */
  readonly expected: string;
  /** What happened instead. */
  readonly came: string;
  /** Differences between the closest value and the pattern. */
  readonly differences: readonly Difference[];
  /** Explanations from the service. */
  readonly why: readonly string[];
  /** The client's last frames. */
  readonly frames: readonly SeenFrame[];
  readonly client?: string;
}

export interface StepResult {
  readonly step: Step | Threshold;
  /** Nesting depth, from 0. */
  readonly depth: number;
  /** The round of a repetition, such as `leg 3`. */
  readonly round?: string;
  readonly ms: number;
  readonly status: 'passed' | 'failed' | 'skipped';
  readonly failure?: Failure;
}

export interface DrillResult {
  readonly drill: Drill;
  readonly status: 'passed' | 'failed';
  readonly ms: number;
  readonly steps: readonly StepResult[];
  /** What a load has measured. */
  readonly load?: LoadFigures;
  /** Why the drill could not begin. */
  readonly problem?: string;
}

/** Counts of one generator within a second. */
export interface Counts {
  sent: number;
  received: number;
  refused: Record<string, number>;
  failed: number;
  unanswered: number;
}

/** Times in milliseconds, by the share that lies below. */
export type Percentiles = Readonly<Record<keyof typeof shares, number>>;

/** A second of a load. */
export interface SecondFigures extends Counts {
  readonly second: number;
  readonly delivery?: Percentiles;
  readonly reply?: Percentiles;
  /** Figures of the busiest generator. */
  readonly generator: { readonly cpu: number; readonly loopDelayMs: number; readonly memoryBytes: number };
  /** Figures of the service, if there is a key to request them. */
  readonly service?: {
    readonly loopDelayMs: number;
    readonly memoryBytes: number;
    readonly connections: number;
    readonly sendQueueBytes: number;
  };
}

/** Figures of a load. */
export interface LoadFigures {
  readonly name: string;
  readonly file: string;
  readonly at: string;
  readonly forMs: number;
  readonly processes: number;
  readonly machine: string;
  readonly clients: number;
  readonly connected: number;
  readonly connectMs: number;
  readonly seconds: readonly SecondFigures[];
  readonly total: Counts & {
    readonly lost: number;
    readonly receivedPerS: number;
    readonly delivery?: Percentiles;
    readonly reply?: Percentiles;
    readonly connect?: Percentiles;
    /** Delays of requests behind their schedule. */
    readonly late?: Percentiles;
  };
  readonly must: readonly { readonly text: string; readonly found: string; readonly isKept: boolean }[];
  /** Signs that the generator, not the service, limited the figures. */
  readonly doubts: readonly string[];
}

/** An expectation was not met. */
export class StepFailure extends Error {
  readonly failure: Failure;

  constructor(failure: Partial<Failure> & Pick<Failure, 'expected' | 'came'>) {
    super(`expected ${failure.expected}; ${failure.came}`);
    this.failure = { differences: [], why: [], frames: [], ...failure };
  }
}
