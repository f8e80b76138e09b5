import type { Cursor } from './cursor.js';
import { defined } from './defined.js';
import type { Json } from './json.js';

/**
 * The catalogue of problems: code, title and HTTP status of all refusals and failures.
 *
 * Codes are stable and mean the same on the line and over HTTP. `detail` describes the case.
 */
export const problemCatalogue = {
  'bad-frame': { title: 'Malformed frame', status: 400 },
  'unknown-verb': { title: 'Unknown verb', status: 400 },
  'bad-name': { title: 'Malformed name', status: 400 },
  'bad-value': { title: 'Missing or malformed value', status: 400 },
  'bad-cursor': { title: 'Malformed cursor', status: 400 },
  'bad-data': { title: 'The data does not fit its type', status: 422 },
  'no-such-type': { title: 'Unknown message type', status: 422 },
  'bad-filter': { title: 'Malformed filter', status: 400 },
  'too-large': { title: 'Too large', status: 413 },
  'unsupported-type': { title: 'Unsupported content type', status: 415 },
  'hello-first': { title: 'Hello must be the first request', status: 400 },
  'hello-twice': { title: 'Hello was already sent', status: 400 },
  'token-invalid': { title: 'Invalid token', status: 401 },
  'token-ended': { title: 'The token has expired', status: 401 },
  'key-invalid': { title: 'Missing or invalid API key', status: 401 },
  'user-mismatch': { title: 'The token belongs to another user', status: 403 },
  'no-guests': { title: 'Guests are not allowed', status: 401 },
  'bad-origin': { title: 'Pages of this origin may not open a line', status: 403 },
  'not-allowed': { title: 'Not allowed', status: 403 },
  'ask-failed': { title: 'The application did not answer the access question', status: 503 },
  'no-such-channel': { title: 'No channel rule matches this name', status: 404 },
  'no-such-user': { title: 'Unknown user', status: 404 },
  'no-trace': { title: 'Unknown message', status: 404 },
  'no-such-path': { title: 'Unknown path', status: 404 },
  'no-such-call': { title: 'Unknown call', status: 404 },
  'call-refused': { title: 'The application refuses the call', status: 409 },
  'call-failed': { title: 'The application did not answer the call', status: 503 },
  'no-such-hook': { title: 'Unknown hook', status: 404 },
  'no-such-intake': { title: 'Unknown intake', status: 404 },
  'no-such-event': { title: 'Unknown event', status: 404 },
  'no-such-id': { title: 'Unknown id', status: 404 },
  'signature-invalid': { title: 'Missing or invalid signature', status: 401 },
  circle: { title: 'The event is in a loop', status: 508 },
  'no-such-message': { title: 'No such message', status: 404 },
  withdrawn: { title: 'The message was withdrawn', status: 410 },
  'too-many-reactions': { title: 'Too many reactions', status: 409 },
  'review-refused': { title: 'The application refuses the message', status: 403 },
  'review-failed': { title: 'The application did not review the message', status: 503 },
  pending: { title: 'The message is pending', status: 409 },
  'too-many-levels': { title: 'Too many notification levels', status: 409 },
  'too-many-blocks': { title: 'Too many blocks', status: 409 },
  'no-such-invitation': { title: 'Unknown invitation', status: 404 },
  'invitation-over': { title: 'The invitation can no longer be accepted', status: 410 },
  'too-many-invitations': { title: 'Too many invitations', status: 409 },
  conflict: { title: 'Version conflict', status: 409 },
  'board-full': { title: 'The board is full', status: 409 },
  banned: { title: 'Banned', status: 403 },
  silenced: { title: 'You are silenced', status: 403 },
  'too-many-channels': { title: 'Too many channels', status: 429 },
  'too-many-connections': { title: 'Too many connections', status: 429 },
  'rate-limited': { title: 'Rate limit exceeded', status: 429 },
  busy: { title: 'The service is busy', status: 429 },
  unavailable: { title: 'Service temporarily unavailable', status: 503 },
  draining: { title: 'The instance is shutting down', status: 503 },
  internal: { title: 'Internal error', status: 500 },
} as const;

export type ProblemCode = keyof typeof problemCatalogue;

/** A refusal or failure, as sent over the line. HTTP sends the same members in RFC 9457 form. */
export interface Problem {
  readonly code: ProblemCode;
  /** Title of the code in the catalogue. */
  readonly title: string;
  /** Description of the case, safe to show to the client. */
  readonly detail?: string;
  /** Place of the fault in the request: a JSON Pointer (RFC 6901). */
  readonly where?: string;
  /** Time to wait before a retry, in milliseconds; for `rate-limited`, `busy`, `unavailable`, `ask-failed`, `call-failed` and `draining`. */
  readonly retryAfterMs?: number;
  /** Faults of the data, at most 20, for `bad-data`; `where` is the place of the first. */
  readonly faults?: readonly DataFault[];
  /** Current entry of the board, for `conflict`; absent if there is none. */
  readonly stands?: Standing;
  /** Code and text of the application, for `call-refused`. */
  readonly refusal?: CallRefused;
  /** End time (RFC 3339), for `banned` and `silenced`; absent = unlimited. */
  readonly until?: string;
  /** Id of the pending message, for `pending`. */
  readonly pending?: string;
}

/** The application's reason for refusing a call. */
export interface CallRefused {
  readonly code: string;
  readonly text: string;
}

/** A fault at one place of a request. */
export interface DataFault {
  /** JSON Pointer (RFC 6901) into the request. */
  readonly where: string;
  /** Expected value. */
  readonly expected: string;
  /** Kind of the value found, without its content: `a number`, `nothing`. */
  readonly found?: string;
}

/** The current state of a board's entry. */
export interface Standing {
  readonly value: Json;
  /** Version of the board with its last change. */
  readonly version: Cursor;
  /** The user who set it; absent for an application. */
  readonly by?: string;
}

export interface ProblemExtras {
  readonly where?: string;
  readonly retryAfterMs?: number;
}

/** Returns a problem with the title of its code. */
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

/** A refusal or failure as an error. Decisions return problems; they never throw this for control flow. */
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
