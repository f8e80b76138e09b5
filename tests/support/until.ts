/** Bound on waiting, in milliseconds: reached only by what would never come, on however slow a machine. */
const neverMs = 60_000;

/**
 * Waits until `look` returns something other than `undefined` and `false`, and returns it.
 *
 * @throws {Error} after a minute, with the condition and its last result
 */
export async function until<T>(look: () => T | undefined | false | Promise<T | undefined | false>): Promise<T> {
  for (const endMs = Date.now() + neverMs; ; await wait(5)) {
    const found = await look();
    if (found !== undefined && found !== false) return found;
    if (Date.now() > endMs) throw new Error(`Waited ${neverMs / 1000} s in vain for: ${look} (last result: ${found})`);
  }
}

/** Lets time pass. */
export const wait = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
