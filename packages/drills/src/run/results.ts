import type { Drill, Step } from '../format/drill.js';
import type { Threshold } from '../format/load.js';
import type { LoadFigures } from '../load/runLoad.js';
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

/** An expectation was not met. */
export class StepFailure extends Error {
  readonly failure: Failure;

  constructor(failure: Partial<Failure> & Pick<Failure, 'expected' | 'came'>) {
    super(`expected ${failure.expected}; ${failure.came}`);
    this.failure = { differences: [], why: [], frames: [], ...failure };
  }
}
