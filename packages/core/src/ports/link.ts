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
  write(batch: Batch): void;
  /** Asks the other side for a sign of life that needs no program there (RFC 6455, section 5.5.2). */
  ping(): void;
  /** Stops and resumes taking frames from the client. */
  pause(): void;
  resume(): void;
  /** Says goodbye after what was written, then ends; at once if the client does not take it. */
  close(code: number, reason: string): void;
}
