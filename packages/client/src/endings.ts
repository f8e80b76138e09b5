import { closeCodes, isProblemCode, type Problem, problem } from '@nine-bells/wire';

/** The problem that a close tells by its code and reason; `undefined` if it tells none. */
export function refusalOf(closeCode: number, code: string): Problem | undefined {
  if (closeCode !== closeCodes.policy || !isProblemCode(code)) return undefined;
  if (code !== 'bad-origin') return problem(code);
  const { origin = 'this page' } = (globalThis as { location?: { origin?: string } }).location ?? {};
  return problem(code, `the service takes no pages of ${origin}: its operator lists origins in \`service.origins\``);
}

/** Whether another token is needed. */
export function isTokenFault(closeCode: number, refused: Problem | undefined): boolean {
  const code = refused?.code;
  return closeCode === closeCodes.tokenEnded || code === 'token-invalid' || code === 'token-ended';
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
