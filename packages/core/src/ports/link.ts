import type { Batch, Encoding } from '../model/frame.js';

/** A connection, as the core sees it. */
export interface Link {
  /** Which transport it is, such as `websocket`. */
  readonly transport: string;
  /** Where the client is, for people to read. */
  readonly remote?: string;
  readonly encoding: Encoding;
  /** Of the page that has opened it (RFC 6454), as the browser says. */
  readonly origin?: string | undefined;
  /** Nothing can come of the client: its silence means nothing. */
  readonly oneWay?: boolean;
  /** Bytes that were handed over and not yet taken by the operating system. While there are any, nothing is written. */
  readonly waitingBytes: number;
  /**
   * Bytes that the operating system has still to send; decreases while it sends a large write bit by bit. Absent if unknown.
   */
  readonly unsentBytes?: number | undefined;
  write(batch: Batch): void;
  /** What writes to several links of this kind in one call; absent where each is written to by itself. */
  readonly bulk?: BulkWriter | undefined;
  /** Asks the other side for a sign of life that needs no program there (RFC 6455, section 5.5.2). */
  ping(): void;
  /** Stops and resumes taking frames from the client. */
  pause(): void;
  resume(): void;
  /** Says goodbye after what was written, then ends; at once if the client does not take it. */
  close(code: number, reason: string): void;
}

/** Writes to links in one call. Links that share one have the same encoding. */
export interface BulkWriter {
  /**
   * Does what `write` of each link does. None of them has bytes that wait.
   *
   * @returns whether the operating system has taken everything, so that still none has
   */
  write(batch: Batch, links: readonly Link[]): boolean;
}
