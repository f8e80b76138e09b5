import { canonicalAddress, type Engine } from '@nine-bells/core';
import { type Problem, ProblemError, problem, problemCatalogue, refusal } from '@nine-bells/wire';
import type { ErrorRequestHandler, RequestHandler, Response } from 'express';
import { BodyError, type BodyFault } from '../bodyError.js';
import { type Logger, logEvent } from '../log.js';

/** Answers with a problem (RFC 9457). `code` is the line's code; `type` names it as a URI. */
export function sendProblem(response: Response, each: Problem, faults: readonly BodyFault[] = []): void {
  const { status } = problemCatalogue[each.code];
  const { retryAfterMs } = each;
  if (retryAfterMs !== undefined) response.set('Retry-After', String(Math.ceil(retryAfterMs / 1000)));
  if (status === 401) response.set('WWW-Authenticate', 'Bearer');
  response.status(status).type('application/problem+json').send(problemText(each, faults));
}

/** A problem as the body of an answer (RFC 9457). */
export function problemText(each: Problem, faults: readonly BodyFault[] = []): string {
  const { status } = problemCatalogue[each.code];
  const more = faults.length > 1 ? { faults } : {};
  return JSON.stringify({ type: `urn:nine-bells:problem:${each.code}`, status, ...each, ...more });
}

/** For whatever no route has taken. */
export const nothingHere: RequestHandler = (request) => {
  throw refusal('no-such-path', `nothing is served at ${request.method} ${request.path}`);
};

/** Turns every error of a route into a problem. Unexpected errors are logged and told as `internal`. */
export function problemHandler(log: Logger, refusals: Engine['refusals']): ErrorRequestHandler {
  return (error: unknown, request, response, next) => {
    if (response.headersSent) return next(error);
    const refuse = (each: Problem, faults?: readonly BodyFault[]): void => {
      refusals.addProblem(each, {
        // The path as its route is written: what a client puts into it is not remembered.
        act: `${request.method} ${request.route === undefined ? 'elsewhere' : request.baseUrl + request.route.path}`,
        address: canonicalAddress(request.ip ?? ''),
        origin: request.get('origin'),
      });
      sendProblem(response, each, faults);
    };
    if (error instanceof BodyError) return refuse(error.problem, error.faults);
    if (error instanceof ProblemError) return refuse(error.problem);
    const { type, message } = error as { type?: string; message: string };
    if (type === 'entity.too.large') return refuse(problem('too-large', 'the body is larger than is taken here'));
    if (type === 'entity.parse.failed') return refuse(problem('bad-value', `the body is not JSON: ${message}`));
    if (type?.startsWith('encoding.') || type?.startsWith('charset.') || type?.startsWith('request.'))
      return refuse(problem('bad-value', message));
    if (error instanceof URIError) return refuse(problem('bad-value', 'the path is not a valid URI'));
    logEvent(log, 'error', 'route-failed', { method: request.method, path: request.path }, error);
    return refuse(problem('internal', 'the service has logged what happened'));
  };
}
