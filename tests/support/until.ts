/** Bound on waiting, in milliseconds: reached only by what would never come, on however slow a machine. */
const neverMs = 60_000;

/** Maximum pause between two looks, in milliseconds. */
const maxPauseMs = 250;

/**
 * Waits until `look` returns something other than `undefined` and `false`, and returns it.
 *
 * @throws {Error} after a minute, with the condition and its last result
 */
export async function until<T>(look: () => T | undefined | false | Promise<T | undefined | false>): Promise<T> {
  const startMs = Date.now();
  for (;;) {
    const found = await look();
    if (found !== undefined && found !== false) return found;
    const waitedMs = Date.now() - startMs;
    if (waitedMs > neverMs) throw new Error(`Waited ${neverMs / 1000} s in vain for: ${look} (last result: ${found})`);
    // Looking may cost a request: the longer it takes, the less often.
    await wait(Math.min(5 + waitedMs / 20, maxPauseMs));
  }
}

/** Lets time pass. */
export const wait = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
