import { describe, expect, it } from 'vitest';
import { defaultBackOff, waitBefore } from '../src/index.js';

describe('the time before the next try', () => {
  it('has a bound that doubles with each try, up to the most', () => {
    const bounds = [0, 1, 2, 3, 10, 1000].map((attempt) => waitBefore(attempt, defaultBackOff, 1));
    expect(bounds).toEqual([500, 1000, 2000, 4000, 30_000, 30_000]);
  });

  it('is anything below the bound, so that clients cut off together come back apart', () => {
    expect(waitBefore(5, defaultBackOff, 0)).toBe(0);
    expect(waitBefore(3, defaultBackOff, 0.25)).toBe(1000);
  });
});
