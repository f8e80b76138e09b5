import { type Problem, ProblemError } from '@nine-bells/wire';

/** A fault at one place of a request's body. */
export interface BodyFault {
  /** JSON Pointer (RFC 6901). */
  readonly where: string;
  readonly detail: string;
}

/** A request whose body has faults; all of them are listed. */
export class BodyError extends ProblemError {
  readonly faults: readonly BodyFault[];

  constructor(first: Problem, faults: readonly BodyFault[]) {
    super(first);
    this.faults = faults;
  }
}
