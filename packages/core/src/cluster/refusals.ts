import { refusal } from '@nine-bells/wire';

/** When to try again what was refused because nothing is carried, in milliseconds. */
const retryAfterMs = 1_000;

/** The refusal of what cannot be carried now. */
export function cutOff(cause?: unknown): Error {
  const refused = refusal('busy', 'the relay between the instances cannot be reached; try again, with the same key', {
    retryAfterMs,
  });
  refused.cause = cause;
  return refused;
}

/** Whether an error is a refusal that the caller is told as it is. */
export function isRefusal(error: unknown): boolean {
  return error instanceof Error && error.name === 'ProblemError';
}
