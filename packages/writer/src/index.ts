import { createRequire } from 'node:module';

/** Writes one buffer to many sockets in one call. */
export interface NativeWriter {
  /**
   * Writes all bytes to each of the first `count` descriptors in `fds`, without waiting. `took` has then for each the bytes that the
   * system took: 0 if it would have to wait, the negative `errno` if it failed.
   *
   * The caller answers for each descriptor being that of an open socket of its own.
   *
   * @returns how many did not take all
   */
  write(bytes: Uint8Array, fds: Int32Array, took: Int32Array, count: number): number;
}

/** @throws {Error} if it was not built, or does not load */
export function loadNativeWriter(): NativeWriter {
  return createRequire(import.meta.url)('../build/Release/writer.node') as NativeWriter;
}
