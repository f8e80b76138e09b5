import type { Batch, BulkWriter, Encoding, Link } from '@nine-bells/core';
import type { TestedWriter } from './nativeWriter.js';

/** A link that the native writer can write to. */
export interface NativeLink extends Link {
  /** The descriptor to write to now, where nothing waits in its stream; -1 where the socket has ended. */
  readonly descriptor: number;
  /** Writes what the native writer could not: the rest, or all where it has met an error. */
  writeRest(bytes: Uint8Array, from: number): void;
}

/** Writes to all links of a kind in one call; what one of them does not take goes to its stream. */
export class NativeLinks implements BulkWriter {
  readonly #writer: TestedWriter;
  readonly #encoding: Encoding;
  /** Those that are being written to. */
  readonly #targets: NativeLink[] = [];

  constructor(writer: TestedWriter, encoding: Encoding) {
    this.#writer = writer;
    this.#encoding = encoding;
  }

  /** Hot: within it, once per connection and turn. */
  write(batch: Batch, links: readonly Link[]): boolean {
    const { fds } = this.#writer;
    const targets = this.#targets;
    let isTaken = true;
    for (const link of links as readonly NativeLink[]) {
      const { descriptor } = link;
      if (descriptor < 0) {
        link.write(batch);
        isTaken = false;
        continue;
      }
      fds[targets.length] = descriptor;
      targets.push(link);
      if (targets.length === fds.length) isTaken = this.#writeTargets(batch) && isTaken;
    }
    return this.#writeTargets(batch) && isTaken;
  }

  /** Gives whether all was taken. */
  #writeTargets(batch: Batch): boolean {
    const targets = this.#targets;
    if (targets.length === 0) return true;
    const bytes = batch.joined(this.#encoding);
    const untaken = this.#writer.write(bytes, targets.length);
    if (untaken > 0) {
      const { took } = this.#writer;
      for (let at = 0; at < targets.length; at++) {
        const taken = took[at] as number;
        if (taken !== bytes.length) (targets[at] as NativeLink).writeRest(bytes, Math.max(0, taken));
      }
    }
    targets.length = 0;
    return untaken === 0;
  }
}
