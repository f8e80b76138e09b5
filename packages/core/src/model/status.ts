import { type Json, ProblemError, problem } from '@nine-bells/wire';

/** What a session says of itself: one of these words, or data of the application's own. */
const words = ['available', 'busy', 'away'] as const;

/**
 * How available a status is; the lower, the more. Data of the application's own may say so by a member `state`; data
 * that does not counts as available.
 */
export function availability(status: Json | undefined): number {
  if (typeof status === 'string') return Math.max(0, words.indexOf(status as (typeof words)[number]));
  const state = typeof status === 'object' && status !== null && !Array.isArray(status) ? status : {};
  return 'state' in state && typeof state.state === 'string' ? availability(state.state) : 0;
}

/**
 * Says whether a status may be one.
 *
 * @param maxBytes - bound on its JSON text
 * @throws {ProblemError} `bad-value`, `too-large`
 */
export function checkStatus(status: Json, maxBytes: number, where: string): void {
  if (typeof status === 'string' && !(words as readonly string[]).includes(status))
    throw new ProblemError(problem('bad-value', `a status is ${words.join(', ')}, or an object`, { where }));
  if (status === null || (typeof status !== 'string' && (typeof status !== 'object' || Array.isArray(status))))
    throw new ProblemError(problem('bad-value', `a status is ${words.join(', ')}, or an object`, { where }));
  const bytes = utf8.encode(JSON.stringify(status)).length;
  if (bytes > maxBytes)
    throw new ProblemError(problem('too-large', `a status has at most ${maxBytes} bytes, not ${bytes}`, { where }));
}

const utf8 = new TextEncoder();
