import { type Problem, type ProblemCode, problem } from '@nine-bells/wire';

/** The problem whose code is the reason of a close. */
export function closedFor(code: ProblemCode): Problem {
  if (code !== 'bad-origin') return problem(code);
  const { origin = 'this page' } = (globalThis as { location?: { origin?: string } }).location ?? {};
  return problem(code, `the service takes no pages of ${origin}: its operator lists origins in \`service.origins\``);
}

/** Refusals that another try would only meet again. */
export function isLasting({ code }: Problem): boolean {
  return (
    code === 'no-guests' ||
    code === 'bad-origin' ||
    code === 'not-allowed' ||
    code === 'banned' ||
    code === 'bad-value' ||
    code === 'user-mismatch'
  );
}

export function endingText(code: number, reason: string): string {
  if (reason === 'signed-out') return 'you were signed out';
  if (reason !== '') return reason;
  return code === 1006 || code === 1005 ? 'the connection broke' : `the connection was closed with code ${code}`;
}
