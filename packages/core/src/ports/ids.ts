/** Ids that cannot be guessed and do not repeat. */
export interface Ids {
  /** A message id that sorts by time (a ULID). */
  message(atMs: number): string;
  session(): string;
  /** A volume of a logbook: 1 to 16 of `a-z0-9`. */
  volume(): string;
  /** A moderation action: 1 to 32 of `a-z0-9_`. */
  moderation(): string;
}
