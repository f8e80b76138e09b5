import type { Problem, ProblemCode } from '@nine-bells/wire';

/** Why an act on the line failed: a problem code of the service, or one of the client's own. */
export type LineErrorCode =
  | ProblemCode
  /** The line is not open; nothing was sent. */
  | 'not-open'
  /** The line was closed before there was an answer. */
  | 'closed'
  /** The channel was left before there was an answer. */
  | 'left'
  /** One was removed from the channel. */
  | 'removed'
  /** Too much waits to be acknowledged; nothing was sent. */
  | 'outbox-full'
  /** A message was taken back before it was sent. */
  | 'cancelled';

/** An act on the line was refused or could not be done. */
export class LineError extends Error {
  readonly code: LineErrorCode;
  /** What the service said, if it did. */
  readonly problem: Problem | undefined;

  constructor(code: LineErrorCode, message: string, problem?: Problem) {
    super(message);
    this.name = 'LineError';
    this.code = code;
    this.problem = problem;
  }

  static from(problem: Problem): LineError {
    const message = problem.detail === undefined ? problem.title : `${problem.title}: ${problem.detail}`;
    return new LineError(problem.code, message, problem);
  }
}
