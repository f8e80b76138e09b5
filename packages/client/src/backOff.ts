/** Bounds of the time between two tries to connect, in milliseconds. */
export interface BackOff {
  /** Bound of the first wait; doubled with each try that fails. Default 500. */
  readonly firstMs: number;
  /** Bound of every wait. Default 30,000. */
  readonly maxMs: number;
}

export const defaultBackOff: BackOff = { firstMs: 500, maxMs: 30_000 };

/**
 * How long to wait before try number `attempt` (from 0): exponential with full jitter, so that clients which were cut
 * off together do not come back together.
 *
 * @param random - at least 0, less than 1
 */
export function waitBefore(attempt: number, { firstMs, maxMs }: BackOff, random: number): number {
  return Math.round(random * Math.min(maxMs, firstMs * 2 ** Math.min(attempt, 30)));
}
