import type { Cursor } from './cursor.js';
import { defined } from './defined.js';
import type { Json } from './json.js';

/**
 * The one catalogue of problems: code, title and HTTP status of everything that Nine Bells refuses or fails at.
 *
 * A code is stable and means the same on the line and over HTTP. What is particular to a case goes into `detail`.
 */
export const problemCatalogue = {
  'bad-frame': { title: 'The frame could not be read', status: 400 },
  'unknown-verb': { title: 'There is no such verb', status: 400 },
  'bad-name': { title: 'The name is not allowed', status: 400 },
  'bad-value': { title: 'A value is missing or not as it should be', status: 400 },
  'bad-cursor': { title: 'The cursor is not one', status: 400 },
  'bad-data': { title: 'The data does not fit its type', status: 422 },
  'no-such-type': { title: 'There is no such type of message here', status: 422 },
  'bad-filter': { title: 'The filter is not one', status: 400 },
  'too-large': { title: 'The data is larger than allowed', status: 413 },
  'unsupported-type': { title: 'Content of this type is not taken here', status: 415 },
  'hello-first': { title: 'A line begins with hello', status: 400 },
  'hello-twice': { title: 'Hello was said before', status: 400 },
  'token-invalid': { title: 'The token is not valid', status: 401 },
  'token-ended': { title: 'The token has ended', status: 401 },
  'key-invalid': { title: 'The API key is missing or not valid', status: 401 },
  'user-mismatch': { title: 'The token is of another user', status: 403 },
  'no-guests': { title: 'Guests are not let in', status: 401 },
  'bad-origin': { title: 'Pages of this origin may not open a line', status: 403 },
  'not-allowed': { title: 'Not allowed', status: 403 },
  'ask-failed': { title: 'The application could not be asked', status: 503 },
  'no-such-channel': { title: 'No channel rule matches this name', status: 404 },
  'no-such-user': { title: 'The service has never met this user', status: 404 },
  'no-trace': { title: 'Nothing is known of this message', status: 404 },
  'no-such-path': { title: 'Nothing is served here', status: 404 },
  'no-such-call': { title: 'There is no such call', status: 404 },
  'call-refused': { title: 'The application refuses', status: 409 },
  'call-failed': { title: 'The application gave no answer', status: 503 },
  'no-such-hook': { title: 'There is no such hook', status: 404 },
  'no-such-intake': { title: 'There is no such intake', status: 404 },
  'no-such-event': { title: 'Nothing is known of this event', status: 404 },
  'no-such-id': { title: 'Nothing has this id', status: 404 },
  'signature-invalid': { title: 'The signature is missing or not valid', status: 401 },
  circle: { title: 'The event has gone round in a circle', status: 508 },
  'no-such-message': { title: 'There is no such message', status: 404 },
  withdrawn: { title: 'The message was withdrawn', status: 410 },
  'too-many-reactions': { title: 'There are too many kinds of reactions', status: 409 },
  'review-refused': { title: 'The application does not publish this', status: 403 },
  'review-failed': { title: 'The application did not say whether this may be published', status: 503 },
  pending: { title: 'It waits for a moderator', status: 409 },
  'too-many-levels': { title: 'The user has set levels for too many channels', status: 409 },
  'too-many-blocks': { title: 'The user keeps too many users away', status: 409 },
  'no-such-invitation': { title: 'There is no such invitation', status: 404 },
  'invitation-over': { title: 'The invitation can no longer be accepted', status: 410 },
  'too-many-invitations': { title: 'There are too many invitations', status: 409 },
  conflict: { title: 'It is not as expected', status: 409 },
  'board-full': { title: 'The board has no more room', status: 409 },
  banned: { title: 'Banned', status: 403 },
  silenced: { title: 'You may read here, and not write', status: 403 },
  'too-many-channels': { title: 'Too many channels are entered', status: 429 },
  'too-many-connections': { title: 'Too many connections', status: 429 },
  'rate-limited': { title: 'Too many requests', status: 429 },
  busy: { title: 'The service cannot take more right now', status: 429 },
  unavailable: { title: 'Something that the service needs does not answer', status: 503 },
  draining: { title: 'This instance is about to stop', status: 503 },
  internal: { title: 'Something went wrong in the service', status: 500 },
} as const;

export type ProblemCode = keyof typeof problemCatalogue;

/** Why something was refused or failed, as it goes over the line. Over HTTP the same members stand in RFC 9457 form. */
export interface Problem {
  readonly code: ProblemCode;
  /** The catalogue's title: the same for each problem of a code. */
  readonly title: string;
  /** What is particular to this case, safe to show to the client. */
  readonly detail?: string;
  /** Where in the request the fault is: a JSON Pointer (RFC 6901). */
  readonly where?: string;
  /** With `rate-limited`, `busy`, `unavailable`, `ask-failed`, `call-failed` and `draining`: try again after this many milliseconds. */
  readonly retryAfterMs?: number;
  /** With `bad-data`: what does not fit, at most 20 of it; `where` is the first. */
  readonly faults?: readonly DataFault[];
  /** With `conflict` about an entry of a board: what stands there; absent: nothing does. */
  readonly stands?: Standing;
  /** With `call-refused`: the application's own code and words. */
  readonly refusal?: CallRefused;
  /** With `banned` and `silenced`: until when (RFC 3339); absent: until that is ended. */
  readonly until?: string;
  /** With `pending`: the id of the message that waits. */
  readonly pending?: string;
}

/** Why an application does not do what a client has called, in its own words. */
export interface CallRefused {
  readonly code: string;
  readonly text: string;
}

/** What does not fit at one place of a request. */
export interface DataFault {
  /** JSON Pointer (RFC 6901) into the request. */
  readonly where: string;
  /** What was expected there. */
  readonly expected: string;
  /** What stands there, without its content: `a number`, `nothing`. */
  readonly found?: string;
}

/** An entry of a board as it is. */
export interface Standing {
  readonly value: Json;
  /** The board's version at which it was changed last. */
  readonly version: Cursor;
  /** The user who set it; absent: an application did. */
  readonly by?: string;
}

export interface ProblemExtras {
  readonly where?: string;
  readonly retryAfterMs?: number;
}

/** A problem of the catalogue with its title filled in. */
export function problem(code: ProblemCode, detail?: string, extras: ProblemExtras = {}): Problem {
  return {
    code,
    title: problemCatalogue[code].title,
    ...defined({ detail, where: extras.where, retryAfterMs: extras.retryAfterMs }),
  };
}

export function isProblemCode(code: string): code is ProblemCode {
  return Object.hasOwn(problemCatalogue, code);
}

/** A refusal or failure on its way to the caller. Never used for control flow inside a decision. */
export class ProblemError extends Error {
  readonly problem: Problem;

  constructor(problem: Problem, options?: ErrorOptions) {
    super(problem.detail === undefined ? problem.title : `${problem.title}: ${problem.detail}`, options);
    this.name = 'ProblemError';
    this.problem = problem;
  }

  get code(): ProblemCode {
    return this.problem.code;
  }
}

/** Shorthand for `new ProblemError(problem(...))`. */
export function refusal(code: ProblemCode, detail?: string, extras?: ProblemExtras): ProblemError {
  return new ProblemError(problem(code, detail, extras));
}
