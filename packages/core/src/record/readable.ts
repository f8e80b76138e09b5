import { ProblemError, problem } from '@nine-bells/wire';

/** When to ask again for what could not be read, in milliseconds. */
const retryAfterMs = 500;

/** @throws {ProblemError} `unavailable` if the store does not answer */
export async function readable<T>(reading: Promise<T>, what: string): Promise<T> {
  try {
    return await reading;
  } catch (error) {
    if (error instanceof ProblemError) throw error;
    throw new ProblemError(problem('unavailable', `${what} cannot be read`, { retryAfterMs }), { cause: error });
  }
}
