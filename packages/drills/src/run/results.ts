import type { Drill, Step } from '../format/drill.js';
import type { Difference } from '../values/matching.js';
import type { SeenFrame } from './client.js';

/** Why a step failed. */
export interface Failure {
  /** What should have been. */
  readonly expected: string;
  /** What was instead. */
  readonly came: string;
  /** How what came nearest differs from what was expected. */
  readonly differences: readonly Difference[];
  /** What the service says of why. */
  readonly why: readonly string[];
  /** The latest frames of the client concerned. */
  readonly frames: readonly SeenFrame[];
  readonly client?: string;
}

export interface StepResult {
  readonly step: Step;
  /** How deep within other steps it is, from 0. */
  readonly depth: number;
  /** The round of a repetition, or the value that it is about. */
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
  /** Why it could not even begin. */
  readonly problem?: string;
}

/** What came was not what had to come. */
export class StepFailure extends Error {
  readonly failure: Failure;

  constructor(failure: Partial<Failure> & Pick<Failure, 'expected' | 'came'>) {
    super(`expected ${failure.expected}; ${failure.came}`);
    this.failure = { differences: [], why: [], frames: [], ...failure };
  }
}
